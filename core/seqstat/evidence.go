// Package seqstat says how strong the evidence is that a release harms, or that it does not.
//
// It compares the units that got the new variant (the new arm) with those that kept the old one
// (the old arm), and may be asked after every slice of data without erring more often for it. Each
// question carries an e-value: a product of factors whose mean is at most 1 while the answer is no.
// The chance that such a product ever reaches 1/alpha is at most alpha, whatever the number of looks
// (Ville, Étude critique de la notion de collectif, 1939; Robbins, Statistical methods related to
// the law of the iterated logarithm, 1970; Howard, Ramdas, McAuliffe, Sekhon, Time-uniform,
// nonparametric, nonasymptotic confidence sequences, 2021).
//
// Everything here is computed from sufficient statistics, in constant time per slice.
package seqstat

import (
	"math"
)

// Better says which way a metric is meant to go.
type Better int8

// The two ways.
const (
	Lower Better = iota
	Higher
)

// Question is what an e-value gathers evidence for.
type Question int8

// The two questions. Evidence for harm is evidence against "not worse than tolerated", and evidence
// for clear is evidence against "at least as bad as tolerated".
const (
	Harm Question = iota
	Clear
)

// Tolerance is how much worse than the old arm the new one may be: the tolerated level at a level p
// of the old arm is Factor p + Add.
type Tolerance struct {
	Better Better
	// Factor is above 0: 1.1 tolerates a tenth more where lower is better, .9 a tenth less where
	// higher is better.
	Factor float64
	// Add is in the metric's own unit: not below 0 where lower is better, not above 0 otherwise.
	Add float64
}

// Alternatives is a fixed mixture of effects, as logarithms of a ratio to the tolerated level. Effect
// and Weight are of one length, effects are above 0, weights sum to 1.
type Alternatives struct {
	Effect []float64
	Weight []float64
}

// HarmGrid is the mixture that harm is sought with: from 8 % beyond the tolerated level to sixteen times it.
func HarmGrid() Alternatives {
	effect := []float64{.08, .11, .15, .21, .29, .40, .55, .76, 1.05, 1.45, 2.00, 2.77}
	weight := make([]float64, len(effect))
	for i := range weight {
		weight[i] = 1 / float64(len(effect))
	}
	return Alternatives{effect, weight}
}

// ClearGrid is the mixture that clear is sought with, around "no difference at all" as it looks from a
// tolerated ratio of a: most weight lies where the new arm is as good as the old one. a is above 0.
func ClearGrid(a float64) Alternatives {
	unit := max(math.Abs(math.Log(a)), .01)
	effect := []float64{.5, 1, 1.5, 2.25, 3.4, 5}
	for i := range effect {
		effect[i] *= unit
	}
	return Alternatives{effect, []float64{.15, .45, .15, .10, .075, .075}}
}

// Grid is the mixture for a question under this tolerance. base is a guess of the old arm's level,
// given before any data; it bears on the power alone, and only where something is added.
func (t Tolerance) Grid(q Question, base float64) Alternatives {
	if q == Harm {
		return HarmGrid()
	}
	r := t.Factor
	if t.Add != 0 && base > 0 {
		r = (t.Factor*base + t.Add) / base
	}
	return ClearGrid(r)
}

// sign is 1 if evidence for the question is a new arm above what is tolerated, and -1 if below.
func (t Tolerance) sign(q Question) float64 {
	if (t.Better == Lower) == (q == Harm) {
		return 1
	}
	return -1
}

// Count is what one arm brought in a slice: units whose outcome closed, and those of them that had it.
type Count struct {
	Units, Events int64
}

// Slice is a stretch of time of both arms. Its bounds may depend on clocks and numbers of units, never
// on outcomes.
type Slice struct {
	New, Old Count
}

// Evidence is a running e-value: the logarithm of each alternative's product.
type Evidence struct {
	grid Alternatives
	sign float64
	logs []float64
}

func newEvidence(t Tolerance, q Question, grid Alternatives) Evidence {
	return Evidence{grid: grid, sign: t.sign(q), logs: make([]float64, len(grid.Effect))}
}

// Ln is the natural logarithm of the e-value: 0 before any data.
func (e *Evidence) Ln() float64 { return lnSum(e.grid.Weight, e.logs) }

// Reached says whether an e-value with this logarithm suffices at level alpha, which is in (0, 1).
func Reached(ln, alpha float64) bool { return ln >= -math.Log(alpha) }

// lnSum is ln(sum of w exp(l)), without leaving what a float64 holds on the way. A weight of 0 counts for nothing.
func lnSum(w, l []float64) float64 {
	top := math.Inf(-1)
	for i := range l {
		if w[i] > 0 {
			top = max(top, l[i])
		}
	}
	if math.IsInf(top, 0) {
		return top
	}
	sum := 0.0
	for i := range l {
		if w[i] > 0 {
			sum += w[i] * math.Exp(l[i]-top)
		}
	}
	return top + math.Log(sum)
}
