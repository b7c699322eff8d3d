package policies

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/core/shift"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/policy"
)

// Reader is what judging reads.
type Reader interface {
	PolicyGround(project, environment int64, key string) (state string, d *app.Definition, releasing bool, err error)
	Policies(project int64) ([]app.Policy, error)
	FlagEverywhere(project int64, key string) (map[string]*flag.Document, error)
}

// Judge keeps policies compiled, and rules on changes.
type Judge struct {
	mu   sync.Mutex
	kept map[int64]*kept // by project
}

// kept are the policies of a project as they were in a state.
type kept struct {
	state string
	all   []*compiled
}

type compiled struct {
	app.Policy
	program *policy.Program
	failed  error // it was saved by a release that knew more
}

// nouns are what kinds of changes are of, for policies. Others are none of theirs: stops and lifts above all.
var nouns = map[string]string{"flag.put": "flag", "flag.copy-rules": "flag", "flag.make": "definition",
	"flag.edit": "definition", "segment.put": "segment", "segment.make": "segment", "release.start": "release",
	"release.act": "release", "environment.edit": "environment"}

// all are the policies of a project, compiled. They are read where they are no longer in the state that is kept.
func (j *Judge) all(r Reader, project int64, state string) ([]*compiled, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if k := j.kept[project]; k != nil && k.state == state {
		return k.all, nil
	}
	read, err := r.Policies(project)
	if err != nil {
		return nil, err
	}
	now := &kept{state: state}
	for _, p := range read {
		c := &compiled{Policy: p}
		c.program, c.failed = policy.Compile(p.When)
		now.all = append(now.all, c)
	}
	if j.kept == nil {
		j.kept = map[int64]*kept{}
	}
	j.kept[project] = now
	return now.all, nil
}

// Rule rules on a change: the rulings of all policies that bite it, or cannot be judged.
func (j *Judge) Rule(ctx context.Context, in *commit.Judged) ([]app.Ruling, []*app.Policy, error) {
	noun := nouns[in.Kind]
	if noun == "" || noun == "definition" && in.Definition == nil { // of which documents follow
		return nil, nil, nil
	}
	r, is := in.Tx.(Reader)
	if !is {
		return nil, nil, fmt.Errorf("%T knows no policies", in.Tx)
	}
	key, environment := in.Of, int64(0)
	if noun == "release" && in.After != nil {
		key = in.After.Key
	}
	if in.Environment != nil {
		environment = in.Environment.ID
	}
	state, d, releasing, err := r.PolicyGround(in.Project, environment, key)
	if err != nil {
		return nil, nil, err
	}
	all, err := j.all(r, in.Project, state)
	if err != nil || len(all) == 0 {
		return nil, nil, err
	}
	if in.Definition != nil {
		d = in.Definition
	}
	f, err := facts(ctx, r, noun, in, key, d, releasing && noun == "flag")
	if err != nil {
		return nil, nil, err
	}
	var rulings []app.Ruling
	var of []*app.Policy
	input := policy.NewInput(f)
	for _, c := range all {
		if !c.Counts(noun, f.Environment.Key, f.Flag.Tags) {
			continue
		}
		ruling := app.Ruling{Policy: c.Key, Version: c.Version, At: in.Now, Change: in.Change,
			Environment: f.Environment.Key, Subject: in.Of, Actor: in.Actor.ID, Outcome: c.Outcome, Dry: c.Dry}
		bites, err := false, c.failed
		if err == nil {
			bites, err = c.program.Bites(input)
		}
		if err != nil {
			if f := new(app.Fault); errors.As(err, &f) && f.Kind == app.Unavailable {
				return nil, nil, err
			}
			ruling.Failed = clipped(err.Error())
		} else if !bites {
			continue
		}
		rulings, of = append(rulings, ruling), append(of, &c.Policy)
	}
	return rulings, of, nil
}

// clipped keeps what is said short enough to be kept.
func clipped(s string) string {
	for len(s) > 500 {
		s = strings.ToValidUTF8(s[:500], "")
	}
	return s
}

// facts gathers what policies judge by.
func facts(ctx context.Context, r Reader, noun string, in *commit.Judged, key string, d *app.Definition,
	releasing bool) (*policy.Facts, error) {
	f := &policy.Facts{Now: time.UnixMilli(in.Now), Change: policy.Change{Noun: noun, Of: in.Of,
		Reason: strings.TrimSpace(in.Reason), Proposed: in.Proposed}}
	environment := int64(0)
	if in.Environment != nil {
		environment = in.Environment.ID
		f.Environment = policy.Environment{Key: in.Environment.Key, AskFirst: in.Environment.AskFirst,
			OwnersOnly: in.Environment.OwnersOnly}
	}
	f.Actor = Person(in.Actor, in.Project, environment)
	for i := range in.Signers {
		f.Signed = append(f.Signed, Person(&in.Signers[i], in.Project, environment))
	}
	f.Difference.Lines = append([]string{}, in.Lines...)
	before, after := in.Before, in.After
	if before != nil || after != nil {
		f.Before, f.After = policy.Documented(before), policy.Documented(after)
		f.Difference.Step = policy.Step(before, after)
		f.Difference.Lever = before != nil && after != nil && before.Lever != after.Lever
	}
	f.Flag = policy.Flag{Key: key, Owners: []string{}, Tags: []string{}}
	if d != nil {
		f.Flag = described(d)
	}
	f.Flag.Releasing = releasing
	if in.Plan != nil {
		f.Release, f.Difference.Step = policy.Planned(in.Plan)
	}
	f.Shift = func() (*policy.Shift, error) { return shifted(ctx, in) }
	f.Elsewhere = func() (map[string]*policy.Document, error) {
		return elsewhere(r, in.Project, f.Environment.Key,
			key)
	}
	return f, nil
}

// described is what the project owns of a flag as expressions read it.
func described(d *app.Definition) policy.Flag {
	return policy.Flag{Key: d.Key, Title: d.Title, Description: d.Description, Type: string(d.Type), Loses: d.Loses,
		GoneBy: d.GoneBy, Owners: append([]string{}, d.Owners...), Tags: append([]string{}, d.Tags...),
		Visible: d.Visible}
}

// Person is somebody as expressions read them.
func Person(a *app.Actor, project, environment int64) policy.Person {
	out := policy.Person{ID: a.ID, Kind: a.Kind, Roles: []string{}, Teams: []string{}}
	for _, r := range a.Grants.Roles(project, environment) {
		out.Roles = append(out.Roles, string(r))
	}
	for _, is := range a.Is {
		if !strings.Contains(is, "@") {
			out.Teams = append(out.Teams, is)
		}
	}
	return out
}

func shifted(ctx context.Context, in *commit.Judged) (*policy.Shift, error) {
	if in.Shift == nil {
		return nil, fmt.Errorf("what this moves: %w", policy.ErrUnknown)
	}
	sh, err := in.Shift(ctx)
	if err != nil {
		return nil, err
	}
	return Shift(sh), nil
}

// Shift is a shift as expressions read it.
func Shift(sh *shift.Shift) *policy.Shift {
	return &policy.Shift{Moved: sh.Moved.Units, Units: sh.Units.Units, Certain: sh.Certain, Sweep: sh.Sweep}
}

func elsewhere(r Reader, project int64, here, key string) (map[string]*policy.Document, error) {
	all, err := r.FlagEverywhere(project, key)
	out := map[string]*policy.Document{}
	for environment, d := range all {
		if environment != here {
			out[environment] = policy.Documented(d)
		}
	}
	return out, err
}
