package releases

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/conditions"
)

// Act is what somebody does with a release.
type Act struct {
	Do stage.Do `json:"do"` // go-on, next, sign, decline, edit, finish
	// Sequence is that of the release as it was seen. Nobody begins a stage, signs, declines, edits or finishes on
	// what they have not seen: of two who do it at once, one is told.
	Sequence int64         `json:"sequence,omitempty"`
	Stages   []stage.Stage `json:"stages,omitempty"` // with edit: all of them
	// with edit: all of them, which begins the evidence anew where they are others; absent: as they were
	Watches *[]Watching `json:"watches,omitempty"`
	// with finish: ids of rules that go, since they decide nothing more
	Drop    []string `json:"drop,omitempty"`
	Outcome string   `json:"outcome,omitempty"` // with finish: what came of it, against what was expected
	// Give is, with finish, the variant that all get, where several are new.
	Give string `json:"give,omitempty"`
	// Early finishes it before all whom it is for have the new variant: they all get it then.
	Early bool   `json:"early,omitempty"`
	Units *int64 `json:"units,omitempty"` // that would move, where the service asked to confirm that number
}

// Halt holds a release, or rolls it back.
type Halt struct {
	Do stage.Do `json:"do"` // hold, roll-back
}

// Step is a look of the service at a release.
type Step struct {
	Sequence int64 // of the release when it was looked at
	Facts    *stage.Facts
}

// takes is the right that an act takes. Who may sign is said by the stage.
func takes(m *commit.Moment, in *Act) app.Action {
	if in.Do != stage.Sign && in.Do != stage.Decline {
		return app.ReleaseIt
	}
	if s := m.Held.(*holding).release.State.Stage(); s != nil && len(s.SignOff) > 0 {
		return app.Read
	}
	return app.ReleaseIt
}

var acts = []stage.Do{stage.GoOn, stage.Next, stage.Sign, stage.Decline, stage.Edit, stage.Finish}

// seen are the acts that take the sequence of the release as it was seen.
var seen = []stage.Do{stage.Next, stage.Sign, stage.Decline, stage.Edit, stage.Finish}

func (s *Service) act(ctx context.Context, m *commit.Moment, in *Act) (*commit.Effects, error) {
	rel := m.Held.(*holding).release
	if !slices.Contains(acts, in.Do) {
		return nil, app.InvalidField("do", "must be one of go-on, next, sign, decline, edit, finish")
	}
	if in.Sequence == 0 && slices.Contains(seen, in.Do) {
		return nil, app.InvalidField("sequence", "say which state of the release you have seen, by its sequence")
	}
	if in.Sequence != 0 && in.Sequence != rel.State.Sequence {
		return nil, &app.Fault{Kind: app.Stale, More: map[string]any{"sequence": rel.State.Sequence, "present": rel},
			Detail: "the release went on meanwhile: look at it as it stands and say again what to do"}
	}
	var err error
	e := stage.Event{Do: in.Do, Because: m.Reason, Drop: in.Drop, Give: in.Give,
		Outcome: strings.TrimSpace(in.Outcome)}
	if mend := app.CheckText(e.Outcome, 0, maxExpected); mend != "" {
		return nil, app.InvalidField("outcome", "%s", mend)
	}
	for _, r := range m.Actor.Grants.Roles(m.Environment.ProjectID, m.Environment.ID) {
		e.Roles = append(e.Roles, string(r))
	}
	switch in.Do {
	case stage.Edit:
		p := rel.State.Plan
		p.Stages, p.Above, p.Begin = in.Stages, "", 0
		lever := *m.Held.(*holding).Flag.Document
		lever.Lever = flag.On // it may be off by now: that holds the release, and no edit of it
		if in.Watches != nil {
			if p.Watches, err = watches(txOf(m), m, in.Watches); err != nil {
				return nil, err
			}
			p.Look()
			for i := range p.Watches { // what was guessed at the start stays
				m := &p.Watches[i].Metric
				for j := range rel.State.Plan.Watches {
					if was := &rel.State.Plan.Watches[j].Metric; was.Key == m.Key && m.Base == 0 {
						m.Base = was.Base
					}
				}
			}
			e.Watches = &p.Watches
		}
		if err := settle(&p, &lever, m.At); err != nil {
			return nil, err
		}
		e.Stages = p.Stages
		if e.Facts, err = s.edited(ctx, m, rel, e.Stages); err != nil {
			return nil, err
		}
	case stage.Finish:
		if reached := rel.State.Plan.Reaches(rel.State.At); !in.Early && (rel.State.Is != stage.Through ||
			reached < bucket.Buckets) {
			return nil, &app.Fault{Kind: app.Conflict, More: map[string]any{"early": true, "reached": reached},
				Detail: fmt.Sprintf("it has reached %s, and to finish it gives the new variant to all whom it is "+
					"for, at once: look at whom that moves, and send early to do it all the same",
					bucket.Percent(reached))}
		}
	}
	out, err := s.take(ctx, m, &e, takes(m, in), in.Units)
	if err == nil && (in.Do == stage.Edit || in.Early) { // beyond what was looked at before the start
		for i := range out.In {
			out.In[i].Judge.Signs = true
		}
	}
	return out, err
}

// edited tells what others changed before an edit from what the edit's own stages ask for.
func (s *Service) edited(ctx context.Context, m *commit.Moment, rel *app.Release,
	stages []stage.Stage) (*stage.Facts, error) {
	if rel.State.At < 0 {
		return nil, nil
	}
	rules, err := s.Rules(ctx, m.Environment.ID)
	if err != nil {
		return nil, err
	}
	was, now := rel.State.Plan, rel.State.Plan
	now.Stages = stages
	return &stage.Facts{Around: stage.Around(rules.Source, rel.Flag, rel.ID, &was),
		Edited: stage.Around(rules.Source, rel.Flag, rel.ID, &now)}, nil
}

func (s *Service) halt(ctx context.Context, m *commit.Moment, in *Halt) (*commit.Effects, error) {
	if in.Do != stage.Hold && in.Do != stage.RollBack {
		return nil, app.InvalidField("do", "must be hold or roll-back")
	}
	return s.take(ctx, m, &stage.Event{Do: in.Do, Because: m.Reason}, app.StopIt, nil)
}

// step takes what was found, unless something else came first: then it is looked at again.
func (s *Service) step(ctx context.Context, m *commit.Moment, in *Step) (*commit.Effects, error) {
	if in.Sequence != m.Held.(*holding).release.State.Sequence {
		return commit.Nothing(nil), nil
	}
	facts := *in.Facts // it may be prepared again
	return s.take(ctx, m, &stage.Event{Do: stage.Look, Facts: &facts}, "", nil)
}

// take has a release take an event, and gives what comes of it. right is what it takes of a person; empty where
// the release takes the step by itself.
func (s *Service) take(ctx context.Context, m *commit.Moment, e *stage.Event, right app.Action,
	units *int64) (*commit.Effects, error) {
	t, env, held := txOf(m), m.Environment, m.Held.(*holding)
	rel, old := *held.release, held.Flag.Document
	if e.Facts == nil {
		e.Facts = &stage.Facts{}
	}
	var err error
	if e.Facts.Blocks, e.Facts.Stops, err = blocks(t, env, &rel, held); err != nil {
		return nil, err
	}
	next, effects, err := stage.Step(rel.State, *e, m.At)
	if err == nil && right != "" && effects.Serve && next.At > rel.State.At {
		err = m.Lets(ctx, &m.Actor, right, m.Reason)
	}
	if err == nil && right == "" && effects.Serve && next.At > rel.State.At {
		if b, failed := s.mayGoOn(ctx, m, &rel, old, next.At); failed != nil {
			return nil, failed
		} else if b != nil {
			e.Facts.Blocks = append(e.Facts.Blocks, *b)
			next, effects, err = stage.Step(rel.State, *e, m.At)
		}
	}
	if err != nil {
		return nil, refused(err)
	}
	names := s.names(ctx, env.ID)
	done := &Done{Release: &rel, EnvironmentKey: env.Key, Difference: []words.Said{}, Document: old}
	if effects.Tell == "" {
		done.Sentence = stage.Says(&rel.State, e.Facts, names, m.At)
		return commit.Nothing(done), nil
	}
	if effects.Fold {
		for _, r := range next.End().Unneeded(old, rel.ID) {
			done.Unneeded = append(done.Unneeded, Unneeded{r.ID, r.Name})
		}
	}
	now, err := s.becomes(ctx, t, env, held, &rel, &next, effects, e)
	if err != nil {
		return nil, err
	}
	rel.State = next
	if next.Is.Over() {
		rel.Ended = m.At
	}
	declared := conditions.Declared(t, env.ProjectID)
	lines := diff.Flags(old, now, declared.Personal)
	if declared.Err != nil {
		return nil, declared.Err
	}
	done.Document, done.Difference = now, diff.Said(lines)
	done.Sentence = stage.Says(&next, nil, names, m.At)
	moves := len(lines) > 0 || effects.Serve || effects.Remove || effects.Fold
	step := &app.ReleaseStep{Release: rel.ID, Sequence: next.Sequence, At: m.At, Moves: moves, Actor: m.Actor,
		Event: *e,
		Tell:  effects.Tell, Is: next.Is, Stage: next.At, Share: next.Plan.Reaches(next.At), Change: m.Change}
	record := &app.ReleaseRecord{Release: &rel, Moves: moves}
	entry := told(&rel, e, effects, names, m.At)
	if entry.Told, err = handOver(t, &rel, env, now, names, m.At); err != nil {
		return nil, err
	}
	entry.Lines = append(entry.Lines, lines...)
	if !moves {
		return changed(done, commit.Effect{Environment: env, Action: right, Records: []commit.Record{record, step},
			Entries: []commit.Entry{entry}}), nil
	}
	out, err := commit.FlagPut(env, old, &app.FlagRecord{Key: rel.Flag, Version: held.Flag.Version + 1, Document: now},
		entry.Action, entry.Lines)
	out.Records, out.Entries[0].Told, out.Action = append(out.Records, record, step), entry.Told, right
	if effects.Fold {
		out.Judge = commit.Judge{Before: old, After: now, Units: units,
			Noted: func(lines []diff.Line) { done.Difference = append(done.Difference, diff.Said(lines)...) }}
	}
	return changed(done, out), err
}

// changed has the releases looked at once what was done is committed.
func changed(done *Done, e commit.Effect) *commit.Effects {
	return &commit.Effects{Result: done, In: []commit.Effect{e}, Stale: commit.Stale{Releases: true}}
}

// becomes is the flag's document after a step.
func (s *Service) becomes(ctx context.Context, t tx, env *app.Environment, held *holding, rel *app.Release,
	next *stage.State, effects stage.Effects, e *stage.Event) (*flag.Document, error) {
	now := *held.Flag.Document
	switch {
	case effects.Serve:
		now.Rules = stage.Put(now.Rules, rel.ID, next.Plan.Group(rel.ID, next.At, next.Run), next.Plan.Above)
	case effects.Remove:
		now.Rules = stage.Take(now.Rules, rel.ID)
		return &now, nil // whatever else is wrong with the flag keeps nobody from taking it back
	case effects.Fold:
		for i, id := range e.Drop {
			if r := now.Rule(id); r == nil || r.Release != "" {
				return nil, app.InvalidField(fmt.Sprintf("drop[%d]", i), "%q is the id of no rule that can go", id)
			}
		}
		now = *next.End().Fold(held.Flag.Document, rel.ID, e.Drop)
	default:
		return &now, nil
	}
	return &now, s.Stand(ctx, t, env, held.Flag.Document, &now)
}

// mayGoOn asks the gate whether a release may go on in its owner's right, and whether its rules can
// stand still. What refuses holds it.
func (s *Service) mayGoOn(ctx context.Context, m *commit.Moment, rel *app.Release, doc *flag.Document,
	at int) (*stage.Block, error) {
	t, env := txOf(m), m.Environment
	grants, err := t.ActiveGrants(rel.Owner)
	if err != nil {
		return nil, err
	}
	err = m.Lets(ctx, &app.Actor{Kind: "person", ID: rel.Owner,
		Grants: grants}, app.ReleaseIt, cmp.Or(rel.Reason, "no reason was given"))
	why := stage.ByGate
	if err == nil {
		err = s.Stand(ctx, t, env, doc, At(doc, rel, at))
	}
	var f *app.Fault
	if err == nil || !errors.As(err, &f) || f.Kind == app.Unavailable {
		return nil, err
	}
	says := f.Error()
	if f.Kind == app.Forbidden || f.Kind == app.NotFound {
		why, says = stage.ByRight,
			"its owner may not release here any more: somebody who may has it go on, or starts "+
				"another one"
	}
	return &stage.Block{Why: why, Says: says}, nil
}

// told is the entry of a step.
func told(rel *app.Release, e *stage.Event, effects stage.Effects, names words.Names, now int64) commit.Entry {
	lines := []diff.Line{diff.Text(words.Say("release %s: %s", words.Plain(rel.ID),
		stage.Says(&rel.State, nil, names, now)).String())}
	if e.Facts.Changed != "" && effects.Tell == stage.Anew {
		lines = append(lines, diff.Text("its evidence begins anew, since others changed "+e.Facts.Changed))
	}
	if rel.State.Outcome != "" {
		lines = append(lines, diff.Text(words.Say("outcome: %s", words.Name(rel.State.Outcome)).String()))
	}
	return commit.Said("release."+string(effects.Tell), rel.Flag, lines...)
}
