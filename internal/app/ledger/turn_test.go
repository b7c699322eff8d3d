package ledger

import (
	"testing"

	"greenlever.example/core/evidence"
	"greenlever.example/core/stage"
)

// Where more units are due than one transaction takes, each watch goes as far as they reach and no further: the next
// turn goes on there, and no unit is left out of any watch.
func TestEachWatchTakesEveryUnit(t *testing.T) {
	const beats, each = 40, 7
	rate := evidence.Metric{Key: "door-open-failed", Kind: evidence.Rate, Better: evidence.Lower, By: "targetingKey",
		Window: 60_000}
	slow := rate
	slow.Key, slow.Window = "parcel-returned", 120_000
	plan := stage.Plan{From: "off", To: "on", By: []string{"targetingKey"}, Salt: "s",
		Watches: []evidence.Watch{{Metric: rate}, {Metric: rate}, {Metric: slow}},
		Stages:  []stage.Stage{{Name: "8 %", Share: 80_000}}}
	begun := stage.Begin(plan, "a", 0, 1)
	setup := begun.Setup()
	beat := int64(evidence.Beat)
	var ledger []evidence.Unit
	for i := range int64(beats * each) {
		ledger = append(ledger, evidence.Unit{Arm: evidence.Alone, Exposed: beat + i/each*beat})
	}
	end := ledger[len(ledger)-1].Exposed + beat
	mark := end + int64(slow.Closing())
	reads := 0
	due := func(from, to int64) (out []evidence.Unit, upTo int64, err error) {
		reads++
		to = min(to, max(from, beat)+beat) // one beat at once
		for _, u := range ledger {
			if u.Exposed >= from && u.Exposed < to {
				out = append(out, u)
			}
		}
		return out, to, nil
	}
	var state evidence.State
	for turns := 0; ; turns++ {
		live, err := evidence.Resume(setup, state)
		if err != nil {
			t.Fatal(err)
		}
		moved, err := take(live, &setup, state.Positions(), mark, due)
		if err != nil {
			t.Fatal(err)
		}
		if state = live.Keep(); !moved {
			break
		}
		if turns > 10*beats {
			t.Fatalf("it comes to no end: %+v", state.Positions())
		}
	}
	for i := range setup.Watches {
		if n := state.Watches[i].Alone.Units; n != beats*each {
			t.Errorf("watch %d took %d of %d units", i, n, beats*each)
		}
	}
	if most := 2 * (beats + 20); reads > most { // watches that stand alike share what is read
		t.Errorf("the ledger was read %d times, at most %d were due", reads, most)
	}
}
