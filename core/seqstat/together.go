package seqstat

import "math"

// Restarts is the logarithm of an e-value of harm over a release of several stages, which finds what
// begins at a later stage as well: the mean over the planned stages of the e-value since each began.
// since has the logarithm of that of each stage begun, in order; one that has not begun counts as 1.
// planned is at least len(since) and above 0.
func Restarts(planned int, since ...float64) float64 {
	w, l := make([]float64, planned), make([]float64, planned)
	for i := range w {
		w[i] = 1 / float64(planned)
	}
	copy(l, since)
	return lnSum(w, l)
}

// Watches is the logarithm of several watches' joint e-value of harm, and which of them has the largest
// part in it. weights sum to at most 1, and are as many as the logarithms; with none, the sum is 0 (minus
// infinity as a logarithm) and the largest -1.
func Watches(weights, logs []float64) (ln float64, largest int) {
	largest, top := -1, math.Inf(-1)
	for i := range logs {
		if weights[i] <= 0 {
			continue
		}
		if part := math.Log(weights[i]) + logs[i]; largest < 0 || part > top {
			largest, top = i, part
		}
	}
	return lnSum(weights, logs), largest
}
