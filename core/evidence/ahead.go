package evidence

import (
	"math"

	"greenlever.example/core/seqstat"
	"greenlever.example/core/words"
)

// Need is about how many units of the new side a verdict takes, and how long that is with the traffic of the last day.
// Below 0: it is out of reach.
type Need struct {
	Units  int64 `json:"units"`
	Millis int64 `json:"millis"`
}

// StageNeed is what verdicts take at a stage, if all of it were found there.
type StageNeed struct {
	Stage int `json:"stage"`
	// Harm is what it takes to find that it happens twice as often (or half as often, where higher is better), in half
	// of the releases; Clear what it takes to find nothing wrong where nothing is, in half of them; ClearMost in nine
	// of ten.
	Harm      Need `json:"harm"`
	Clear     Need `json:"clear"`
	ClearMost Need `json:"clearMost"`
	// Added is Clear with a tolerance of one percentage point more, which a rare rate reaches sooner.
	Added Need `json:"added"`
}

// Ahead is what a watch will take, before the release starts.
type Ahead struct {
	Metric  string  `json:"metric"`
	Title   string  `json:"title"`
	Variant string  `json:"variant,omitempty"` // the new one that is compared, where there are several
	Base    float64 `json:"base"`              // the rate that it goes by
	// From tells where the rate is from: guess, as it was measured before or as somebody said, or none.
	From   string      `json:"from"`
	Stages []StageNeed `json:"stages"` // those that compare
	// Earliest is after how many units of the new side harm can be found at all, were it to happen to each of them.
	Earliest int64 `json:"earliest"`
}

// added is the absolute tolerance that is offered.
const added = .01

// Ahead says what a watch will take. base is the old side's rate, daily how many units come in a day, and all how many
// there are: each counts once, so more than that are out of reach.
func (s *Setup) Ahead(watch int, base, daily, all float64) Ahead {
	m := &s.Watches[watch].Metric
	out := Ahead{Metric: m.Key, Title: m.Title, Variant: s.Watches[watch].Variant, Base: base,
		Stages: []StageNeed{}, Earliest: -1}
	if m.Kind != Rate || !(base > 0 && base < 1) {
		return out
	}
	t := m.tolerance()
	ways := max(1, len(s.News))
	harm, worse := s.alpha()/float64(max(1, s.Planned)), min(2*base, (1+base)/2)
	if !m.Lower() {
		worse = base / 2
	}
	for i, w := range s.Widths {
		if !w.Compares() {
			continue
		}
		new := float64(w.New) / float64(ways)
		old := float64(w.Old) / new
		per := daily * new / 1e6 / 86_400_000 // units of the new side in a millisecond
		need := func(units float64) Need {
			if units > all*new/1e6 || per <= 0 {
				return Need{-1, -1}
			}
			return Need{int64(units), int64(min(units/per, 1e15)) + int64(m.Closing())}
		}
		one := StageNeed{Stage: i}
		one.Harm = need(seqstat.Reach(t, seqstat.Harm, t.Grid(seqstat.Harm, base), worse, base, old, harm).Half)
		clear := seqstat.Reach(t, seqstat.Clear, t.Grid(seqstat.Clear, base), base, base, old, s.AlphaClear())
		one.Clear, one.ClearMost = need(clear.Half), need(clear.NineInTen)
		more := t
		if more.Add += added; !m.Lower() {
			more.Add = t.Add - added
		}
		one.Added = need(seqstat.Reach(more, seqstat.Clear, more.Grid(seqstat.Clear, base), base, base, old,
			s.AlphaClear()).Half)
		out.Stages = append(out.Stages, one)
		if out.Earliest < 0 {
			first := seqstat.Reach(t, seqstat.Harm, t.Grid(seqstat.Harm, base), extreme(m), base, old, harm).Half
			if !math.IsInf(first, 0) {
				out.Earliest = max(int64(first), least)
			}
		}
	}
	return out
}

// extreme is the rate of a side where it could not be worse.
func extreme(m *Metric) float64 {
	if m.Lower() {
		return .999
	}
	return .001
}

// Says says what a watch will take, and that it is out of reach. names are those of the stages, units of what the
// shares are drawn by; lasts says a length of time.
func (a *Ahead) Says(names []string, units words.Said, lasts func(millis int64) string) words.Said {
	who := words.Said{words.Name(a.Title)}
	if a.Variant != "" {
		who = words.Say("%s with %s", who, words.Variant(a.Variant))
	}
	if len(a.Stages) == 0 {
		return words.Say("%s: how long a verdict takes cannot be known before there are data", who)
	}
	const long = 90 * 86_400_000
	first := func(need func(*StageNeed) Need) *StageNeed { // the stage at which it is in reach; else the last one
		for i := range a.Stages {
			if n := need(&a.Stages[i]); n.Units >= 0 && n.Millis < long {
				return &a.Stages[i]
			}
		}
		return &a.Stages[len(a.Stages)-1]
	}
	last := first(func(n *StageNeed) Need { return n.Clear })
	harm := first(func(n *StageNeed) Need { return n.Harm })
	said := words.Say("%s", who)
	if n := harm.Harm; n.Units < 0 || n.Millis > long {
		said = words.Say("%s: that it gets twice as bad is out of reach with this traffic", said)
	} else {
		said = words.Say("%s: that it gets twice as bad is found within about %s at %s, by %s %s", said,
			words.Number(lasts(n.Millis)), words.Name(names[harm.Stage]), words.Count(n.Units), units)
	}
	if n := last.Clear; n.Units < 0 || n.Millis > long {
		said = words.Say("%s; clear is out of reach with this traffic", said)
		if m := last.Added; m.Units >= 0 && m.Millis < n.Millis || n.Units < 0 && m.Units >= 0 {
			said = words.Say("%s, while one percentage point more tolerated would take about %s", said,
				words.Number(lasts(m.Millis)))
		}
		return said
	}
	return words.Say("%s; clear takes about %s at %s for half of the releases, %s for nine in ten", said,
		words.Number(lasts(last.Clear.Millis)), words.Name(names[last.Stage]),
		words.Number(within(last.ClearMost, lasts)))
}

func within(n Need, lasts func(millis int64) string) string {
	if n.Units < 0 {
		return "never"
	}
	return lasts(n.Millis)
}
