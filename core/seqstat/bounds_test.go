package seqstat

import (
	"math"
	"testing"
)

// TestBoundsVectors finds the exact bounds of V02 by bisection, and asks that the kept ones lie just outside.
func TestBoundsVectors(t *testing.T) {
	s := Slice{Count{1000, 25}, Count{3000, 28}}
	at := func(better Better) func(float64) float64 {
		return func(ratio float64) float64 {
			e := NewRateP(Tolerance{Better: better, Factor: ratio}, Harm, HarmGrid())
			e.Add(s)
			return e.Ln()
		}
	}
	low, high := crossing(at(Lower), -1, .05), crossing(at(Higher), 1, .05)
	if math.Abs(low-1.166021) > 1e-6 || math.Abs(high-6.066980) > 1e-6 {
		t.Errorf("V02: %.6f to %.6f, want 1.166021 to 6.066980", low, high)
	}
	b := NewBounds()
	if l, h := b.At(.05); l != 0 || !math.IsInf(h, 1) {
		t.Errorf("with no data: %v to %v", l, h)
	}
	b.Add(s)
	l, h := b.At(.05)
	if !(l <= low && low < l*fine && h >= high && high > h/coarse) {
		t.Errorf("kept bounds %v to %v of exact %v to %v", l, h, low, high)
	}
}

func TestLogMeanBoundsVectors(t *testing.T) {
	m := NewLogMean(Tolerance{Factor: 1.1}, Harm, HarmGrid())
	low, high := m.Bounds(.05, Pair{Sums{200, 922, 4448}, Sums{3800, 17480, 84208}},
		Pair{Sums{4000, 18440, 88960}, Sums{12000, 55212, 266100}})
	if math.Abs(low-.948971) > 1e-6 || math.Abs(high-1.073041) > 1e-6 {
		t.Errorf("V17: %.6f to %.6f, want .948971 to 1.073041", low, high)
	}
	if l, h := m.Bounds(.05); l != 0 || !math.IsInf(h, 1) {
		t.Errorf("with no data: %v to %v", l, h)
	}
}
