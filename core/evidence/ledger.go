package evidence

import (
	"cmp"
	"encoding/binary"
	"errors"
	"math"
	"slices"

	"greenlever.example/core/bucket"
)

// Arm is the side that a unit is on.
type Arm int8

// The arms. A unit that is not exposed yet has none; one that got the new variant where nothing is kept to
// compare it with is alone.
const (
	NoArm Arm = iota
	New
	Old
	Alone
)

// Event is one thing that happened to a unit.
type Event struct {
	At    int64 // Unix milliseconds
	Value float64
	ID    uint64 // tells a doubled event from another one
}

// How many events of a unit are kept for one watch: the earliest.
const (
	fewKept  = 16  // where one of them decides
	manyKept = 200 // where all count
)

// Keep adds events to those of a unit that are kept for a metric. What comes out depends on which events
// there are, and not on their order; doubled ones are one.
func (m *Metric) Keep(kept []Event, more ...Event) []Event {
	most := manyKept
	if m.Reduces() == Any || m.Reduces() == First {
		most = fewKept
	}
	for _, e := range more {
		if m.Kind == Rate && m.Reduces() == Any && !(e.Value > 0) {
			continue // that it did not happen is known without it
		}
		at, is := slices.BinarySearchFunc(kept, e, func(a, b Event) int {
			return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.ID, b.ID))
		})
		if is || at >= most || slices.ContainsFunc(kept, func(k Event) bool { return k.ID == e.ID && e.ID != 0 }) {
			continue
		}
		kept = slices.Insert(kept, at, e)
		kept = kept[:min(len(kept), most)]
	}
	return kept
}

// Counts tells whether an event counts for a unit that was first exposed at a time.
func (m *Metric) Counts(e Event, exposed int64) bool {
	return e.At >= exposed-int64(Skew) && e.At <= exposed+int64(m.Window)
}

// Outcome is what a unit's events come to. has is false where there is none, which of a rate means that it
// did not happen, and of values that the unit has none.
func (m *Metric) Outcome(events []Event, exposed int64) (value float64, has bool) {
	n := 0
	for _, e := range events {
		if !m.Counts(e, exposed) {
			continue
		}
		n++
		switch {
		case n == 1 || m.Reduces() == Any && e.Value > value || m.Reduces() == GreatestOf && e.Value > value:
			value = e.Value
		case m.Reduces() == Sum || m.Reduces() == MeanOf:
			value += e.Value
		}
	}
	if m.Reduces() == MeanOf && n > 0 {
		value /= float64(n)
	}
	return value, n > 0
}

// Takes tells what is wrong with a value of the metric; empty for nothing.
func (m *Metric) Takes(value float64) string {
	switch {
	case !(math.Abs(value) <= MaxValue):
		return "is no number up to 1e15"
	case m.Kind == Rate && value != 0 && value != 1:
		return "must be true or false"
	case m.Kind == Typical && value <= 0:
		return "must be above 0: a typical value is a ratio"
	case value < 0:
		return "must not be below 0"
	}
	return ""
}

// MaxValue is how large a value may be.
const MaxValue = 1e15

// Unit is a row of the exposure ledger.
type Unit struct {
	Arm     Arm
	Stage   int       // that was under way when it was first exposed
	Cohort  int       // the stage at which its bucket joined the arm
	Way     int       // which of several new variants it has, as its bucket says
	Exposed int64     // Unix milliseconds
	Events  [][]Event // by watch
	With    []string  // values of the attributes that findings are broken down by
}

// Width is how many buckets each arm has at a stage: the new one from below, the old one from above.
type Width struct {
	New uint32 `json:"new"`
	Old uint32 `json:"old"`
}

// Compares tells whether both arms have units.
func (w Width) Compares() bool { return w.New > 0 && w.Old > 0 }

// Place says which arm a bucket is in at a stage, and at which stage it joined it.
func (s *Setup) Place(at uint32, stage int) (arm Arm, cohort int) {
	if stage < 0 || stage >= len(s.Widths) {
		return NoArm, 0
	}
	in := func(w Width) Arm {
		switch {
		case !w.Compares() && at < w.New:
			return Alone
		case at < w.New:
			return New
		case at >= bucket.Buckets-w.Old:
			return Old
		}
		return NoArm
	}
	if arm = in(s.Widths[stage]); arm == NoArm || arm == Alone {
		return arm, stage
	}
	for cohort = stage; cohort > 0 && in(s.Widths[cohort-1]) == arm; {
		cohort--
	}
	return arm, cohort
}

// Way says which of the new variants a bucket of the new arm has. Of what each stage adds to the arm each of them
// gets an equal part, so none is taken from a unit later.
func (s *Setup) Way(at uint32) int {
	before := uint32(0)
	for _, w := range s.Widths {
		if at < w.New {
			for way := range s.News {
				if _, to := Block(before, w.New, way, len(s.News)); at < to {
					return way
				}
			}
			return 0
		}
		before = max(before, w.New)
	}
	return 0
}

// Block is the part that one of several new variants has of the buckets that a stage adds to the new arm.
func Block(before, after uint32, way, ways int) (from, to uint32) {
	width := uint64(after - before)
	return before + uint32(width*uint64(way)/uint64(ways)), before + uint32(width*uint64(way+1)/uint64(ways))
}

// way is which of the new variants a watch compares with the old one.
func (s *Setup) way(watch int) int { return max(0, slices.Index(s.News, s.Watches[watch].Variant)) }

// Concerns tells whether a watch looks at units of a bucket, if it is in an arm at all.
func (s *Setup) Concerns(watch int, at uint32) bool {
	if len(s.News) == 0 {
		return true
	}
	for _, w := range s.Widths { // the old arm is compared with all
		if w.Compares() && at >= bucket.Buckets-w.Old {
			return true
		}
	}
	return s.Way(at) == s.way(watch)
}

// Reaches tells whether a bucket lies in an arm at any stage up to one.
func (s *Setup) Reaches(at uint32, stage int) bool {
	for i := 0; i <= stage && i < len(s.Widths); i++ {
		if arm, _ := s.Place(at, i); arm != NoArm {
			return true
		}
	}
	return false
}

// AppendEvents writes a unit's events, of all watches, as the ledger keeps them.
func AppendEvents(raw []byte, all [][]Event) []byte {
	raw = binary.AppendUvarint(raw, uint64(len(all)))
	for _, events := range all {
		raw = binary.AppendUvarint(raw, uint64(len(events)))
		for _, e := range events {
			raw = binary.LittleEndian.AppendUint64(raw, uint64(e.At))
			raw = binary.LittleEndian.AppendUint64(raw, math.Float64bits(e.Value))
			raw = binary.LittleEndian.AppendUint64(raw, e.ID)
		}
	}
	return raw
}

var errEvents = errors.New("a unit's events cannot be read")

const eventBytes = 24

// ReadEvents reads what [AppendEvents] wrote.
func ReadEvents(raw []byte) ([][]Event, error) {
	count := func() (int, bool) {
		n, used := binary.Uvarint(raw)
		if used <= 0 || n > uint64(len(raw)) {
			return 0, false
		}
		raw = raw[used:]
		return int(n), true
	}
	if len(raw) == 0 {
		return nil, nil
	}
	watches, ok := count()
	if !ok {
		return nil, errEvents
	}
	all := make([][]Event, watches)
	for i := range all {
		n, ok := count()
		if !ok || len(raw) < n*eventBytes {
			return nil, errEvents
		}
		for range n {
			all[i] = append(all[i], Event{int64(binary.LittleEndian.Uint64(raw)),
				math.Float64frombits(binary.LittleEndian.Uint64(raw[8:])), binary.LittleEndian.Uint64(raw[16:])})
			raw = raw[eventBytes:]
		}
	}
	return all, nil
}

// Exposure is a unit's first answer by a rule of the release.
type Exposure struct {
	At     int64 // Unix milliseconds
	Arm    Arm
	Stage  int
	Cohort int
	Way    int
	With   []string
}

// Taken is what became of an exposure or an event.
type Taken int8

// What can become of one.
const (
	Kept  Taken = iota + 1 // it is in the ledger, or was already
	Late                   // its unit has closed, or nobody waits for it any more
	Aside                  // it came before the exposure, or after the window
)

// Expose takes an exposure into a unit's row, which may be new. The earliest fixes arm and stage. One from before
// what was folded already comes too late.
func (u *Unit) Expose(e Exposure, folded int64) Taken {
	switch {
	case e.At < folded:
		if u.Arm != NoArm {
			return Kept
		}
		return Late
	case u.Arm != NoArm && u.Exposed <= e.At, u.Arm != NoArm && u.Exposed < folded:
		return Kept
	}
	u.Arm, u.Stage, u.Cohort, u.Way, u.Exposed, u.With = e.Arm, e.Stage, e.Cohort, e.Way, e.At, e.With
	for i := range u.Events { // those from long before leave room
		u.Events[i] = slices.DeleteFunc(u.Events[i], func(v Event) bool { return v.At < e.At-int64(Skew+Waits) })
	}
	return Kept
}

// Hear takes an event into a unit's row. One of a unit that is not exposed waits for the exposure: until it comes,
// the row's time is that of its first event. folded is up to where units were folded for the watch.
func (u *Unit) Hear(watches []Watch, watch int, e Event, folded int64) Taken {
	m := &watches[watch].Metric
	switch {
	case u.Arm == NoArm && e.At < folded-int64(Skew):
		return Late
	case u.Arm != NoArm && u.Exposed < folded:
		return Late
	case u.Arm != NoArm && (e.At < u.Exposed-int64(Skew+Waits) || e.At > u.Exposed+int64(m.Window)):
		return Aside // an earlier exposure may still be on its way, so what is a little early is kept
	}
	if u.Arm == NoArm && (u.Exposed == 0 || e.At < u.Exposed) {
		u.Exposed = e.At
	}
	if len(u.Events) < len(watches) {
		u.Events = append(u.Events, make([][]Event, len(watches)-len(u.Events))...)
	}
	u.Events[watch] = m.Keep(u.Events[watch], e)
	return Kept
}

// Positions are up to where a run has taken its ledger, in Unix milliseconds of first exposures.
type Positions struct {
	Seen    int64   `json:"seen"`
	Watches []int64 `json:"watches"`
}

// Positions are those of a state.
func (s *State) Positions() Positions {
	p := Positions{Seen: s.SeenTo, Watches: make([]int64, len(s.Watches))}
	for i := range s.Watches {
		p.Watches[i] = s.Watches[i].To
	}
	return p
}

// Waits is for how long an event waits for its unit's exposure.
const Waits = 2 * Skew

// Folded is up to where units were taken, for any watch: exposures from before come too late.
func (p Positions) Folded() (to int64) {
	to = p.Seen
	for _, at := range p.Watches {
		to = max(to, at)
	}
	return to
}

// FoldedFor is up to where units were taken for a watch.
func (p Positions) FoldedFor(watch int) int64 {
	if watch < len(p.Watches) {
		return p.Watches[watch]
	}
	return 0
}

// Oldest is up to where units were taken by all: those from before are needed no more.
func (p Positions) Oldest() int64 { return slices.Min(append([]int64{p.Seen}, p.Watches...)) }

// Due is up to where units can be taken for a watch once everything that arrived before a time is in the ledger.
func (s *Setup) Due(watch int, mark int64) int64 {
	at := mark - int64(s.Watches[watch].Metric.Closing())
	return at - at%int64(Beat)
}

// DueToSee is up to where exposures can be counted then.
func (s *Setup) DueToSee(mark int64) int64 {
	at := int64(math.MinInt64)
	for i := range s.Watches {
		at = max(at, s.Due(i, mark))
	}
	return at
}
