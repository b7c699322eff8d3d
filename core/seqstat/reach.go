package seqstat

import "math"

// The chances for which Reach says how many units are needed, as quantiles of the normal distribution.
const (
	half      = 0.0
	nineInTen = 1.2815515655446004
)

// mostUnits is from how many units of the new arm on a verdict counts as out of reach.
const mostUnits = 1e12

// Need is how many units of the new arm a verdict takes: in half of the releases it comes by Half, in nine
// of ten by NineInTen. Either is infinite if it is out of reach.
type Need struct {
	Half, NineInTen float64
}

// Reach says how many units of the new arm a verdict on a rate takes if the arms' rates are those given, in
// (0, 1), and the old arm has oldPerNew units for each of the new one. It follows the e-value's mean growth,
// and its spread as a normal distribution has it.
func Reach(t Tolerance, q Question, grid Alternatives, rateNew, rateOld, oldPerNew, alpha float64) Need {
	growth, spread := make([]float64, len(grid.Effect)), make([]float64, len(grid.Effect))
	omega := t.Factor / (t.Factor + oldPerNew)
	for j, effect := range grid.Effect {
		l := t.sign(q) * effect
		d := math.Log1p(omega * math.Expm1(l))
		growth[j] = rateNew*l - (rateNew+oldPerNew*rateOld)*d - t.Add*math.Expm1(l-d)
		spread[j] = rateNew*(l-d)*(l-d) + oldPerNew*rateOld*d*d
	}
	return Need{least(grid, growth, spread, half, alpha), least(grid, growth, spread, nineInTen, alpha)}
}

// least is the smallest number of units at which the e-value suffices, deviations below its mean.
func least(grid Alternatives, growth, spread []float64, deviations, alpha float64) float64 {
	reached := func(n float64) bool {
		logs := make([]float64, len(growth))
		for j := range logs {
			logs[j] = n*growth[j] - deviations*math.Sqrt(n*spread[j])
		}
		return Reached(lnSum(grid.Weight, logs), alpha)
	}
	low, high := 0.0, 1.0
	for !reached(high) {
		if low, high = high, 2*high; high > mostUnits {
			return math.Inf(1)
		}
	}
	for high-low > max(1, high*1e-6) {
		if middle := (low + high) / 2; reached(middle) {
			high = middle
		} else {
			low = middle
		}
	}
	return math.Ceil(high)
}
