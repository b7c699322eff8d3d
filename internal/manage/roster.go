package manage

import (
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/preview"
)

var _ = listed(
	op[none, Roster]("GET", atEnvironment+"/roster", "What each test unit gets, against what is expected and what "+
		"chance says", (*call).roster).needs(app.Read),
)

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
	// Variants are the names of each flag's variants.
	Variants map[string][]string `json:"variants"`
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
	if r.Variants, err = c.variants(anyFlag); err != nil {
		return nil, err
	}
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
