package sim

import (
	"context"
	"log/slog"
	"math/rand/v2"
	"sync/atomic"
	"time"

	greenlever "greenlever.example/client"
)

// Door is the service that opens compartments: it decides with the real client.
type Door struct {
	flags  *greenlever.Client
	opened *atomic.Int64 // compartments, so far; may be nil
}

// retries is the value of door-retries.
type retries struct {
	Attempts    int `json:"attempts"`
	PauseMillis int `json:"pauseMillis"`
}

// openDoor starts one instance of the service.
func openDoor(ctx context.Context, url, key, dir, version string, log *slog.Logger) (*Door, error) {
	c, err := greenlever.Open(ctx, greenlever.Options{URL: url, Key: key, Dir: dir, Application: "door",
		Version: version, Logger: log})
	if err != nil {
		return nil, err
	}
	return &Door{flags: c}, nil
}

// Rounds is the service that plans courier rounds.
type Rounds struct {
	flags *greenlever.Client
}

// Plan is one round: what the service asks its flags on the way.
func (r *Rounds) Plan(ctx context.Context, c *Courier) {
	unit := c.Context()
	_ = r.flags.Bool(ctx, "night-batching", unit, false)
	_ = r.flags.Bool(ctx, "weather-holds", unit, true)
	_ = r.flags.Number(ctx, "telemetry-interval", unit, 60)
	_ = r.flags.Bool(ctx, "night-batch", unit, false) // a slip of the pen, which the radar finds
}

// plans lets couriers ask for their rounds until the context ends.
func (r *Rounds) plans(ctx context.Context, couriers []Courier, seed uint64) {
	rng := rand.New(rand.NewPCG(seed, 4))
	every(ctx, func() { r.Plan(ctx, &couriers[rng.IntN(len(couriers))]) })
}

// Pace of the traffic: brisk at first, so that the population is soon known.
const (
	warmUp = 15 * time.Second
	brisk  = time.Millisecond
	steady = 10 * time.Millisecond
)

// every does something again and again until the context ends.
func every(ctx context.Context, do func()) {
	tick := time.NewTicker(brisk)
	defer tick.Stop()
	slow := time.After(warmUp)
	for {
		select {
		case <-ctx.Done():
			return
		case <-slow:
			tick.Reset(steady)
		case <-tick.C:
			do()
		}
	}
}

// Open is one visit: what the service asks its flags on the way.
func (d *Door) Open(ctx context.Context, r *Recipient) {
	unit := r.Context()
	if d.opened != nil {
		d.opened.Add(1)
	}
	if d.flags.Bool(ctx, "one-touch-open", unit, false) {
		_ = d.flags.Bool(ctx, "handover-photo", unit, false)
	}
	_ = d.flags.Bool(ctx, "chilled-compartments", unit, false)
	_ = d.flags.String(ctx, "arrival-estimate", unit, "timetable")
	_ = greenlever.Object(ctx, d.flags, "door-retries", unit, retries{Attempts: 2, PauseMillis: 400})
	if r.Parcels > 8 {
		_ = d.flags.Bool(ctx, "night-batching", unit, false)
		_ = d.flags.Bool(ctx, "weather-holds", unit, true)
	}
}

// visits lets recipients come by until the context ends.
func (d *Door) visits(ctx context.Context, people []Recipient, seed uint64) {
	rng := rand.New(rand.NewPCG(seed, 2))
	every(ctx, func() { d.Open(ctx, &people[rng.IntN(len(people))]) })
}
