package seqstat

import "math"

// The ratios that bounds are kept for go by 2 % to twice as much, and by 10 % from there to the widest.
const (
	fine, coarse = 1.02, 1.1
	fineTo       = 2.0
	widest       = 50.0
)

// rungs are the ratios above 1 that bounds are kept for.
var rungs = func() (out []float64) {
	for r := fine; r < fineTo; r *= fine {
		out = append(out, r)
	}
	for r := fineTo; r <= widest; r *= coarse {
		out = append(out, r)
	}
	return out
}()

// Bounds keep where the ratio of the new arm's rate to the old one's lies, at all looks together: each
// side errs at most with probability alpha, ever. It holds an e-value for each of a fixed row of ratios.
type Bounds struct {
	ratios       []float64 // rising
	above, below []*RateP  // evidence that the ratio is above, and below, each of them
}

// NewBounds begins with no data.
func NewBounds() *Bounds {
	b := &Bounds{ratios: append(make([]float64, 0, 2*len(rungs)+1), 1)}
	for _, r := range rungs {
		b.ratios = append(b.ratios, r)
		b.ratios = append([]float64{1 / r}, b.ratios...)
	}
	for _, r := range b.ratios {
		b.above = append(b.above, NewRateP(Tolerance{Factor: r}, Harm, HarmGrid()))
		b.below = append(b.below, NewRateP(Tolerance{Better: Higher, Factor: r}, Harm, HarmGrid()))
	}
	return b
}

// Add takes in a slice.
func (b *Bounds) Add(s Slice) {
	for i := range b.ratios {
		b.above[i].Add(s)
		b.below[i].Add(s)
	}
}

// At are the bounds of the ratio at a level alpha for each side, rounded outward to a kept ratio: 0 and
// infinity where nothing is known.
func (b *Bounds) At(alpha float64) (low, high float64) {
	low, high = 0, math.Inf(1)
	for i, r := range b.ratios {
		if Reached(b.above[i].Ln(), alpha) {
			low = r
		}
	}
	for i := len(b.ratios) - 1; i >= 0; i-- {
		if Reached(b.below[i].Ln(), alpha) {
			high = b.ratios[i]
		}
	}
	return low, high
}

// Bounds are the bounds of the ratio of typical values, at a level alpha for each side: 0 and infinity
// where nothing is known. They are exact, since what a stage brought is kept as sums.
func (m *LogMean) Bounds(alpha float64, stages ...Pair) (low, high float64) {
	above := func(ratio float64) float64 {
		return NewLogMean(Tolerance{Factor: ratio}, Harm, HarmGrid()).Ln(stages...)
	}
	below := func(ratio float64) float64 {
		return NewLogMean(Tolerance{Better: Higher, Factor: ratio}, Harm, HarmGrid()).Ln(stages...)
	}
	return crossing(above, -1, alpha), crossing(below, 1, alpha)
}

// crossing is the ratio at which the evidence becomes enough, going from the estimate into a direction: the
// logarithm of an e-value falls from any ratio on the far side to the estimate.
func crossing(ln func(ratio float64) float64, direction, alpha float64) float64 {
	const far, halvings = 60, 80 // a factor of e^60 is as good as none
	if !Reached(ln(math.Exp(direction*far)), alpha) {
		if direction < 0 {
			return 0
		}
		return math.Inf(1)
	}
	enough, short := direction*far, -direction*far
	for range halvings {
		middle := (enough + short) / 2
		if Reached(ln(math.Exp(middle)), alpha) {
			enough = middle
		} else {
			short = middle
		}
	}
	return math.Exp(enough)
}
