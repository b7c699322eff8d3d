package seqstat

import "math"

// What CapMean asks of the past before it bets, and how much of its stake one value may take.
const (
	leastOfCapMean = 20
	mostLost       = .75
)

// CapMean is the e-value of a mean of values between 0 and a cap that is fixed in advance. Values stand
// for their bucket of a histogram that both arms share, divided by the cap. It is exact for that mean,
// whatever the values' distribution: each slice's factor is a bet whose size the past alone decides
// (Waudby-Smith and Ramdas, Estimating means of bounded random variables by betting, 2023).
type CapMean struct {
	Evidence
	tolerance        Tolerance
	values           []float64
	pastNew, pastOld Sums
}

// NewCapMean begins with no data. values are the buckets' values, each in [0, 1]; Add of the tolerance is 0.
func NewCapMean(t Tolerance, q Question, grid Alternatives, values []float64) *CapMean {
	return &CapMean{Evidence: newEvidence(t, q, grid), tolerance: t, values: values}
}

// Add takes in a slice: how many units of each arm have each bucket's value.
func (e *CapMean) Add(newArm, oldArm []int64) {
	if sliceNew, sliceOld := e.sums(newArm), e.sums(oldArm); sliceNew.N > 0 && sliceOld.N > 0 {
		e.bet(newArm, oldArm, float64(sliceNew.N), float64(sliceOld.N))
	}
	e.pastNew, e.pastOld = e.pastNew.Plus(e.sums(newArm)), e.pastOld.Plus(e.sums(oldArm))
}

func (e *CapMean) sums(counts []int64) (s Sums) {
	for k, n := range counts {
		y := e.values[k]
		s = s.Plus(Sums{n, float64(n) * y, float64(n) * y * y})
	}
	return s
}

// bet multiplies in a slice. Were the old arm's mean off mOld, the new arm's would be off mNew by as much
// times the tolerated factor, and what one arm gains the other loses.
func (e *CapMean) bet(newArm, oldArm []int64, nNew, nOld float64) {
	if e.pastNew.N < leastOfCapMean || e.pastOld.N < leastOfCapMean {
		return
	}
	a, vNew, vOld := e.tolerance.Factor, e.pastNew.variance(), e.pastOld.variance()
	if vNew <= 0 || vOld <= 0 {
		return
	}
	meanNew, meanOld := vNew/float64(e.pastNew.N), vOld/float64(e.pastOld.N) // variances of the means
	mOld := e.pastOld.mean() + (e.pastNew.mean()-a*e.pastOld.mean())*a*meanOld/(meanNew+a*a*meanOld)
	mNew := a * mOld
	if !(mNew > 0 && mNew < 1 && mOld < 1) {
		return
	}
	u := vNew/nNew + a*a*vOld/nOld
	for j, l := range e.grid.Effect {
		g := mNew * math.Expm1(e.sign*l)
		stakeNew, stakeOld := g/(nNew*u), a*g/(nOld*u)
		loss := max(stakeNew*mNew, stakeOld*(1-mOld))
		if g < 0 {
			loss = max(-stakeNew*(1-mNew), -stakeOld*mOld)
		}
		if loss > mostLost {
			stakeNew, stakeOld = stakeNew*mostLost/loss, stakeOld*mostLost/loss
		}
		for k, y := range e.values {
			e.logs[j] += float64(newArm[k])*math.Log1p(stakeNew*(y-mNew)) +
				float64(oldArm[k])*math.Log1p(-stakeOld*(y-mOld))
		}
	}
}

// leastOfTail is how many units of the old arm must have closed before their 95 % point is one.
const leastOfTail = 200

// Tail is the e-value of a high quantile: of "the 95 % point grew by no more than tolerated". What lies
// beyond the old arm's point so far is a rare event, and beyond the tolerated point in the new arm it
// should be no commoner. Lower is better. It is exact.
type Tail struct {
	rate *RateB
	k    int
	past []int64
}

// NewTail begins with no data. Values are counted in buckets of one ratio g, above 1, and the point may
// grow by g to the power k.
func NewTail(q Question, g float64, k, buckets int) *Tail {
	grid := HarmGrid()
	if q == Clear {
		grid = ClearGrid(math.Pow(g, 2*float64(k)))
	}
	return &Tail{rate: NewRateB(Tolerance{Factor: 1}, q, grid), k: k, past: make([]int64, buckets)}
}

// Ln is the natural logarithm of the e-value: 0 before any data.
func (e *Tail) Ln() float64 { return e.rate.Ln() }

// Add takes in a slice: how many units of each arm have a value in each bucket.
func (e *Tail) Add(newArm, oldArm []int64) {
	if total := sum(e.past); total >= leastOfTail {
		point, seen := 0, int64(0)
		for seen += e.past[0]; float64(seen) < .95*float64(total); seen += e.past[point] {
			point++
		}
		e.rate.Add(Slice{New: Count{sum(newArm), sum(newArm[min(point+e.k+1, len(newArm)):])},
			Old: Count{sum(oldArm), sum(oldArm[point+1:])}})
	}
	for i, n := range oldArm {
		e.past[i] += n
	}
}

func sum(counts []int64) (n int64) {
	for _, c := range counts {
		n += c
	}
	return n
}
