package seqstat

import "math"

// sampleAlarm is the e-value from which a broken sample ratio is certain enough: by chance alone, one
// release in a thousand ever reaches it.
const sampleAlarm = 1000

// SampleRatio is the e-value against "the arms got units as their shares say". A unit counts once, in the
// stage that saw it first. Per stage it is a mixture of two beta-binomials around the share (Lindon and
// Malek 2022); stages multiply, since each has newcomers of its own.
type SampleRatio struct {
	ln float64
}

// LnSampleRatio is the logarithm of one stage's factor: units of the new and the old arm that the stage
// saw first, of which the share of the new arm should be q, in (0, 1).
func LnSampleRatio(q float64, newUnits, oldUnits int64) float64 {
	return lnSum([]float64{.5, .5}, []float64{lnBetaBinomial(100, q, newUnits, oldUnits),
		lnBetaBinomial(10000, q, newUnits, oldUnits)})
}

// End takes in a stage that sees no more newcomers.
func (r *SampleRatio) End(ln float64) { r.ln += ln }

// Ln is the logarithm of the e-value, with a stage under way whose factor has the logarithm ln.
func (r *SampleRatio) Ln(ln float64) float64 { return r.ln + ln }

// Broken says whether a sample ratio's e-value with this logarithm is an alarm.
func Broken(ln float64) bool { return ln >= math.Log(sampleAlarm) }

func lnBetaBinomial(k, q float64, newUnits, oldUnits int64) float64 {
	n, m := float64(newUnits), float64(oldUnits)
	return lnBeta(k*q+n, k*(1-q)+m) - lnBeta(k*q, k*(1-q)) - n*math.Log(q) - m*math.Log1p(-q)
}

func lnBeta(a, b float64) float64 {
	x, _ := math.Lgamma(a)
	y, _ := math.Lgamma(b)
	z, _ := math.Lgamma(a + b)
	return x + y - z
}
