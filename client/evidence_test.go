package greenlever

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"greenlever.example/core/wire"
)

// watchedFlag is a flag with the rules of a release that is watched: an audience, and a share of sites.
const watchedFlag = `{"key":"a","type":"boolean","variants":{"on":true,"off":false},"lever":"on","resting":"off",
"rules":[{"id":"rx-0","name":"","release":"x","when":{"test":"present","attribute":"badge"},"gives":{"variant":"on"},
"evidence":{"run":2,"stage":1,"by":["site.id"]}},
{"id":"rx-s","name":"","release":"x","gives":{"shares":{"by":["site.id"],"salt":"s","hash":1,"parts":[
{"variant":"on","share":500000,"ranges":[[0,500000]]},{"variant":"off","share":250000,"ranges":[[750000,1000000]]},
{"goesOn":true,"share":250000,"ranges":[[500000,750000]]}]}},"evidence":{"run":2,"stage":1,"by":["site.id"]}}],
"end":{"variant":"off"}}`

// reported gathers what was reported until it is enough.
func reported(t *testing.T, s *service, enough func(wire.Report) bool) (all wire.Report) {
	t.Helper()
	seen := 0
	eventually(t, "enough is reported", func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		for ; seen < len(s.reports); seen++ {
			r := s.reports[seen]
			all.Exposures, all.Events = append(all.Exposures, r.Exposures...), append(all.Events, r.Events...)
			all.Measures = append(all.Measures, r.Measures...)
		}
		return enough(all)
	})
	return all
}

// Each unit that a watched rule answers is told of once, by what the release's shares are drawn by; one that it leaves to
// the rules below, or that has no such attribute, never is.
func TestUnitsOfAWatchedReleaseAreToldOfOnce(t *testing.T) {
	s := newService(t, ruleset(1, 1, watchedFlag))
	c := s.open(t, func(o *Options) { o.Report = 10 * time.Millisecond })
	ctx := context.Background()
	for range 3 {
		for i := range 400 {
			u := Unit(fmt.Sprint("recipient-", i), String("site.id", fmt.Sprint("site-", i%200)))
			c.Bool(ctx, "a", u, false)
			c.Answer(ctx, "a", u)
			c.Scope(ctx, u).Bool("a", false)
		}
		c.Bool(ctx, "a", Unit("recipient-1"), false)
	}
	c.Bool(ctx, "a", Unit("recipient-1", String("badge", "7"), String("site.id", "site-900")), false)
	all := c.AnswerAll(Unit("recipient-1", String("site.id", "site-901"))) // which exposes nobody
	c.Record(ctx, "last", Unit("recipient-1", String("site.id", "site-1")), 1)
	got := reported(t, s, func(r wire.Report) bool { return len(r.Events) == 1 && len(r.Exposures) > 100 })
	seen := map[string]bool{}
	for _, l := range got.Exposures {
		if l.Flag != "a" || l.Run != 2 || l.Stage != 1 || l.At == 0 || seen[l.Unit] {
			t.Fatalf("%+v, told before: %t", l, seen[l.Unit])
		}
		seen[l.Unit] = true
	}
	if n := len(seen); n < 130 || n > 170 || !seen["site-900"] || seen["site-901"] || len(all) != 1 {
		t.Errorf("%d sites of 200 are told of where three in four should be", n)
	}
	c.Expose("a", Unit("recipient-1", String("badge", "7"), String("site.id", "site-902")))
	reported(t, s, func(r wire.Report) bool {
		return slices.ContainsFunc(r.Exposures, func(l wire.ExposureLine) bool { return l.Unit == "site-902" })
	})
}

// What is measured in a scope carries what its flags gave; events tell whose they are by what is watched, and no more.
func TestMeasuring(t *testing.T) {
	s := newService(t, ruleset(1, 1, watchedFlag, boolean("b", "on")))
	c := s.open(t, func(o *Options) { o.Report = 10 * time.Millisecond })
	ctx := context.Background()
	for i := range 20 {
		scope := c.Scope(ctx, Unit(fmt.Sprint("recipient-", i), String("site.id", "site-1"), String("email", "x@y.example"),
			String("badge", "7")))
		scope.Bool("a", false)
		scope.Bool("b", false)
		scope.Happened("door-open-failed", i == 3)
		scope.Record("door-open-ms", 100)
	}
	got := reported(t, s, func(r wire.Report) bool { return len(r.Events) == 40 })
	ids := map[string]bool{}
	for _, e := range got.Events {
		if len(e.Units) != 1 || e.Units["site.id"] != "site-1" || e.At == 0 || ids[e.ID] {
			t.Fatalf("%+v", e)
		}
		ids[e.ID] = true
	}
	sums := map[wire.MeasureLine]wire.MeasureLine{}
	for _, m := range got.Measures {
		key := wire.MeasureLine{Metric: m.Metric, Flag: m.Flag, Variant: m.Variant}
		had := sums[key]
		sums[key] = wire.MeasureLine{Count: had.Count + m.Count, Bad: had.Bad + m.Bad, Sum: had.Sum + m.Sum}
	}
	for key, want := range map[wire.MeasureLine]wire.MeasureLine{
		{Metric: "door-open-failed"}: {Count: 20, Bad: 1, Sum: 1},
		{Metric: "door-open-ms"}:     {Count: 20, Bad: 20, Sum: 2_000},
	} {
		if sums[key] != want {
			t.Errorf("%s: %+v", key.Metric, sums[key])
		}
	}
	// The first scope measures before it is known that scopes measure.
	if n := sums[wire.MeasureLine{Metric: "door-open-ms", Flag: "a", Variant: "on"}]; n.Count != 19 {
		t.Errorf("where a gave on: %+v", n)
	}
	if n := sums[wire.MeasureLine{Metric: "door-open-failed", Flag: "b", Variant: "on"}]; n.Count != 19 || n.Bad != 1 {
		t.Errorf("where b gave on: %+v", n)
	}
	var none *Scope
	none.Record("door-open-ms", 1)
	none.Happened("door-open-failed", true)
}

// A unit that was told of costs a decision no allocation, however many there are.
func TestWatchedCallsAllocateNothing(t *testing.T) {
	s := newService(t, ruleset(1, 1, watchedFlag))
	c := s.open(t)
	u := Unit("recipient-17", String("site.id", "site-1"), String("badge", "7"))
	c.Bool(context.Background(), "a", u, false)
	if n := testing.AllocsPerRun(200, func() { c.Bool(context.Background(), "a", u, false) }); n != 0 {
		t.Errorf("%v allocations", n)
	}
	var told noted
	doubled := 0
	for h := uint64(1); h <= 20_000; h++ {
		told.first(h * 0x9e3779b97f4a7c15)
	}
	for h := uint64(1); h <= 20_000; h++ {
		if told.first(h * 0x9e3779b97f4a7c15) {
			doubled++
		}
	}
	if doubled > 0 {
		t.Errorf("%d of 20000 units would be told of twice", doubled)
	}
}

// What waits is bounded, and what is lost is counted.
func TestWhatWaitsIsBounded(t *testing.T) {
	var l evidenceLog
	for range maxExposures + 7 {
		l.exposed(wire.ExposureLine{})
	}
	var r wire.Report
	if l.take(&r); len(r.Exposures) != maxEvidenceLines || r.Lost == nil || r.Lost.Exposures != 7 {
		t.Errorf("%d exposures, lost %+v", len(r.Exposures), r.Lost)
	}
	r = wire.Report{}
	if l.take(&r); r.Lost != nil {
		t.Error("the lost are told of twice")
	}
}
