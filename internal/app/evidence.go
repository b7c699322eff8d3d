package app

import (
	"slices"

	"greenlever.example/core/evidence"
	"greenlever.example/core/wire"
)

// EvidenceRun is an evidence run of a release in the records.
type EvidenceRun struct {
	ID          int64
	Release     string
	Run         int
	Environment int64
	Began       int64
	Ended       int64 // 0: it has not
	Secret      []byte
	State       evidence.State
}

// UnitNews is what reports say of one unit of an evidence run.
type UnitNews struct {
	Run       int64
	Unit      uint64 // a keyed hash
	Watches   []evidence.Watch
	Exposures []evidence.Exposure
	Events    []WatchEvent
	// Name is the unit itself, and Side the arm that its bucket lies in; Bad tells that something bad happened to
	// it. Of these a few are kept by name.
	Name string
	Side evidence.Arm
	Bad  bool
	// Known takes the events only where the unit is in the ledger already.
	Known bool
}

// WatchEvent is an event for one of a run's watches.
type WatchEvent struct {
	Watch int
	evidence.Event
}

// Evidence is what a report brings for releases and metrics, once it was looked at.
type Evidence struct {
	Units    []UnitNews
	Measures []wire.MeasureLine
	// Missed is what of it was not counted, by evidence run and cause.
	Missed map[int64]map[string]int64
}

// Batch is a batch of measurements that did not come with a report. ID tells it from others; without one it counts
// each time that it comes.
type Batch struct {
	ID       string
	Evidence *Evidence
}

// Due gives the units of a run that were first exposed in a span of time, and tells up to when it has them all.
type Due func(from, to int64) (units []evidence.Unit, upTo int64, err error)

// MeasureRow is what was measured of a metric in a minute.
type MeasureRow struct {
	Minute      int64   `db:"minute"`
	Application string  `db:"application"`
	Version     string  `db:"version"`
	Flag        string  `db:"flag"`
	Variant     string  `db:"variant"`
	Count       int64   `db:"count"`
	Bad         int64   `db:"bad"`
	Sum         float64 `db:"sum"`
}

// BadUnit is a unit of an evidence run to which something bad happened, with what is known of it.
type BadUnit struct {
	Name string
	evidence.Unit
}

// EvidencePoint is what a run had found at a look.
type EvidencePoint struct {
	Run      int               `json:"run"`
	At       int64             `json:"at"`
	Findings evidence.Findings `json:"findings"`
}

// Into puts the news into the unit's row, nil for none, and tells whether it is another one then. missed is told of
// each part that does not count, by cause.
func (n *UnitNews) Into(row *evidence.Unit, taken evidence.Positions,
	missed func(what string)) (*evidence.Unit, bool) {
	if row == nil {
		if n.Known {
			return nil, false
		}
		row = &evidence.Unit{}
	}
	before := *row
	before.Events = slices.Clone(row.Events)
	for _, e := range n.Exposures {
		if row.Expose(e, taken.Folded()) == evidence.Late {
			missed("late exposures")
		}
	}
	for _, e := range n.Events {
		switch row.Hear(n.Watches, e.Watch, e.Event, taken.FoldedFor(e.Watch)) {
		case evidence.Late:
			missed("late events")
		case evidence.Aside:
			missed("events aside")
		}
	}
	return row, before.Arm != row.Arm || before.Exposed != row.Exposed || before.Stage != row.Stage ||
		before.Cohort != row.Cohort || before.Way != row.Way || !slices.Equal(before.With, row.With) ||
		!slices.EqualFunc(before.Events, row.Events, slices.Equal[[]evidence.Event])
}

// BadMinute is the first minute in which a metric turned out badly where a flag had given a variant.
type BadMinute struct {
	Metric  string `db:"metric"`
	Flag    string `db:"flag"`
	Variant string `db:"variant"`
	Minute  int64  `db:"minute"` // Unix minutes
}
