package flags

import (
	"context"
	"fmt"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/conditions"
	"greenlever.example/greenlever/internal/app/settled"
)

// Retire takes a flag out of use: its documents are gone everywhere, who still asks gets the fallback, and its key
// is
// never used again. It is refused unless the flag is ready for it.
type Retire struct {
	Force bool `json:"force,omitempty"` // although it is not ready: for keepers of the installation
}

// Restore brings a retired flag back, as it stood in each environment.
type Restore struct{}

// retiring are what these changes read besides.
type retiring interface {
	LastFlag(environment int64, key string) (rec *app.FlagRecord, version int64, err error)
	RunningOf(environment int64, flag string) (bool, error)
	Tripwires(environment int64) ([]app.Tripwire, error)
	Bundles(project int64) ([]app.Bundle, error)
}

func (s *Service) ends() []*commit.Kind {
	kind := func(name, says string) commit.Kind {
		return commit.Kind{Name: name, Says: says, Action: app.Define, Span: commit.Environments, Guarded: true,
			Moves: true, Signs: true, Queued: true}
	}
	return []*commit.Kind{
		commit.Of(kind("flag.retire", "Takes a flag out of use; its key is never used again"), s.retire),
		commit.Of(kind("flag.restore", "Brings a retired flag back, as it stood"), s.restore),
	}
}

func (s *Service) retire(ctx context.Context, m *commit.Moment, in *Retire) (*commit.Effects, error) {
	tx := commit.Narrow[Tx](m)
	envs, err := m.Entire()
	if err != nil {
		return nil, err
	}
	d, err := tx.LockDefinition(m.Project.ID, m.Of)
	if err != nil {
		return nil, err
	}
	if d.Retired != nil {
		return commit.Nothing(d), nil
	}
	if in.Force && !m.Actor.Keeper {
		return nil, app.Faultf(app.Forbidden, "only a keeper of the installation retires a flag that is not ready")
	}
	d.Retired = &app.Retired{At: m.At, By: m.Actor.ID, Final: map[string]string{}, Force: in.Force}
	if err := s.ready(ctx, m, d, in.Force); err != nil {
		return nil, err
	}
	if err := named(commit.Narrow[retiring](m), m.Project.ID, envs, d.Key); err != nil {
		return nil, err
	}
	out := &commit.Effects{Result: d}
	for i := range envs {
		e, err := goes(tx, commit.Narrow[retiring](m), &envs[i], d)
		if err != nil {
			return nil, err
		}
		out.In = append(out.In, e)
	}
	d.Version++
	lines := []diff.Line{diff.Text(fmt.Sprintf("flag %q retired: who still asks for it gets the fallback", d.Title))}
	if in.Force {
		lines = append(lines, diff.Text("although it was not ready"))
	}
	out.In = append(out.In, commit.Effect{Project: m.Project, Records: []commit.Record{d}, Entries: []commit.Entry{{
		Action: "flag.retired", Subject: d.Key, Version: d.Version, Lines: lines}}})
	return out, nil
}

// ready refuses to retire a flag that is still needed, and notes what everybody got last.
func (s *Service) ready(ctx context.Context, m *commit.Moment, d *app.Definition, force bool) error {
	if s.Ready == nil {
		return nil
	}
	is, err := s.Ready(ctx, m.Project, d.Key)
	if err != nil {
		return err
	}
	for _, in := range is.In {
		if in.Variant != "" {
			d.Retired.Final[in.Environment] = in.Variant
		}
	}
	if is.Ready || force {
		return nil
	}
	var found []flag.Problem
	for _, w := range is.InTheWay {
		found = append(found, flag.Problem{Place: "ready", Mend: w.String()})
	}
	return &app.Fault{Kind: app.Conflict, Detail: d.Key + " is not ready to be retired", Fields: found}
}

// named refuses to retire what a tripwire stops, since a stop of a flag that is gone would not arrive, and what is
// in a bundle, which could not be acted on any more.
func named(tx retiring, project int64, envs []app.Environment, key string) error {
	all, err := tx.Bundles(project)
	if err != nil {
		return err
	}
	for i := range all {
		if slices.Contains(all[i].Flags, key) {
			return app.Faultf(app.Conflict, "it is in bundle %s: take it out there first", all[i].Key)
		}
	}
	for i := range envs {
		wires, err := tx.Tripwires(envs[i].ID)
		if err != nil {
			return err
		}
		for j := range wires {
			if slices.Contains(wires[j].Flags, key) {
				return app.Faultf(app.Conflict, "tripwire %q stops it in %s: take it out there first",
					wires[j].Title,
					envs[i].Key)
			}
		}
	}
	return nil
}

// goes takes a flag out of one environment.
func goes(tx Tx, past retiring, env *app.Environment, d *app.Definition) (e commit.Effect, err error) {
	rec, err := tx.Flag(env.ID, d.Key)
	if err != nil {
		return e, err
	}
	running, err := past.RunningOf(env.ID, d.Key)
	if err != nil {
		return e, err
	}
	if running {
		return e, app.Faultf(app.Conflict, "a release of %s runs in %s: finish it, or roll it back", d.Key, env.Key)
	}
	by, err := askedBy(tx, env.ID, d.Key)
	if err != nil {
		return e, err
	}
	if by != "" {
		return e, app.Faultf(app.Conflict, "flag %s asks for it in %s: take that out first", by, env.Key)
	}
	gone := &app.FlagRecord{Key: d.Key, Version: rec.Version + 1}
	return commit.Effect{Environment: env, Records: []commit.Record{gone},
		Event: &flag.Event{Gone: &flag.Gone{Flags: []string{d.Key}}},
		Entries: []commit.Entry{{Action: "flag.retired", Subject: d.Key, Version: gone.Version,
			Document: audit.Digest([]byte("null")), Lines: []diff.Line{diff.Text("the flag is gone: who still " +
				"asks for it gets the fallback")}}}}, nil
}

// askedBy names a flag that asks for another in any way; none is empty.
func askedBy(tx documents, env int64, key string) (string, error) {
	all, err := tx.Flags(env)
	if err != nil {
		return "", err
	}
	for _, f := range all {
		d := f.Document
		asks := f.Key != key && slices.ContainsFunc(d.Needs, func(n flag.Need) bool { return n.Flag == key })
		ids := []string{""}
		for i := range d.Rules {
			ids = append(ids, d.Rules[i].ID)
			d.Rules[i].When.Leaves(func(l *condition.Node) {
				asks = asks || f.Key != key && l.Test == condition.FlagTest && l.Flag == key
			})
		}
		for _, id := range ids {
			s := d.SharesAt(id)
			asks = asks || f.Key != key && s != nil && s.Like != nil && s.Like.Flag == key
		}
		if asks {
			return f.Key, nil
		}
	}
	return "", nil
}

func (s *Service) restore(ctx context.Context, m *commit.Moment, _ *Restore) (*commit.Effects, error) {
	tx := commit.Narrow[Tx](m)
	envs, err := m.Entire()
	if err != nil {
		return nil, err
	}
	d, err := tx.LockDefinition(m.Project.ID, m.Of)
	if err != nil {
		return nil, err
	}
	if d.Retired == nil {
		return commit.Nothing(d), nil
	}
	d.Retired = nil
	out := &commit.Effects{Result: d}
	for i := range envs {
		rec, version, err := commit.Narrow[retiring](m).LastFlag(envs[i].ID, d.Key)
		if err != nil {
			return nil, err
		}
		if version > 0 && rec == nil {
			return nil, app.Faultf(app.Conflict, "what %s did in %s is forgotten by now: make another flag", d.Key,
				envs[i].Key)
		}
		doc := FirstDocument(d) // in an environment that was made since
		if rec != nil {
			doc = rec.Document
			doc.Rules = flag.Plain(doc.Rules)
		}
		if err := s.Stand(ctx, tx, &envs[i], doc, doc, conditions.Of(tx, envs[i].ID)); err != nil {
			return nil, err
		}
		e, err := commit.FlagPut(&envs[i], nil, &app.FlagRecord{Key: d.Key, Version: version + 1, Document: doc},
			"flag.restored", diff.Flags(nil, doc))
		if err != nil {
			return nil, err
		}
		out.In = append(out.In, e)
	}
	d.Version++
	out.In = append(out.In, commit.Effect{Project: m.Project, Records: []commit.Record{d}, Entries: []commit.Entry{{
		Action: "flag.restored", Subject: d.Key, Version: d.Version,
		Lines: []diff.Line{diff.Text(fmt.Sprintf("flag %q restored, as it stood", d.Title))}}}})
	return out, nil
}

// Readiness tells whether a flag may be retired.
type Readiness func(ctx context.Context, p *app.Project, key string) (*settled.Readiness, error)
