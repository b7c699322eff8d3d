package app

import (
	"encoding/json"

	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/sample"
)

// Attribute is what a project declares of an attribute of its evaluation contexts.
type Attribute struct {
	Name        string    `json:"name"`
	Type        lint.Type `json:"type"`
	Description string    `json:"description"`
	Example     string    `json:"example"`
	// How sentences say it: one of it, such as "site" of site.id, and many; or by its name.
	One  string `json:"one,omitempty"`
	Many string `json:"many,omitempty"`
	// Personal attributes never leave a client as they are: only what is derived from them does.
	Personal   bool              `json:"personal"`
	Derive     sample.Derivation `json:"derive,omitempty"`
	ServerOnly bool              `json:"serverOnly"` // ignored where it comes with a browser key
	Loose      bool              `json:"loose"`      // of versions: 4.2 and v4.2.0 are sent too
	Version    int64             `json:"version"`
}

// Sampling says how an environment's population is sampled.
type Sampling struct {
	Off   bool   `json:"off" db:"off"`
	Days  int    `json:"days" db:"days"` // that a unit is kept after it was last seen
	Seed  uint64 `json:"-" db:"seed"`
	SeeAs []byte `json:"-" db:"see_as"` // seed of the key that overrides are signed with
}

// UnitLine is one unit of a client's sample.
type UnitLine struct {
	Of         string          `json:"of"`   // attribute that it is a value of
	Hash       string          `json:"hash"` // 64 bits in hexadecimal
	Unit       string          `json:"unit"`
	Attributes json.RawMessage `json:"attributes"`
	Seen       int64           `json:"seen"` // Unix milliseconds
}

// UnitRow is one unit of the population, as it is kept.
type UnitRow struct {
	Hash    uint64 `db:"hash"`
	Unit    string `db:"unit"`
	Context []byte `db:"context"` // attributes as JSON, without the unit itself
	Seen    int64  `db:"seen"`
}

// TestUnit is a made-up or chosen unit on which edits are tried.
type TestUnit struct {
	Unit       string            `json:"unit"`
	Name       string            `json:"name"`
	Attributes json.RawMessage   `json:"attributes"`
	Expected   map[string]string `json:"expected"` // variants by flag
}

// Asked says since when code asks for a flag.
type Asked struct {
	Flag  string `json:"flag" db:"flag"`
	First int64  `json:"first" db:"first"`
	Last  int64  `json:"last" db:"last"`

	Type        string `json:"type,omitempty" db:"type"`         // that the code asked for
	Fallback    string `json:"fallback,omitempty" db:"fallback"` // that the code gave, as JSON
	Application string `json:"application,omitempty" db:"application"`
	Mistyped    int64  `json:"mistyped,omitempty" db:"mistyped"` // when it was last asked for as another type than its own
}

// ListBody is a long list of a segment: what followers get, and the exact units.
type ListBody struct {
	Digest string
	Hashes flag.Hashes
	Units  []byte // one a line, sorted, packed with gzip
}

// Mute silences a check of a flag, with a reason.
type Mute struct {
	Check  string `json:"check"`
	Reason string `json:"reason"`
}
