package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"
)

// benchLives measures what 500 short-lived environments cost everybody else: the same calls of a service that has
// none are the floor.
func benchLives(ctx context.Context, rounds int) ([]row, error) {
	const many, flags, perRound, forMS = 500, 100, 8, 3 * 24 * 3_600_000
	var edits [2]*edited
	for i := range edits {
		s, err := newService(ctx)
		if err != nil {
			return nil, err
		}
		defer s.end()
		if err := s.addFlags(0, flags); err != nil {
			return nil, err
		}
		if edits[i], err = s.edit("flag-0"); err != nil {
			return nil, err
		}
	}
	var made []time.Duration
	for i := range many {
		begun := time.Now()
		if err := edits[0].s.call("POST", "/projects/pinecrest/environments/production/branch", 0,
			object{"key": fmt.Sprintf("review-%d", i), "for": forMS, "reason": "measured"}, nil); err != nil {
			return nil, err
		}
		made = append(made, time.Since(begun))
		if (i+1)%100 == 0 {
			fmt.Fprintf(os.Stderr, "  %d of %d environments\n", i+1, many)
		}
	}
	var faults []error
	p50 := func(do func() error) float64 {
		var all []time.Duration
		for range perRound {
			begun := time.Now()
			if err := do(); err != nil {
				faults = append(faults, err)
			}
			all = append(all, time.Since(begun))
		}
		return float64(percentile(all, 0.5))
	}
	against := func(what string, do func(*edited) error) row {
		o, f, ratio := inTurn(rounds, func() float64 { return p50(func() error { return do(edits[0]) }) },
			func() float64 { return p50(func() error { return do(edits[1]) }) })
		return row{what: "500 short-lived: " + what + ", p50", ours: short(o), floor: short(f), ratio: ratio, atMost: 1.3,
			note: "floor: without them"}
	}
	get := func(path string) func(*edited) error {
		return func(e *edited) error {
			var any any
			return e.s.call("GET", path, 0, nil, &any)
		}
	}
	rows := []row{
		against("a change", func(e *edited) error { return e.because("measured, nothing else") }),
		against("the Board", get("/projects/pinecrest/board")),
		against("the flags", get("/projects/pinecrest/flags")),
		against("the environments", get("/projects/pinecrest/environments")),
	}
	first, last := percentile(made[:20], 0.5), percentile(made[many-20:], 0.5)
	return append(rows, row{what: "the 500th branch of 100 flags against the first", ours: short(float64(last)),
		floor: short(float64(first)), ratio: float64(last) / float64(first), atMost: 1.5}), errors.Join(faults...)
}
