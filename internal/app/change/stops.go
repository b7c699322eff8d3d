package change

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

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

// Stop forces flags to their resting variants at once. It passes no gate, asks for no
// version and no reason, and several stops may stand at once. The same person's stop of the
// same flags for the same reason is the one that stands already, so that an alarm that
// repeats itself costs nothing. It is tried until the caller's deadline.
func (s *Service) Stop(ctx context.Context, r Request, env *app.Environment, keys []string) (json.RawMessage, error) {
	keys = slices.Clone(keys)
	slices.Sort(keys)
	keys = slices.Compact(keys)
	if len(keys) == 0 || len(keys) > maxStopped {
		return nil, app.InvalidField("flags", "name 1 to %d flags to stop", maxStopped)
	}
	return s.arrive(ctx, r, env, func(c *commit, env *app.Environment) (*Stopped, error) {
		if err := app.Allow(&r.Actor, app.StopIt, env.ProjectID, env.ID); err != nil {
			return nil, err
		}
		if err := c.checkReason(); err != nil {
			return nil, err
		}
		unknown, err := c.tx.UnknownFlags(env.ID, keys)
		if err != nil {
			return nil, err
		}
		if len(unknown) > 0 {
			var found []flag.Problem
			for _, key := range unknown {
				found = append(found, flag.Problem{Place: fmt.Sprintf("flags[%d]", slices.Index(keys, key)), Mend: fmt.Sprintf("there is no flag %q in this environment", key)})
			}
			return nil, app.InvalidFields(found)
		}
		same, err := c.tx.StopsLike(env.ID, keys)
		if err != nil {
			return nil, err
		}
		out := &Stopped{Flags: keys}
		for i := range same {
			if same[i].By == r.Actor.ID && same[i].Reason == r.Reason {
				out.Stop, out.Revision = same[i].ID, same[i].Revision
				return out, nil // it stands
			}
		}
		stop := &app.StopRecord{ID: newID(), EnvironmentID: env.ID, Flags: keys, By: r.Actor.ID, At: c.at, Reason: r.Reason, Revision: env.Revision + 1}
		out.Stop, out.Revision = stop.ID, stop.Revision
		if err := c.tx.AddStop(stop); err != nil {
			return nil, err
		}
		return out, c.stopEntries(env, "flag.stopped", keys, &flag.Event{Stops: []flag.Stop{{ID: stop.ID, Flags: keys, At: c.at}}}, "stop "+stop.ID)
	})
}

// errRestored ends a try of a stop where a new epoch must begin with it.
var errRestored = errors.New("the records were restored from a backup")

// arrive makes a stop or a lift. Where followers have had what the records lost, a new epoch
// begins with it, since they would skip it in the old one.
func (s *Service) arrive(ctx context.Context, r Request, env *app.Environment, do func(c *commit, env *app.Environment) (*Stopped, error)) (json.RawMessage, error) {
	raise := false
	try := func(tx Tx, c *commit) (any, error) {
		epoch := int64(0)
		if raise { // it locks all environments, in the order of their ids
			var err error
			if epoch, err = c.raiseEpoch(); err != nil {
				return nil, err
			}
		}
		env, err := tx.LockEnvironment(env.ID)
		if err != nil {
			return nil, err
		}
		if env.Behind > 0 {
			return nil, errRestored
		}
		out, err := do(c, env)
		if out != nil {
			out.Epoch = epoch
		}
		return out, err
	}
	out, err := s.insist(ctx, r, try)
	if errors.Is(err, errRestored) {
		r.Actor.Cause = errRestored.Error()
		raise = true
		out, err = s.insist(ctx, r, try)
	}
	return out, err
}

func noSuchFlag(err error, place, key string) error {
	if f, ok := err.(*app.Fault); ok && f.Kind == app.NotFound {
		return app.InvalidField(place, "there is no flag %q in this environment", key)
	}
	return err
}

// stopEntries makes the revision, with an entry for each flag, so that each is found under its key.
func (c *commit) stopEntries(env *app.Environment, action string, keys []string, ev *flag.Event, said string) error {
	what := " gives its resting variant to everybody"
	if action == "flag.lifted" {
		what = " is decided by its rules again, unless another stop stands"
	}
	entries, lines := make([]audit.Entry, len(keys)), make([][]diff.Line, len(keys))
	for i, key := range keys {
		entries[i] = c.entry(action, env.ProjectID)
		entries[i].Subject = key
		lines[i] = []diff.Line{diff.Text(said), diff.Text(key + what)}
	}
	return c.reviseAll(env, ev, entries, lines)
}

// Lift takes stops back. Newer stops on the same flags stand.
func (s *Service) Lift(ctx context.Context, r Request, env *app.Environment, ids []string) (json.RawMessage, error) {
	if len(ids) == 0 || len(ids) > maxStopped {
		return nil, app.InvalidField("stops", "name the ids of 1 to %d stops to lift", maxStopped)
	}
	return s.arrive(ctx, r, env, func(c *commit, env *app.Environment) (*Stopped, error) {
		if err := app.Allow(&r.Actor, app.LiftIt, env.ProjectID, env.ID); err != nil {
			return nil, err
		}
		if err := c.open(env); err != nil {
			return nil, err
		}
		standing, err := c.tx.StandingStops(env.ID, ids)
		if err != nil {
			return nil, err
		}
		out := &Stopped{Lifted: []string{}, Flags: []string{}, Revision: env.Revision + 1}
		for i, id := range ids {
			at := slices.IndexFunc(standing, func(s app.StopRecord) bool { return s.ID == id })
			if at < 0 {
				return nil, app.InvalidField(fmt.Sprintf("stops[%d]", i), "no stop %q stands in this environment: it was lifted already, or never was", id)
			}
			if !slices.Contains(out.Lifted, id) {
				out.Lifted, out.Flags = append(out.Lifted, id), append(out.Flags, standing[at].Flags...)
			}
		}
		if err := c.tx.LiftStops(out.Lifted, r.Actor.ID, c.at, out.Revision); err != nil {
			return nil, err
		}
		slices.Sort(out.Flags)
		out.Flags = slices.Compact(out.Flags)
		return out, c.stopEntries(env, "flag.lifted", out.Flags, &flag.Event{Lifted: out.Lifted}, fmt.Sprintf("lifted %v", out.Lifted))
	})
}
