// Package drills practises stops. A rehearsal makes a revision that changes nothing, on the very way of a stop, so
// that who has it and how soon is measured; a practice stop is a real one, of a flag that is there for it. What was
// not practised for long is listed, and webhooks are reminded of it.
//
// Its noun is a drill; see [Kinds], [Due] and [Reminders].
package drills

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/stops"
	"greenlever.example/greenlever/internal/app/tripwires"
)

// Tx is what these changes read.
type Tx interface {
	UnknownFlags(environment int64, keys []string) ([]string, error)
	Tripwires(environment int64) ([]app.Tripwire, error)
	Definition(project int64, key string) (*app.Definition, error)
}

// Kinds are the drills.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "drill.hold", Alone: true,
			Says:   "Practises a stop: nothing is stopped, or a flag that is there for practice",
			Action: app.StopIt, Span: commit.Environment, Insists: true}, hold).Holding(stops.Hold),
		commit.Of(commit.Kind{Name: "drill.remind", Says: "Reminds of what was not practised",
			Span: commit.Environment, Inner: true}, remind),
	}
}

// Hold practises a stop. Flags are named, or they are those of a tripwire whose alert is rehearsed.
type Hold struct {
	Flags    []string        `json:"flags,omitempty"`
	Tripwire string          `json:"tripwire,omitempty"`
	Alert    json.RawMessage `json:"alert,omitempty"` // a body as the tripwire gets it
	// Practice stops the flags, which must have the tag *practice*; else nothing is stopped.
	Practice bool `json:"practice,omitempty"`
}

// Remind tells webhooks what was not practised.
type Remind struct{ Due Due }

// Held is the result of a drill.
type Held struct {
	app.Drill
	// Alert is how the tripwire read the body.
	Alert *tripwires.Alert `json:"alert,omitempty"`
}

// mostFlags is how many flags one drill takes.
const mostFlags = 1_000

func hold(_ context.Context, m *commit.Moment, in *Hold) (*commit.Effects, error) {
	tx, env := commit.Narrow[Tx](m), m.Environment
	out := &Held{Drill: app.Drill{ID: commit.NewID(), Kind: app.Rehearsal, Tripwire: in.Tripwire, By: m.Actor.ID,
		At: m.At, Reason: m.Reason, Revision: env.Revision + 1}}
	keys := slices.Compact(slices.Sorted(slices.Values(in.Flags)))
	var err error
	if in.Tripwire != "" {
		if len(keys) > 0 || in.Practice {
			return nil, app.InvalidField("flags", "a drill is of flags or of a tripwire, whose alert is only "+
				"rehearsed")
		}
		if keys, out.Alert, err = heard(tx, env.ID, in); err != nil {
			return nil, err
		}
	}
	if len(keys) == 0 || len(keys) > mostFlags {
		return nil, app.InvalidField("flags", "name 1 to %d flags", mostFlags)
	}
	if err := stops.Known(tx, env.ID, "flags", keys); err != nil {
		return nil, err
	}
	out.Flags = keys
	e := commit.Effect{Environment: env, Event: &flag.Event{}}
	if in.Practice {
		for _, key := range keys {
			def, err := tx.Definition(env.ProjectID, key)
			if err != nil {
				return nil, err
			}
			if !slices.Contains(def.Tags, app.PracticeTag) {
				return nil, app.InvalidField("flags", "%s is no flag for practice: give it the tag %q, or "+
					"rehearse, which "+
					"stops nothing", key, app.PracticeTag)
			}
		}
		rec := &app.StopRecord{ID: commit.NewID(), Flags: keys, By: m.Actor.ID, At: m.At, Reason: m.Reason}
		out.Kind, out.Stop = app.Practice, rec.ID
		e.Records = append(e.Records, rec)
		e.Event.Stops = []flag.Stop{{ID: rec.ID, Flags: keys, At: m.At}}
		e.Entries = append(e.Entries, stops.Entries(rec)...)
	}
	e.Records = append(e.Records, &out.Drill)
	for _, key := range keys {
		said := words.Say("rehearsed a stop of %s: nothing is stopped", words.Key(key))
		if in.Practice {
			said = words.Say("practised a stop of %s", words.Key(key))
		}
		e.Entries = append(e.Entries, commit.Said("drill.held", key, diff.Text(said.String())))
	}
	return &commit.Effects{Result: out, In: []commit.Effect{e}}, nil
}

// heard reads an alert as its tripwire does, and gives the flags that it would stop.
func heard(tx Tx, environment int64, in *Hold) ([]string, *tripwires.Alert, error) {
	all, err := tx.Tripwires(environment)
	if err != nil {
		return nil, nil, err
	}
	at := slices.IndexFunc(all, func(w app.Tripwire) bool { return w.ID == in.Tripwire })
	if at < 0 {
		return nil, nil, app.Faultf(app.NotFound, "there is no such tripwire in this environment")
	}
	w := &all[at]
	reader, err := tripwires.NewReader(w)
	if err != nil {
		return nil, nil, err
	}
	alert, err := reader.Read(in.Alert)
	switch {
	case err != nil:
		return nil, nil, err
	case w.Off:
		return nil, nil, app.InvalidField("tripwire", "this tripwire is off: it would stop nothing")
	case !alert.Meant:
		return nil, nil, app.InvalidField("alert", "this tripwire is not meant by the alert: its condition says no")
	case alert.Over:
		return nil, nil, app.InvalidField("alert", "the alert says that it is over: it would stop nothing")
	}
	return w.Flags, alert, nil
}

// Due is what was not practised within [Every].
type Due struct {
	Flags     []DueOne `json:"flags"`     // that are on
	Tripwires []DueOne `json:"tripwires"` // that are not off
}

// DueOne is one of them.
type DueOne struct {
	ID    string `json:"id"` // of a tripwire; the key of a flag
	Title string `json:"title"`
	Last  int64  `json:"last,omitempty"` // when it was last stopped, or rehearsed; 0: never
}

// Every is how often each should be practised, and RemindEvery how often webhooks are told.
const (
	Every       = 90 * 24 * time.Hour
	RemindEvery = 30 * 24 * time.Hour
)

// Empty tells whether all was practised.
func (d *Due) Empty() bool { return len(d.Flags)+len(d.Tripwires) == 0 }

func remind(_ context.Context, m *commit.Moment, in *Remind) (*commit.Effects, error) {
	rec := &app.Drill{ID: commit.NewID(), Kind: app.Reminder, Flags: []string{}, At: m.At}
	lines := []diff.Line{diff.Text(fmt.Sprintf("not practised within %d days: %s and %s", int(Every.Hours()/24),
		count(len(in.Due.Flags), "flag that is on", "flags that are on"), count(len(in.Due.Tripwires), "tripwire",
			"tripwires")))}
	for _, part := range [][]DueOne{in.Due.Flags, in.Due.Tripwires} {
		var names []string
		for _, one := range part[:min(len(part), mostNamed)] {
			names = append(names, one.Title+" ("+one.ID+")")
		}
		if len(names) > 0 {
			lines = append(lines, diff.Text(words.Say("%s", words.Plain(strings.Join(names, ", "))).String()))
		}
	}
	return &commit.Effects{In: []commit.Effect{{Environment: m.Environment, Records: []commit.Record{rec},
		Entries: []commit.Entry{commit.Said("drill.due", "", lines...)}}}}, nil
}

// mostNamed is how many of each a reminder names.
const mostNamed = 50

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Records are what is read to find what is due.
type Records interface {
	AllEnvironments(ctx context.Context) ([]app.Environment, int64, error)
	PlaceOf(ctx context.Context, environment int64) (*app.Project, *app.Environment, error)
	RemindedAt(ctx context.Context, environment int64) (int64, error)
	Practised(ctx context.Context, environment int64) (flags, tripwires map[string]int64, err error)
	Tripwires(ctx context.Context, environment int64) ([]app.Tripwire, error)
	Definitions(ctx context.Context, project int64) ([]app.Definition, error)
}

// Service finds what is due.
type Service struct {
	Records Records
	Rules   func(ctx context.Context, environment int64) (*flag.Ruleset, error)
	Apply   func(ctx context.Context, r commit.Request, changes ...commit.Change) (json.RawMessage, error)
	Now     func() time.Time
}

// Due lists what of an environment was not practised.
func (s *Service) Due(ctx context.Context, env *app.Environment) (*Due, error) {
	rules, err := s.Rules(ctx, env.ID)
	if err != nil {
		return nil, err
	}
	flags, wires, err := s.Records.Practised(ctx, env.ID)
	if err != nil {
		return nil, err
	}
	defs, err := s.Records.Definitions(ctx, env.ProjectID)
	if err != nil {
		return nil, err
	}
	all, err := s.Records.Tripwires(ctx, env.ID)
	if err != nil {
		return nil, err
	}
	out, since := &Due{Flags: []DueOne{}, Tripwires: []DueOne{}}, s.Now().Add(-Every).UnixMilli()
	for i := range defs {
		d := &defs[i]
		doc := rules.Flag(d.Key)
		if last := flags[d.Key]; doc != nil && doc.Lever == flag.On && last < since {
			out.Flags = append(out.Flags, DueOne{d.Key, d.Title, last})
		}
	}
	for _, w := range all {
		if last := wires[w.ID]; !w.Off && last < since {
			out.Tripwires = append(out.Tripwires, DueOne{w.ID, w.Title, last})
		}
	}
	return out, nil
}

// Remind tells webhooks of what was not practised, once in a while, of environments that ask first.
func (s *Service) Remind(ctx context.Context) (err error) {
	envs, _, err := s.Records.AllEnvironments(ctx)
	if err != nil {
		return err
	}
	for i := range envs {
		if envs[i].AskFirst {
			err = errors.Join(err, s.remind(ctx, &envs[i]))
		}
	}
	return err
}

func (s *Service) remind(ctx context.Context, env *app.Environment) error {
	now := s.Now().UnixMilli()
	last, err := s.Records.RemindedAt(ctx, env.ID)
	if err != nil || now-last < RemindEvery.Milliseconds() {
		return err
	}
	due, err := s.Due(ctx, env)
	if err != nil || due.Empty() {
		return err
	}
	project, place, err := s.Records.PlaceOf(ctx, env.ID)
	if err != nil {
		return err
	}
	_, err = s.Apply(ctx, commit.Request{Actor: app.Actor{Kind: "service", Through: "drills"}},
		commit.Change{In: commit.In{Project: project, Environment: place}, Do: &Remind{Due: *due}})
	return err
}
