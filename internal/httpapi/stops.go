package httpapi

import (
	"encoding/json"
	"errors"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/sentence"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/change"
)

// StopView is a stop with the names of those who set and lifted it.
type StopView struct {
	app.StopRecord
	ByName       string `json:"byName"`
	LiftedByName string `json:"liftedByName,omitempty"`
}

func (c *call) standing(e *app.Environment) ([]StopView, error) {
	all, err := c.api.Records.Stops(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	names, err := c.names()
	out := make([]StopView, len(all))
	for i, s := range all {
		out[i] = StopView{s, names[s.By], names[s.LiftedBy]}
	}
	return out, err
}

func (c *call) stops(*none) (any, error) {
	_, e, err := c.environment()
	if err != nil {
		return nil, err
	}
	items, err := c.standing(e)
	return listOf[StopView]{items}, err
}

type stopBody struct {
	Flags  []string `json:"flags"`
	Reason string   `json:"reason,omitempty"`
}

func (c *call) stop(in *stopBody) (any, error) {
	return c.inEnvironment(in.Reason, func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.Stop(c.ctx, r, e, in.Flags)
	})
}

type liftBody struct {
	Stops  []string `json:"stops"`
	Reason string   `json:"reason,omitempty"`
}

func (c *call) lift(in *liftBody) (any, error) {
	return c.inEnvironment(in.Reason, func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.Lift(c.ctx, r, e, in.Stops)
	})
}

// silentAfter is how long an instance may say nothing before it counts as lost.
const silentAfter = 45 * time.Second

// keptInstances is how long lost and left instances are shown.
const keptInstances = 24 * time.Hour

// Delivery says which process has which revision.
type Delivery struct {
	Epoch     int64          `json:"epoch"`
	Revision  int64          `json:"revision"`
	Alive     int            `json:"alive"`
	Delivered int            `json:"delivered"` // of those alive, how many have this revision
	Instances []app.Instance `json:"instances"` // alive
	Lost      []app.Instance `json:"lost"`      // silent: they may still decide the old way
}

func (c *call) delivery(e *app.Environment) (*Delivery, error) {
	now := c.api.Now()
	all, err := c.api.Records.Instances(c.ctx, e.ID, now.Add(-keptInstances).UnixMilli())
	if err != nil {
		return nil, err
	}
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	src := place.Rules().Source
	d := &Delivery{Epoch: src.Epoch, Revision: src.Revision, Instances: []app.Instance{}, Lost: []app.Instance{}}
	for _, i := range all {
		switch {
		case i.Left:
		case i.Seen < now.Add(-silentAfter).UnixMilli():
			d.Lost = append(d.Lost, i)
		default:
			d.Alive++
			d.Instances = append(d.Instances, i)
			if i.Epoch == src.Epoch && i.Revision >= src.Revision {
				d.Delivered++
			}
		}
	}
	return d, nil
}

func (c *call) instances(*none) (any, error) {
	_, e, err := c.environment()
	if err != nil {
		return nil, err
	}
	return c.delivery(e)
}

func (c *call) counts(*none) (any, error) {
	_, e, err := c.environment()
	if err != nil {
		return nil, err
	}
	items, err := c.api.Records.Counts(c.ctx, e.ID, c.api.Now().Add(-time.Hour).UnixMilli())
	return listOf[app.CountLine]{items}, err
}

type whyBody struct {
	Context  json.RawMessage `json:"context"`
	At       int64           `json:"at,omitempty"`       // Unix milliseconds in the past
	Revision int64           `json:"revision,omitempty"` // of the past
}

// Why is one decision step by step.
type Why struct {
	decide.Explanation
	Value    json.RawMessage `json:"value,omitempty"`
	Sentence string          `json:"sentence"`
	At       int64           `json:"at"`    // when the revision was made
	Asked    int64           `json:"asked"` // the moment that was asked for
}

func (c *call) why(in *whyBody) (any, error) {
	e, place, err := c.place()
	if err != nil {
		return nil, err
	}
	unit, err := condition.ParseContext(in.Context)
	if err != nil {
		return nil, contextFault(err)
	}
	rules, asked := place.Rules(), c.api.Now().UnixMilli()
	if in.At != 0 || in.Revision != 0 {
		if rules, err = c.rulesThen(e, in); err != nil {
			return nil, err
		}
		if in.At != 0 {
			asked = in.At
		}
	}
	f := rules.Flag(c.Param("flag"))
	if f == nil {
		return nil, app.Faultf(app.NotFound, "there is no flag %s in this environment at revision %d", c.Param("flag"), rules.Source.Revision)
	}
	w := &Why{Explanation: f.Explain(rules, unit), Sentence: sentence.Of(f.Document(), len(f.Stops()) > 0), At: rules.Source.At, Asked: asked}
	if v := f.Variant(w.Outcome.Variant); v != nil {
		w.Value = v.Raw
	}
	return w, nil
}

func (c *call) rulesThen(e *app.Environment, in *whyBody) (*decide.Ruleset, error) {
	revision := in.Revision
	if in.At != 0 {
		if in.Revision != 0 {
			return nil, app.InvalidField("at", "give either a time or a revision")
		}
		var err error
		if revision, err = c.api.Records.RevisionAt(c.ctx, e.ID, in.At); err != nil {
			return nil, err
		}
		if revision == 0 {
			return nil, app.InvalidField("at", "is before the environment's first revision")
		}
	}
	src, err := c.api.Records.RulesetAt(c.ctx, e.ID, revision)
	if err != nil {
		return nil, err
	}
	return decide.Compile(src), nil
}

func contextFault(err error) error {
	var bad *condition.ContextError
	if errors.As(err, &bad) {
		return app.InvalidField(bad.Place, "%s", bad.Mend)
	}
	return err
}
