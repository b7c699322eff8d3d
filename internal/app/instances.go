package app

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"

	"greenlever.example/core/sample"
)

// Texts is a list of texts that the records keep as JSON.
type Texts []string

// Scan reads the list from the records.
func (t *Texts) Scan(from any) error {
	switch v := from.(type) {
	case []byte:
		return json.Unmarshal(v, (*[]string)(t))
	case string:
		return json.Unmarshal([]byte(v), (*[]string)(t))
	}
	return fmt.Errorf("a list of texts cannot be read from %T", from)
}

// Value writes the list for the records.
func (t Texts) Value() (driver.Value, error) {
	raw, err := json.Marshal(append([]string{}, t...))
	return string(raw), err
}

// InstanceKind tells what kind of process an instance is.
type InstanceKind string

// The kinds.
const (
	AnApplication InstanceKind = ""
	AnOutpost     InstanceKind = "outpost"
	ANode         InstanceKind = "service" // a process of the service itself
)

// Instance is one process that decides flags, as it last reported.
type Instance struct {
	ID            string       `json:"id" db:"id"`
	EnvironmentID int64        `json:"-" db:"environment_id"`
	Kind          InstanceKind `json:"kind,omitempty" db:"kind"`
	Via           string       `json:"via,omitempty" db:"via"` // the outpost that it follows through
	Application   string       `json:"application" db:"application"`
	Version       string       `json:"version" db:"version"`
	Epoch         int64        `json:"epoch" db:"epoch"`
	Revision      int64        `json:"revision" db:"revision"`
	Source        string       `json:"source" db:"source"`
	SkewMillis    int64        `json:"skewMillis" db:"skew_millis"`
	Sequence      int64        `json:"-" db:"sequence"`
	Started       int64        `json:"started" db:"started"`
	Seen          int64        `json:"seen" db:"seen"`
	Left          bool         `json:"left" db:"gone"`
	LeftAt        int64        `json:"leftAt,omitempty" db:"gone_at"`
	TooOld        Texts        `json:"tooOld,omitempty" db:"too_old"` // flags that ask for more than it knows
	BusyUnit      string       `json:"busyUnit,omitempty" db:"busy_unit"`
	BusyCalls     int64        `json:"busyCalls,omitempty" db:"busy_calls"` // of those looked at, at least this many were for BusyUnit
	BusyOf        int64        `json:"busyOf,omitempty" db:"busy_of"`
	Streams       int64        `json:"streams,omitempty" db:"streams"`
	Pollers       int64        `json:"pollers,omitempty" db:"pollers"`
	// Other tells that it decides by a revision of another history than the records': they
	// were restored from a backup since. Its number says nothing then.
	Other bool `json:"otherHistory,omitempty" db:"other"`
}

// Node is a process of the service, known by a lease.
type Node struct {
	ID      string              `json:"id"`
	Version string              `json:"version"`
	Started int64               `json:"started"`
	Silent  int64               `json:"silent"` // milliseconds since its lease ran out; 0: it lives
	Places  map[int64]NodePlace `json:"-"`      // by environment
}

// NodePlace is an environment as a node has it.
type NodePlace struct {
	Epoch    int64 `json:"epoch"`
	Revision int64 `json:"revision"`
	Streams  int64 `json:"streams,omitempty"`
	Pollers  int64 `json:"pollers,omitempty"`
}

// Incoming is a report with the access key that it came with.
type Incoming struct {
	*Report
	Key string // id of the access key
}

// SilentAfter is how long an instance may say nothing before it counts as lost, in milliseconds.
const SilentAfter = 45_000

// Lost tells whether an instance has fallen silent without saying goodbye: it may still
// decide the old way.
func (i *Instance) Lost(now int64) bool { return !i.Left && i.Seen < now-SilentAfter }

// Status is what an instance tells of itself in a [Report].
type Status struct {
	Instance    string       `json:"instance"`
	Sequence    int64        `json:"sequence"`
	Kind        InstanceKind `json:"kind,omitempty"`
	Application string       `json:"application"`
	Version     string       `json:"version"`
	Epoch       int64        `json:"epoch"`
	Revision    int64        `json:"revision"`
	Digest      string       `json:"digest,omitempty"` // of the revision: see flag.Position
	Source      string       `json:"source"`
	SkewMillis  int64        `json:"skewMillis"`
	Started     int64        `json:"started,omitempty"`
	Leaving     bool         `json:"leaving,omitempty"`
	Applied     []Applied    `json:"applied,omitempty"` // since the last report
	TooOld      []string     `json:"tooOld,omitempty"`
	Busy        *Busy        `json:"busy,omitempty"`
	Streams     int64        `json:"streams,omitempty"`
	Pollers     int64        `json:"pollers,omitempty"`
}

// Applied says when an instance began to decide by a revision.
type Applied struct {
	Epoch    int64  `json:"epoch" db:"epoch"`
	Revision int64  `json:"revision" db:"revision"`
	At       int64  `json:"at" db:"at"` // Unix milliseconds, by the service's clock
	Digest   string `json:"digest,omitempty" db:"digest"`
}

// Busy is a unit that makes most of the calls of an instance: a key that was written into
// the code, more often than not.
type Busy struct {
	Unit  string `json:"unit"`
	Calls int64  `json:"calls"`
	Of    int64  `json:"of"`
}

// Report is what an instance tells the service.
type Report struct {
	Status
	From    int64       `json:"from"`
	To      int64       `json:"to"`
	Counts  []CountLine `json:"counts"`
	Unknown []AskedLine `json:"unknown"` // asked for and not defined, or as another type

	Units    []UnitLine    `json:"units,omitempty"`    // of the client's sample that are new, or seen again after long
	Contexts uint64        `json:"contexts,omitempty"` // that were looked at for what follows
	Seen     []sample.Seen `json:"seen,omitempty"`     // attributes

	Behind []Follower `json:"behind,omitempty"` // who follows through this instance, an outpost
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
	Flag        string `json:"flag" db:"flag"`
	Variant     string `json:"variant,omitempty" db:"variant"`
	Reason      string `json:"reason,omitempty" db:"reason"`
	Rule        string `json:"rule,omitempty" db:"rule"`
	Revision    int64  `json:"revision,omitempty" db:"-"`               // of the environment, as followers count
	FlagVersion int64  `json:"flagVersion,omitempty" db:"flag_version"` // of the flag itself, as the records count
	Application string `json:"application,omitempty" db:"application"`
	Version     string `json:"version,omitempty" db:"version"`
	Count       uint64 `json:"count" db:"count"`
}

// UseRow is a count in a span of time that begins at a Unix minute.
type UseRow struct {
	Minute int64 `db:"minute"`
	CountLine
}

// AskedLine is a flag that code asked for in vain.
type AskedLine struct {
	Flag        string          `json:"flag"`
	Count       uint64          `json:"count"`
	Type        string          `json:"type,omitempty"`
	Fallback    json.RawMessage `json:"fallback,omitempty"`
	Mistyped    bool            `json:"mistyped,omitempty"` // it is defined, with another type
	Application string          `json:"application,omitempty"`
}

// Delivery is how a revision spread. Times are in milliseconds since it was committed; -1
// where that part has not been reached.
type Delivery struct {
	Epoch    int64      `json:"epoch"`
	Revision int64      `json:"revision"`
	At       int64      `json:"at"`
	Expected int        `json:"expected"` // instances alive when it was committed, less those that left since
	Reached  int        `json:"reached"`
	Half     int64      `json:"half"`
	Most     int64      `json:"most"` // 99 %
	All      int64      `json:"all"`
	Waiting  []Instance `json:"waiting"` // expected and alive, without it
	Lost     []Instance `json:"lost"`    // expected and silent, without it: they may still decide the old way
}
