package plans

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"github.com/google/uuid"

	"greenlever.example/core/carry"
	"greenlever.example/core/flag"
	"greenlever.example/core/merge"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/flags"
)

// InTheWay is what keeps a change from being taken back: others came after it and stand on it.
type InTheWay struct {
	Of          string           `json:"of"`
	Environment string           `json:"environment,omitempty"`
	Conflicts   []merge.Conflict `json:"conflicts,omitempty"`
	Later       []Later          `json:"later"`
}

// Later is a change that came after.
type Later struct {
	Change string   `json:"change"`
	At     int64    `json:"at"`
	By     string   `json:"by"` // id of the account, or what else made it
	Says   []string `json:"says"`
}

// Undo takes a change back. at is when it was made, in Unix milliseconds; 0 where the caller does not know.
func (s *Service) Undo(ctx context.Context, p *app.Project, change string, at int64) (*Plan, error) {
	entries, err := s.entries(ctx, p.ID, change, at)
	if err != nil {
		return nil, err
	}
	u := &undoing{Service: s, p: p, entries: entries, plan: &Plan{}}
	if err := u.owned(ctx, change); err != nil {
		return nil, err
	}
	envs, err := s.Past.Ever(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	for i := range envs {
		if err := u.inside(ctx, &envs[i]); err != nil {
			return nil, err
		}
	}
	for _, e := range entries {
		u.leaves(&e)
	}
	if len(u.way) > 0 {
		var of []string
		for _, w := range u.way {
			of = append(of, strings.TrimSpace(w.Of+" "+w.Environment))
		}
		return nil, &app.Fault{Kind: app.Conflict, More: map[string]any{"inTheWay": u.way},
			Detail: "what came after it stands on it: " + strings.Join(of, ", ") + "; take that back first"}
	}
	return u.plan, nil
}

// undoing is a change while it is taken back.
type undoing struct {
	*Service
	p       *app.Project
	entries []audit.Entry
	plan    *Plan
	way     []InTheWay
	defined map[string]bool // flags whose definitions are taken back, with their documents
}

// entries finds what the audit says of a change.
func (s *Service) entries(ctx context.Context, project int64, change string, at int64) ([]audit.Entry, error) {
	id, err := uuid.Parse(change)
	if err != nil {
		return nil, app.Faultf(app.NotFound, "%q is no id of a change: the history names them", change)
	}
	const minute = 60_000
	guess, _ := id.Time().UnixTime()
	spans := [][2]int64{{at, at + 1}, {guess*1_000 - minute, guess*1_000 + minute}, {0, 0}}
	if at == 0 {
		spans = spans[1:]
	}
	for _, span := range spans {
		found, err := s.search(ctx, audit.Query{Project: project, From: span[0], To: span[1], Limit: 1_000}, change)
		if err != nil || len(found) > 0 {
			return found, err
		}
	}
	return nil, app.Faultf(app.NotFound, "there is no change %s in this project", change)
}

// search looks for a change among entries, the newest first. Those of one change stand together in time.
func (s *Service) search(ctx context.Context, q audit.Query, change string) (found []audit.Entry, err error) {
	for looked := 0; looked < 100_000; looked += q.Limit {
		rows, err := s.Past.History(ctx, q)
		if err != nil {
			return nil, err
		}
		for i := range rows {
			e, err := rows[i].Read()
			if err != nil {
				return nil, err
			}
			switch {
			case e.Change == change:
				found = append(found, *e)
			case len(found) > 0 && e.At < found[0].At:
				return found, nil
			}
			q.Before = audit.Cursor{At: rows[i].At, Chain: e.Chain, Sequence: e.Sequence}
		}
		if len(rows) < q.Limit {
			break
		}
	}
	return found, nil
}

// owned takes back what the project owns.
func (u *undoing) owned(ctx context.Context, change string) error {
	u.defined = map[string]bool{}
	all, err := u.Past.Inverses(ctx, u.p.ID, change)
	if err != nil {
		return err
	}
	for _, raw := range all {
		c, err := u.Kinds.Read(ctx, raw, u.Past.Place)
		if err != nil {
			return err
		}
		name := u.Kinds.Name(c)
		later, err := u.later(ctx, audit.Query{Project: u.p.ID, Subject: c.Of, From: u.entries[0].At, Limit: 200},
			strings.SplitN(name, ".", 2)[0], 0)
		if err != nil {
			return err
		}
		if edit, is := c.Do.(*flags.Edit); is {
			u.defined[c.Of] = true
			if later, err = u.definition(ctx, &c, edit, later); err != nil {
				return err
			}
		}
		if len(later) > 0 {
			u.way = append(u.way, InTheWay{Of: c.Of, Later: later})
			continue
		}
		u.plan.Changes = append(u.plan.Changes, c)
	}
	return nil
}

// definition lays the taking back of an edit of a definition upon the definition as it is: what others edited of it
// since is in the way only where it is the same field.
func (u *undoing) definition(ctx context.Context, c *commit.Change, edit *flags.Edit, later []Later) ([]Later,
	error) {
	now, err := u.Past.Definition(ctx, u.p.ID, c.Of)
	if err != nil {
		return nil, err
	}
	c.Versions = []int64{now.Version}
	fields := edit.Fields()
	return slices.DeleteFunc(later, func(l Later) bool {
		return !slices.ContainsFunc(l.Says, func(says string) bool {
			return slices.ContainsFunc(fields, func(f string) bool { return strings.HasPrefix(says, f) })
		})
	}), nil
}

// later lists changes of the same thing that came after.
func (u *undoing) later(ctx context.Context, q audit.Query, noun string, revision int64) (out []Later, err error) {
	rows, err := u.Past.History(ctx, q)
	if err != nil {
		return nil, err
	}
	for i := range rows {
		e, err := rows[i].Read()
		if err != nil {
			return nil, err
		}
		if e.Change == u.entries[0].Change || e.Environment != q.Environment || e.Revision <= revision &&
			revision > 0 ||
			!about(noun, e.Action) {
			continue
		}
		if revision == 0 && (e.At < u.entries[0].At || e.At == u.entries[0].At && !u.after(e)) {
			continue
		}
		out = append(out, Later{Change: e.Change, At: e.At, By: e.Actor.ID, Says: e.Difference})
	}
	return out, nil
}

// after tells whether an entry stands behind the change's own in their chain.
func (u *undoing) after(e *audit.Entry) bool {
	return slices.ContainsFunc(u.entries, func(o audit.Entry) bool {
		return o.Chain == e.Chain && o.Sequence <
			e.Sequence
	})
}

// about tells whether an action is of a noun: a flag's in the project is called its definition.
func about(noun, action string) bool {
	of, _, _ := strings.Cut(action, ".")
	return of == noun || noun == "flag" && of == "definition"
}

// inside takes back what the change did in an environment.
func (u *undoing) inside(ctx context.Context, env *app.Environment) error {
	v := &saves{in: commit.In{Project: u.p, Environment: env}, versions: map[carry.Ref]int64{}}
	released := func(subject string) bool {
		return slices.ContainsFunc(u.entries, func(e audit.Entry) bool {
			return e.Environment == env.ID && e.Subject == subject && strings.HasPrefix(e.Action, "release.")
		})
	}
	for _, e := range u.entries {
		if e.Environment != env.ID || e.Revision == 0 || u.defined[e.Subject] || released(e.Subject) {
			continue
		}
		if env.State != app.Active {
			u.plan.leave("environment %s is %s", words.Key(env.Key), words.Plain(string(env.State)))
			break
		}
		var err error
		switch e.Action {
		case "flag.changed":
			err = u.flag(ctx, v, &e)
		case "segment.changed":
			err = u.segment(ctx, v, &e)
		}
		if err != nil {
			return err
		}
	}
	changes, err := u.changes(ctx, v)
	u.plan.Changes = append(u.plan.Changes, changes...)
	return err
}

// around reads an environment as it stood before a revision and after it.
func (u *undoing) around(ctx context.Context, e *audit.Entry) (before, after *flag.Ruleset, err error) {
	if before, err = u.Past.RulesetAt(ctx, e.Environment, e.Revision-1); err == nil {
		after, err = u.Past.RulesetAt(ctx, e.Environment, e.Revision)
	}
	return before, after, err
}

func (u *undoing) flag(ctx context.Context, v *saves, e *audit.Entry) error {
	before, after, err := u.around(ctx, e)
	if err != nil {
		return err
	}
	rec, err := u.Records.Flag(ctx, e.Environment, e.Subject)
	if err != nil {
		return err
	}
	now, err := json.Marshal(rec.Document)
	if err != nil {
		return err
	}
	merged, conflicts, err := merge.Flag.Merge(after.Flags[e.Subject], now, before.Flags[e.Subject])
	if err != nil {
		return err
	}
	if len(conflicts) > 0 {
		return u.blocked(ctx, e, conflicts, v.in.Environment.Key, "flag")
	}
	var doc flag.Document
	if err := json.Unmarshal(merged, &doc); err != nil {
		return err
	}
	doc.Requires = nil
	same := *rec.Document
	same.Requires = nil
	if sameJSON(&same, &doc) {
		u.plan.leave("nothing of it stands any more of %s in %s", words.Key(e.Subject),
			words.Key(v.in.Environment.Key))
		return nil
	}
	v.flag(rec, &doc)
	return nil
}

func (u *undoing) segment(ctx context.Context, v *saves, e *audit.Entry) error {
	before, after, err := u.around(ctx, e)
	if err != nil {
		return err
	}
	rec, err := u.Records.Segment(ctx, e.Environment, e.Subject)
	if err != nil || rec == nil {
		return err
	}
	now, err := json.Marshal(rec.Document)
	if err != nil {
		return err
	}
	merged, conflicts, err := merge.Plain.Merge(after.Segments[e.Subject], now, before.Segments[e.Subject])
	if err != nil {
		return err
	}
	if len(conflicts) > 0 {
		return u.blocked(ctx, e, conflicts, v.in.Environment.Key, "segment")
	}
	var doc flag.Segment
	if err := json.Unmarshal(merged, &doc); err != nil {
		return err
	}
	v.segment(rec, &doc)
	return nil
}

func (u *undoing) blocked(ctx context.Context, e *audit.Entry, conflicts []merge.Conflict, environment,
	noun string) error {
	later, err := u.later(ctx, audit.Query{Project: u.p.ID, Environment: e.Environment, Subject: e.Subject,
		From: e.At, Limit: 200}, noun, e.Revision)
	u.way = append(u.way, InTheWay{Of: e.Subject, Environment: environment, Conflicts: conflicts, Later: later})
	return err
}

// stays says of what a change did that is not taken back what to do instead.
var stays = map[string]string{
	"flag.stopped": "a stop is lifted", "flag.lifted": "a lift is no edit: stop it again",
	"access-key.made": "a key is revoked", "access-key.revoked": "a revoked key stays so: make another one",
	"roles.changed":  "roles are given anew",
	"flag.made":      "a flag that was made is retired",
	"segment.made":   "a segment that was made stays",
	"flag.retired":   "a retired flag is restored",
	"population.set": "the sampling is set anew", "population.erased": "what was erased is gone",
}

// leaves says what of a change stays.
func (u *undoing) leaves(e *audit.Entry) {
	says, is := stays[e.Action]
	noun, _, _ := strings.Cut(e.Action, ".")
	switch {
	case is:
	case noun == "release":
		says = "what a release did is rolled back with it"
	case noun == "environment" || noun == "freeze" || noun == "tripwire" || noun == "webhook" || noun == "project" ||
		noun == "proposal" && e.Action != "proposal.applied" || noun == "test-units":
		says = "is edited again by hand"
	default:
		return
	}
	said := words.Say("%s: %s", words.Key(strings.TrimSpace(e.Action+" "+e.Subject)), words.Plain(says))
	if !slices.ContainsFunc(u.plan.Left, func(o words.Said) bool { return o.String() == said.String() }) {
		u.plan.Left = append(u.plan.Left, said)
	}
}
