package seqstat_test

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"greenlever.example/core/seqstat"
)

// TestReachKeepsItsWord runs releases until their verdict and compares when it came with what was said before.
func TestReachKeepsItsWord(t *testing.T) {
	const times, perSlice = 200, 50
	for _, c := range []struct {
		name             string
		tolerance        seqstat.Tolerance
		question         seqstat.Question
		rateNew, rateOld float64
	}{
		{"harm", seqstat.Tolerance{Factor: 1.1}, seqstat.Harm, .09, .03},
		{"clear", seqstat.Tolerance{Factor: 1, Add: .02}, seqstat.Clear, .03, .03},
		{"harm of what should be high", seqstat.Tolerance{Better: seqstat.Higher, Factor: .95}, seqstat.Harm, .2, .3},
	} {
		grid := c.tolerance.Grid(c.question, c.rateOld)
		said := seqstat.Reach(c.tolerance, c.question, grid, c.rateNew, c.rateOld, 4, alpha)
		var took []float64
		for run := range times {
			r := rand.New(rand.NewPCG(uint64(run), 6))
			e, n := seqstat.NewRateP(c.tolerance, c.question, grid), 0.0
			for !seqstat.Reached(e.Ln(), alpha) && n < 10*said.NineInTen {
				e.Add(seqstat.Slice{New: seqstat.Count{Units: perSlice, Events: events(r, perSlice, c.rateNew)},
					Old: seqstat.Count{Units: 4 * perSlice, Events: events(r, 4*perSlice, c.rateOld)}})
				n += perSlice
			}
			took = append(took, n)
		}
		slices.Sort(took)
		middle, high := took[times/2], took[times*9/10]
		t.Logf("%s: half after %.0f (said %.0f), nine in ten after %.0f (said %.0f)", c.name, middle, said.Half,
			high, said.NineInTen)
		if math.Abs(middle-said.Half) > .35*said.Half+perSlice || math.Abs(high-said.NineInTen) > .35*said.NineInTen+
			perSlice {
			t.Errorf("%s: half after %.0f, said %.0f; nine in ten after %.0f, said %.0f", c.name, middle, said.Half,
				high, said.NineInTen)
		}
	}
}

// TestReachSaysWhatIsOutOfReach asks for what no number of units shows: harm where there is none.
func TestReachSaysWhatIsOutOfReach(t *testing.T) {
	a := seqstat.Tolerance{Factor: 1.1}
	n := seqstat.Reach(a, seqstat.Harm, a.Grid(seqstat.Harm, .03), .03, .03, 4, alpha)
	if !math.IsInf(n.Half, 1) || !math.IsInf(n.NineInTen, 1) {
		t.Errorf("harm where there is none: %+v", n)
	}
	// A tight tolerance on a rare rate takes very many units; an added one takes a tenth of them.
	tight := seqstat.Reach(a, seqstat.Clear, a.Grid(seqstat.Clear, .03), .03, .03, 49, alpha)
	b := seqstat.Tolerance{Factor: 1, Add: .01}
	added := seqstat.Reach(b, seqstat.Clear, b.Grid(seqstat.Clear, .03), .03, .03, 49, alpha)
	if tight.Half < 9*added.Half || tight.Half > 11*added.Half {
		t.Errorf("a tenth more takes %.0f units, a hundredth added %.0f", tight.Half, added.Half)
	}
}
