package app

import (
	"encoding/json"
)

// Sampling says how an environment's population is sampled.
type Sampling struct {
	Off   bool   `json:"off" db:"off"`
	Days  int    `json:"days" db:"days"` // that a unit is kept after it was last seen
	Seed  uint64 `json:"-" db:"seed"`
	SeeAs []byte `json:"-" db:"see_as"` // seed of the key that overrides are signed with
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
	Unit       string            `json:"unit" shown:"no"`
	Name       string            `json:"name"`
	Attributes json.RawMessage   `json:"attributes"`
	Expected   map[string]string `json:"expected"` // variants by flag
}
