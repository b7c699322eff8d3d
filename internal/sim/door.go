package sim

import (
	"context"
	"log/slog"
	"math"
	"math/rand/v2"
	"sync/atomic"
	"time"

	greenlever "greenlever.example/client"
)

// Door is the service that opens compartments: it decides with the real client.
type Door struct {
	flags  *greenlever.Client
	opened *atomic.Int64 // compartments, so far; may be nil
	habits Habits
	rng    *rand.Rand
}

// Habits are how doors and recipients behave: nothing in the service knows them.
type Habits struct {
	Fails    float64 // the part of openings that fail
	OldFails float64 // those at one touch, of lockers with old firmware
	Fetched  float64 // the part of visits in which a parcel is fetched
	Helped   float64 // the part of failures after which somebody calls for help
	Millis   float64 // that a door takes, typically
}

// Usual are the habits of Pinecrest's lockers.
func Usual() Habits { return Habits{Fails: .03, OldFails: .25, Fetched: .94, Helped: .3, Millis: 850} }

// Visit is what comes of a visit.
type Visit struct {
	Failed, Fetched, Helped bool
	Millis                  float64
}

// Visit draws what comes of a visit of somebody whose compartment opens at one touch, or does not.
func (h *Habits) Visit(rng *rand.Rand, r *Recipient, oneTouch bool) (v Visit) {
	fails := h.Fails
	if oneTouch && r.Old() {
		fails = h.OldFails
	}
	v.Failed = rng.Float64() < fails
	v.Fetched = !v.Failed && rng.Float64() < h.Fetched/(1-h.Fails)
	v.Helped = v.Failed && rng.Float64() < h.Helped
	v.Millis = h.Millis * math.Exp(.4*rng.NormFloat64())
	return v
}

// retries is the value of door-retries.
type retries struct {
	Attempts    int `json:"attempts"`
	PauseMillis int `json:"pauseMillis"`
}

// openDoor starts one instance of the service.
func openDoor(ctx context.Context, url, key, dir, version string, log *slog.Logger) (*Door, error) {
	c, err := greenlever.Open(ctx, greenlever.Options{URL: url, Key: key, Dir: dir, Application: "door",
		Version: version, Logger: log, Report: reportEvery})
	if err != nil {
		return nil, err
	}
	return &Door{flags: c, habits: Usual(), rng: rand.New(rand.NewPCG(seed, 2))}, nil
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
	reportEvery = 5 * time.Second

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
	visit := d.flags.Scope(ctx, unit)
	oneTouch := visit.Bool("one-touch-open", false)
	if oneTouch {
		_ = visit.Bool("handover-photo", false)
	}
	came := d.habits.Visit(d.rng, r, oneTouch)
	visit.Happened("door-open-failed", came.Failed)
	visit.Happened("pickup-completed", came.Fetched)
	visit.Happened("help-called", came.Helped)
	visit.Record("door-open-ms", came.Millis)
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
	d.rng = rng
	every(ctx, func() { d.Open(ctx, &people[rng.IntN(len(people))]) })
}
