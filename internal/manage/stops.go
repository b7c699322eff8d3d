package manage

import (
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/stops"
)

var _ = listed(
	op[none, listOf[StopView]]("GET", atEnvironment+"/stops", "The stops, standing ones first",
		(*call).stops).needs(app.Read),
	op[stopBody, savedStop]("POST", atEnvironment+"/stops", "Stop flags at once",
		(*call).stop).made().change().needs(app.StopIt),
	op[liftBody, savedStop]("POST", atEnvironment+"/lifts", "Take stops back",
		(*call).lift).made().change().needs(app.LiftIt),
)

// StopView is a stop with the names of those who set and lifted it.
type StopView struct {
	app.StopRecord
	ByName       string `json:"byName"`
	LiftedByName string `json:"liftedByName,omitempty"`
}

// pastStops is how many lifted stops are shown.
const pastStops = 100

func (c *call) standing(e *app.Environment, lifted int) ([]StopView, error) {
	all, err := c.api.Records.Stops(c.ctx, e.ID, lifted)
	if err != nil {
		return nil, err
	}
	names, err := c.stoppers(e)
	out := make([]StopView, len(all))
	for i, s := range all {
		out[i] = StopView{s, names[s.By], names[s.LiftedBy]}
	}
	return out, err
}

// stoppers are the names of all that may have stopped something: people, and tripwires.
func (c *call) stoppers(e *app.Environment) (map[string]string, error) {
	names, err := c.names()
	if err != nil {
		return nil, err
	}
	wires, err := c.api.Records.TripwireNames(c.ctx, e.ID)
	for id, title := range wires {
		names[id] = "tripwire " + title
	}
	for id, name := range stoppedBy {
		names[id] = name
	}
	return names, err
}

func (c *call) stops(*none) (any, error) {
	e := c.e
	items, err := c.standing(e, pastStops)
	return listOf[StopView]{items}, err
}

type stopBody struct {
	stops.Stop
	Reason string `json:"reason,omitempty"`
}

func (c *call) stop(in *stopBody) (any, error) {
	return c.stopOrLift(in.Reason, &in.Stop)
}

// savedStop is the answer on a stop or a lift; a dry run says what it would move.
type savedStop struct {
	stops.Stopped
	Preview *preview.Preview `json:"preview,omitempty"`
}

func (c *call) stopOrLift(reason string, do any) (any, error) {
	change := commit.Change{In: commit.In{Project: c.p, Environment: c.e}, Do: do}
	if c.proposing() != "" {
		return nil, c.api.Commit.Kinds.Proposed(change)
	}
	r, _, err := c.request(reason)
	if err != nil {
		return nil, err
	}
	raw, err := stops.Arrive(c.ctx, c.api.Commit, r, change)
	if err != nil {
		return nil, err
	}
	return withPreview(c, raw, c.e, func(s *stops.Stopped) preview.Edit {
		if s.Stop != "" {
			return preview.Edit{Stops: []flag.Stop{{ID: s.Stop, Flags: s.Flags}}}
		}
		return preview.Edit{Lifted: s.Lifted, Touched: s.Flags}
	})
}

type liftBody struct {
	stops.Lift
	Reason string `json:"reason,omitempty"`
}

func (c *call) lift(in *liftBody) (any, error) {
	return c.stopOrLift(in.Reason, &in.Lift)
}
