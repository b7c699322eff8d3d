package files

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/evidence"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/releases"
	"greenlever.example/greenlever/internal/expr"
)

// Release is a file of a release.
type Release struct {
	Flag        string            `json:"release" yaml:"release"` // the flag's key
	Environment string            `json:"environment,omitempty" yaml:"environment,omitempty"`
	From        string            `json:"from,omitempty" yaml:"from,omitempty"`
	To          string            `json:"to,omitempty" yaml:"to,omitempty"`
	Beside      []string          `json:"beside,omitempty" yaml:"beside,omitempty,flow"` // further new variants
	By          []string          `json:"by,omitempty" yaml:"by,omitempty,flow"`
	Where       string            `json:"where,omitempty" yaml:"where,omitempty"`
	Above       string            `json:"above,omitempty" yaml:"above,omitempty"` // a rule's id
	Begin       string            `json:"begin,omitempty" yaml:"begin,omitempty"` // RFC 3339
	Hours       *condition.Weekly `json:"hours,omitempty" yaml:"hours,omitempty"`
	Delivery    *Delivery         `json:"delivery,omitempty" yaml:"delivery,omitempty"`
	OldArm      bool              `json:"oldArm,omitempty" yaml:"oldArm,omitempty"`
	Watches     []Watch           `json:"watches,omitempty" yaml:"watches,omitempty"`
	Alpha       string            `json:"alpha,omitempty" yaml:"alpha,omitempty"`
	BreakDown   []string          `json:"breakDown,omitempty" yaml:"breakDown,omitempty,flow"`
	Ladder      string            `json:"ladder,omitempty" yaml:"ladder,omitempty"`
	Named       []string          `json:"named,omitempty" yaml:"named,omitempty"`
	Stages      []Stage           `json:"stages,omitempty" yaml:"stages,omitempty"`
	Expected    string            `json:"expected,omitempty" yaml:"expected,omitempty"`
	Because     string            `json:"because,omitempty" yaml:"because,omitempty"`

	Start releases.Start `json:"-" yaml:"-"` // what the API takes
}

// Delivery is how far a stage must have arrived.
type Delivery struct {
	Percent int    `json:"percent,omitempty" yaml:"percent,omitempty"`
	Wait    string `json:"wait,omitempty" yaml:"wait,omitempty"`
}

// Stage is a stage in a file.
type Stage struct {
	Name     string   `json:"name" yaml:"name"`
	Asks     bool     `json:"asks,omitempty" yaml:"asks,omitempty"` // of a ladder: its units are named at the start
	Who      string   `json:"who,omitempty" yaml:"who,omitempty"`
	Share    string   `json:"share,omitempty" yaml:"share,omitempty"`
	Least    string   `json:"least,omitempty" yaml:"least,omitempty"`
	Units    int64    `json:"units,omitempty" yaml:"units,omitempty"`
	Until    string   `json:"until,omitempty" yaml:"until,omitempty"`
	Longest  string   `json:"longest,omitempty" yaml:"longest,omitempty"`
	Late     string   `json:"late,omitempty" yaml:"late,omitempty"`
	SignOff  []string `json:"signOff,omitempty" yaml:"signOff,omitempty,flow"`
	Declined string   `json:"declined,omitempty" yaml:"declined,omitempty"`
}

// Ladder is a file of a ladder.
type Ladder struct {
	Key    string  `json:"ladder" yaml:"ladder"`
	Title  string  `json:"title" yaml:"title"`
	Says   string  `json:"says,omitempty" yaml:"says,omitempty"`
	Stages []Stage `json:"stages" yaml:"stages"`
}

// ReadRelease reads a release.
func ReadRelease(raw []byte) (*Release, error) {
	r := &Release{}
	root, err := read("release", raw, r)
	if err != nil {
		return nil, err
	}
	r.Start = releases.Start{From: r.From, To: r.To, Beside: r.Beside, By: r.By, Above: r.Above, Hours: r.Hours,
		OldArm: r.OldArm, Ladder: r.Ladder, Named: r.Named, Expected: r.Expected, BreakDown: r.BreakDown}
	if r.Start.Where, err = when(root, r.Where, "where"); err != nil {
		return nil, err
	}
	if r.Start.Alpha, err = alpha(root, r.Alpha); err != nil {
		return nil, err
	}
	if r.Watches != nil {
		r.Start.Watches = &[]releases.Watching{}
	}
	for _, w := range r.Watches {
		one := releases.Watching{Metric: w.Metric, Limit: w.Limit, Weight: w.Weight,
			OnHarm: evidence.Reaction(w.OnHarm)}
		if w.Tolerance != nil {
			t := evidence.Tolerance(*w.Tolerance)
			one.Tolerance = &t
		}
		*r.Start.Watches = append(*r.Start.Watches, one)
	}
	if r.Begin != "" {
		at, err := time.Parse(time.RFC3339, r.Begin)
		if err != nil {
			n := find(root, []string{"begin"})
			return nil, Problems{{n.Line, n.Column, "begin", "must be a time such as 2026-12-01T08:00:00+01:00"}}
		}
		r.Start.Begin = at.UnixMilli()
	}
	if r.Delivery != nil {
		r.Start.Delivery.Percent = r.Delivery.Percent
		if r.Start.Delivery.Wait, err = span(root, r.Delivery.Wait, "delivery", "wait"); err != nil {
			return nil, err
		}
	}
	stages, err := stagesOf(root, r.Stages)
	for _, s := range stages {
		r.Start.Stages = append(r.Start.Stages, s.Stage)
	}
	return r, err
}

// ReadLadder reads a ladder.
func ReadLadder(raw []byte) (*app.Ladder, error) {
	l := &Ladder{}
	root, err := read("ladder", raw, l)
	if err != nil {
		return nil, err
	}
	stages, err := stagesOf(root, l.Stages)
	return &app.Ladder{Key: l.Key, Title: l.Title, Says: l.Says, Stages: stages}, err
}

func span(root *yaml.Node, text string, path ...string) (out stage.Span, err error) {
	if text == "" {
		return 0, nil
	}
	if err := out.UnmarshalText([]byte(text)); err != nil {
		n := find(root, path)
		return 0, Problems{{n.Line, n.Column, place("/" + strings.Join(path, "/")), err.Error()}}
	}
	return out, nil
}

func stagesOf(root *yaml.Node, all []Stage) (out []app.LadderStage, err error) {
	for i, s := range all {
		at := []string{"stages", strconv.Itoa(i)}
		one := app.LadderStage{Asks: s.Asks, Stage: stage.Stage{Name: s.Name, Units: s.Units, Late: stage.Then(s.Late),
			Until: stage.Until(s.Until), SignOff: s.SignOff, Declined: stage.Then(s.Declined)}}
		if one.Who, err = when(root, s.Who, append(at, "who")...); err != nil {
			return nil, err
		}
		if one.Share, err = percent(root, s.Share, append(at, "share")...); err != nil {
			return nil, err
		}
		if one.Least, err = span(root, s.Least, append(at, "least")...); err != nil {
			return nil, err
		}
		if one.Longest, err = span(root, s.Longest, append(at, "longest")...); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

func written(s *stage.Stage, asks bool) (Stage, error) {
	out := Stage{Name: s.Name, Asks: asks, Units: s.Units, Late: string(s.Late), Until: string(s.Until),
		SignOff:  s.SignOff,
		Declined: string(s.Declined)}
	var err error
	if s.Who != nil {
		if out.Who, err = expr.Print(s.Who); err != nil {
			return out, fmt.Errorf("stage %q: %w", s.Name, err)
		}
	}
	if s.Share > 0 {
		out.Share = bucket.Percent(s.Share)
	}
	if s.Least > 0 {
		out.Least = s.Least.String()
	}
	if s.Longest > 0 {
		out.Longest = s.Longest.String()
	}
	return out, nil
}

// WriteRelease writes a release so that it could be started again.
func WriteRelease(rel *app.Release, environment string) ([]byte, error) {
	p := &rel.State.Plan
	out := Release{Flag: rel.Flag, Environment: environment, From: p.From, To: p.To, Beside: p.Beside, By: p.By,
		Above: p.Above,
		Hours: p.Hours, OldArm: p.OldArm, Expected: rel.Expected, Because: rel.Reason, BreakDown: p.BreakDown}
	var err error
	if p.Where != nil {
		if out.Where, err = expr.Print(p.Where); err != nil {
			return nil, err
		}
	}
	out.Alpha = percentOf(p.Alpha)
	for _, w := range evidence.Each(p.Watches, nil) {
		t := Tolerance(w.Metric.Tolerance)
		out.Watches = append(out.Watches, Watch{w.Metric.Key, &t, w.Metric.Limit, w.Weight, string(w.OnHarm)})
	}
	if p.Begin > 0 {
		out.Begin = time.UnixMilli(p.Begin).UTC().Format(time.RFC3339)
	}
	if p.Delivery != (stage.Delivery{}) {
		out.Delivery = &Delivery{Percent: p.Delivery.Percent}
		if p.Delivery.Wait > 0 {
			out.Delivery.Wait = p.Delivery.Wait.String()
		}
	}
	for i := range p.Stages {
		s, err := written(&p.Stages[i], false)
		if err != nil {
			return nil, err
		}
		out.Stages = append(out.Stages, s)
	}
	return write("release", out)
}

// WriteLadder writes a ladder.
func WriteLadder(l *app.Ladder) ([]byte, error) {
	out := Ladder{Key: l.Key, Title: l.Title, Says: l.Says}
	for i := range l.Stages {
		s, err := written(&l.Stages[i].Stage, l.Stages[i].Asks)
		if err != nil {
			return nil, err
		}
		out.Stages = append(out.Stages, s)
	}
	return write("ladder", out)
}

func write(kind string, v any) ([]byte, error) {
	raw, err := yaml.Marshal(v)
	return append([]byte("# yaml-language-server: $schema="+kind+".schema.json\n"), raw...), err
}
