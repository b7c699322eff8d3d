package change

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/sentence"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/zones"
)

// Saved is the result of a change of a flag document.
type Saved struct {
	Key         string         `json:"key"`
	Environment string         `json:"environment"`
	Version     int64          `json:"version"`
	Revision    int64          `json:"revision"`
	Document    *flag.Document `json:"document"`
	Sentence    words.Said     `json:"sentence"`
	Says        []words.Said   `json:"says"` // each rule by itself, and the end
	Difference  []words.Said   `json:"difference"`
}

// PutFlag saves a flag's document in an environment. Rules without an id are new; shares
// keep their salt and move as few buckets as their new sizes require. A document that
// changes nothing makes no revision.
func (s *Service) PutFlag(ctx context.Context, r Request, env *app.Environment, doc *flag.Document) (json.RawMessage, error) {
	names := s.names(ctx, env.ID)
	return s.queue(ctx, env.ProjectID, r, func(tx Tx, c *commit) (any, error) {
		held, err := tx.LockFlag(env.ID, doc.Key)
		if err != nil {
			return nil, err
		}
		env, old, stop := held.Environment, held.Flag, held.Stop
		now := *doc // fn may run again
		now.Rules = slices.Clone(doc.Rules)
		if err := s.allowDocument(&r.Actor, env, old.Document, &now); err != nil {
			return nil, err
		}
		stopped := stop != ""
		if err := c.seen(old.Version, map[string]any{"version": old.Version, "document": old.Document, "sentence": sentence.Of(old.Document, stopped, names), "says": sentence.Parts(old.Document, names)}); err != nil {
			return nil, err
		}
		if err := c.open(env); err != nil {
			return nil, err
		}
		docs := &around{tx: tx, env: env.ID}
		if err := complete(old.Document, &now, docs); err != nil {
			return nil, err
		}
		if err := checkFlag(tx, env.ID, &now); err != nil {
			return nil, err
		}
		if err := s.fits(ctx, env.ID, &now, old.Document); err != nil {
			return nil, err
		}
		if err := stillAlike(tx, env.ID, old.Document, &now); err != nil {
			return nil, err
		}
		if stopped && (now.Resting != old.Document.Resting || !sameJSON(now.Variants[now.Resting], old.Document.Variants[now.Resting])) {
			return nil, &app.Fault{Kind: app.Conflict, More: map[string]any{"stop": stop},
				Detail: "while stop " + stop + " stands, the resting variant and its value cannot be edited: lift it first, or leave them as they are"}
		}
		declared := &catalogue{tx: tx, project: env.ProjectID}
		lines := diff.Flags(old.Document, &now, declared.personal)
		if declared.err != nil {
			return nil, declared.err
		}
		saved := &Saved{Key: now.Key, Environment: env.Key, Version: old.Version, Revision: env.Revision, Document: &now,
			Sentence: sentence.Of(&now, stopped, names), Says: sentence.Parts(&now, names), Difference: diff.Said(lines)}
		if len(lines) == 0 {
			return saved, nil
		}
		if now.Asks() > old.Document.Asks() { // those that ask for it then take more decisions
			if err := s.overflows(ctx, env.ID, []*flag.Document{&now}, nil); err != nil {
				return nil, err
			}
		}
		bound, err := s.confirmed(ctx, r, env, &now)
		if err != nil {
			return nil, err
		}
		lines = append(lines, bound...)
		saved.Difference = diff.Said(lines)
		saved.Version++
		if err := c.putFlag(env, &app.FlagRecord{EnvironmentID: env.ID, Key: now.Key, Version: saved.Version, Document: &now}, "flag.changed", lines); err != nil {
			return nil, err
		}
		saved.Revision = env.Revision
		return saved, nil
	})
}

// putFlag saves a document with its revision and entry.
func (c *commit) putFlag(env *app.Environment, rec *app.FlagRecord, action string, lines []diff.Line) error {
	raw, err := json.Marshal(rec.Document)
	if err != nil {
		return err
	}
	rec.Revision = env.Revision + 1
	if err := c.tx.PutFlag(rec); err != nil {
		return err
	}
	e := c.entry(action, env.ProjectID)
	e.Subject, e.Version, e.Document = rec.Key, rec.Version, audit.Digest(raw)
	return c.revise(env, &flag.Event{Flags: []json.RawMessage{raw}}, e, lines)
}

// allowDocument asks for the right to edit what differs, and no more.
func (s *Service) allowDocument(a *app.Actor, env *app.Environment, old, now *flag.Document) error {
	action := app.Release
	needs := slices.EqualFunc(old.Needs, now.Needs, func(a, b flag.Need) bool { return a == b })
	if old.Resting != now.Resting || !needs || !maps.EqualFunc(old.Variants, now.Variants, sameJSON) {
		action = app.Document
	}
	return app.Allow(a, action, env.ProjectID, env.ID)
}

func sameJSON(a, b json.RawMessage) bool {
	if bytes.Equal(a, b) {
		return true
	}
	x, err1 := audit.Canonical(a)
	y, err2 := audit.Canonical(b)
	return err1 == nil && err2 == nil && bytes.Equal(x, y)
}

// complete fills in what the service knows better than the caller: what the definition
// owns, the ids of new rules, and the salts and buckets of shares.
func complete(old, now *flag.Document, docs flag.Documents) error {
	var found []flag.Problem
	if now.Type == "" {
		now.Type = old.Type
	}
	if now.Type != old.Type {
		found = append(found, flag.Problem{Place: "document.type", Mend: "never changes: it is " + string(old.Type)})
	}
	if now.Visible != old.Visible {
		found = append(found, flag.Problem{Place: "document.visible", Mend: "belongs to the definition, where it changes in all environments at once"})
	}
	if now.Variants == nil {
		now.Variants = old.Variants
	}
	if !slices.Equal(now.VariantNames(), old.VariantNames()) {
		found = append(found, flag.Problem{Place: "document.variants", Mend: "variants are added and removed in the definition, in all environments at once; only their values can be edited here"})
	}
	now.Requires = now.Needed()
	byID := map[string]*flag.Rule{}
	for i := range old.Rules {
		byID[old.Rules[i].ID] = &old.Rules[i]
	}
	for i := range now.Rules {
		r := &now.Rules[i]
		var before *flag.Shares
		if r.ID == "" {
			r.ID = "r" + newSalt()
		} else if o := byID[r.ID]; o != nil {
			before = o.Gives.Shares
		}
		place := fmt.Sprintf("document.rules[%d]", i)
		when, problems := settle(place+".when", r.When)
		r.When = when
		found = append(found, problems...)
		found = append(found, arrange(place+".gives", &r.Gives, before, now, docs)...)
	}
	return app.InvalidFields(append(found, arrange("document.end", &now.End, old.End.Shares, now, docs)...))
}

// settle puts a condition into its canonical form: ranges of versions are written out,
// parts of the population get their salts, and time zones must be known.
func settle(place string, n *condition.Node) (*condition.Node, []flag.Problem) {
	if n == nil {
		return nil, nil
	}
	var found []flag.Problem
	n.Check(place, func(place, mend string) {
		if !strings.HasSuffix(place, ".part.salt") && !strings.HasSuffix(place, ".part.hash") {
			found = append(found, flag.Problem{Place: place, Mend: mend})
		}
	})
	if len(found) > 0 {
		return n, found
	}
	n = n.Clone()
	if err := n.Expand(); err != nil {
		return n, []flag.Problem{{Place: place, Mend: err.Error()}}
	}
	n.Leaves(func(l *condition.Node) {
		switch {
		case l.Part != nil:
			if l.Part.Salt == "" {
				l.Part.Salt = newSalt()
			}
			if l.Part.Hash == 0 {
				l.Part.Hash = bucket.Scheme
			}
		case l.Weekly != nil && zones.Find(l.Weekly.Zone) == nil:
			found = append(found, flag.Problem{Place: place, Mend: fmt.Sprintf("%q is no time zone: use a name of the IANA database, such as Europe/Oslo or UTC", l.Weekly.Zone)})
		}
	})
	return n.Canonical(), found
}

// fits refuses new comparisons that what is declared or seen of their attribute can never
// meet: such a rule would silently never apply.
func (s *Service) fits(ctx context.Context, env int64, now, old *flag.Document) error {
	if s.Judge == nil {
		return nil
	}
	had := map[string]bool{}
	for i := range old.Rules {
		old.Rules[i].When.Leaves(func(l *condition.Node) { had[l.Words()] = true })
	}
	anew := false // most edits bring no comparison that was not there
	for i := range now.Rules {
		now.Rules[i].When.Leaves(func(l *condition.Node) { anew = anew || !had[l.Words()] || strings.HasPrefix(l.Test, "version.") })
	}
	if !anew {
		return nil
	}
	known, err := s.Judge(ctx, env)
	if err != nil {
		return err
	}
	var found []flag.Problem
	for i := range now.Rules {
		found = append(found, unfit(fmt.Sprintf("document.rules[%d].when", i), now.Rules[i].When, known, had)...)
	}
	return app.InvalidFields(found)
}

func unfit(place string, n *condition.Node, known map[string]lint.Attribute, had map[string]bool) (found []flag.Problem) {
	n.Leaves(func(l *condition.Node) {
		a := known[l.Attribute]
		if a.Loose && strings.HasPrefix(l.Test, "version.") {
			l.Loose = true
		}
		if mend := lint.Fits(l, a, l.Attribute); mend != "" && !had[l.Words()] {
			found = append(found, flag.Problem{Place: place, Mend: mend})
		}
	})
	return found
}

// stillAlike keeps shares that others move together with from being drawn otherwise.
func stillAlike(tx Tx, env int64, old, now *flag.Document) error {
	drawn := map[string]bool{}
	places := []string{""}
	for i := range old.Rules {
		places = append(places, old.Rules[i].ID)
	}
	for _, at := range places {
		a, b := old.SharesAt(at), now.SharesAt(at)
		if a != nil && b != nil && (a.Salt != b.Salt || !slices.Equal(a.By, b.By)) {
			drawn[at] = true
		}
	}
	if len(drawn) == 0 {
		return nil
	}
	all, err := tx.Flags(env)
	if err != nil {
		return err
	}
	for _, rec := range all {
		d := rec.Document
		if rec.Key == now.Key {
			d = now
		}
		ids := []string{""}
		for i := range d.Rules {
			ids = append(ids, d.Rules[i].ID)
		}
		for _, id := range ids {
			if s := d.SharesAt(id); s != nil && s.Like != nil && s.Like.Flag == now.Key && drawn[s.Like.Rule] && s.Salt != saltAt(now, s.Like.Rule) {
				return app.Faultf(app.Conflict, "shares of flag %s move together with these: take that apart first, or leave how these are drawn", rec.Key)
			}
		}
	}
	return nil
}

func saltAt(d *flag.Document, rule string) string {
	if s := d.SharesAt(rule); s != nil {
		return s.Salt
	}
	return ""
}

// confirmed asks, in an environment that asks first, for the number of units before all of
// them go from the resting variant in one step. The number may have moved a little since it
// was told. Where the sample does not know how many go, it asks for a bound of the person's
// own, and gives a line that keeps it.
func (s *Service) confirmed(ctx context.Context, r Request, env *app.Environment, doc *flag.Document) ([]diff.Line, error) {
	if !env.AskFirst || r.DryRun || s.Shift == nil {
		return nil, nil
	}
	sh, err := s.Shift(ctx, env, doc)
	if err != nil || !sh.Sweep || sh.Units.Units == 0 { // nobody was seen here, so there is nobody to count
		return nil, err
	}
	units := sh.Units.Units
	if sh.Perhaps.Counted > 0 {
		if r.Units != nil && *r.Units >= sh.Moved.Low {
			return []diff.Line{diff.Text(fmt.Sprintf("moves at most %d units, as its author says: the sample cannot count them", *r.Units))}, nil
		}
		return nil, &app.Fault{Kind: app.Invalid, Detail: sh.Says.String(), More: map[string]any{"bound": sh.Moved.Low},
			Fields: []flag.Problem{{Place: "units", Mend: fmt.Sprintf("this may take all of about %d units from the resting variant in one step, and cannot be counted: say yourself how many it moves at most, %d or more", units, sh.Moved.Low)}}}
	}
	if r.Units != nil && abs(*r.Units-units)*10 <= units {
		return nil, nil
	}
	return nil, &app.Fault{Kind: app.Invalid, Detail: "everybody would go from the resting variant in one step", More: map[string]any{"sweep": units},
		Fields: []flag.Problem{{Place: "units", Mend: fmt.Sprintf("this moves about %d units, all that were seen, in one step: widen it by shares, or confirm it by sending that number", units)}}}
}

func abs(n int64) int64 { return max(n, -n) }

// arrange gives shares their salt and their buckets. old are the shares that stood there.
func arrange(place string, g *flag.Gives, old *flag.Shares, doc *flag.Document, docs flag.Documents) []flag.Problem {
	if g.Shares == nil {
		return nil
	}
	s := *g.Shares
	g.Shares, place = &s, place+".shares"
	if s.Hash == 0 {
		s.Hash = bucket.Scheme
	}
	if s.DrawAnew {
		if old != nil && s.Salt == old.Salt {
			s.Salt = "" // a salt that a dry run gave is taken, so that what was shown is what happens
		}
		s.DrawAnew, s.Like, old = false, nil, nil
	} else if s.Like != nil {
		other := doc
		if s.Like.Flag != doc.Key {
			other = docs.Flag(s.Like.Flag)
		}
		var to *flag.Shares
		if other != nil {
			to = other.SharesAt(s.Like.Rule)
		}
		if to != nil && to != g.Shares {
			if old == nil || old.Salt != to.Salt || !slices.Equal(old.By, to.By) {
				old = to // the same buckets go to the same parts where they can
			}
			s.Salt, s.By, s.Hash = to.Salt, to.By, to.Hash
		}
	} else if old != nil && old.Like == nil {
		if s.Salt != "" && s.Salt != old.Salt {
			return []flag.Problem{{Place: place + ".salt", Mend: "cannot be edited, since that would move everybody: leave it out, or ask for drawAnew"}}
		}
		s.Salt = old.Salt
	} else if old != nil && s.Salt == "" {
		s.Salt = old.Salt // no longer tied to others, drawn as before
	}
	if s.Salt == "" {
		s.Salt = newSalt()
	}
	if len(s.By) == 0 {
		s.By = []string{"targetingKey"}
	}
	err := s.Arrange(old, doc.Resting)
	switch {
	case errors.Is(err, bucket.ErrSum):
		return []flag.Problem{{Place: place + ".parts", Mend: err.Error() + ": they must add up to exactly 100 % (1000000)"}}
	case err != nil:
		return []flag.Problem{{Place: place + ".parts", Mend: err.Error()}}
	}
	return nil
}

// around looks documents up in the transaction, under the environment's lock.
type around struct {
	tx  Tx
	env int64
	err error
}

func (a *around) Flag(key string) *flag.Document {
	rec, err := a.tx.Flag(a.env, key)
	var f *app.Fault
	if err != nil {
		if !errors.As(err, &f) || f.Kind != app.NotFound {
			a.err = err
		}
		return nil
	}
	return rec.Document
}

func (a *around) Segment(key string) *flag.Segment {
	rec, err := a.tx.Segment(a.env, key)
	if err != nil {
		a.err = err
	}
	if rec == nil {
		return nil
	}
	return rec.Document
}

func checkFlag(tx Tx, env int64, d *flag.Document) error {
	problems := d.Check()
	docs := &around{tx: tx, env: env}
	if len(problems) == 0 {
		problems = d.CheckReferences(docs)
	}
	if docs.err != nil {
		return docs.err
	}
	return app.InvalidFields(below("document", problems))
}

func below(place string, problems []flag.Problem) []flag.Problem {
	for i := range problems {
		problems[i].Place = place + "." + problems[i].Place
	}
	return problems
}
