package manage

import (
	"cmp"
	"encoding/json"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/sample"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/app/preview"
)

var _ = listed(
	op[unitBody, UnitView]("POST", atEnvironment+"/unit", "What a unit gets of every flag",
		(*call).unit).needs(app.Read),
)

// Where a unit's attributes come from.
const (
	fromGiven = "given" // with the question
	fromSeen  = "seen"  // as it was last seen in this environment
	fromTest  = "test"  // a test unit of the project
	fromKey   = "key"   // nothing is known but the key
)

type unitBody struct {
	Unit    string          `json:"unit,omitempty" shown:"no"`
	Context json.RawMessage `json:"context,omitempty"` // instead of what was seen
}

// unitContext finds the context of a unit: as given, or as it was seen, or of a test unit.
func (c *call) unitContext(p *app.Project, e *app.Environment,
	in *unitBody) (unit *condition.Context, from string, seen int64, err error) {
	if len(in.Context) > 0 && string(in.Context) != "null" || in.Unit == "" {
		if unit, err = condition.ParseContext(in.Context); err != nil {
			return nil, "", 0, contextFault(err)
		}
		if in.Unit != "" {
			unit = unit.Keyed(in.Unit)
		}
		return unit, fromGiven, 0, nil
	}
	tests, err := c.api.Records.TestUnits(c.ctx, p.ID)
	if err != nil {
		return nil, "", 0, err
	}
	for i := range tests {
		if tests[i].Unit == in.Unit {
			unit, err = preview.TestContext(&tests[i])
			return unit, fromTest, 0, err
		}
	}
	known, err := c.api.Population.Known(c.ctx, e.ID)
	if err != nil {
		return nil, "", 0, err
	}
	row, err := c.api.Records.Unit(c.ctx, e.ID, condition.KeyAttribute, in.Unit, sample.Hash(known.Sampling.Seed,
		in.Unit))
	if err != nil {
		return nil, "", 0, err
	}
	if row == nil {
		return condition.NewContext(in.Unit), fromKey, 0, nil
	}
	unit, err = population.Context(condition.KeyAttribute, row.Unit, row.Context)
	return unit, fromSeen, row.Seen, err
}

// UnitAnswer is what a unit gets of one flag.
type UnitAnswer struct {
	Flag    string     `json:"flag"`
	Variant string     `json:"variant"`
	Reason  string     `json:"reason"`
	Because words.Said `json:"because"`
	Rule    string     `json:"rule,omitempty"`
}

// UnitView is what a unit gets.
type UnitView struct {
	Unit       string         `json:"unit" shown:"no"`
	From       string         `json:"from"` // of its attributes: given, seen, test or key
	Seen       int64          `json:"seen,omitempty"`
	Attributes map[string]any `json:"attributes"`
	Answers    []UnitAnswer   `json:"answers"`
	// Variants are the names of each flag's variants.
	Variants map[string][]string `json:"variants"`
}

func (c *call) unit(in *unitBody) (any, error) {
	p, e, rules, err := c.here()
	if err != nil {
		return nil, err
	}
	unit, from, seen, err := c.unitContext(p, e, in)
	if err != nil {
		return nil, err
	}
	now := c.api.Now().UnixMilli()
	v := &UnitView{Unit: unit.Key(), From: from, Seen: seen, Attributes: plain(unit), Answers: []UnitAnswer{}}
	for f := range rules.Flags {
		x := f.Explain(rules, unit, now)
		v.Answers = append(v.Answers, UnitAnswer{f.Key, x.Variant, x.Reason, x.Because, x.Rule})
	}
	slices.SortFunc(v.Answers, func(a, b UnitAnswer) int { return cmp.Compare(a.Flag, b.Flag) })
	v.Variants, err = c.variants(anyFlag)
	return v, err
}

func plain(unit *condition.Context) map[string]any {
	out := map[string]any{}
	for name, v := range unit.Attributes {
		out[name] = v.Plain()
	}
	return out
}

// Test units.
