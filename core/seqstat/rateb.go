package seqstat

import "math"

// highest is as near to certainty as an alternative's level may come.
const highest = .999

// RateB is the e-value of a common rate under a tolerance with no added part. It is exact: each slice's
// factor is a ratio of likelihoods, of an alternative guessed from the past slices to the nearest pair of
// levels that the tolerance allows (Turner, Ly, Grünwald, Generic e-variables for exact sequential
// k-sample tests, 2021).
type RateB struct {
	Evidence
	tolerance Tolerance
	past      Slice
}

// NewRateB begins with no data. grid is usually the tolerance's own; Add of the tolerance is 0.
func NewRateB(t Tolerance, q Question, grid Alternatives) *RateB {
	return &RateB{Evidence: newEvidence(t, q, grid), tolerance: t}
}

// Add takes in a slice. One in which an arm has no unit says nothing, but counts as past.
func (r *RateB) Add(s Slice) {
	for j, l := range r.grid.Effect {
		r.logs[j] += r.factor(s, r.sign*l)
	}
	r.past.New.Units, r.past.New.Events = r.past.New.Units+s.New.Units, r.past.New.Events+s.New.Events
	r.past.Old.Units, r.past.Old.Events = r.past.Old.Units+s.Old.Units, r.past.Old.Events+s.Old.Events
}

func (r *RateB) factor(s Slice, l float64) float64 {
	if s.New.Units <= 0 || s.Old.Units <= 0 {
		return 0
	}
	past, a := r.past, r.tolerance.Factor
	if past.New.Units == 0 || past.Old.Units == 0 || past.New.Events+past.Old.Events == 0 {
		return lnRateP(r.tolerance, s, l)
	}
	ratio := a * math.Exp(l)
	c := root(ratio, float64(past.New.Units), smoothed(past.New), float64(past.Old.Units), smoothed(past.Old))
	t := ratio * c
	if t > highest {
		t, c = highest, min(c, highest)
	}
	c = min(c, highest)
	c0 := root(a, float64(s.New.Units), t, float64(s.Old.Units), c)
	t0 := a * c0
	if t0 >= 1 || c0 >= 1 {
		return 0
	}
	return lnBernoulli(s.New, t, t0) + lnBernoulli(s.Old, c, c0)
}

// smoothed is the share of events, kept off 0 and 1.
func smoothed(c Count) float64 { return (float64(c.Events) + .5) / (float64(c.Units) + 1) }

// lnBernoulli is the logarithm of the likelihood of a count at level p, over that at level p0.
func lnBernoulli(c Count, p, p0 float64) float64 {
	x, n := float64(c.Events), float64(c.Units)
	return x*math.Log(p/p0) + (n-x)*(math.Log1p(-p)-math.Log1p(-p0))
}

// root is the old arm's level at which n units at a times the level, and m units at it, are likeliest if
// their shares of events are u and v: the smaller root of the likelihood's quadratic equation.
func root(a, n, u, m, v float64) float64 {
	qa, qb, qc := a*(n+m), n*(a+u)+m*(1+a*v), n*u+m*v
	return 2 * qc / (qb + math.Sqrt(max(qb*qb-4*qa*qc, 0)))
}
