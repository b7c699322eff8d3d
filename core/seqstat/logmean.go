package seqstat

import "math"

// leastOfLogMean is how many units each arm of a stage needs before LogMean says anything of it.
const leastOfLogMean = 100

// Sums are the sufficient statistics of the logarithms of values: how many, their sum, their squares' sum.
type Sums struct {
	N            int64
	Sum, Squares float64
}

// LogSums are the sums of values, all above 0. ok is false, and the sums are of the others, if one is not.
func LogSums(values ...float64) (s Sums, ok bool) {
	ok = true
	for _, v := range values {
		if !(v > 0) || math.IsInf(v, 0) {
			ok = false
			continue
		}
		y := math.Log(v)
		s = Sums{s.N + 1, s.Sum + y, s.Squares + y*y}
	}
	return s, ok
}

// Plus is both together.
func (s Sums) Plus(o Sums) Sums { return Sums{s.N + o.N, s.Sum + o.Sum, s.Squares + o.Squares} }

func (s Sums) mean() float64 { return s.Sum / float64(s.N) }

// variance is the sample variance, not below 0.
func (s Sums) variance() float64 {
	return max((s.Squares-s.Sum*s.Sum/float64(s.N))/float64(s.N-1), 0)
}

// Pair is both arms' sums in one stage, whole.
type Pair struct {
	New, Old Sums
}

// LogMean is the e-value of a typical value, the ratio of geometric means. It is asymptotic: a stage
// counts from 100 units in each arm on (Robbins 1970, with estimated variances).
type LogMean struct {
	tolerance Tolerance
	question  Question
	grid      Alternatives
}

// NewLogMean asks a question. grid is usually the tolerance's own; Add of the tolerance is 0.
func NewLogMean(t Tolerance, q Question, grid Alternatives) *LogMean { return &LogMean{t, q, grid} }

// Ln is the logarithm of the e-value at what each stage has brought so far.
func (m *LogMean) Ln(stages ...Pair) float64 {
	b, i := m.information(stages)
	s := m.tolerance.sign(m.question)
	logs := make([]float64, len(m.grid.Effect))
	for j, l := range m.grid.Effect {
		logs[j] = s*l*b - l*l*i/2
	}
	return lnSum(m.grid.Weight, logs)
}

// information is the sum of the stages' differences to what is tolerated, each over its variance, and of
// their inverse variances.
func (m *LogMean) information(stages []Pair) (b, i float64) {
	for _, p := range stages {
		if p.New.N < leastOfLogMean || p.Old.N < leastOfLogMean {
			continue
		}
		v := max(p.New.variance(), p.Old.variance()) * (1/float64(p.New.N) + 1/float64(p.Old.N))
		if v <= 0 {
			continue // all values are one value: there is nothing to measure a difference by
		}
		b += (p.New.mean() - p.Old.mean() - math.Log(m.tolerance.Factor)) / v
		i += 1 / v
	}
	return b, i
}
