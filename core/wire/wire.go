// Package wire is what processes say to each other beside rulesets: reports of what was decided,
// what is told in answer, and the beat of a feed. Clients, outposts and the service have it alike.
//
// What is written stands in testdata as it is sent; a reader leaves out members that it does not
// know, so a newer process may say more. Rulesets and revisions are package flag's.
package wire

import (
	"encoding/json"

	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
)

// Report is what a process tells the service, or an outpost, now and then.
type Report struct {
	Status
	From    int64         `json:"from"` // Unix milliseconds
	To      int64         `json:"to"`
	Counts  []CountLine   `json:"counts"`
	Unknown []UnknownLine `json:"unknown"` // asked for in vain

	Units    []UnitLine    `json:"units,omitempty"`    // of the sample of units: new, or seen again after long
	Contexts uint64        `json:"contexts,omitempty"` // that were looked at for what follows
	Seen     []sample.Seen `json:"seen,omitempty"`     // attributes

	Behind []Follower `json:"behind,omitempty"` // who follows through this process, an outpost

	Exposures []ExposureLine `json:"exposures,omitempty"`
	Events    []EventLine    `json:"events,omitempty"`
	Measures  []MeasureLine  `json:"measures,omitempty"`
	Lost      *Lost          `json:"lost,omitempty"` // there was no room for it since the last report

	Orders []string    `json:"orders,omitempty"` // emergency orders that are held, as they travel
	Kept   []flag.Stop `json:"kept,omitempty"`   // stops of an earlier epoch that the present one does not tell of
}

// ExposureLine is a unit that a watched rule answered for the first time in a process.
type ExposureLine struct {
	Flag  string `json:"flag"`
	Rule  string `json:"rule"`  // its id
	Run   int    `json:"run"`   // of the release's evidence, as the rule says
	Stage int    `json:"stage"` // the same
	Unit  string `json:"unit"`  // a value of what the release's shares are drawn by
	At    int64  `json:"at"`    // Unix milliseconds, by the service's clock
	// With are the values of the attributes that the rule asks for, in its order; empty for one that is absent.
	With []string `json:"with,omitempty"`
}

// Size is about how many bytes of a report the line takes.
func (l *ExposureLine) Size() int {
	size := 120 + len(l.Flag) + len(l.Rule) + len(l.Unit)
	for _, value := range l.With {
		size += 4 + len(value)
	}
	return size
}

// EventLine is a metric's event of a unit.
type EventLine struct {
	Metric string            `json:"metric"`
	Units  map[string]string `json:"units"` // whose it is, by attribute
	Value  float64           `json:"value"` // of a rate, 1 where it happened and 0 where it could have
	At     int64             `json:"at"`    // Unix milliseconds, by the service's clock
	// ID tells a doubled event from another one; without it the line's place in its report does.
	ID string `json:"id,omitempty"`
}

// Size is about how many bytes of a report the line takes.
func (l *EventLine) Size() int {
	size := 120 + len(l.Metric) + len(l.ID)
	for by, unit := range l.Units {
		size += 8 + len(by) + len(unit)
	}
	return size
}

// MeasureLine is what a process measured of a metric in all, or where a flag had given a variant.
type MeasureLine struct {
	Metric      string  `json:"metric"`
	Flag        string  `json:"flag,omitempty"`
	Variant     string  `json:"variant,omitempty"`
	Application string  `json:"application,omitempty"`
	Version     string  `json:"version,omitempty"`
	Count       uint64  `json:"count"` // events
	Bad         uint64  `json:"bad"`   // of a rate: those with a value above 0
	Sum         float64 `json:"sum"`   // of values
}

// Add counts an event of a value.
func (l *MeasureLine) Add(value float64) {
	l.Count++
	l.Sum += value
	if value > 0 {
		l.Bad++
	}
}

// Lost is how much could not be kept until it was reported.
type Lost struct {
	Exposures uint64 `json:"exposures,omitempty"`
	Events    uint64 `json:"events,omitempty"`
}

// Status is what a process tells of itself.
type Status struct {
	Instance    string    `json:"instance"`
	Sequence    int64     `json:"sequence"` // of this instance, from 1; each is taken once
	Kind        Kind      `json:"kind,omitempty"`
	Application string    `json:"application"`
	Version     string    `json:"version"`
	Epoch       int64     `json:"epoch"`
	Revision    int64     `json:"revision"`
	Digest      string    `json:"digest,omitempty"` // of the revision: see flag.Position
	Source      string    `json:"source"`
	SkewMillis  int64     `json:"skewMillis"`
	Started     int64     `json:"started,omitempty"` // Unix milliseconds
	Leaving     bool      `json:"leaving,omitempty"`
	Applied     []Applied `json:"applied,omitempty"` // since the last report
	TooOld      []string  `json:"tooOld,omitempty"`  // flags that ask for what this build does not know
	Busy        *Busy     `json:"busy,omitempty"`
	Streams     int64     `json:"streams,omitempty"` // of browsers
	Pollers     int64     `json:"pollers,omitempty"`
}

// Kind tells what kind of process an instance is.
type Kind string

// The kinds.
const (
	AnApplication Kind = ""
	AnOutpost     Kind = "outpost"
	ANode         Kind = "service" // a process of the service itself
)

// Applied says when an instance began to decide by a revision.
type Applied struct {
	Epoch    int64  `json:"epoch"`
	Revision int64  `json:"revision"`
	At       int64  `json:"at"` // Unix milliseconds, by the service's clock
	Digest   string `json:"digest,omitempty"`
}

// Busy is a unit that makes most of the calls of an instance: a key that was written into
// the code, more often than not.
type Busy struct {
	Unit  string `json:"unit"`
	Calls int64  `json:"calls"`
	Of    int64  `json:"of"`
}

// Follower is an instance that follows through an outpost.
type Follower struct {
	Status
	Age int64 `json:"age"` // milliseconds since it was last heard of
}

// BulkUse names, in place of an application, those who fetch all answers at once and say
// nothing of which they use.
const BulkUse = "all at once"

// CountLine is how often decisions on a flag ended in one way; an empty variant is an
// error, where the caller's fallback was used.
type CountLine struct {
	Flag        string `json:"flag"`
	Variant     string `json:"variant,omitempty"`
	Reason      string `json:"reason,omitempty"`
	Rule        string `json:"rule,omitempty"`
	Revision    int64  `json:"revision,omitempty"`    // of the environment, as followers count
	FlagVersion int64  `json:"flagVersion,omitempty"` // of the flag itself, as the records count
	Application string `json:"application,omitempty"`
	Version     string `json:"version,omitempty"`
	Count       uint64 `json:"count"`
}

// UnknownLine is a flag that code asked for in vain: it is not defined, or has another type.
type UnknownLine struct {
	Flag        string          `json:"flag"`
	Count       uint64          `json:"count"`
	Type        string          `json:"type,omitempty"`     // that the code asked for
	Fallback    json.RawMessage `json:"fallback,omitempty"` // that the code gave
	Mistyped    bool            `json:"mistyped,omitempty"` // it is defined, with another type
	Application string          `json:"application,omitempty"`
}

// UnitLine is one unit of a client's sample.
type UnitLine struct {
	Of         string          `json:"of"`   // attribute that it is a value of
	Hash       string          `json:"hash"` // 64 bits in hexadecimal
	Unit       string          `json:"unit"`
	Attributes json.RawMessage `json:"attributes"`
	Seen       int64           `json:"seen"` // Unix milliseconds
}

// Answer is what a process is told on its report.
type Answer struct {
	Taken    bool   `json:"taken"` // false: it was taken before
	Sampling *Order `json:"sampling"`
	// Let are the ids of kept stops that are to be let go: the records know them, or they are of no service of this
	// installation.
	Let []string `json:"let,omitempty"`
}

// Emergency is an emergency order on its way down.
type Emergency struct {
	Order string `json:"order"`
}

// Order says how units are sampled.
type Order struct {
	Off  bool   `json:"off"`
	Seed string `json:"seed"` // 64 bits in hexadecimal
	// what may leave of attributes that do not leave themselves
	Personal map[string]sample.Derivation `json:"personal"`
	Limits   map[string]string            `json:"limits"` // hashes below which units are wanted, by attribute
}

// Beat says that a feed lives, what time it is and what stands.
type Beat struct {
	Now          int64  `json:"now"`    // Unix milliseconds
	Spread       int64  `json:"spread"` // milliseconds over which to come back after the feed's process ended
	OtherHistory bool   `json:"otherHistory,omitempty"`
	Epoch        int64  `json:"epoch,omitempty"`
	Revision     int64  `json:"revision,omitempty"`
	Digest       string `json:"digest,omitempty"`
	Contact      int64  `json:"contact,omitempty"` // when an outpost last heard of the service, in Unix milliseconds
}
