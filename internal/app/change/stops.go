package change

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// Stopped is the result of a stop or a lift.
type Stopped struct {
	Stop     string   `json:"stop,omitempty"`   // the id of a new stop
	Lifted   []string `json:"lifted,omitempty"` // the ids of lifted stops
	Flags    []string `json:"flags"`
	Revision int64    `json:"revision"`
}

// Stop forces flags to their resting variants at once. It passes no gate, asks for no
// version and no reason, and several stops may stand at once.
func (s *Service) Stop(ctx context.Context, r Request, env *app.Environment, keys []string) (json.RawMessage, error) {
	return s.do(ctx, r, func(tx Tx, c *commit) (any, error) {
		if err := app.Allow(&r.Actor, app.StopIt, env.ProjectID, env.ID); err != nil {
			return nil, err
		}
		keys := slices.Clone(keys)
		slices.Sort(keys)
		if keys = slices.Compact(keys); len(keys) == 0 || len(keys) > 1_000 {
			return nil, app.InvalidField("flags", "name 1 to 1000 flags to stop")
		}
		if err := c.checkReason(); err != nil {
			return nil, err
		}
		env, err := tx.LockEnvironment(env.ID)
		if err != nil {
			return nil, err
		}
		for i, key := range keys {
			if _, err := tx.Flag(env.ID, key); err != nil {
				return nil, noSuchFlag(err, fmt.Sprintf("flags[%d]", i), key)
			}
		}
		stop := &app.StopRecord{ID: newID(), EnvironmentID: env.ID, Flags: keys, By: r.Actor.ID, At: c.at, Reason: r.Reason, Revision: env.Revision + 1}
		if err := tx.AddStop(stop); err != nil {
			return nil, err
		}
		out := &Stopped{Stop: stop.ID, Flags: keys, Revision: stop.Revision}
		return out, c.stopEntry(env, "flag.stopped", keys, &flag.Event{Stops: []flag.Stop{{ID: stop.ID, Flags: keys, At: c.at}}},
			fmt.Sprintf("stop %s", stop.ID))
	})
}

func noSuchFlag(err error, place, key string) error {
	if f, ok := err.(*app.Fault); ok && f.Kind == app.NotFound {
		return app.InvalidField(place, "there is no flag %q in this environment", key)
	}
	return err
}

// stopEntry makes the revision, with an entry for each flag, so that each is found under its key.
func (c *commit) stopEntry(env *app.Environment, action string, keys []string, ev *flag.Event, said string) error {
	what := " gives its resting variant to everybody"
	if action == "flag.lifted" {
		what = " is decided by its rules again, unless another stop stands"
	}
	for i, key := range keys {
		e := c.entry(action, env.ProjectID)
		e.Subject = key
		lines := []diff.Line{{Text: said}, {Text: key + what}}
		write := c.environment
		if i == 0 {
			write = func(env *app.Environment, e audit.Entry, lines []diff.Line) error { return c.revise(env, ev, e, lines) }
		}
		if err := write(env, e, lines); err != nil {
			return err
		}
	}
	return nil
}

// Lift takes stops back. Newer stops on the same flags stand.
func (s *Service) Lift(ctx context.Context, r Request, env *app.Environment, ids []string) (json.RawMessage, error) {
	return s.queue(ctx, env.ProjectID, r, func(tx Tx, c *commit) (any, error) {
		env, err := c.enter(app.LiftIt, env)
		if err != nil {
			return nil, err
		}
		standing, err := tx.StandingStops(env.ID)
		if err != nil {
			return nil, err
		}
		if len(ids) == 0 {
			return nil, app.InvalidField("stops", "name the ids of the stops to lift")
		}
		out := &Stopped{Lifted: []string{}, Flags: []string{}, Revision: env.Revision + 1}
		for i, id := range ids {
			at := slices.IndexFunc(standing, func(s app.StopRecord) bool { return s.ID == id })
			if at < 0 {
				return nil, app.InvalidField(fmt.Sprintf("stops[%d]", i), "no stop %q stands in this environment: it was lifted already, or never was", id)
			}
			if slices.Contains(out.Lifted, id) {
				continue
			}
			if err := tx.LiftStop(id, r.Actor.ID, c.at, out.Revision); err != nil {
				return nil, err
			}
			out.Lifted, out.Flags = append(out.Lifted, id), append(out.Flags, standing[at].Flags...)
		}
		slices.Sort(out.Flags)
		out.Flags = slices.Compact(out.Flags)
		return out, c.stopEntry(env, "flag.lifted", out.Flags, &flag.Event{Lifted: out.Lifted}, fmt.Sprintf("lifted %v", out.Lifted))
	})
}
