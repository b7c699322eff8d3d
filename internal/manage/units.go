package manage

import (
	"cmp"
	"encoding/json"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/sample"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/testunits"
)

// Where a unit's attributes come from.
const (
	fromGiven = "given" // with the question
	fromSeen  = "seen"  // as it was last seen in this environment
	fromTest  = "test"  // a test unit of the project
	fromKey   = "key"   // nothing is known but the key
)

type unitBody struct {
	Unit    string          `json:"unit,omitempty"`
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
	Unit       string         `json:"unit"`
	From       string         `json:"from"` // of its attributes: given, seen, test or key
	Seen       int64          `json:"seen,omitempty"`
	Attributes map[string]any `json:"attributes"`
	Answers    []UnitAnswer   `json:"answers"`
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
	return v, nil
}

func plain(unit *condition.Context) map[string]any {
	out := map[string]any{}
	for name, v := range unit.Attributes {
		out[name] = v.Plain()
	}
	return out
}

// Test units.

func (c *call) testUnits(*none) (any, error) {
	p := c.p
	items, err := c.api.Records.TestUnits(c.ctx, p.ID)
	return listOf[app.TestUnit]{items}, err
}

type testUnitsBody struct {
	testunits.Put
	Reason string `json:"reason,omitempty"`
}

func (c *call) putTestUnits(in *testUnitsBody) (any, error) {
	return c.apply(in.Reason, "", &in.Put)
}

func (c *call) removeTestUnit(in *testunits.Remove) (any, error) { return c.apply("", "", in) }

// RosterCell is what a test unit gets of a flag.
type RosterCell struct {
	Variant  string     `json:"variant"`
	Expected string     `json:"expected,omitempty"`
	Because  words.Said `json:"because"`
}

// RosterUnit is a test unit with what it gets, by flag.
type RosterUnit struct {
	app.TestUnit
	Gets map[string]RosterCell `json:"gets"`
}

// Chance is how many test units get a variant, against how many would by chance: in the
// middle 95 of 100 draws of as many units from the population.
type Chance struct {
	Variant string  `json:"variant"`
	Actual  int     `json:"actual"`
	Share   float64 `json:"share"` // of the population, 0 to 1
	Low     int     `json:"low"`
	High    int     `json:"high"`
}

// Roster is test units by flags.
type Roster struct {
	Flags   []string            `json:"flags"`
	Units   []RosterUnit        `json:"units"`
	Chances map[string][]Chance `json:"chances"`
}

// forChances is how many units say what chance would do: enough for a range in whole units.
const forChances = 400

func (c *call) roster(*none) (any, error) {
	p, e, rules, err := c.here()
	if err != nil {
		return nil, err
	}
	tests, err := c.api.Records.TestUnits(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	all, err := c.api.Population.Units(c.ctx, e.ID, condition.KeyAttribute)
	if err != nil {
		return nil, err
	}
	now := c.api.Now().UnixMilli()
	r := &Roster{Flags: []string{}, Units: []RosterUnit{}, Chances: map[string][]Chance{}}
	for f := range rules.Flags {
		r.Flags = append(r.Flags, f.Key)
	}
	slices.Sort(r.Flags)
	actual := map[string]map[string]int{}
	for i := range tests {
		unit, err := preview.TestContext(&tests[i])
		if err != nil {
			return nil, contextFault(err)
		}
		row := RosterUnit{tests[i], map[string]RosterCell{}}
		for _, key := range r.Flags {
			x := rules.Flag(key).Explain(rules, unit, now)
			row.Gets[key] = RosterCell{x.Variant, tests[i].Expected[key], x.Because}
			if actual[key] == nil {
				actual[key] = map[string]int{}
			}
			actual[key][x.Variant]++
		}
		r.Units = append(r.Units, row)
	}
	if len(tests) == 0 {
		return r, nil // there is nobody whose chances could be told
	}
	all.Units = all.Units[:min(len(all.Units), forChances)] // they come by their hash, so the first ones are any
	for _, key := range r.Flags {
		s := shift.Between(rules, rules, key, all, now)
		for _, v := range rules.Flag(key).Variants() {
			share := s.After[v.Name].Share
			low, high := shift.ChanceRange(len(tests), share)
			r.Chances[key] = append(r.Chances[key], Chance{v.Name, actual[key][v.Name], share, low, high})
		}
	}
	return r, nil
}
