// Package stops holds stops and lifts. A stop forces flags to their resting variants at once: it
// waits in no queue, asks for no version and no reason, and is tried until the caller's deadline.
package stops

import (
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
}

// Kinds are stops and lifts.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "flag.stop", Says: "Stops flags at once", Action: app.StopIt,
			Span: commit.Environment, Insists: true}, stop).Holding(hold),
		commit.Of(commit.Kind{Name: "flag.lift", Says: "Takes stops back", Action: app.LiftIt,
			Span: commit.Environment, Guarded: true, Insists: true}, lift).Holding(hold),
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

func hold(m *commit.Moment) (*app.Environment, error) {
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
	unknown, err := tx.UnknownFlags(env.ID, keys)
	if err != nil {
		return nil, err
	}
	var found []flag.Problem
	for _, key := range unknown {
		found = append(found, flag.Problem{Place: fmt.Sprintf("flags[%d]", slices.Index(keys, key)),
			Mend: fmt.Sprintf("there is no flag %q in this environment", key)})
	}
	if err := app.InvalidFields(found); err != nil {
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
		Entries: entries("flag.stopped", keys, "stop "+rec.ID, " gives its resting variant to everybody")}}}, nil
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
		Entries: entries("flag.lifted", out.Flags, fmt.Sprintf("lifted %v", out.Lifted),
			" is decided by its rules again, unless another stop stands")}}}, nil
}
