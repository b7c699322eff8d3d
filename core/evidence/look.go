package evidence

import (
	"maps"
	"math"
	"slices"

	"greenlever.example/core/seqstat"
)

// Verdict is what a watch has found.
type Verdict string

// The verdicts.
const (
	Harm      Verdict = "harm"
	Clear     Verdict = "clear"
	Undecided Verdict = "undecided"
)

// Side is one side of a finding.
type Side struct {
	Units  int64    `json:"units"`           // whose outcome has closed
	Events int64    `json:"events"`          // to how many it happened, or how many have a value
	Level  *float64 `json:"level,omitempty"` // a rate, or a value in the metric's own measure
}

// Finding is what a watch has found at a look.
type Finding struct {
	Metric  string  `json:"metric"`
	Title   string  `json:"title"`             // of the metric
	Variant string  `json:"variant,omitempty"` // the new one that is compared, where there are several
	Verdict Verdict `json:"verdict"`
	New     Side    `json:"new"`
	Old     Side    `json:"old"`
	Alone   Side    `json:"alone,omitzero"` // of the new side where nothing was kept to compare with
	// Ratio is the new side's level over the old one's, Low and High its bounds, which hold at all looks together:
	// each errs at most with the run's alpha, ever. Absent: nothing is known.
	Ratio *float64 `json:"ratio,omitempty"`
	Low   *float64 `json:"low,omitempty"`
	High  *float64 `json:"high,omitempty"`
	// Tolerated is the ratio that is tolerated; with an absolute part, at the old side's level so far.
	Tolerated float64 `json:"tolerated"`
	Limit     float64 `json:"limit,omitempty"` // an absolute level that the new side is held to
	OverLimit bool    `json:"overLimit,omitempty"`
	LnHarm    float64 `json:"lnHarm"`
	LnClear   float64 `json:"lnClear"`
	Lower     bool    `json:"lower"` // is better
	Kind      Kind    `json:"kind"`
	Measure   string  `json:"measure,omitempty"`
	// Parts are the sides of units with one value of an attribute.
	Parts []Part `json:"parts,omitempty"`
	// Few tells that harm waits for more units of the new side to which it happened.
	Few bool `json:"few,omitempty"`
}

// Part are units with one value of an attribute: numbers, and no verdict.
type Part struct {
	Attribute string `json:"attribute"`
	Value     string `json:"value"` // empty: it was absent
	New       Side   `json:"new"`
	Old       Side   `json:"old"`
}

// Findings are what a run has found at a look.
type Findings struct {
	Watches []Finding `json:"watches"`
	Reacted []Reacted `json:"reacted,omitempty"` // harm that was found, the strongest first
	Cleared bool      `json:"cleared,omitempty"` // every watch found the stage clear
	Broken  bool      `json:"broken,omitempty"`  // the arms got units otherwise than the shares say
	Seen    Cohort    `json:"seen"`              // units that were first exposed, of each arm
	Share   float64   `json:"share,omitempty"`   // that of the new arm as it should be among those seen
	// Closed is how many units of the arm with fewer have closed in the stage, for every watch.
	Closed int64 `json:"closed"`
	// Alpha is the chance of a false harm, and of a false clear in the run's first turn.
	Alpha float64 `json:"alpha"`
}

// Look says what was found, for a stage, and latches it. now is in Unix milliseconds.
func (r *Run) Look(stage int, now int64) *Findings {
	out := &Findings{Alpha: r.setup.Alpha, Watches: []Finding{}}
	logs := make([]float64, len(r.live))
	for i := range r.live {
		f, ln := r.finding(i, stage)
		out.Watches, logs[i] = append(out.Watches, f), ln
	}
	if r.sampleBroken() && r.state.Broken == 0 {
		r.state.Broken = now
	}
	out.Broken = r.state.Broken > 0
	out.Seen, out.Share = r.seen()
	r.react(logs, out.Watches, now)
	for _, h := range r.state.Reacted {
		out.Watches[h.Watch].Verdict = Harm
	}
	out.Reacted = slices.Clone(r.state.Reacted)
	out.Cleared = !out.Broken && r.clear(stage, out) // what cannot be trusted clears nothing
	out.Closed = r.closed(stage)
	return out
}

// react finds harm, for each reaction by the watches that ask for it or for a stronger one together.
func (r *Run) react(logs []float64, found []Finding, now int64) {
	for at, reaction := range Reactions() {
		if slices.ContainsFunc(r.state.Reacted, func(h Reacted) bool { return h.Reaction == reaction }) {
			continue
		}
		weights, sum, asks := make([]float64, len(logs)), 0.0, false
		for i, w := range r.setup.Watches {
			mine := slices.Index(Reactions(), w.OnHarm)
			if mine > at || mine < 0 {
				continue
			}
			asks = asks || mine == at
			weights[i] = w.Weight
			if w.Weight == 0 {
				weights[i] = 1
			}
			sum += weights[i]
		}
		if !asks {
			continue
		}
		for i := range weights {
			weights[i] /= sum
		}
		if ln, largest := seqstat.Watches(weights, logs); largest >= 0 && seqstat.Reached(ln, r.setup.Alpha) {
			f := found[largest]
			f.Verdict = Harm
			r.state.Reacted = append(r.state.Reacted, Reacted{reaction, largest, now, f})
		}
	}
}

// clear latches what was found clear, and tells whether all is.
func (r *Run) clear(stage int, out *Findings) bool {
	all := len(r.live) > 0
	for i, live := range r.live {
		w := &r.state.Watches[i]
		if at := slices.IndexFunc(live.since, func(l sinceLive) bool { return l.stage == stage }); at >= 0 &&
			!slices.Contains(w.Cleared, stage) && seqstat.Reached(out.Watches[i].LnClear, r.setup.AlphaClear()) {
			w.Cleared = append(w.Cleared, stage)
		}
		if !slices.Contains(w.Cleared, stage) {
			all = false
		} else if out.Watches[i].Verdict != Harm {
			out.Watches[i].Verdict = Clear
		}
	}
	return all
}

// closed is how many units of a stage have closed for every watch, in the arm that has fewer.
func (r *Run) closed(stage int) int64 {
	fewest := int64(math.MaxInt64)
	for i := range r.state.Watches {
		w, sides := &r.state.Watches[i], Sides{}
		for j := range w.Strata {
			if w.Strata[j].Stage == stage {
				sides.add(&w.Strata[j].Whole)
				sides.add(&w.Strata[j].Open)
			}
		}
		n := min(sides.New.Units, sides.Old.Units)
		if stage < 0 || stage >= len(r.setup.Widths) || !r.setup.Widths[stage].Compares() {
			n = w.Alone.Units
		}
		fewest = min(fewest, n)
	}
	if len(r.state.Watches) == 0 {
		return 0
	}
	return fewest
}

func (r *Run) finding(i, stage int) (f Finding, ln float64) {
	w, live, m := &r.state.Watches[i], r.live[i], &r.setup.Watches[i].Metric
	var whole Sides
	for j := range w.Strata {
		whole.add(&w.Strata[j].Whole)
	}
	f = Finding{Metric: m.Key, Title: m.Title, Variant: r.setup.Watches[i].Variant, Verdict: Undecided,
		New: live.side(&whole.New), Old: live.side(&whole.Old), Alone: live.side(&w.Alone),
		Ratio: number(live.ratioOf(w.Strata)), Tolerated: live.tolerated.Factor, Lower: m.Lower(), Kind: m.Kind,
		Measure: m.Measure}
	if d := live.tolerated.Add; d != 0 && f.Old.Level != nil && *f.Old.Level > 0 {
		f.Tolerated += d / *f.Old.Level
	}
	switch {
	case r.setup.Watches[i].quiet:
	case live.bounds != nil:
		low, high := live.bounds.At(r.setup.alpha())
		f.Low, f.High = positive(low), number(high)
	case m.Kind == Typical:
		low, high := seqstat.NewLogMean(live.tolerated, seqstat.Harm, seqstat.HarmGrid()).Bounds(r.setup.alpha(),
			w.pairs(-1, seqstat.Harm)...)
		f.Low, f.High = positive(low), number(high)
	}
	f.Parts = r.parts(w, live)
	ln = math.Inf(-1)
	if planned := r.setup.Planned; planned > 0 {
		since := make([]float64, len(live.since))
		for j := range live.since {
			l := &live.since[j]
			since[j] = live.ln(w, l, seqstat.Harm)
			if l.stage == stage {
				f.LnClear = live.ln(w, l, seqstat.Clear)
			}
		}
		ln = seqstat.Restarts(planned, since[:min(planned, len(since))]...)
	}
	f.LnHarm = max(ln, -700)
	if live.limit != nil {
		f.Limit, f.OverLimit = *m.Limit, seqstat.Reached(live.limit.Ln(), r.setup.alpha())
		if ln == math.Inf(-1) {
			ln = live.limit.Ln()
		} else { // half of the chance of an error for each
			ln, _ = seqstat.Watches([]float64{.5, .5}, []float64{ln, live.limit.Ln()})
		}
		f.LnHarm = max(ln, -700)
	}
	if live.rate && m.Lower() && whole.New.Events+w.Alone.Events < leastEvents {
		f.Few = seqstat.Reached(ln, r.setup.alpha())
		ln = math.Inf(-1)
	}
	return f, ln
}

// parts breaks a watch's units down, by attribute and value.
func (r *Run) parts(w *Watched, m *watching) (out []Part) {
	if m.Kind == High { // whose level is not had from sums
		return nil
	}
	for i, all := range w.Parts {
		if i >= len(r.setup.Parts) {
			break
		}
		for _, value := range slices.Sorted(maps.Keys(all)) {
			sides := all[value]
			out = append(out, Part{r.setup.Parts[i], value, m.side(&sides.New), m.side(&sides.Old)})
		}
	}
	return out
}

func (m *method) side(t *Tally) Side {
	s := Side{Units: t.Units, Events: t.Events}
	if t.Units > 0 {
		s.Level = number(m.level(t))
	}
	return s
}

func number(v float64) *float64 {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return nil
	}
	return &v
}

// positive is a lower bound; nil for 0, which says nothing.
func positive(v float64) *float64 {
	if v <= 0 {
		return nil
	}
	return number(v)
}

// share is the new arm's part of a cohort's buckets.
func (s *Setup) share(cohort int) float64 {
	w, before := s.Widths[cohort], Width{}
	if cohort > 0 && s.Widths[cohort-1].Compares() {
		before = s.Widths[cohort-1]
	}
	a, b := float64(w.New)-float64(before.New), float64(w.Old)-float64(before.Old)
	if a <= 0 || b <= 0 {
		return 0
	}
	return a / (a + b)
}

// seen sums up who was seen, and what share of them should be the new arm's.
func (r *Run) seen() (all Cohort, share float64) {
	expected := 0.0
	for i, c := range r.state.Seen {
		all.New, all.Old = all.New+c.New, all.Old+c.Old
		expected += r.setup.share(i) * float64(c.New+c.Old)
	}
	if n := all.New + all.Old; n > 0 {
		share = expected / float64(n)
	}
	return all, share
}

// sampleBroken tells whether the arms got units otherwise than the shares say. Each cohort's units divide as its
// own buckets do, whenever they were first seen: so each says something for itself, and the e-values multiply.
func (r *Run) sampleBroken() bool {
	ln := 0.0
	for i, c := range r.state.Seen {
		if q := r.setup.share(i); q > 0 {
			ln += seqstat.LnSampleRatio(q, c.New, c.Old)
		}
	}
	return seqstat.Broken(ln)
}
