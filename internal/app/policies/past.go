package policies

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/policy"
)

// Past is what trying a policy on the past reads.
type Past interface {
	Environments(ctx context.Context, project int64) ([]app.Environment, error)
	Definitions(ctx context.Context, project int64) ([]app.Definition, error)
	PastRevisions(ctx context.Context, environment, since int64, most int) ([]app.PastRevision, error)
	RulesetAt(ctx context.Context, environment, revision int64) (*flag.Ruleset, error)
	History(ctx context.Context, q audit.Query) ([]audit.Row, error)
}

// mostPast is how many revisions of each environment are looked at.
const mostPast = 5_000

// Trial is how a policy would have ruled.
type Trial struct {
	Since   int64       `json:"since"`
	Looked  int         `json:"looked"` // changes of flags
	Bites   []TrialBite `json:"bites"`  // newest first
	Bitten  int         `json:"bitten"`
	Unknown int         `json:"unknown"` // that could not be judged, as where it asks for the shift of then
	Failed  string      `json:"failed,omitempty"`
}

// TrialBite is a change that the policy would have bitten.
type TrialBite struct {
	Change      string   `json:"change"`
	At          int64    `json:"at"`
	Environment string   `json:"environment"`
	Flag        string   `json:"flag"`
	Actor       string   `json:"actor"` // id of the account
	Reason      string   `json:"reason,omitempty"`
	Difference  []string `json:"difference"`
}

// mostBites is how many are told of.
const mostBites = 200

// past is one environment while its past is gone through.
type past struct {
	env       app.Environment
	documents map[string]*flag.Document
	entries   map[int64][]audit.Entry // of changed flags, by revision
}

// Try says how a policy would have ruled on the changes of flags since a time: by the documents of then in all
// environments, and by what flags, people and teams are now.
func Try(ctx context.Context, r Past, p *app.Policy, project, since int64,
	who func(account string) policy.Person) (*Trial, error) {
	program, err := policy.Compile(p.When)
	if err != nil {
		return nil, app.InvalidField("policy.when", "%v", err)
	}
	envs, err := r.Environments(ctx, project)
	if err != nil {
		return nil, err
	}
	defs, err := r.Definitions(ctx, project)
	if err != nil {
		return nil, err
	}
	definitions := map[string]*app.Definition{}
	for i := range defs {
		definitions[defs[i].Key] = &defs[i]
	}
	type step struct {
		in *past
		app.PastRevision
	}
	var steps []step
	all := make([]*past, len(envs))
	for i := range envs {
		all[i] = &past{env: envs[i], documents: map[string]*flag.Document{}}
		revisions, err := r.PastRevisions(ctx, envs[i].ID, since, mostPast)
		if err != nil {
			return nil, err
		}
		for _, rev := range revisions {
			steps = append(steps, step{all[i], rev})
		}
		if err := all[i].begin(ctx, r, project, since, revisions); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(steps, func(a, b step) int { return cmp.Compare(a.At, b.At) })
	out := &Trial{Since: since, Bites: []TrialBite{}}
	for _, s := range steps {
		if err := s.in.step(&s.PastRevision, func(before, after *flag.Document, e *audit.Entry) {
			out.judge(program, p, s.in, all, definitions[after.Key], before, after, e, who)
		}); err != nil {
			return nil, err
		}
	}
	slices.Reverse(out.Bites)
	out.Bites = out.Bites[:min(len(out.Bites), mostBites)]
	return out, nil
}

// begin reads how the environment stood before, and who made its revisions.
func (in *past) begin(ctx context.Context, r Past, project, since int64, revisions []app.PastRevision) error {
	in.entries = map[int64][]audit.Entry{}
	if len(revisions) == 0 {
		revisions = []app.PastRevision{{Revision: in.env.Revision + 1}}
	}
	rs, err := r.RulesetAt(ctx, in.env.ID, revisions[0].Revision-1)
	if f := new(app.Fault); errors.As(err, &f) && f.Kind == app.NotFound {
		return nil // it began after that
	}
	if err != nil {
		return err
	}
	for key := range rs.Flags {
		in.documents[key] = rs.Flag(key)
	}
	q := audit.Query{Project: project, Environment: in.env.ID, From: since, Limit: 500}
	for {
		rows, err := r.History(ctx, q)
		if err != nil {
			return err
		}
		for i := range rows {
			e, err := rows[i].Read()
			if err != nil {
				return err
			}
			q.Before = audit.Cursor{At: rows[i].At, Chain: e.Chain, Sequence: e.Sequence}
			if e.Action == "flag.changed" {
				in.entries[e.Revision] = append(in.entries[e.Revision], *e)
			}
		}
		if len(rows) < q.Limit {
			return nil
		}
	}
}

// step lays a revision upon what stood, and has each flag judged that somebody edited.
func (in *past) step(rev *app.PastRevision, judge func(before, after *flag.Document, e *audit.Entry)) error {
	var event struct{ Flags []json.RawMessage }
	if err := json.Unmarshal(rev.Event, &event); err != nil {
		return err
	}
	for _, raw := range event.Flags {
		d := new(flag.Document)
		if err := json.Unmarshal(raw, d); err != nil {
			return err
		}
		before := in.documents[d.Key]
		in.documents[d.Key] = d
		for i := range in.entries[rev.Revision] {
			if e := &in.entries[rev.Revision][i]; e.Subject == d.Key {
				judge(before, d, e)
			}
		}
	}
	return nil
}

func (t *Trial) judge(program *policy.Program, p *app.Policy, in *past, all []*past, d *app.Definition, before,
	after *flag.Document, e *audit.Entry, who func(string) policy.Person) {
	if d == nil {
		d = &app.Definition{Key: after.Key}
	}
	if !p.Counts("flag", in.env.Key, d.Tags) {
		return
	}
	t.Looked++
	f := &policy.Facts{Now: time.UnixMilli(e.At), Before: policy.Documented(before), After: policy.Documented(after),
		Difference: policy.Difference{Lines: append([]string{}, e.Difference...), Step: policy.Step(before, after),
			Lever: before != nil && before.Lever != after.Lever},
		Flag: described(d), Environment: policy.Environment{Key: in.env.Key, AskFirst: in.env.AskFirst,
			OwnersOnly: in.env.OwnersOnly},
		Actor: who(e.Actor.ID), Change: policy.Change{Noun: "flag", Of: after.Key, Reason: e.Reason,
			Proposed: strings.HasPrefix(e.Actor.Cause, "proposal ")},
		Shift: func() (*policy.Shift, error) { return nil, policy.ErrUnknown },
		Elsewhere: func() (map[string]*policy.Document, error) {
			out := map[string]*policy.Document{}
			for _, o := range all {
				if doc := o.documents[after.Key]; o != in && doc != nil {
					out[o.env.Key] = policy.Documented(doc)
				}
			}
			return out, nil
		}}
	if f.Change.Proposed {
		for _, id := range strings.Split(e.Actor.OnBehalfOf, ",") {
			f.Signed = append(f.Signed, who(id))
		}
	}
	bites, err := program.Bites(policy.NewInput(f))
	switch {
	case err != nil:
		t.Unknown++
		t.Failed = clipped(err.Error())
	case bites:
		t.Bitten++
		t.Bites = append(t.Bites, TrialBite{e.Change, e.At, in.env.Key, after.Key, e.Actor.ID, e.Reason, e.Difference})
	}
}
