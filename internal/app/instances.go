package app

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"

	"greenlever.example/core/wire"
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

// Instance is one process that decides flags, as it last reported.
type Instance struct {
	ID            string    `json:"id" db:"id"`
	EnvironmentID int64     `json:"-" db:"environment_id"`
	Kind          wire.Kind `json:"kind,omitempty" db:"kind"`
	Via           string    `json:"via,omitempty" db:"via"` // the outpost that it follows through
	Application   string    `json:"application" db:"application"`
	Version       string    `json:"version" db:"version"`
	Epoch         int64     `json:"epoch" db:"epoch"`
	Revision      int64     `json:"revision" db:"revision"`
	Source        string    `json:"source" db:"source"`
	SkewMillis    int64     `json:"skewMillis" db:"skew_millis"`
	Sequence      int64     `json:"-" db:"sequence"`
	Started       int64     `json:"started" db:"started"`
	Seen          int64     `json:"seen" db:"seen"`
	Left          bool      `json:"left" db:"gone"`
	LeftAt        int64     `json:"leftAt,omitempty" db:"gone_at"`
	TooOld        Texts     `json:"tooOld,omitempty" db:"too_old"` // flags that ask for more than it knows
	BusyUnit      string    `json:"busyUnit,omitempty" db:"busy_unit"`
	// of those looked at, at least this many were for BusyUnit
	BusyCalls int64 `json:"busyCalls,omitempty" db:"busy_calls"`
	BusyOf    int64 `json:"busyOf,omitempty" db:"busy_of"`
	Streams   int64 `json:"streams,omitempty" db:"streams"`
	Pollers   int64 `json:"pollers,omitempty" db:"pollers"`
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
	*wire.Report
	Key string // id of the access key
	// Evidence is what it brings for releases and metrics; nil for nothing.
	Evidence *Evidence
}

// SilentAfter is how long an instance may say nothing before it counts as lost, in milliseconds.
const SilentAfter = 45_000

// Lost tells whether an instance has fallen silent without saying goodbye: it may still
// decide the old way.
func (i *Instance) Lost(now int64) bool { return !i.Left && i.Seen < now-SilentAfter }

// UseRow is a count in a span of time that begins at a Unix minute.
type UseRow struct {
	Minute int64 `db:"minute"`
	wire.CountLine
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
	// Wave is who took it when, in that order; kept of stops, lifts and drills alone.
	Wave []Took `json:"wave,omitempty"`
}

// Took is when a process took a revision.
type Took struct {
	ID          string    `json:"id"`
	Application string    `json:"application"`
	Version     string    `json:"version,omitempty"`
	Kind        wire.Kind `json:"kind,omitempty"`
	Via         string    `json:"via,omitempty"`  // the outpost that it follows through
	After       int64     `json:"after"`          // milliseconds since it was committed; -1: not yet
	Lost        bool      `json:"lost,omitempty"` // it fell silent without it
}
