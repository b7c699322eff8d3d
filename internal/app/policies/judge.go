package policies

import (
	"context"
	"errors"
	"fmt"
	"slices"
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
	PolicyVersions(project int64) ([]app.PolicyVersion, error)
	PoliciesOf(project int64, keys []string) ([]app.Policy, error)
	Definition(project int64, key string) (*app.Definition, error)
	EnvironmentsNow(project int64) ([]app.Environment, error)
	FlagIn(environment int64, key string) (*flag.Document, error)
	RunningRelease(environment int64, flag string) (bool, error)
}

// Judge keeps policies compiled, and rules on changes.
type Judge struct {
	mu   sync.Mutex
	kept map[place]*compiled
}

type place struct {
	project int64
	key     string
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

// all are the policies of a project, compiled. What was changed since they were kept is read.
func (j *Judge) all(r Reader, project int64) ([]*compiled, error) {
	versions, err := r.PolicyVersions(project)
	if err != nil || len(versions) == 0 {
		return nil, err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.kept == nil {
		j.kept = map[place]*compiled{}
	}
	var missing []string
	for _, v := range versions {
		if c := j.kept[place{project, v.Key}]; c == nil || c.Version != v.Version || c.At != v.At {
			missing = append(missing, v.Key)
		}
	}
	if len(missing) > 0 {
		read, err := r.PoliciesOf(project, missing)
		if err != nil {
			return nil, err
		}
		for _, p := range read {
			c := &compiled{Policy: p}
			c.program, c.failed = policy.Compile(p.When)
			j.kept[place{project, p.Key}] = c
		}
	}
	var out []*compiled
	for _, v := range versions {
		if c := j.kept[place{project, v.Key}]; c != nil {
			out = append(out, c)
		}
	}
	return out, nil
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
	all, err := j.all(r, in.Project)
	if err != nil || len(all) == 0 {
		return nil, nil, err
	}
	f, err := facts(ctx, r, noun, in)
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
func facts(ctx context.Context, r Reader, noun string, in *commit.Judged) (*policy.Facts, error) {
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
	key := in.Of
	if noun == "release" && after != nil {
		key = after.Key
	}
	if err := about(r, f, noun, key, environment, in); err != nil {
		return nil, err
	}
	if in.Plan != nil {
		f.Release, f.Difference.Step = policy.Planned(in.Plan)
	}
	f.Shift = func() (*policy.Shift, error) { return shifted(ctx, in) }
	f.Elsewhere = func() (map[string]*policy.Document, error) { return elsewhere(r, in.Project, environment, key) }
	return f, nil
}

// about reads what the project owns of a flag.
func about(r Reader, f *policy.Facts, noun, key string, environment int64, in *commit.Judged) (err error) {
	d := in.Definition
	if d == nil && (noun == "flag" || noun == "release") {
		if d, err = r.Definition(in.Project, key); err != nil {
			return err
		}
	}
	f.Flag = policy.Flag{Key: key, Owners: []string{}, Tags: []string{}}
	if d == nil {
		return nil
	}
	f.Flag = described(d)
	if environment != 0 && noun == "flag" {
		f.Flag.Releasing, err = r.RunningRelease(environment, key)
	}
	return err
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

func elsewhere(r Reader, project, here int64, key string) (map[string]*policy.Document, error) {
	envs, err := r.EnvironmentsNow(project)
	if err != nil {
		return nil, err
	}
	out := map[string]*policy.Document{}
	for _, e := range slices.DeleteFunc(envs, func(e app.Environment) bool { return e.ID == here }) {
		d, err := r.FlagIn(e.ID, key)
		if err != nil {
			return nil, err
		}
		if d != nil {
			out[e.Key] = policy.Documented(d)
		}
	}
	return out, nil
}
