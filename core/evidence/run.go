package evidence

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"

	"greenlever.example/core/seqstat"
)

// Setup is what an evidence run goes by, fixed when it begins.
type Setup struct {
	Watches []Watch  `json:"watches"`
	Widths  []Width  `json:"widths"`          // by stage of the plan
	Parts   []string `json:"parts,omitempty"` // attributes by which findings are broken down
	// News are the new variants where there are several: each is compared with the old one by watches of its own.
	News  []string `json:"news,omitempty"`
	Alpha float64  `json:"alpha"` // the chance of a false verdict, of harm and of clear
	// Planned is how many stages with two arms were planned at the start: harm is sought from the beginning of each.
	// What is planned later is watched too, as part of those before it.
	Planned int `json:"planned"`
	Run     int `json:"run"` // its number, from 1: each halves the chance of a false clear
	// Converted is when the old arm was given the new variant, in Unix milliseconds; 0: it was not. Units whose
	// outcome was open then are not counted: half of what they did is the new side's.
	Converted int64 `json:"converted,omitempty"`
}

// Alpha is the usual chance of a false verdict.
const Alpha = .05

// least is how many units each arm of a slice has.
const least = 10

// leastEvents is how many units of the new side it must have happened to before harm is found, of a rate
// whose lower is better.
const leastEvents = 5

// alpha is the chance of a false verdict on one new variant: they share the run's.
func (s *Setup) alpha() float64 { return s.Alpha / float64(max(1, len(s.News))) }

// AlphaClear is the chance of a false clear, of each new variant.
func (s *Setup) AlphaClear() float64 { return s.alpha() * math.Exp2(float64(1-max(1, s.Run))) }

// Tally is what units of one arm came to.
type Tally struct {
	Units  int64         `json:"units,omitempty"`  // whose outcome has closed
	Events int64         `json:"events,omitempty"` // of a rate: to how many it happened; of values: how many have one
	Sums   seqstat.Sums  `json:"sums,omitzero"`    // of values, or of their logarithms
	Counts map[int]int64 `json:"counts,omitempty"` // of values, by bucket
}

func (t *Tally) add(o *Tally) {
	t.Units, t.Events, t.Sums = t.Units+o.Units, t.Events+o.Events, t.Sums.Plus(o.Sums)
	for k, n := range o.Counts {
		if t.Counts == nil {
			t.Counts = map[int]int64{}
		}
		t.Counts[k] += n
	}
}

// Sides are both arms of something.
type Sides struct {
	New Tally `json:"new,omitzero"`
	Old Tally `json:"old,omitzero"`
}

func (s *Sides) add(o *Sides) {
	s.New.add(&o.New)
	s.Old.add(&o.Old)
}

func (s *Sides) slice() seqstat.Slice {
	return seqstat.Slice{New: seqstat.Count{Units: s.New.Units, Events: s.New.Events},
		Old: seqstat.Count{Units: s.Old.Units, Events: s.Old.Events}}
}

// Stratum are units that are compared with each other: first seen in one stage, of one cohort.
type Stratum struct {
	Stage  int   `json:"stage"`
	Cohort int   `json:"cohort"`
	Open   Sides `json:"open,omitzero"` // of the slice that still fills
	Whole  Sides `json:"whole,omitzero"`
}

// Since is the evidence since a stage began.
type Since struct {
	Stage int          `json:"stage"`
	Harm  seqstat.Kept `json:"harm,omitempty"`
	Clear seqstat.Kept `json:"clear,omitempty"` // of units that were first seen in that stage
}

// Watched is what a run has found of one watch.
type Watched struct {
	To      int64        `json:"to"` // units that were first exposed before it were taken, in Unix milliseconds
	Strata  []Stratum    `json:"strata,omitempty"`
	Since   []Since      `json:"since,omitempty"`
	Alone   Tally        `json:"alone,omitzero"` // units that got the new variant where nothing was kept to compare
	Limit   seqstat.Kept `json:"limit,omitempty"`
	Bounds  seqstat.Kept `json:"bounds,omitempty"`
	Cleared []int        `json:"cleared,omitempty"` // stages, for good
	// Parts are what units with each value of an attribute came to, by attribute: numbers, of which no verdict comes.
	Parts  []map[string]Sides `json:"parts,omitempty"`
	Slices int                `json:"slices,omitempty"`
}

// Reacted is harm that was found, for good.
type Reacted struct {
	Reaction Reaction `json:"reaction"`
	Watch    int      `json:"watch"`
	At       int64    `json:"at"`
	Finding  Finding  `json:"finding"` // as it stood then
}

// Cohort is how many units of those that joined the arms at one stage were seen.
type Cohort struct {
	New int64 `json:"new"`
	Old int64 `json:"old"`
}

// State is what a run has found so far: whatever of the ledger was taken, and nothing else.
type State struct {
	SeenTo  int64     `json:"seenTo"` // exposures before it were counted
	Seen    []Cohort  `json:"seen,omitempty"`
	Watches []Watched `json:"watches"`
	Reacted []Reacted `json:"reacted,omitempty"`
	Broken  int64     `json:"broken,omitempty"` // when the sample ratio was found to be wrong, for good
	// LastPoint is when what was found was last kept to be drawn, in Unix milliseconds.
	LastPoint int64 `json:"lastPoint,omitempty"`
}

// Run is an evidence run while units are taken in.
type Run struct {
	setup Setup
	state State
	live  []*watching
}

// watching is the live evidence of a watch.
type watching struct {
	*method
	since  []sinceLive
	limit  *seqstat.Limit
	bounds *seqstat.Bounds
}

type sinceLive struct {
	stage       int
	harm, clear gathered
}

// Resume goes on where a state was left; the zero state is that of a run with no units yet.
func Resume(setup Setup, state State) (*Run, error) {
	r := &Run{setup: setup, state: state}
	r.state.Seen = append(slices.Clone(r.state.Seen), make([]Cohort, max(0, len(setup.Widths)-len(r.state.Seen)))...)
	r.state.Watches = append(slices.Clone(r.state.Watches), make([]Watched, max(0,
		len(setup.Watches)-len(r.state.Watches)))...)
	for i := range setup.Watches {
		w, live := &r.state.Watches[i], &watching{method: methodOf(&setup.Watches[i].Metric)}
		w.Strata, w.Since, w.Parts = slices.Clone(w.Strata), slices.Clone(w.Since), slices.Clone(w.Parts)
		for j := range w.Parts {
			w.Parts[j] = maps.Clone(w.Parts[j])
		}
		for _, s := range w.Since {
			l := sinceLive{s.Stage, live.ask(seqstat.Harm), live.ask(seqstat.Clear)}
			if err := resume(l.harm, s.Harm); err != nil {
				return nil, err
			}
			if err := resume(l.clear, s.Clear); err != nil {
				return nil, err
			}
			live.since = append(live.since, l)
		}
		if m := &setup.Watches[i].Metric; m.Limit != nil {
			live.limit = seqstat.NewLimit(m.tolerance().Better, *m.Limit)
			if err := resume(live.limit, w.Limit); err != nil {
				return nil, err
			}
		}
		if live.rate {
			live.bounds = seqstat.NewBounds()
			if err := resume(live.bounds, w.Bounds); err != nil {
				return nil, err
			}
		}
		r.live = append(r.live, live)
	}
	return r, nil
}

func resume(e gathered, kept seqstat.Kept) error {
	if len(kept) == 0 || e == nil {
		return nil
	}
	if err := e.Resume(&kept); err != nil {
		return fmt.Errorf("an evidence run cannot be gone on with: %w", err)
	}
	return nil
}

// Keep gives the run's state.
func (r *Run) Keep() State {
	for i, live := range r.live {
		w := &r.state.Watches[i]
		w.Since = w.Since[:0]
		for _, l := range live.since {
			s := Since{Stage: l.stage}
			if l.harm != nil {
				s.Harm, s.Clear = l.harm.Keep(), l.clear.Keep()
			}
			w.Since = append(w.Since, s)
		}
		if live.limit != nil {
			w.Limit = live.limit.Keep()
		}
		if live.bounds != nil {
			w.Bounds = live.bounds.Keep()
		}
	}
	return r.state
}

// See counts units that were first exposed before a time, for the sample ratio: all of those that were not counted.
func (r *Run) See(upTo int64, units []Unit) {
	for i := range units {
		u := &units[i]
		if u.Exposed < r.state.SeenTo || u.Exposed >= upTo || u.Cohort >= len(r.state.Seen) || u.Cohort < 0 {
			continue
		}
		switch u.Arm {
		case New:
			r.state.Seen[u.Cohort].New++
		case Old:
			r.state.Seen[u.Cohort].Old++
		}
	}
	r.state.SeenTo = max(r.state.SeenTo, upTo)
}

// Fold takes in, for a watch, the units that were first exposed before a time and not taken yet, in the order of
// their exposure. upTo is a multiple of [Beat], and so is what slices are bounded by: how often one looks, and
// how much is taken at once, changes nothing.
func (r *Run) Fold(watch int, upTo int64, units []Unit) {
	w, m := &r.state.Watches[watch], &r.setup.Watches[watch].Metric
	way, beat := r.setup.way(watch), int64(-1)
	for i := range units {
		u := &units[i]
		if u.Exposed < w.To || u.Exposed >= upTo {
			continue
		}
		if at := u.Exposed / int64(Beat); at != beat {
			r.close(watch)
			beat = at
		}
		if u.Arm != Old && u.Way != way { // it has another one of the new variants
			continue
		}
		if u.Arm != Alone && r.setup.Converted > 0 && u.Exposed+int64(m.Closing()) > r.setup.Converted {
			continue
		}
		var events []Event
		if watch < len(u.Events) {
			events = u.Events[watch]
		}
		value, has := m.Outcome(events, u.Exposed)
		t := r.live[watch].tally(value, has)
		r.part(w, u, t)
		switch u.Arm {
		case New:
			r.stratum(w, u).Open.New.add(&t)
		case Old:
			r.stratum(w, u).Open.Old.add(&t)
		case Alone:
			w.Alone.add(&t)
			r.limit(watch, &t)
		}
	}
	r.close(watch)
	w.To = max(w.To, upTo)
}

// Limits of a break-down: how many attributes, and how many values of one are told apart.
const (
	MaxParts  = 3
	maxValues = 20
)

// Others stands for values of an attribute that are not told apart, since it has very many.
const Others = "\u2026"

// part adds a unit to the parts that it is in.
func (r *Run) part(w *Watched, u *Unit, t Tally) {
	t.Counts = nil
	for i := range r.setup.Parts {
		value := ""
		if i < len(u.With) {
			value = u.With[i]
		}
		for len(w.Parts) <= i {
			w.Parts = append(w.Parts, map[string]Sides{})
		}
		sides, is := w.Parts[i][value]
		if !is && len(w.Parts[i]) >= maxValues {
			value = Others
			sides = w.Parts[i][value]
		}
		if u.Arm == Old {
			sides.Old.add(&t)
		} else {
			sides.New.add(&t)
		}
		w.Parts[i][value] = sides
	}
}

func (r *Run) stratum(w *Watched, u *Unit) *Stratum {
	at, is := slices.BinarySearchFunc(w.Strata, u, func(s Stratum, u *Unit) int {
		return cmp.Or(cmp.Compare(s.Stage, u.Stage), cmp.Compare(s.Cohort, u.Cohort))
	})
	if !is {
		w.Strata = slices.Insert(w.Strata, at, Stratum{Stage: u.Stage, Cohort: u.Cohort})
	}
	return &w.Strata[at]
}

// close closes every slice in which both arms have enough units, and takes it in.
func (r *Run) close(watch int) {
	w, live := &r.state.Watches[watch], r.live[watch]
	for i := range w.Strata {
		s := &w.Strata[i]
		if s.Open.New.Units < least || s.Open.Old.Units < least {
			continue
		}
		slice := s.Open
		s.Open = Sides{}
		s.Whole.add(&slice)
		w.Slices++
		if at := slices.IndexFunc(live.since, func(l sinceLive) bool { return l.stage >= s.Stage }); at < 0 ||
			live.since[at].stage != s.Stage {
			if at < 0 {
				at = len(live.since)
			}
			live.since = slices.Insert(live.since, at, sinceLive{s.Stage, live.ask(seqstat.Harm),
				live.ask(seqstat.Clear)})
		}
		for _, l := range live.since {
			if l.stage <= s.Stage {
				live.take(l.harm, &slice)
			}
			if l.stage == s.Stage {
				live.take(l.clear, &slice)
			}
		}
		if live.bounds != nil {
			live.bounds.Add(slice.slice())
		}
		r.limit(watch, &slice.New)
	}
}

func (r *Run) limit(watch int, t *Tally) {
	if l := r.live[watch].limit; l != nil {
		l.Add(seqstat.Count{Units: t.Units, Events: t.Events})
	}
}
