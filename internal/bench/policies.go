package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/policy"
)

// benchPolicies measures what 200 policies cost a change: the same change in a service that has none is the floor.
func benchPolicies(ctx context.Context, rounds int) ([]row, error) {
	const many, perRound = 200, 12
	var edits [2]*edited
	for i := range edits {
		s, err := newService(ctx)
		if err != nil {
			return nil, err
		}
		defer s.end()
		if err := s.addFlags(0, 20); err != nil {
			return nil, err
		}
		if edits[i], err = s.edit("flag-0"); err != nil {
			return nil, err
		}
	}
	library := policy.Library()
	for i := range many {
		p := library[i%len(library)]
		p.Key = fmt.Sprintf("%s-%d", p.Key, i)
		p.Nouns, p.Outcome = []string{"flag"}, app.Note
		if err := edits[0].s.call("PUT", "/projects/pinecrest/policies/"+p.Key, 0, object{"policy": p}, nil); err != nil {
			return nil, err
		}
	}
	if err := edits[0].s.call("PATCH", "/projects/pinecrest/flags/flag-0", 1, object{"owners": []string{"rounds"}},
		nil); err != nil { // so that they judge, and do not bite
		return nil, err
	}
	var faults []error
	p50 := func(e *edited) float64 {
		var all []time.Duration
		for range perRound {
			begun := time.Now()
			if err := e.because("measured, nothing else"); err != nil {
				faults = append(faults, err)
			}
			all = append(all, time.Since(begun))
		}
		return float64(percentile(all, 0.5))
	}
	o, f, ratio := inTurn(rounds, func() float64 { return p50(edits[0]) }, func() float64 { return p50(edits[1]) })
	return []row{{what: "a change under 200 policies, p50", ours: short(o), floor: short(f), ratio: ratio, atMost: 1.3,
		note: "floor: the same change without policies"}}, errors.Join(faults...)
}
