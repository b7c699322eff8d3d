package seqstat

import "math"

// Limit is the e-value against "the rate keeps the limit", of one arm alone: where there is nothing to
// compare with, it is all that can be asked. It is exact at any size.
type Limit struct {
	Evidence
	level float64
}

// NewLimit asks whether a rate is beyond a level in (0, 1): above it where lower is better, below it otherwise.
func NewLimit(better Better, level float64) *Limit {
	return &Limit{Evidence: newEvidence(Tolerance{Better: better, Factor: 1}, Harm, HarmGrid()), level: level}
}

// Add takes in what a slice brought.
func (e *Limit) Add(c Count) {
	for j, l := range e.grid.Effect {
		l *= e.sign
		e.logs[j] += float64(c.Events)*l - float64(c.Units)*math.Log1p(e.level*math.Expm1(l))
	}
}
