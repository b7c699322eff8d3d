package seqstat_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"greenlever.example/core/seqstat"
)

// The settings of the small simulation: as many looks as a release of some hours has, on data that are
// exactly as bad as is tolerated.
const (
	runs, looks = 300, 600
	alpha       = .05
)

// events draws how many of n units have an outcome of probability p.
func events(r *rand.Rand, n int64, p float64) (x int64) {
	for range n {
		if r.Float64() < p {
			x++
		}
	}
	return x
}

// naive is the test that does not know that it is asked again and again: a z-test of two pooled rates.
func naive(total seqstat.Slice, factor float64) bool {
	pNew := float64(total.New.Events) / float64(total.New.Units)
	pOld := float64(total.Old.Events) / float64(total.Old.Units)
	v := pNew*(1-pNew)/float64(total.New.Units) + factor*factor*pOld*(1-pOld)/float64(total.Old.Units)
	return v > 0 && (pNew-factor*pOld)/math.Sqrt(v) > 1.6449
}

// TestLookingAllTheTimeErrsNoMore looks 600 times at releases that are as bad as is tolerated and no worse.
func TestLookingAllTheTimeErrsNoMore(t *testing.T) {
	const most = alpha + 3*.0126 // three Monte-Carlo errors of 300 runs
	for _, c := range []struct {
		name      string
		base      float64
		tolerance seqstat.Tolerance
		perNew    int64
		perOld    int64
		common    bool
	}{
		{name: "rare", base: .02, tolerance: seqstat.Tolerance{Factor: 1.1}, perNew: 5, perOld: 15},
		{name: "added", base: .02, tolerance: seqstat.Tolerance{Factor: 1, Add: .01}, perNew: 5, perOld: 15},
		{name: "common", base: .3, tolerance: seqstat.Tolerance{Factor: 1.1}, perNew: 5, perOld: 10, common: true},
	} {
		var harmed, cleared, fooled int
		for run := range runs {
			r := rand.New(rand.NewPCG(uint64(run), 1))
			ask := func(q seqstat.Question) adder {
				if c.common {
					return seqstat.NewRateB(c.tolerance, q, c.tolerance.Grid(q, c.base))
				}
				return seqstat.NewRateP(c.tolerance, q, c.tolerance.Grid(q, c.base))
			}
			harm, clear := ask(seqstat.Harm), ask(seqstat.Clear)
			var isHarm, isClear, isFooled bool
			var total seqstat.Slice
			bad := c.tolerance.Factor*c.base + c.tolerance.Add
			for range looks {
				s := seqstat.Slice{New: seqstat.Count{Units: c.perNew, Events: events(r, c.perNew, bad)},
					Old: seqstat.Count{Units: c.perOld, Events: events(r, c.perOld, c.base)}}
				harm.Add(s)
				clear.Add(s)
				total = seqstat.Slice{New: plus(total.New, s.New), Old: plus(total.Old, s.Old)}
				isHarm = isHarm || seqstat.Reached(harm.Ln(), alpha)
				isClear = isClear || seqstat.Reached(clear.Ln(), alpha)
				isFooled = isFooled || total.New.Events+total.Old.Events >= 20 &&
					c.tolerance.Add == 0 && naive(total, c.tolerance.Factor)
			}
			harmed, cleared, fooled = harmed+one(isHarm), cleared+one(isClear), fooled+one(isFooled)
		}
		t.Logf("%s: false harm %d, false clear %d, the naive test %d, of %d", c.name, harmed, cleared, fooled, runs)
		if float64(harmed) > most*runs || float64(cleared) > most*runs {
			t.Errorf("%s: false harm %d, false clear %d of %d, at most %.0f", c.name, harmed, cleared, runs, most*runs)
		}
		if c.tolerance.Add == 0 && float64(fooled) < 2*most*runs {
			t.Errorf("%s: the naive test errs %d times of %d: these data cannot tell the tests apart", c.name, fooled,
				runs)
		}
	}
}

func plus(a, b seqstat.Count) seqstat.Count {
	return seqstat.Count{Units: a.Units + b.Units, Events: a.Events + b.Events}
}

func one(b bool) int {
	if b {
		return 1
	}
	return 0
}

// TestHarmIsFound asks that what is really bad is found, and what is good is cleared.
func TestHarmIsFound(t *testing.T) {
	tolerance := seqstat.Tolerance{Factor: 1.1}
	found, cleared := 0, 0
	for run := range 100 {
		r := rand.New(rand.NewPCG(uint64(run), 2))
		harm := seqstat.NewRateP(tolerance, seqstat.Harm, tolerance.Grid(seqstat.Harm, 0))
		clear := seqstat.NewRateP(tolerance, seqstat.Clear, tolerance.Grid(seqstat.Clear, 0))
		for range 100 {
			harm.Add(seqstat.Slice{New: seqstat.Count{Units: 20, Events: events(r, 20, .1)},
				Old: seqstat.Count{Units: 60, Events: events(r, 60, .03)}})
			clear.Add(seqstat.Slice{New: seqstat.Count{Units: 500, Events: events(r, 500, .01)},
				Old: seqstat.Count{Units: 500, Events: events(r, 500, .03)}})
		}
		found, cleared = found+one(seqstat.Reached(harm.Ln(), alpha)), cleared+one(seqstat.Reached(clear.Ln(), alpha))
	}
	if found < 99 || cleared < 99 {
		t.Errorf("of 100 each: found %d that harm, cleared %d that are better", found, cleared)
	}
}

// TestLimitErrsNoMore looks 600 times at a rate that is exactly at its limit, and at one beyond it.
func TestLimitErrsNoMore(t *testing.T) {
	harmed, found := 0, 0
	for run := range runs {
		r := rand.New(rand.NewPCG(uint64(run), 3))
		at, beyond := seqstat.NewLimit(seqstat.Lower, .05), seqstat.NewLimit(seqstat.Lower, .05)
		isHarm := false
		for range looks {
			at.Add(seqstat.Count{Units: 5, Events: events(r, 5, .05)})
			beyond.Add(seqstat.Count{Units: 5, Events: events(r, 5, .1)})
			isHarm = isHarm || seqstat.Reached(at.Ln(), alpha)
		}
		harmed, found = harmed+one(isHarm), found+one(seqstat.Reached(beyond.Ln(), alpha))
	}
	if harmed > 26 || found < 297 {
		t.Errorf("of %d: %d harmed at the limit, %d beyond it", runs, harmed, found)
	}
}
