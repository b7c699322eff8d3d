package seqstat_test

import (
	"math"
	"testing"

	"greenlever.example/core/seqstat"
)

// near compares to six digits after the point.
func near(t *testing.T, what string, got, want float64) {
	t.Helper()
	if !(math.Abs(got-want) <= 1e-6) {
		t.Errorf("%s: %.7f, want %.6f", what, got, want)
	}
}

// adder is a rate's e-value.
type adder interface {
	Add(seqstat.Slice)
	Ln() float64
}

func rows(counts ...[4]int64) (out []seqstat.Slice) {
	for _, r := range counts {
		out = append(out, seqstat.Slice{New: seqstat.Count{Units: r[0], Events: r[1]},
			Old: seqstat.Count{Units: r[2], Events: r[3]}})
	}
	return out
}

func ln(e adder, rows []seqstat.Slice) float64 {
	for _, s := range rows {
		e.Add(s)
	}
	return e.Ln()
}

func TestRateVectors(t *testing.T) {
	lower := func(a float64) seqstat.Tolerance { return seqstat.Tolerance{Factor: a} }
	higher := func(a float64) seqstat.Tolerance { return seqstat.Tolerance{Better: seqstat.Higher, Factor: a} }
	late := rows([4]int64{100, 1, 9900, 0}, [4]int64{100, 1, 9900, 1}, [4]int64{100, 2, 9900, 0})
	added := lower(1.1)
	added.Add = .002
	p := func(t seqstat.Tolerance, q seqstat.Question, g seqstat.Alternatives) adder {
		return seqstat.NewRateP(t, q, g)
	}
	b := func(t seqstat.Tolerance, q seqstat.Question, g seqstat.Alternatives) adder {
		return seqstat.NewRateB(t, q, g)
	}
	for _, v := range []struct {
		id          string
		make        func(seqstat.Tolerance, seqstat.Question, seqstat.Alternatives) adder
		tolerance   seqstat.Tolerance
		rows        []seqstat.Slice
		harm, clear float64
	}{
		{"V01", p, lower(1.1), rows([4]int64{1000, 12, 3000, 15}), 1.052686, -.655712},
		{"V02", p, lower(1.1), rows([4]int64{1000, 25, 3000, 28}), 3.518579, -1.270338},
		{"V03", p, lower(1.1), rows([4]int64{500, 0, 9500, 0}), 0, 0},
		{"V04", p, lower(1.1), late, 7.913532, -.521631},
		{"V05", p, added, late, 2.637277, -.457239},
		{"V08", p, higher(.95), rows([4]int64{20000, 950, 20000, 1100}), .706656, -2.882989},
		{"V09", p, lower(1.1), rows([4]int64{0, 0, 50, 1}, [4]int64{50, 1, 0, 0}, [4]int64{40, 2, 60, 1}),
			.160928, -.119752},
		{"V10", b, lower(1), rows([4]int64{400, 120, 600, 160}, [4]int64{4000, 1200, 6000, 1600}), 5.289691,
			-1.425970},
		{"V11", b, higher(.9), rows([4]int64{500, 150, 500, 152}, [4]int64{2000, 590, 2000, 606},
			[4]int64{4000, 1205, 4000, 1198}), -17.645815, 6.061109},
	} {
		near(t, v.id+" harm", ln(v.make(v.tolerance, seqstat.Harm, seqstat.HarmGrid()), v.rows), v.harm)
		clear := seqstat.ClearGrid(v.tolerance.Factor)
		near(t, v.id+" clear", ln(v.make(v.tolerance, seqstat.Clear, clear), v.rows), v.clear)
	}
}

func TestLogMeanVectors(t *testing.T) {
	a := seqstat.Tolerance{Factor: 1.1}
	harm := seqstat.NewLogMean(a, seqstat.Harm, a.Grid(seqstat.Harm, 0))
	clear := seqstat.NewLogMean(a, seqstat.Clear, a.Grid(seqstat.Clear, 0))
	few := seqstat.Pair{New: seqstat.Sums{N: 60, Sum: 278, Squares: 1340}, Old: seqstat.Sums{N: 1140, Sum: 5250,
		Squares: 25300}}
	near(t, "V18 harm", harm.Ln(few), 0)
	near(t, "V18 clear", clear.Ln(few), 0)
	stages := []seqstat.Pair{
		{New: seqstat.Sums{N: 200, Sum: 922, Squares: 4448}, Old: seqstat.Sums{N: 3800, Sum: 17480, Squares: 84208}},
		{New: seqstat.Sums{N: 4000, Sum: 18440, Squares: 88960}, Old: seqstat.Sums{N: 12000, Sum: 55212,
			Squares: 266100}},
	}
	near(t, "V17 harm", harm.Ln(stages...), -34.526272)
	near(t, "V17 clear", clear.Ln(stages...), 10.908590)
}

func TestSampleRatioVectors(t *testing.T) {
	near(t, "V20", seqstat.LnSampleRatio(.01, 1300, 98700), 37.418750)
	near(t, "V19", seqstat.LnSampleRatio(.25, 2600, 7400), .690816)
	if !seqstat.Broken(37.41875) || seqstat.Broken(.690816) {
		t.Error("V20 is an alarm and V19 none")
	}
}

func TestMixtureVectors(t *testing.T) {
	rows := rows([4]int64{500, 5, 9500, 100}, [4]int64{2500, 26, 7500, 77}, [4]int64{5000, 100, 5000, 52})
	var since []*seqstat.RateP
	plain, mixed := []float64{-.910799, -1.575799, 1.361684}, []float64{-.222226, -.722720, 3.145856}
	for i, s := range rows {
		since = append(since, seqstat.NewRateP(seqstat.Tolerance{Factor: 1.1}, seqstat.Harm, seqstat.HarmGrid()))
		logs := make([]float64, len(since))
		for k, e := range since {
			e.Add(s)
			logs[k] = e.Ln()
		}
		near(t, "V21 plain", logs[0], plain[i])
		near(t, "V21 mixture", seqstat.Restarts(3, logs...), mixed[i])
	}
	sum, largest := seqstat.Watches([]float64{.5, .3, .2}, []float64{3.4, .2, -1.5})
	near(t, "V22", sum, 2.733919)
	if seqstat.Reached(sum, .05) || largest != 0 {
		t.Errorf("V22: reached %v, largest %d", seqstat.Reached(sum, .05), largest)
	}
}
