package evidence

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"greenlever.example/core/seqstat"
)

// fixed is how many units of the new arm a test takes that looks once, to find an effect with power .8 at level .05.
func fixed(m *Metric, base, times, oldPerNew float64) float64 {
	const z = 1.6448536269514722 + 0.8416212335729143
	a, bad := 1+m.Tolerance.Relative, base*times
	v := bad*(1-bad) + a*a*base*(1-base)/oldPerNew
	d := bad - a*base - m.Tolerance.Absolute
	return z * z * v / (d * d)
}

// TestHarmComesSooner holds how many units harm takes against a test that looks once and had to know before when. At
// one stage half of the releases have it within 1.3 times that; more stages, which are watched from the beginning of
// each, and more watches cost more, which is stated.
func TestHarmComesSooner(t *testing.T) {
	runs := 40
	if full {
		runs = 400
	}
	const perBeat, oldPerNew = 10, 3
	for _, planned := range []int{1, 4} {
		for _, times := range []float64{1.5, 2, 3} {
			m := rateOf(Tolerance{Relative: .1}, false)
			base, need := .04, 0.
			need = fixed(&m, base, times, oldPerNew)
			var took []float64
			for i := range runs {
				r := rand.New(rand.NewPCG(uint64(i), uint64(planned)))
				tol := m.tolerance()
				e := seqstat.NewRateP(tol, seqstat.Harm, tol.Grid(seqstat.Harm, base))
				units, events := 0., int64(0)
				for {
					s := seqstat.Slice{New: seqstat.Count{Units: perBeat, Events: drawn(r, perBeat, base*times)},
						Old: seqstat.Count{Units: perBeat * oldPerNew, Events: drawn(r, perBeat*oldPerNew, base)}}
					e.Add(s)
					units, events = units+perBeat, events+s.New.Events
					if events >= leastEvents && seqstat.Reached(seqstat.Restarts(planned, e.Ln()), Alpha) ||
						units > 50*need {
						break
					}
				}
				took = append(took, units)
			}
			slices.Sort(took)
			median := took[len(took)/2]
			t.Logf("%d stages, %.1f times as often: %5.0f units in half of the releases, %5.0f fixed: %.2f times",
				planned, times,
				median, need, median/need)
			if planned == 1 && median > 1.3*need+perBeat*math.Sqrt(200/float64(runs)) {
				t.Errorf("%.1f times as often: %.0f units, %.0f fixed", times, median, need)
			}
		}
	}
}

func drawn(r *rand.Rand, n int64, p float64) (x int64) {
	for range n {
		if r.Float64() < p {
			x++
		}
	}
	return x
}
