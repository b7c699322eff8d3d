package change

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"greenlever.example/core/bucket"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// Saved is the result of a change of a flag document.
type Saved struct {
	Key         string         `json:"key"`
	Environment string         `json:"environment"`
	Version     int64          `json:"version"`
	Revision    int64          `json:"revision"`
	Document    *flag.Document `json:"document"`
	Sentence    string         `json:"sentence"`
	Says        []string       `json:"says"` // each rule by itself, and the end
	Difference  []string       `json:"difference"`
}

// PutFlag saves a flag's document in an environment. Rules without an id are new; shares
// keep their salt and move as few buckets as their new sizes require. A document that
// changes nothing makes no revision.
func (s *Service) PutFlag(ctx context.Context, r Request, env *app.Environment, doc *flag.Document) (json.RawMessage, error) {
	return s.queue(ctx, env.ProjectID, r, func(tx Tx, c *commit) (any, error) {
		env, err := tx.LockEnvironment(env.ID)
		if err != nil {
			return nil, err
		}
		old, err := tx.Flag(env.ID, doc.Key)
		if err != nil {
			return nil, err
		}
		now := *doc // fn may run again
		now.Rules = slices.Clone(doc.Rules)
		if err := s.allowDocument(&r.Actor, env, old.Document, &now); err != nil {
			return nil, err
		}
		standing, err := tx.StandingStops(env.ID)
		if err != nil {
			return nil, err
		}
		stopped := stopOf(standing, doc.Key)
		if err := c.seen(old.Version, map[string]any{"version": old.Version, "document": old.Document, "sentence": sentence.Of(old.Document, stopped != nil), "says": sentence.Parts(old.Document)}); err != nil {
			return nil, err
		}
		if err := c.open(env); err != nil {
			return nil, err
		}
		if err := complete(old.Document, &now); err != nil {
			return nil, err
		}
		if err := checkFlag(tx, env.ID, &now); err != nil {
			return nil, err
		}
		if stopped != nil && (now.Resting != old.Document.Resting || !sameJSON(now.Variants[now.Resting], old.Document.Variants[now.Resting])) {
			return nil, &app.Fault{Kind: app.Conflict, More: map[string]any{"stop": stopped.ID},
				Detail: "while stop " + stopped.ID + " stands, the resting variant and its value cannot be edited: lift it first, or leave them as they are"}
		}
		lines := diff.Flags(old.Document, &now)
		saved := &Saved{Key: now.Key, Environment: env.Key, Version: old.Version, Revision: env.Revision, Document: &now,
			Sentence: sentence.Of(&now, stopped != nil), Says: sentence.Parts(&now), Difference: diff.Texts(lines)}
		if len(lines) == 0 {
			return saved, nil
		}
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
func complete(old, now *flag.Document) error {
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
		found = append(found, arrange(fmt.Sprintf("document.rules[%d].gives", i), &r.Gives, before, now.Resting)...)
	}
	return app.InvalidFields(append(found, arrange("document.end", &now.End, old.End.Shares, now.Resting)...))
}

// arrange gives shares their salt and their buckets.
func arrange(place string, g *flag.Gives, old *flag.Shares, resting string) []flag.Problem {
	if g.Shares == nil {
		return nil
	}
	s := *g.Shares
	g.Shares, place = &s, place+".shares"
	if old != nil {
		if s.Salt != "" && s.Salt != old.Salt {
			return []flag.Problem{{Place: place + ".salt", Mend: "cannot be edited, since that would move everybody: leave it out"}}
		}
		s.Salt = old.Salt
	}
	if s.Salt == "" {
		s.Salt = newSalt()
	}
	if s.Hash == 0 {
		s.Hash = bucket.Scheme
	}
	if len(s.By) == 0 {
		s.By = []string{"targetingKey"}
	}
	err := s.Arrange(old, resting)
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

func stopOf(standing []app.StopRecord, key string) *app.StopRecord {
	for i := range standing {
		if slices.Contains(standing[i].Flags, key) {
			return &standing[i]
		}
	}
	return nil
}
