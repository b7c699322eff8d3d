package manage

import (
	"cmp"
	"encoding/json"
	"slices"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/shift"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/app/sampling"
)

var _ = listed(
	op[none, PopulationView]("GET", atEnvironment+"/population", "What is kept of the units that were seen",
		(*call).population).needs(app.Read),
	op[samplingBody, app.Sampling]("PUT", atEnvironment+"/population", "Say how units are sampled, or that they "+
		"are not",
		(*call).setSampling).change().needs(app.Manage),
	op[eraseBody, erased]("POST", atEnvironment+"/population/erase", "Take a unit out of the population",
		(*call).eraseUnit).change().needs(app.Manage),
	op[unitsBody, listOf[SampledUnit]]("POST", atEnvironment+"/population/units", "Units that were seen, at most 200",
		(*call).sampledUnits).needs(app.Read),
)

// SampleView is the sample of one attribute's values.
type SampleView struct {
	Of    string         `json:"of"`
	Units shift.Estimate `json:"units"` // how many there are in all
	Part  float64        `json:"part"`  // of all, that the sample is complete for
}

// PopulationView is what is kept of an environment's units.
type PopulationView struct {
	app.Sampling
	Samples []SampleView `json:"samples"`
}

func (c *call) population(*none) (any, error) {
	e := c.e
	known, err := c.api.Population.Fresh(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	v := &PopulationView{Sampling: known.Sampling, Samples: []SampleView{}}
	names := []string{condition.KeyAttribute}
	for name := range known.Covers {
		if name != condition.KeyAttribute {
			names = append(names, name)
		}
	}
	slices.Sort(names[1:])
	for _, name := range names {
		p, err := c.api.Population.Units(c.ctx, e.ID, name)
		if err != nil {
			return nil, err
		}
		v.Samples = append(v.Samples, SampleView{name, p.Count(len(p.Units)), p.Part})
	}
	return v, nil
}

type samplingBody struct {
	sampling.Set
	Reason string `json:"reason,omitempty"`
}

func (c *call) setSampling(in *samplingBody) (any, error) {
	if _, err := c.api.Population.Known(c.ctx, c.e.ID); err != nil { // whose row is made when it is first read
		return nil, err
	}
	return c.apply(in.Reason, "", &in.Set)
}

type eraseBody struct {
	sampling.Erase
	Reason string `json:"reason,omitempty"`
}

func (c *call) eraseUnit(in *eraseBody) (any, error) {
	return c.apply(in.Reason, "", &in.Erase)
}

// erased says how often the unit was in the population.
type erased struct {
	Erased int64 `json:"erased"`
}

// SampledUnit is a unit of the population.
type SampledUnit struct {
	Unit       string          `json:"unit" shown:"no"`
	Attributes json.RawMessage `json:"attributes"`
	Seen       int64           `json:"seen"`
}

type unitsBody struct {
	Of   string `json:"of,omitempty"`   // attribute that they are values of; the targeting key
	Has  string `json:"has,omitempty"`  // a text that is part of their keys
	Flag string `json:"flag,omitempty"` // on which they are
	At   string `json:"at,omitempty"`   // a rule's id, or end
}

// sampledUnits lists units, those whose key holds a text, or for which a flag gives a
// variant at a place.
func (c *call) sampledUnits(in *unitsBody) (any, error) {
	e := c.e
	of := cmp.Or(in.Of, condition.KeyAttribute)
	rows, _, err := c.api.Records.Population(c.ctx, e.ID, of)
	if err != nil {
		return nil, err
	}
	on, err := c.onBranch(e, of, in)
	if err != nil {
		return nil, err
	}
	text := in.Has
	out := listOf[SampledUnit]{[]SampledUnit{}}
	for _, r := range rows {
		if strings.Contains(r.Unit, text) && on(&r) {
			out.Items = append(out.Items, SampledUnit{r.Unit, r.Context, r.Seen})
		}
	}
	slices.SortFunc(out.Items, func(a, b SampledUnit) int { return cmp.Compare(a.Unit, b.Unit) })
	out.Items = out.Items[:min(len(out.Items), 200)]
	return out, nil
}

// onBranch tells which units are on a branch of a flag: taken by a rule, or by the end.
func (c *call) onBranch(e *app.Environment, of string, in *unitsBody) (func(*app.UnitRow) bool, error) {
	key, at := in.Flag, in.At
	if key == "" {
		return func(*app.UnitRow) bool { return true }, nil
	}
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	rules := place.Rules()
	f := rules.Flag(key)
	if f == nil {
		return nil, app.Faultf(app.NotFound, "there is no flag %s in this environment", key)
	}
	now := c.api.Now().UnixMilli()
	return func(r *app.UnitRow) bool {
		unit, err := population.Context(of, r.Unit, r.Context)
		if err != nil {
			return false
		}
		s := shift.Between(rules, rules, key, shift.Population{Units: []*condition.Context{unit}, Part: 1}, now)
		for _, b := range s.Branches {
			if b.After.Counted > 0 {
				return at == "" || string(b.Place) == at
			}
		}
		return false
	}, nil
}
