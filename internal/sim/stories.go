package sim

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/greenlever/internal/apiclient"
)

func (d *Demo) caller(role string) caller {
	return caller{&apiclient.Client{URL: d.URL, Token: d.Tokens[role]}}
}

// ladder is the order in which Pinecrest goes: yourself, staff, and shares.
func ladder() object {
	stages := []object{{"name": "self", "asks": true, "least": "1h"},
		{"name": "staff", "who": condition.Node{Test: condition.SegmentTest, Segment: "staff"}, "least": "1d"}}
	for i, share := range []int{2, 8, 30, 65, 100} {
		s := object{"name": []string{"2 %", "8 %", "30 %", "65 %", "100 %"}[i], "share": share * 10_000, "least": "1d"}
		if share == 30 {
			s["signOff"] = []string{"releaser", "keeper"}
		}
		stages = append(stages, s)
	}
	return object{"title": "Usual", "says": "Yourself, staff, then shares of a day each; before 65 % somebody signs.",
		"stages": stages}
}

// How long a stage takes in the demo, and how long it would take.
const (
	quickly = 25 * time.Second
	really  = 24 * time.Hour
)

// stories starts the releases of the demo, which go on while it runs: one by site that goes through its stages
// by itself, and one that waits for somebody to sign. Those that were started before go on.
func (d *Demo) stories(ctx context.Context, c Config, log *slog.Logger, traffic *sync.WaitGroup) error {
	least := quickly
	if c.RealTime {
		least = really
	}
	if err := d.metrics(ctx, c); err != nil {
		return err
	}
	traffic.Go(func() {
		if err := d.oneTouch(ctx, c); err != nil && ctx.Err() == nil {
			log.Error("the story of one-touch-open", "error", err)
		}
	})
	const production = "/projects/pinecrest/environments/production"
	by, keeper := d.caller("releaser"), d.caller("keeper")
	start := func(flag string, body object) error {
		path := production + "/flags/" + flag + "/releases"
		var had struct{ Items []struct{ ID string } }
		if err := by.do(ctx, "GET", path, nil, &had, 0); err != nil || len(had.Items) > 0 {
			return err
		}
		return by.post(ctx, path, body, nil)
	}
	pilots := object{"name": "pilot sites", "least": least.String(),
		"who": condition.Node{Test: condition.SegmentTest, Segment: "pilot-sites"}}
	shares := []object{pilots}
	for i, percent := range []int{2, 8, 30, 65, 100} {
		shares = append(shares, object{"name": []string{"2 %", "8 %", "30 %", "65 %", "100 %"}[i],
			"share": percent * 10_000, "least": least.String()})
	}
	return errors.Join(
		keeper.do(ctx, "PUT", "/projects/pinecrest/ladders/usual", object{"ladder": ladder(),
			"reason": "how we go"}, nil, 0),
		start("night-batching", object{"by": []string{"site.id"}, "stages": shares,
			"expected": "rounds at night are shorter by a tenth", "reason": "the crews of the pilot sites are happy"}),
		start("telemetry-interval", object{"from": "minute", "to": "quarter",
			"expected": "a fifteenth of the messages", "reason": "the mobile bill",
			"stages": []object{{"name": "2 %", "share": 20_000, "least": least.String()},
				{"name": "8 %", "share": 80_000, "least": least.String(),
					"signOff": []string{"releaser", "keeper"}, "declined": "roll-back"},
				{"name": "100 %", "share": 1_000_000, "least": least.String()}}}))
}
