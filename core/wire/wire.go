// Package wire is what processes say to each other beside rulesets: reports of what was decided,
// what is told in answer, and the beat of a feed. Clients, outposts and the service have it alike.
//
// What is written stands in testdata as it is sent; a reader leaves out members that it does not
// know, so a newer process may say more. Rulesets and revisions are package flag's.
package wire

import (
	"encoding/json"

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
