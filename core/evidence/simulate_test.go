package evidence

import (
	"cmp"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"testing"

	"greenlever.example/core/bucket"
)

// What is simulated is the whole way: units of different habits come again and again, what they do arrives late, twice
// and out of order through two nodes, and the run looks every ten seconds. full runs are asked for by make sim.
var full = os.Getenv("GREENLEVER_SIM") != ""

const looks = 600

// world is a release as it goes.
type world struct {
	metric  Metric
	widths  []Width
	stages  []int   // at which look each stage begins
	units   int     // in all
	level   float64 // of the old side: a rate, or a typical value
	effect  float64 // of the new side: times
	added   float64 // and beyond that
	lose    float64 // part of the new side's units that are never reported
	habits  bool    // units differ in how often they come and in how they do
	quiet   bool    // without display bounds, which cost more than all else
	seed    uint64
	watches int // of the same metric; 0: one
}

// arrival is something that reaches the ledger.
type arrival struct {
	at      int64
	unit    int
	exposes *Exposure
	event   *Event
}

type simulated struct {
	harm, clear, naive, broken int // at which look; -1: never
	units                      int64
	found                      *Findings
	late                       int
}

func (w *world) run(t testing.TB) simulated {
	r := rand.New(rand.NewPCG(w.seed, 7))
	setup := Setup{Widths: w.widths, Alpha: Alpha, Run: 1, Planned: len(w.widths)}
	for i := range max(1, w.watches) {
		m := w.metric
		m.Key += fmt.Sprint(i)
		setup.Watches = append(setup.Watches, Watch{Metric: m, OnHarm: RollBack})
	}
	run, err := Resume(setup, State{})
	if err != nil {
		t.Fatal(err)
	}
	if w.quiet {
		for i, l := range run.live {
			l.bounds, run.setup.Watches[i].quiet = nil, true
		}
	}
	all := w.arrivals(r, &setup)
	out, ledger, next := simulated{-1, -1, -1, -1, 0, nil, 0}, map[int]*Unit{}, 0
	stage := 0
	var open []int // units that are exposed, in the order of their arrival
	for look := range looks {
		now := int64(look+1) * int64(Beat)
		for stage+1 < len(w.stages) && w.stages[stage+1] <= look {
			stage++
		}
		for ; next < len(all) && all[next].at < now; next++ {
			a := &all[next]
			u := ledger[a.unit]
			if u == nil {
				u = &Unit{}
				ledger[a.unit] = u
			}
			if a.exposes != nil {
				if u.Arm == NoArm {
					open = append(open, a.unit)
				}
				if u.Expose(*a.exposes, run.state.Positions().Folded()) == Late {
					out.late++
				}
				continue
			}
			for i := range setup.Watches {
				if u.Hear(setup.Watches, i, *a.event, run.state.Positions().FoldedFor(i)) == Late {
					out.late++
				}
			}
		}
		to := setup.Due(0, now)
		if to <= 0 {
			continue
		}
		var due []Unit
		open = slices.DeleteFunc(open, func(id int) bool {
			u := ledger[id]
			if u.Arm != NoArm && u.Exposed < to {
				due = append(due, *u)
				return true
			}
			return false
		})
		slices.SortFunc(due, func(a, b Unit) int { return cmp.Compare(a.Exposed, b.Exposed) })
		run.See(to, due)
		for i := range setup.Watches {
			run.Fold(i, to, due)
		}
		f := run.Look(stage, now)
		out.note(run, f, look, w.metric.Tolerance)
		out.found = f
	}
	return out
}

func (o *simulated) note(r *Run, f *Findings, look int, t Tolerance) {
	if len(f.Reacted) > 0 && o.harm < 0 {
		o.harm = look
	}
	if o.clear < 0 && f.Watches[0].Verdict == Clear {
		o.clear = look
	}
	if f.Broken && o.broken < 0 {
		o.broken = look
	}
	o.units = f.Watches[0].New.Units
	n, m := f.Watches[0].New, f.Watches[0].Old
	if o.naive < 0 && n.Events+m.Events >= 20 && n.Level != nil && m.Level != nil {
		a := 1 + t.Relative
		v := *n.Level*(1-*n.Level)/float64(n.Units) + a*a**m.Level*(1-*m.Level)/float64(m.Units)
		if v > 0 && (*n.Level-a**m.Level-t.Absolute)/math.Sqrt(v) > 1.6449 {
			o.naive = look
		}
	}
}

// arrivals are what reaches the ledger, in that order.
func (w *world) arrivals(r *rand.Rand, setup *Setup) (all []arrival) {
	end := float64(looks) * float64(Beat)
	for id := range w.units {
		at, habit := uint32(r.IntN(bucket.Buckets)), 1.
		if w.habits {
			habit = math.Exp(1.2 * r.NormFloat64())
		}
		stage := -1
		for i := range w.widths {
			if arm, _ := setup.Place(at, i); arm != NoArm {
				stage = i
				break
			}
		}
		if stage < 0 {
			continue
		}
		from := float64(w.stages[stage]) * float64(Beat)
		first := from + r.ExpFloat64()*end/2/habit
		if first >= end {
			continue
		}
		now := stage
		for now+1 < len(w.stages) && first >= float64(w.stages[now+1])*float64(Beat) {
			now++
		}
		arm, cohort := setup.Place(at, now)
		if arm == New && w.lose > 0 && r.Float64() < w.lose {
			continue
		}
		e := Exposure{At: int64(first), Arm: arm, Stage: now, Cohort: cohort}
		for range 1 + r.IntN(2) { // another node tells of a later one
			later := e
			later.At += int64(r.ExpFloat64() * 5_000)
			all = append(all, arrival{at: later.At + int64(r.ExpFloat64()*2_000), unit: id, exposes: &later})
		}
		all = append(all, arrival{at: e.At + int64(r.ExpFloat64()*2_000), unit: id, exposes: &e})
		for _, v := range w.outcome(r, arm, habit) {
			v := Event{At: e.At + int64(r.Float64()*float64(w.metric.Window)), Value: v, ID: r.Uint64()}
			delay := r.ExpFloat64() * 2_000
			if r.IntN(20) == 0 {
				delay *= 40 // some come after all is closed
			}
			for range 1 + r.IntN(2) { // doubled
				all = append(all, arrival{at: v.At + int64(delay), unit: id, event: &v})
				delay += r.ExpFloat64() * 1_000
			}
		}
	}
	slices.SortStableFunc(all, func(a, b arrival) int { return cmp.Compare(a.at, b.at) })
	return all
}

// outcome is what a unit does.
func (w *world) outcome(r *rand.Rand, arm Arm, habit float64) (values []float64) {
	times, added := 1., 0.
	if arm == New {
		times, added = w.effect, w.added
	}
	if w.metric.Kind != Rate {
		for range 1 + r.IntN(3) {
			values = append(values, w.level*times*math.Exp(.5*r.NormFloat64())*math.Pow(habit, .2))
		}
		return values
	}
	p := w.level
	if w.habits { // who comes often fails more seldom
		p *= min(2, 1/habit) / 1.08
	}
	if r.Float64() < p*times+added {
		for range 1 + r.IntN(3) {
			values = append(values, 1)
		}
	}
	return values
}

func rateOf(tolerance Tolerance, common bool) Metric {
	return Metric{Key: "door-open-failed", Title: "Failed", Kind: Rate, Better: Lower, By: "targetingKey",
		Window: 60_000, Grace: 20_000, Tolerance: tolerance, Common: common}
}

func valueOf(kind Kind) Metric {
	m := Metric{Key: "door-open-ms", Title: "Time", Kind: kind, Better: Lower, By: "targetingKey", Measure: "ms",
		Reduce: MeanOf, Window: 60_000, Grace: 20_000, Tolerance: Tolerance{Relative: .1}}
	if kind == Mean {
		m.Cap = 10_000
	}
	return m
}

var three = []Width{{20_000, 80_000}, {80_000, 200_000}, {300_000, 350_000}}

// TestThePipelineErrsNoMore goes the whole way at releases that are as bad as is tolerated and no worse.
func TestThePipelineErrsNoMore(t *testing.T) {
	runs, units := 24, 8_000
	if full {
		runs, units = 400, 15_000
	}
	most := Alpha*float64(runs) + 3*math.Sqrt(Alpha*(1-Alpha)*float64(runs))
	t.Logf("%-32s %12s %12s %12s   of %d", "at the boundary of what is tolerated", "false harm", "false clear",
		"naive harm",
		runs)
	for _, c := range []struct {
		name string
		w    world
	}{
		{"rare rate, 1.1 times", world{metric: rateOf(Tolerance{Relative: .1}, false), level: .04, effect: 1.1}},
		{"rate, plus a percentage point", world{metric: rateOf(Tolerance{Absolute: .01}, false), level: .03, effect: 1,
			added: .01}},
		{"common rate, 1.1 times", world{metric: rateOf(Tolerance{Relative: .1}, true), level: .3, effect: 1.1}},
		{"typical value, 1.1 times", world{metric: valueOf(Typical), level: 700, effect: 1.1}},
		{"capped mean, 1.1 times", world{metric: valueOf(Mean), level: 700, effect: 1.1}},
		{"p95, 1.1 times", world{metric: valueOf(High), level: 700, effect: 1.1}},
	} {
		var harm, clear, naive int
		for i := range runs {
			w := c.w
			w.widths, w.stages, w.units, w.habits, w.quiet, w.seed = three, []int{0, 150, 300}, units, true, true,
				uint64(i)
			got := w.run(t)
			harm, clear, naive = harm+one(got.harm), clear+one(got.clear), naive+one(got.naive)
		}
		t.Logf("%-32s %12d %12d %12d", c.name, harm, clear, naive)
		if float64(harm) > most || float64(clear) > 3*most { // clear restarts with each of three stages
			t.Errorf("%s: false harm %d, false clear %d, at most %.1f and %.1f", c.name, harm, clear, most, 3*most)
		}
	}
}

func one(look int) int {
	if look >= 0 {
		return 1
	}
	return 0
}

// TestTheSampleRatioIsWatched asks that no harmless release alarms, although stages differ in how many newcomers they
// have, and that one which loses units of the new side does.
func TestTheSampleRatioIsWatched(t *testing.T) {
	runs := 20
	if full {
		runs = 2_000
	}
	for lose, want := range map[float64]func(alarms int) bool{0: func(n int) bool { return n <= max(1, 3*runs/1_000) },
		.3: func(n int) bool { return n == runs }} {
		alarms := 0
		for i := range runs {
			w := world{metric: rateOf(Tolerance{Relative: .1}, false), level: .03, effect: 1, widths: three,
				stages: []int{0, 150, 300}, units: 20_000, habits: true, quiet: true, seed: uint64(i), lose: lose}
			alarms += one(w.run(t).broken)
		}
		t.Logf("%.0f %% of the new side are lost: %d alarms of %d", 100*lose, alarms, runs)
		if !want(alarms) {
			t.Errorf("%.0f %% of the new side are lost: %d alarms of %d", 100*lose, alarms, runs)
		}
	}
}
