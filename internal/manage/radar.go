package manage

import (
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/radar"
)

var _ = listed(
	op[none, radar.Radar]("GET", atEnvironment+"/radar", "Where decisions do not do what somebody thinks they do",
		(*call).radar).needs(app.Read),
)

func (c *call) radar(*none) (any, error) {
	p, e, rules, err := c.here()
	if err != nil {
		return nil, err
	}
	s := radar.Subject{Now: c.api.Now().UnixMilli(), Epoch: rules.Source.Epoch, Revision: rules.Source.Revision}
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	s.Aside = place.Aside()
	if s.Definitions, err = c.api.Records.Definitions(c.ctx, p.ID); err != nil {
		return nil, err
	}
	gone, err := c.api.Records.RetiredFlags(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	for i := range gone {
		s.Retired = append(s.Retired, gone[i].Key)
	}
	if s.Asked, err = c.api.Records.Asked(c.ctx, e.ID); err != nil {
		return nil, err
	}
	if s.Instances, err = c.api.Records.Instances(c.ctx, e.ID, s.Now-keptInstances.Milliseconds()); err != nil {
		return nil, err
	}
	for i := range s.Definitions {
		d := &s.Definitions[i]
		s.Overdue = append(s.Overdue, lint.Overdue(&lint.Subject{Rules: rules, Flag: d.Key, Now: s.Now,
			GoneBy: d.GoneBy})...)
	}
	return radar.Look(s), nil
}
