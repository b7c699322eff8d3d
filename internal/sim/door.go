package sim

import (
	"context"
	"log/slog"
	"math/rand/v2"
	"time"

	greenlever "greenlever.example/client"
)

// Door is the service that opens compartments: it decides with the real client.
type Door struct {
	flags *greenlever.Client
}

// retries is the value of door-retries.
type retries struct {
	Attempts    int `json:"attempts"`
	PauseMillis int `json:"pauseMillis"`
}

// openDoor starts one instance of the service.
func openDoor(ctx context.Context, url, key, dir, version string, log *slog.Logger) (*Door, error) {
	c, err := greenlever.Open(ctx, greenlever.Options{URL: url, Key: key, Dir: dir, Application: "door", Version: version, Logger: log})
	if err != nil {
		return nil, err
	}
	return &Door{c}, nil
}

// Open is one visit: what the service asks its flags on the way.
func (d *Door) Open(r *Recipient) {
	unit := r.Context()
	_ = d.flags.Bool("one-touch-open", unit, false)
	_ = d.flags.String("arrival-estimate", unit, "timetable")
	_ = greenlever.Object(d.flags, "door-retries", unit, retries{Attempts: 2, PauseMillis: 400})
	if r.Parcels > 8 {
		_ = d.flags.Bool("night-batching", unit, false)
		_ = d.flags.Bool("weather-holds", unit, true)
	}
}

// visits lets recipients come by until the context ends.
func (d *Door) visits(ctx context.Context, people []Recipient, seed uint64) {
	rng := rand.New(rand.NewPCG(seed, 2))
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			d.Open(&people[rng.IntN(len(people))])
		}
	}
}
