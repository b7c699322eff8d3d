package sim

import (
	"context"
	"fmt"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// metrics are what Pinecrest measures. In the demo the outcome of a visit is known at once.
func (d *Demo) metrics(ctx context.Context, c Config) error {
	window, grace := "20s", "10s"
	if c.RealTime {
		window, grace = "1h", "1m"
	}
	for _, m := range []object{
		{"key": "door-open-failed", "title": "Doors that stayed shut", "kind": "rate", "better": "lower",
			"says":      "A compartment did not open when the recipient stood before it.",
			"tolerance": object{"relative": 0, "absolute": .01}, "base": .04, "flags": []string{"one-touch-open"}},
		{"key": "door-open-ms", "title": "Time to open", "kind": "typical", "better": "lower", "measure": "ms",
			"says": "From the touch to the open door.", "tolerance": object{"relative": .1}},
		{"key": "pickup-completed", "title": "Parcels fetched", "kind": "rate", "better": "higher", "common": true,
			"says": "The recipient left with the parcel.", "tolerance": object{"relative": .05}, "base": .95},
		{"key": "help-called", "title": "Calls for help", "kind": "rate", "better": "lower",
			"says": "The recipient called the help desk from the locker.", "tolerance": object{"relative": 0,
				"absolute": .01}, "base": .01},
	} {
		key := m["key"].(string)
		delete(m, "key")
		m["window"], m["grace"] = window, grace
		if err := d.caller("keeper").do(ctx, "PUT", "/projects/pinecrest/metrics/"+key, object{"metric": m,
			"reason": "first set-up"}, nil, 0); err != nil {
			return err
		}
	}
	return nil
}

// seenRelease is what the story looks at.
type seenRelease struct {
	ID    string
	State struct {
		Is       string
		Why      string
		Sequence int64
	}
}

const oneTouch = "one-touch-open"

// oneTouch is Juno Lind, who takes one-touch-open to everybody, and again without the old lockers once it was taken
// back. Why that was, the service finds out for itself.
func (d *Demo) oneTouch(ctx context.Context, c Config) error {
	const path = "/projects/pinecrest/environments/production"
	by := d.caller("releaser")
	least := "40s"
	if c.RealTime {
		least = "1d"
	}
	var stages []object
	for i, percent := range []int{2, 8, 30, 65, 100} {
		one := object{"name": []string{"2 %", "8 %", "30 %", "65 %", "100 %"}[i], "share": percent * 10_000,
			"least": least}
		if percent < 100 {
			one["units"] = 50
		}
		stages = append(stages, one)
	}
	watches := []object{{"metric": "door-open-failed", "onHarm": "roll-back"}, {"metric": "help-called",
		"onHarm": "hold"},
		{"metric": "pickup-completed", "onHarm": "hold"}, {"metric": "door-open-ms", "onHarm": "tell"}}
	var v struct{ Document flag.Document }
	if err := by.do(ctx, "GET", path+"/flags/"+oneTouch, nil, &v, 0); err != nil {
		return err
	}
	above := ""
	for _, r := range v.Document.Rules {
		if r.Name == "Old firmware" {
			above = r.ID
		}
	}
	var had struct{ Items []seenRelease }
	if err := by.do(ctx, "GET", path+"/flags/"+oneTouch+"/releases", nil, &had, 0); err != nil {
		return err
	}
	if len(had.Items) == 0 {
		var first seenRelease
		if err := by.post(ctx, path+"/flags/"+oneTouch+"/releases", object{"to": "on", "above": above,
			"stages":  stages,
			"watches": watches, "breakDown": []string{"firmware", "site.region"},
			"expected": "as many doors open, and faster",
			"reason":   "the old firmware is said to manage it now"}, &first); err != nil {
			return err
		}
		had.Items = append(had.Items, first)
	}
	after := had.Items[0]
	if len(had.Items) == 1 {
		if err := d.ended(ctx, path, &after); err != nil || after.State.Is != "rolled-back" ||
			after.State.Why != "harm" {
			return err
		}
		where := condition.Node{Test: "version.at-least", Attribute: "firmware", Text: []string{"4.2.0"}, Loose: true}
		if err := by.post(ctx, path+"/flags/"+oneTouch+"/releases", object{"after": after.ID, "to": "on",
			"above":  above,
			"stages": stages, "watches": watches, "where": where, "expected": "as many doors open, and faster",
			"reason": "only lockers whose firmware can do it"}, &after); err != nil {
			return err
		}
	}
	if err := d.ended(ctx, path, &after); err != nil || after.State.Is != "through" {
		return err
	}
	return by.post(ctx, path+"/releases/"+after.ID+"/acts", object{"do": "finish", "sequence": after.State.Sequence,
		"early": true, "outcome": "no more doors stay shut than before", "reason": "its last stage is done"}, nil)
}

// ended waits until a release is through, or over.
func (d *Demo) ended(ctx context.Context, path string, r *seenRelease) error {
	for {
		if err := d.caller("releaser").do(ctx, "GET", path+"/releases/"+r.ID, nil, r, 0); err != nil {
			return fmt.Errorf("look at release %s: %w", r.ID, err)
		}
		switch r.State.Is {
		case "through", "rolled-back", "finished", "withdrawn":
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}
