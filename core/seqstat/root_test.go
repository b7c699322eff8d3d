package seqstat

import (
	"math"
	"testing"
)

func TestRoot(t *testing.T) {
	c := root(1.25, 100, .4, 300, .2)
	if math.Abs(c-.237345081) > 1e-9 || math.Abs(1.25*c-.296681351) > 1e-9 {
		t.Errorf("V13: %.9f and %.9f", c, 1.25*c)
	}
}

// TestAnyDataKeepsItsSense gives slices of any shape, empty, full and huge: an e-value is never no number.
func TestAnyDataKeepsItsSense(t *testing.T) {
	counts := []Count{{0, 0}, {1, 0}, {1, 1}, {10, 10}, {10, 0}, {1e9, 0}, {1e9, 1e9}, {1e9, 1}}
	for _, better := range []Better{Lower, Higher} {
		for _, a := range []float64{.5, 1, 1.1, 10} {
			for _, q := range []Question{Harm, Clear} {
				tol := Tolerance{Better: better, Factor: a}
				p, b := NewRateP(tol, q, tol.Grid(q, 0)), NewRateB(tol, q, tol.Grid(q, 0))
				for _, x := range counts {
					for _, y := range counts {
						p.Add(Slice{x, y})
						b.Add(Slice{x, y})
						if math.IsNaN(p.Ln()) || math.IsNaN(b.Ln()) {
							t.Fatalf("better %v, factor %v, %v, %v and %v: %v, %v", better, a, q, x, y, p.Ln(), b.Ln())
						}
					}
				}
			}
		}
	}
}
