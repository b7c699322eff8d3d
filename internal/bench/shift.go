package main

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/shift"
)

const (
	shiftUnits = 100_000
	shiftRules = 20
)

// benchShift measures a shift over many units and a flag of many rules against a bare loop
// that decides the same units by both rulesets.
func benchShift(_ context.Context, rounds int) ([]row, error) {
	rng := rand.New(rand.NewPCG(5, 6))
	population := shift.Population{Part: 1}
	for range shiftUnits {
		var list []condition.Attribute
		for _, name := range []string{"site.region", "site.plan", "role", "country"} {
			list = append(list, condition.Attribute{Name: condition.Intern(name),
				Value: condition.TextValue(values[rng.IntN(len(values))])})
		}
		population.Units = append(population.Units, condition.NewContext(fmt.Sprintf("recipient-%d", rng.Uint64()),
			list...))
	}
	compiled := func(share uint32) (*decide.Ruleset, error) {
		d := document("plain", 0)
		for j := range shiftRules {
			d.Rules = append(d.Rules, flag.Rule{ID: fmt.Sprint(j), Name: fmt.Sprint("rule ", j),
				Gives: flag.Gives{Variant: []string{"on", "off"}[j%2]}, When: &condition.Node{All: []condition.Node{
					{Test: "string.equals", Attribute: []string{"site.region", "site.plan"}[j%2],
						Text: []string{values[j%8]}},
					{Test: "string.equals", Attribute: []string{"role", "country"}[j%2],
						Text: []string{values[(j+3)%8]}},
				}}})
		}
		s := &flag.Shares{By: []string{condition.KeyAttribute}, Salt: "shift", Hash: bucket.Scheme,
			Parts: []flag.Part{{Variant: "on", Share: share}, {Variant: "off", Share: bucket.Buckets - share}}}
		if err := s.Arrange(nil, "off"); err != nil {
			return nil, err
		}
		d.End = flag.Gives{Shares: s}
		raw, err := json.Marshal(d)
		if err != nil {
			return nil, err
		}
		source, err := flag.NewRuleset(&flag.Snapshot{Format: flag.Format, Epoch: 1, Revision: 1,
			Flags: []json.RawMessage{raw}})
		if err != nil {
			return nil, err
		}
		return decide.Compile(source, nil), nil
	}
	before, err := compiled(80_000)
	if err != nil {
		return nil, err
	}
	after, err := compiled(300_000)
	if err != nil {
		return nil, err
	}
	key := document("plain", 0).Key
	ours := func() float64 {
		return nanoseconds(shiftUnits, func() int64 {
			return shift.Between(before, after, key, population, 0).Moved.Units
		})
	}
	bare := func() float64 {
		return nanoseconds(shiftUnits, func() (n int64) {
			a, b := before.Flag(key), after.Flag(key)
			for _, c := range population.Units {
				if a.Decide(before, c, 0).Variant != b.Decide(after, c, 0).Variant {
					n++
				}
			}
			return n
		})
	}
	o, f, ratio := inTurn(rounds, ours, bare)
	return []row{{what: fmt.Sprintf("shift over %d units, %d rules", shiftUnits, shiftRules),
		ours: fmt.Sprintf("%.1f ns", o), floor: fmt.Sprintf("%.1f ns", f), ratio: ratio, atMost: 2}}, nil
}
