package seqstat_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"greenlever.example/core/seqstat"
)

// Forty buckets, each a quarter wider than the one before.
const buckets, ratio = 40, 1.25

// durations draws n values of a lognormal distribution into buckets, the typical one at a bucket's number.
func durations(r *rand.Rand, n int, typical float64) []int64 {
	out := make([]int64, buckets)
	for range n {
		k := int(math.Floor(typical + 2*r.NormFloat64()))
		out[min(max(k, 0), buckets-1)]++
	}
	return out
}

// value is a bucket's, the highest being 1.
func values() []float64 {
	out := make([]float64, buckets)
	for k := range out {
		out[k] = math.Pow(ratio, float64(k-buckets+1))
	}
	return out
}

// histograms is an e-value of values.
type histograms interface {
	Add(newArm, oldArm []int64)
	Ln() float64
}

// TestValuesErrNoMore looks at values that are the tolerated bucket higher, and at such that are more than that.
func TestValuesErrNoMore(t *testing.T) {
	const times, shift = 200, 1
	tolerance := seqstat.Tolerance{Factor: math.Pow(ratio, shift)}
	for _, c := range []struct {
		name string
		ask  func(seqstat.Question) histograms
	}{
		{"mean", func(q seqstat.Question) histograms {
			return seqstat.NewCapMean(tolerance, q, tolerance.Grid(q, 0), values())
		}},
		{"tail", func(q seqstat.Question) histograms { return seqstat.NewTail(q, ratio, shift, buckets) }},
	} {
		var harmed, cleared, found, good int
		for run := range times {
			r := rand.New(rand.NewPCG(uint64(run), 4))
			harm, clear, worse, same := c.ask(seqstat.Harm), c.ask(seqstat.Clear), c.ask(seqstat.Harm),
				c.ask(seqstat.Clear)
			isHarm, isClear, isFound, isGood := false, false, false, false
			for range 100 {
				old, boundary := durations(r, 30, 15), durations(r, 30, 15+shift)
				harm.Add(boundary, old)
				clear.Add(boundary, old)
				worse.Add(durations(r, 30, 15+4*shift), old)
				same.Add(durations(r, 30, 15-shift), old)
				isHarm, isClear = isHarm || seqstat.Reached(harm.Ln(), alpha), isClear || seqstat.Reached(clear.Ln(),
					alpha)
				isFound, isGood = isFound || seqstat.Reached(worse.Ln(), alpha), isGood || seqstat.Reached(same.Ln(),
					alpha)
			}
			harmed, cleared = harmed+one(isHarm), cleared+one(isClear)
			found, good = found+one(isFound), good+one(isGood)
		}
		t.Logf("%s of %d: false harm %d, false clear %d, harm found %d, clear found %d", c.name, times,
			harmed, cleared, found, good)
		if most := 19; harmed > most || cleared > most { // alpha and three Monte-Carlo errors
			t.Errorf("%s: false harm %d, false clear %d of %d, at most %d", c.name, harmed, cleared, times, most)
		}
		if least := 190; found < least || good < least {
			t.Errorf("%s: harm found %d, clear found %d of %d, at least %d", c.name, found, good, times, least)
		}
	}
}

// TestEmptySlicesSayNothing gives arms with nothing in them.
func TestEmptySlicesSayNothing(t *testing.T) {
	none, some := make([]int64, buckets), durations(rand.New(rand.NewPCG(1, 5)), 300, 15)
	for _, e := range []histograms{
		seqstat.NewCapMean(seqstat.Tolerance{Factor: 1.1}, seqstat.Harm, seqstat.HarmGrid(), values()),
		seqstat.NewTail(seqstat.Harm, ratio, 1, buckets),
	} {
		for _, s := range [][2][]int64{{none, none}, {none, some}, {some, none}, {none, some}, {none, none}} {
			e.Add(s[0], s[1])
			if e.Ln() != 0 {
				t.Errorf("%T says %v", e, e.Ln())
			}
		}
	}
}
