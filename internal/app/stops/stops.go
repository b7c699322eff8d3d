// Package stops holds stops and lifts. A stop forces flags to their resting variants at once: it
// waits in no queue, asks for no version and no reason, and is tried until the caller's deadline.
package stops

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/lineage"
)

// Tx is what stops and lifts read.
type Tx interface {
	LockEnvironment(id int64) (*app.Environment, error)
	StandingStops(environment int64, ids []string) ([]app.StopRecord, error)
	StopsLike(environment int64, flags []string) ([]app.StopRecord, error)
	UnknownFlags(environment int64, keys []string) ([]string, error)
	Stop(environment int64, id string) (*app.StopRecord, error)
}

// Kinds are stops and lifts.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "flag.stop", Says: "Stops flags at once", Action: app.StopIt,
			Span: commit.Environment, Insists: true}, stop).Holding(Hold),
		commit.Of(commit.Kind{Name: "flag.lift", Says: "Takes stops back", Action: app.LiftIt,
			Span: commit.Environment, Guarded: true, Insists: true}, lift).Holding(Hold),
		commit.Of(commit.Kind{Name: "flag.stop-reason", Says: "Gives a stop its reason afterwards", Action: app.StopIt,
			Span: commit.Environment}, because).Holding(Hold),
	}
}

// Stop forces flags to their resting variants. Several stops may stand at once. The same person's
// stop of the same flags for the same reason is the one that stands already, so that an alarm
// that repeats itself costs nothing.
type Stop struct {
	Flags []string `json:"flags"`
}

// Lift takes stops back. Newer stops on the same flags stand.
type Lift struct {
	Stops []string `json:"stops"`
}

// Because gives the stop that the change is of a reason afterwards: the change's own.
type Because struct{}

// Stopped is the result of a stop or a lift.
type Stopped struct {
	Stop     string   `json:"stop,omitempty"`   // the id of a new stop, or of one that stands already
	Lifted   []string `json:"lifted,omitempty"` // the ids of lifted stops
	Flags    []string `json:"flags"`
	Revision int64    `json:"revision"`
	Epoch    int64    `json:"epoch,omitempty"` // that had to begin so that it arrives everywhere
}

// maxStopped is how many flags one stop takes.
const maxStopped = 1_000

// errRestored ends a try of a stop where a new epoch must begin with it.
var errRestored = errors.New("the records were restored from a backup")

// Arrive makes a stop or a lift. Where followers have had what the records lost, a new epoch
// begins with it, since they would skip it in the old one.
func Arrive(ctx context.Context, s *commit.Service, r commit.Request, c commit.Change) (json.RawMessage, error) {
	if err := check(c.Do); err != nil {
		return nil, err
	}
	out, err := s.Apply(ctx, r, c)
	if errors.Is(err, errRestored) {
		r.Actor.Cause = errRestored.Error()
		out, err = s.Apply(ctx, r, commit.Change{Do: &lineage.EpochFor{}, Aside: true}, c)
	}
	return out, err
}

func check(do any) error {
	switch in := do.(type) {
	case *Stop:
		if n := len(named(in.Flags)); n == 0 || n > maxStopped {
			return app.InvalidField("flags", "name 1 to %d flags to stop", maxStopped)
		}
	case *Lift:
		if n := len(in.Stops); n == 0 || n > maxStopped {
			return app.InvalidField("stops", "name the ids of 1 to %d stops to lift", maxStopped)
		}
	}
	return nil
}

// named sorts keys, each once.
func named(keys []string) []string {
	keys = slices.Clone(keys)
	slices.Sort(keys)
	return slices.Compact(keys)
}

// Hold holds the environment of a stop or a lift. Where the records lost what followers had, a new epoch must begin.
func Hold(m *commit.Moment) (*app.Environment, error) {
	env, err := commit.Narrow[Tx](m).LockEnvironment(m.Environment.ID)
	if err == nil && env.Behind > 0 {
		return nil, errRestored
	}
	return env, err
}

func stop(_ context.Context, m *commit.Moment, in *Stop) (*commit.Effects, error) {
	if err := check(in); err != nil {
		return nil, err
	}
	tx, env, keys := commit.Narrow[Tx](m), m.Environment, named(in.Flags)
	if err := Known(tx, env.ID, "flags", keys); err != nil {
		return nil, err
	}
	same, err := tx.StopsLike(env.ID, keys)
	if err != nil {
		return nil, err
	}
	out := &Stopped{Flags: keys, Epoch: m.Raised()}
	for i := range same {
		if same[i].By == m.Actor.ID && same[i].Reason == m.Reason {
			out.Stop, out.Revision = same[i].ID, same[i].Revision
			return commit.Nothing(out), nil // it stands
		}
	}
	rec := &app.StopRecord{ID: commit.NewID(), Flags: keys, By: m.Actor.ID, At: m.At, Reason: m.Reason}
	out.Stop, out.Revision = rec.ID, env.Revision+1
	return &commit.Effects{Result: out, In: []commit.Effect{{Environment: env, Records: []commit.Record{rec},
		Event:   &flag.Event{Stops: []flag.Stop{{ID: rec.ID, Flags: keys, At: m.At}}},
		Entries: Entries(rec)}}}, nil
}

// Flags tells which flags an environment has.
type Flags interface {
	UnknownFlags(environment int64, keys []string) ([]string, error)
}

// Known names those of some flags, which stand at a place of the request, that the environment has not.
func Known(tx Flags, environment int64, place string, keys []string) error {
	unknown, err := tx.UnknownFlags(environment, keys)
	if err != nil {
		return err
	}
	var found []flag.Problem
	for _, key := range unknown {
		found = append(found, flag.Problem{Place: fmt.Sprintf("%s[%d]", place, slices.Index(keys, key)),
			Mend: fmt.Sprintf("there is no flag %q in this environment", key)})
	}
	return app.InvalidFields(found)
}

// Here leaves out flags that the environment has not, or not any more.
func Here(tx Flags, environment int64, keys []string) ([]string, error) {
	if keys = named(keys); len(keys) == 0 {
		return nil, nil
	}
	unknown, err := tx.UnknownFlags(environment, keys)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(keys, func(k string) bool { return slices.Contains(unknown, k) }), nil
}

// Entries tell of a stop, under each of its flags.
func Entries(rec *app.StopRecord) []commit.Entry {
	return entries("flag.stopped", rec.Flags, "stop "+rec.ID, " gives its resting variant to everybody")
}

// Lifts tell of lifts, under each flag.
func Lifts(ids, flags []string) []commit.Entry {
	return entries("flag.lifted", named(flags), fmt.Sprintf("lifted %v", ids),
		" is decided by its rules again, unless another stop stands")
}

// entries are one for each flag, so that each is found under its key.
func entries(action string, keys []string, said, what string) []commit.Entry {
	out := make([]commit.Entry, len(keys))
	for i, key := range keys {
		out[i] = commit.Said(action, key, diff.Text(said), diff.Text(key+what))
	}
	return out
}

func lift(_ context.Context, m *commit.Moment, in *Lift) (*commit.Effects, error) {
	if err := check(in); err != nil {
		return nil, err
	}
	env := m.Environment
	standing, err := commit.Narrow[Tx](m).StandingStops(env.ID, in.Stops)
	if err != nil {
		return nil, err
	}
	out := &Stopped{Lifted: []string{}, Flags: []string{}, Revision: env.Revision + 1, Epoch: m.Raised()}
	for i, id := range in.Stops {
		at := slices.IndexFunc(standing, func(s app.StopRecord) bool { return s.ID == id })
		if at < 0 {
			return nil, app.InvalidField(fmt.Sprintf("stops[%d]", i), "no stop %q stands in this environment: it "+
				"was lifted already, or never was", id)
		}
		if !slices.Contains(out.Lifted, id) {
			out.Lifted, out.Flags = append(out.Lifted, id), append(out.Flags, standing[at].Flags...)
		}
	}
	out.Flags = named(out.Flags)
	return &commit.Effects{Result: out, In: []commit.Effect{{Environment: env,
		Records: []commit.Record{&app.Lift{IDs: out.Lifted, By: m.Actor.ID, At: m.At}},
		Event:   &flag.Event{Lifted: out.Lifted},
		Entries: Lifts(out.Lifted, out.Flags)}}}, nil
}

// because gives a stop its reason, once: who stops at night says later why.
func because(_ context.Context, m *commit.Moment, _ *Because) (*commit.Effects, error) {
	if m.Reason == "" {
		return nil, app.InvalidField("reason", "say why, in one sentence")
	}
	was, err := commit.Narrow[Tx](m).Stop(m.Environment.ID, m.Of)
	if err != nil {
		return nil, err
	}
	switch {
	case was == nil:
		return nil, app.Faultf(app.NotFound, "there is no such stop in this environment")
	case was.Later == m.Reason || was.Later == "" && was.Reason == m.Reason:
		return commit.Nothing(was), nil
	case was.Later != "" || was.Reason != "":
		return nil, app.Faultf(app.Conflict, "this stop has its reason: %s", cmp.Or(was.Later, was.Reason))
	}
	out := *was
	out.Later, out.LaterBy, out.LaterAt = m.Reason, m.Actor.ID, m.At
	all := make([]commit.Entry, len(was.Flags))
	for i, key := range was.Flags {
		all[i] = commit.Said("flag.stop-reason", key, diff.Text("stop "+was.ID+" has a reason"))
	}
	return &commit.Effects{Result: &out, In: []commit.Effect{{Environment: m.Environment,
		Records: []commit.Record{&app.StopReason{ID: was.ID, Reason: m.Reason, By: m.Actor.ID, At: m.At}},
		Entries: all}}}, nil
}
