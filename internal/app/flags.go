package app

import (
	"encoding/json"

	"greenlever.example/core/flag"
)

// Variant is a variant as the definition names it, with the value that a new environment starts from.
type Variant struct {
	Name  string          `json:"name"`
	Value json.RawMessage `json:"value"`
}

// Definition is what the project owns of a flag.
type Definition struct {
	ID          int64     `json:"-"`
	ProjectID   int64     `json:"-"`
	Key         string    `json:"key"`
	Title       string    `json:"title"`
	Description string    `json:"description"`
	Type        flag.Type `json:"type"`
	Variants    []Variant `json:"variants"`
	Resting     string    `json:"resting"`          // in an environment that is made later
	End         string    `json:"end"`              // what it gives there where no rule applies
	Recipe      string    `json:"recipe,omitempty"` // that it began from; it decides nothing
	Loses       string    `json:"loses,omitempty"`  // what users lose while it rests
	GoneBy      string    `json:"goneBy"`           // a date, 2027-03-31, or "stays"
	Owners      []string  `json:"owners"`
	Tags        []string  `json:"tags"`
	Visible     bool      `json:"visible"` // to browsers
	Muted       []Mute    `json:"muted,omitempty"`
	Retired     *Retired  `json:"retired,omitempty"` // taken out of use; nil: it lives
	Version     int64     `json:"version"`
	Created     int64     `json:"created"`
}

// FlagRecord is a flag's document in an environment, with its version.
type FlagRecord struct {
	EnvironmentID int64
	Key           string
	Version       int64
	Revision      int64          // that made this version
	Document      *flag.Document // nil where the flag is retired
}

// FlagStand says which version of a flag stands in an environment.
type FlagStand struct {
	Key      string `db:"flag_key"`
	Version  int64  `db:"version"`
	Revision int64  `db:"revision"` // that made it
	Changed  int64  `db:"changed"`  // when, in Unix milliseconds
}

// Stand says where the document is written, and under which revision.
func (r *FlagRecord) Stand(environment, revision int64) {
	r.EnvironmentID, r.Revision = environment, revision
}

// HeldFlag is a flag as it stands in an environment that is held, with what an edit of it rests on.
type HeldFlag struct {
	Environment *Environment
	Flag        *FlagRecord
	Stop        string // the id of one that stands on it; empty for none
}

// Aside is something that cannot be read and is left out, while everything else goes on.
type Aside struct {
	Kind string `json:"kind"` // flag, segment or list
	Key  string `json:"key"`  // of the flag or segment, or the list's digest
	Why  string `json:"why"`
}

// Asked says since when code asks for a flag.
type Asked struct {
	Flag  string `json:"flag" db:"flag"`
	First int64  `json:"first" db:"first"`
	Last  int64  `json:"last" db:"last"`

	Type        string `json:"type,omitempty" db:"type"`         // that the code asked for
	Fallback    string `json:"fallback,omitempty" db:"fallback"` // that the code gave, as JSON
	Application string `json:"application,omitempty" db:"application"`
	// when it was last asked for as another type than its own
	Mistyped int64 `json:"mistyped,omitempty" db:"mistyped"`
}

// Mute silences a check of a flag, with a reason.
type Mute struct {
	Check  string `json:"check"`
	Reason string `json:"reason"`
}
