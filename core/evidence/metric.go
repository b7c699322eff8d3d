// Package evidence says whether a release hurts: which units belong to which arm, what of their outcomes
// counts and when, and what can be concluded from it so far.
//
// Its nouns are a [Metric], a [Watch] over one, the [Event]s of a unit, the [Setup] of an evidence run, the
// run's [State], and the [Findings] of a look. It knows no clock and reads nothing: who calls it hands over
// the units whose outcome has closed, and keeps the state.
//
//	run, err := evidence.Resume(setup, state)
//	run.Fold(0, upTo, units)
//	found := run.Look(stage, now)
//
// A unit is one of what the release's shares are drawn by. It counts once in a run, when its outcome can
// change no more, whatever it did meanwhile: a unit counted again and again would make false alarms of its
// habits. Units are compared only with units whose buckets joined an arm at the same moment (their cohort)
// and that were first seen in the same stage; so frequent ones, which are seen first, are on both sides alike.
package evidence

import (
	"fmt"
	"math"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/seqstat"
	"greenlever.example/core/span"
)

// Kind is what a metric says of a group of units.
type Kind string

// The kinds.
const (
	Rate    Kind = "rate"    // the share of units to which it happened
	Typical Kind = "typical" // the typical value: compared by the ratio of geometric means
	Mean    Kind = "mean"    // the mean of values, each counted as the cap at most
	High    Kind = "p95"     // the value that 95 % of units keep below
)

// Reduce is how a unit's events become one outcome.
type Reduce string

// The ways.
const (
	Any        Reduce = "any" // of a rate: whether any event had a value above 0
	First      Reduce = "first"
	Sum        Reduce = "sum"
	MeanOf     Reduce = "mean"
	GreatestOf Reduce = "max"
)

// Which way is better.
const (
	Lower  = "lower"
	Higher = "higher"
)

// Tolerance is how much worse the new side may be than the old one.
type Tolerance struct {
	// Relative is a part of the old side's level: .1 is a tenth worse.
	Relative float64 `json:"relative"`
	// Absolute is in the metric's own unit: .01 of a rate is one percentage point. It goes with rates alone.
	Absolute float64 `json:"absolute,omitempty"`
}

// Metric is something that can be measured of units.
type Metric struct {
	Key     string `json:"key"`
	Title   string `json:"title"`
	Says    string `json:"says,omitempty"` // what it is, in a sentence or two
	Kind    Kind   `json:"kind"`
	Better  string `json:"better"`            // lower or higher
	Measure string `json:"measure,omitempty"` // of values, such as ms
	// By is the attribute that one event is about, such as the key of a parcel's recipient. Where shares are drawn by
	// another one, Reduce says how the events of each of those become one.
	By     string `json:"by"`
	Reduce Reduce `json:"reduce,omitempty"` // empty: any of a rate, the mean of values
	// Window is for how long after a unit's first exposure its events count, and Grace how long is waited
	// for those that are on their way.
	Window span.Span `json:"window"`
	Grace  span.Span `json:"grace"`
	// Tolerance and Limit are what its watches begin with. Limit is an absolute level of the new side, where
	// there is nothing to compare with; it goes with rates alone.
	Tolerance Tolerance `json:"tolerance"`
	Limit     *float64  `json:"limit,omitempty"`
	// Common tells of a rate that it is 10 % or more.
	Common bool `json:"common,omitempty"`
	// Base is a guess of the level, made before there are data; it bears on how soon there is a verdict.
	Base float64 `json:"base,omitempty"`
	Cap  float64 `json:"cap,omitempty"` // of a mean
	// Flags are those whose releases begin with a watch of it.
	Flags []string `json:"flags,omitempty"`
}

// Skew is how far clocks may be apart: an event may seem to come before the exposure that it follows.
const Skew span.Span = 30_000

// Beat is what windows and graces are multiples of, and the bounds of slices.
const Beat span.Span = 10_000

// Limits of a metric.
const (
	MaxWindow   = 30 * 86_400_000 // milliseconds
	leastGrace  = Beat
	leastOfHigh = .1 // relative tolerance of a high quantile: the width of four buckets
	maxFlags    = 100
)

// Usual fills in what was left open.
func (m *Metric) Usual() {
	if m.Better == "" {
		m.Better = Lower
	}
	if m.By == "" {
		m.By = condition.KeyAttribute
	}
	if m.Window == 0 {
		m.Window = 3_600_000
	}
	if m.Grace == 0 {
		m.Grace = 60_000
	}
	if m.Tolerance == (Tolerance{}) {
		m.Tolerance.Relative = .1
	}
}

// Reduces is how events become one outcome.
func (m *Metric) Reduces() Reduce {
	switch {
	case m.Reduce != "":
		return m.Reduce
	case m.Kind == Rate:
		return Any
	}
	return MeanOf
}

// Suits tells what keeps a metric from being watched where shares are drawn by an attribute; empty for nothing.
func (m *Metric) Suits(by string) string {
	if m.By == by || m.Reduce != "" {
		return ""
	}
	return fmt.Sprintf("is counted by %s, and shares are drawn by %s: give the metric a way to reduce, such as %s, "+
		"which says how the events of one become its outcome", m.By, by, m.Reduces())
}

// Check lists what is wrong with a metric.
func (m *Metric) Check() (found []flag.Problem) {
	add := func(place, format string, args ...any) {
		found = append(found, flag.Problem{Place: place, Mend: fmt.Sprintf(format, args...)})
	}
	if mend := flag.CheckKey(m.Key); mend != "" {
		add("key", "%s", mend)
	}
	if n := len(m.Title); n == 0 || n > 200 {
		add("title", "must be 1 to 200 bytes")
	}
	rate := m.Kind == Rate
	switch m.Kind {
	case Rate, Typical, Mean, High:
	default:
		add("kind", "must be rate, typical, mean or p95")
	}
	if m.Better != Lower && m.Better != Higher {
		add("better", "must be lower or higher")
	}
	switch {
	case m.Kind == High && m.Better == Higher:
		add("better", "must be lower where the kind is p95")
	case m.Reduce == "":
	case rate && m.Reduce != Any && m.Reduce != First:
		add("reduce", "must be any or first where the kind is rate")
	case !rate && m.Reduce != First && m.Reduce != Sum && m.Reduce != MeanOf && m.Reduce != GreatestOf:
		add("reduce", "must be first, sum, mean or max where values are measured")
	}
	if mend := condition.CheckAttribute(m.By); mend != "" {
		add("by", "%s", mend)
	}
	if m.Window <= 0 || m.Window > MaxWindow || m.Window%Beat != 0 {
		add("window", "must be a multiple of %s, up to %s", Beat, span.Span(MaxWindow))
	}
	if m.Grace < leastGrace || m.Grace > MaxWindow || m.Grace%Beat != 0 {
		add("grace", "must be a multiple of %s, up to %s", Beat, span.Span(MaxWindow))
	}
	found = append(found, m.checkLevels()...)
	if len(m.Flags) > maxFlags {
		add("flags", "takes at most %d", maxFlags)
	}
	return found
}

// checkLevels lists what is wrong with a metric's tolerance and limit.
func (m *Metric) checkLevels() (found []flag.Problem) {
	add := func(place, format string, args ...any) {
		found = append(found, flag.Problem{Place: place, Mend: fmt.Sprintf(format, args...)})
	}
	rate, t := m.Kind == Rate, m.Tolerance
	switch {
	case !(t.Relative >= 0 && t.Relative < 10) || m.Better == Higher && t.Relative >= 1:
		add("tolerance.relative", "must be a part of the old side's level, such as 0.1 for a tenth worse")
	case m.Kind == High && t.Relative < leastOfHigh:
		add("tolerance.relative", "must be at least %g where the kind is p95", leastOfHigh)
	}
	switch {
	case !(t.Absolute >= 0 && t.Absolute < 1):
		add("tolerance.absolute", "must be 0 or more and below 1: 0.01 is one percentage point")
	case t.Absolute > 0 && !rate:
		add("tolerance.absolute", "goes with rates alone: give a relative tolerance")
	case t.Absolute > 0 && m.Common:
		add("tolerance.absolute", "does not go with a common rate: give a relative tolerance, or leave out common")
	}
	if m.Limit != nil && (!rate || !(*m.Limit > 0 && *m.Limit < 1)) {
		add("limit", "must be a rate above 0 and below 1, and goes with rates alone")
	}
	if m.Common && !rate {
		add("common", "goes with rates alone")
	}
	if !(m.Base >= 0) || rate && m.Base >= 1 || math.IsInf(m.Base, 0) {
		add("base", "must be a level that the metric can have, such as 0.03 of a rate")
	}
	if (m.Kind == Mean) != (m.Cap > 0) || math.IsInf(m.Cap, 0) {
		add("cap", "must be given, above 0, where the kind is mean, and only there: a larger value counts as this")
	}
	return found
}

// Closing is how long after a unit's first exposure its outcome changes no more.
func (m *Metric) Closing() span.Span { return m.Window + m.Grace }

// usual is the level of a rate that is guessed where nobody made a guess.
const usual = .02

// guess is what the level is taken to be before there are data.
func (m *Metric) guess() float64 {
	if m.Base == 0 && m.Kind == Rate {
		return usual
	}
	return m.Base
}

// Lower tells whether less of it is better.
func (m *Metric) Lower() bool { return m.Better != Higher }

func (m *Metric) tolerance() seqstat.Tolerance {
	if m.Lower() {
		return seqstat.Tolerance{Factor: 1 + m.Tolerance.Relative, Add: m.Tolerance.Absolute}
	}
	return seqstat.Tolerance{Better: seqstat.Higher, Factor: 1 - m.Tolerance.Relative, Add: -m.Tolerance.Absolute}
}

// Reaction is what comes of harm.
type Reaction string

// The reactions, from the strongest to the weakest.
const (
	RollBack Reaction = "roll-back"
	Hold     Reaction = "hold"
	Tell     Reaction = "tell"
)

// Reactions lists them, from the strongest to the weakest.
func Reactions() []Reaction { return []Reaction{RollBack, Hold, Tell} }

// Watch is a metric that a release looks at, as it stood when the release began.
type Watch struct {
	Metric Metric `json:"metric"`
	// Weight is this watch's part of the chance of a false alarm, against the others'; 0: as much as each.
	Weight float64  `json:"weight,omitempty"`
	OnHarm Reaction `json:"onHarm"`
	// Variant is the new variant that is compared with the old one, where there are several.
	Variant string `json:"variant,omitempty"`
	quiet   bool   // bounds are not asked for, which cost more than all else
}

// MaxWatches is how many a release takes: each counts once for every new variant.
const MaxWatches = 10

// Each gives watches for each of several new variants; for fewer than two, those that name none.
func Each(watches []Watch, news []string) (out []Watch) {
	had := map[string]bool{}
	for _, w := range watches {
		if had[w.Metric.Key] && w.Variant != "" {
			continue // it stands for another variant already
		}
		had[w.Metric.Key] = true
		if w.Variant = ""; len(news) < 2 {
			out = append(out, w)
			continue
		}
		for _, w.Variant = range news {
			out = append(out, w)
		}
	}
	return out
}

// Asked is where a watch stands among those that were asked for, before [Each].
func Asked(watches []Watch, i int) (place int) {
	for ; i > 0; i-- {
		if watches[i].Variant == "" || watches[i].Metric.Key != watches[i-1].Metric.Key {
			place++
		}
	}
	return place
}

// CheckWatches lists what is wrong with watches.
func CheckWatches(at string, watches []Watch) (found []flag.Problem) {
	if len(watches) > MaxWatches {
		return []flag.Problem{{Place: at, Mend: fmt.Sprintf("takes at most %d, each counted for every new variant",
			MaxWatches)}}
	}
	type watched struct{ metric, variant string }
	keys := map[watched]bool{}
	for i := range watches {
		w := &watches[i]
		place, key := fmt.Sprintf("%s[%d]", at, Asked(watches, i)), watched{w.Metric.Key, w.Variant}
		for _, p := range w.Metric.Check() {
			found = append(found, flag.Problem{Place: place + "." + p.Place, Mend: p.Mend})
		}
		if keys[key] {
			found = append(found, flag.Problem{Place: place + ".metric", Mend: "is watched twice"})
		}
		keys[key] = true
		if !(w.Weight >= 0 && w.Weight <= 1_000) {
			found = append(found, flag.Problem{Place: place + ".weight", Mend: "must be 0 to 1000"})
		}
		switch w.OnHarm {
		case RollBack, Hold, Tell:
		default:
			found = append(found, flag.Problem{Place: place + ".onHarm", Mend: "must be roll-back, hold or tell"})
		}
	}
	return found
}
