package seqstat

import "math"

// RateP is the e-value of a rare rate, or of any rate whose tolerance has an added part. It is exact at
// any size: given how many events a slice had, it asks how they are shared between the arms, by the
// inequality between a Bernoulli and a Poisson count (compare Lindon and Malek, Anytime-valid inference
// for multinomial count data, 2022).
type RateP struct {
	Evidence
	tolerance Tolerance
}

// NewRateP begins with no data. grid is usually the tolerance's own.
func NewRateP(t Tolerance, q Question, grid Alternatives) *RateP {
	return &RateP{Evidence: newEvidence(t, q, grid), tolerance: t}
}

// Add takes in a slice. One in which an arm has no unit says nothing.
func (r *RateP) Add(s Slice) {
	for j, l := range r.grid.Effect {
		r.logs[j] += lnRateP(r.tolerance, s, r.sign*l)
	}
}

// lnRateP is the logarithm of a slice's factor against the alternative that the new arm is at exp(l)
// times the tolerated level.
func lnRateP(t Tolerance, s Slice, l float64) float64 {
	if s.New.Units <= 0 || s.Old.Units <= 0 {
		return 0
	}
	nNew, nOld := float64(s.New.Units), float64(s.Old.Units)
	omega := t.Factor * nNew / (t.Factor*nNew + nOld)
	d := math.Log1p(omega * math.Expm1(l))
	return float64(s.New.Events)*l - float64(s.New.Events+s.Old.Events)*d - nNew*t.Add*math.Expm1(l-d)
}
