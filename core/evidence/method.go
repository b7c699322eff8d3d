package evidence

import (
	"math"

	"greenlever.example/core/seqstat"
)

// gathered is evidence that can be kept and gone on with.
type gathered interface {
	Keep() seqstat.Kept
	Resume(*seqstat.Kept) error
}

// asked is evidence on a question.
type asked interface {
	gathered
	Ln() float64
}

// method is how a metric is judged. It follows from the metric alone, and never from data.
type method struct {
	*Metric
	tolerated seqstat.Tolerance
	rate      bool
	buckets   int
	ratio     float64 // of neighbouring buckets
}

const (
	meanBuckets = 101 // the first is that of nothing
	meanRatio   = 1.1
	highBuckets = 1_024
	highZero    = 288 // the bucket that begins at 1
	highSteps   = 4   // buckets that the tolerance is wide
)

func methodOf(m *Metric) *method {
	out := &method{Metric: m, tolerated: m.tolerance(), rate: m.Kind == Rate}
	switch m.Kind {
	case Mean:
		out.buckets, out.ratio = meanBuckets, meanRatio
	case High:
		out.buckets, out.ratio = highBuckets, math.Pow(out.tolerated.Factor, 1./highSteps)
	}
	return out
}

// ask begins the evidence on a question; nil where it is had from sums.
func (m *method) ask(q seqstat.Question) gathered {
	grid := m.tolerated.Grid(q, m.guess())
	switch {
	case m.rate && m.Common:
		return seqstat.NewRateB(m.tolerated, q, grid)
	case m.rate:
		return seqstat.NewRateP(m.tolerated, q, grid)
	case m.Kind == Mean:
		return seqstat.NewCapMean(m.tolerated, q, grid, m.values())
	case m.Kind == High:
		return seqstat.NewTail(q, m.ratio, highSteps, m.buckets)
	}
	return nil
}

// values are those of the buckets of a mean, as parts of its cap.
func (m *method) values() []float64 {
	out := make([]float64, m.buckets)
	for i := 1; i < len(out); i++ {
		out[i] = math.Pow(m.ratio, float64(i-m.buckets+1))
	}
	return out
}

// bucketOf is the bucket of a value.
func (m *method) bucketOf(v float64) int {
	switch {
	case m.Kind == High && v > 0:
		return min(max(int(math.Floor(math.Log(v)/math.Log(m.ratio)))+highZero, 0), m.buckets-1)
	case m.Kind == Mean && v > 0:
		return min(max(int(math.Round(math.Log(v/m.Cap)/math.Log(m.ratio)))+m.buckets-1, 0), m.buckets-1)
	}
	return 0
}

// tally is what one unit comes to.
func (m *method) tally(value float64, has bool) (t Tally) {
	t.Units = 1
	switch {
	case m.rate:
		if has && value > 0 {
			t.Events = 1
		}
	case !has:
	case m.Kind == Typical:
		t.Events = 1
		t.Sums, _ = seqstat.LogSums(value)
	default:
		t.Events = 1
		if m.Kind == Mean {
			value = min(value, m.Cap)
		}
		t.Sums = seqstat.Sums{N: 1, Sum: value, Squares: value * value}
		t.Counts = map[int]int64{m.bucketOf(value): 1}
	}
	return t
}

// take takes a slice in.
func (m *method) take(e gathered, s *Sides) {
	switch e := e.(type) {
	case *seqstat.RateP:
		e.Add(s.slice())
	case *seqstat.RateB:
		e.Add(s.slice())
	case *seqstat.CapMean:
		e.Add(m.spread(s.New.Counts), m.spread(s.Old.Counts))
	case *seqstat.Tail:
		e.Add(m.spread(s.New.Counts), m.spread(s.Old.Counts))
	}
}

func (m *method) spread(counts map[int]int64) []int64 {
	out := make([]int64, m.buckets)
	for k, n := range counts {
		if k >= 0 && k < len(out) {
			out[k] += n
		}
	}
	return out
}

// ln is the logarithm of the e-value on a question, since a stage began or of one stage alone.
func (m *method) ln(w *Watched, l *sinceLive, q seqstat.Question) float64 {
	e := l.harm
	if q == seqstat.Clear {
		e = l.clear
	}
	if a, is := e.(asked); is && e != nil {
		return a.Ln()
	}
	return seqstat.NewLogMean(m.tolerated, q, m.tolerated.Grid(q, m.guess())).Ln(w.pairs(l.stage, q)...)
}

// pairs are the sums of the strata since a stage, or of it alone where the question is clear.
func (w *Watched) pairs(stage int, q seqstat.Question) (out []seqstat.Pair) {
	for i := range w.Strata {
		if s := &w.Strata[i]; s.Stage == stage || s.Stage > stage && q == seqstat.Harm {
			out = append(out, seqstat.Pair{New: s.Whole.New.Sums, Old: s.Whole.Old.Sums})
		}
	}
	return out
}

// level is what a tally says of its side; NaN for nothing.
func (m *method) level(t *Tally) float64 {
	switch {
	case m.rate:
		return float64(t.Events) / float64(t.Units)
	case m.Kind == Typical:
		return math.Exp(t.Sums.Sum / float64(t.Sums.N))
	case m.Kind == Mean:
		return t.Sums.Sum / float64(t.Sums.N)
	}
	total, seen := int64(0), int64(0)
	for _, n := range t.Counts {
		total += n
	}
	if total == 0 {
		return math.NaN()
	}
	for k := range m.buckets {
		if seen += t.Counts[k]; float64(seen) >= .95*float64(total) {
			return math.Pow(m.ratio, float64(k-highZero)+.5)
		}
	}
	return math.NaN()
}

// ratioOf is how the sides compare, each stratum for itself: for rates by Mantel and Haenszel (Statistical
// aspects of the analysis of data from retrospective studies, 1959), else by weighing strata as the
// evidence does. NaN for nothing.
func (m *method) ratioOf(strata []Stratum) float64 {
	up, down := 0.0, 0.0
	for i := range strata {
		a, b := &strata[i].Whole.New, &strata[i].Whole.Old
		nA, nB := float64(a.Units), float64(b.Units)
		if !m.rate {
			nA, nB = float64(a.Events), float64(b.Events)
		}
		if nA == 0 || nB == 0 {
			continue
		}
		weight := nA * nB / (nA + nB)
		if m.Kind == Typical {
			up += weight * (a.Sums.Sum/nA - b.Sums.Sum/nB)
			down += weight
			continue
		}
		la, lb := m.level(a), m.level(b)
		up, down = up+weight*la, down+weight*lb
	}
	if m.Kind == Typical {
		return math.Exp(up / down)
	}
	return up / down
}
