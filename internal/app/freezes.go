package app

import (
	"encoding/json"
	"fmt"
	"slices"

	"greenlever.example/core/condition"
)

// Freeze is a time in which nothing moves units in an environment, but for stops, lifts and roll backs.
type Freeze struct {
	ID     string            `json:"id"`
	Reason string            `json:"reason"`
	From   int64             `json:"from,omitempty"` // once: Unix milliseconds, included
	To     int64             `json:"to,omitempty"`   // not included
	Weekly *condition.Weekly `json:"weekly,omitempty"`
	Flags  []string          `json:"flags,omitempty"` // that it does not hold
	Roles  []Role            `json:"roles,omitempty"` // that it does not hold
	By     string            `json:"by"`              // id of the account
	Made   int64             `json:"made"`
	// Gone is when it was taken away; it is named for a week, in calendars, and holds nothing.
	Gone int64 `json:"gone,omitempty"`
}

// Until gives when the freeze lets go, in Unix milliseconds; frozen is false where it does not hold now.
func (f *Freeze) Until(now int64, zones condition.Zones) (until int64, frozen bool) {
	if f.Gone != 0 {
		return 0, false
	}
	if f.Weekly == nil {
		return f.To, f.From <= now && now < f.To
	}
	holds, until, ok := f.Weekly.Window(now, zones)
	return until, ok && holds
}

// Over tells that it will never hold again.
func (f *Freeze) Over(now int64) bool { return f.Gone != 0 || f.Weekly == nil && f.To <= now }

// Freezes are those of an environment.
type Freezes []Freeze

// Holding gives the freeze that holds a flag for somebody with roles, the one that does so longest; nil where none
// does.
func (all Freezes) Holding(now int64, zones condition.Zones, flag string, roles []Role) (holds *Freeze, until int64) {
	for i := range all {
		f := &all[i]
		end, frozen := f.Until(now, zones)
		excepted := flag != "" && slices.Contains(f.Flags, flag) ||
			slices.ContainsFunc(roles, func(r Role) bool { return slices.Contains(f.Roles, r) })
		if frozen && !excepted && end > until {
			holds, until = f, end
		}
	}
	return holds, until
}

// Scan reads what the records keep.
func (all *Freezes) Scan(from any) error {
	var raw []byte
	switch v := from.(type) {
	case []byte:
		raw = v
	case string:
		raw = []byte(v)
	default:
		return fmt.Errorf("freezes are no %T", from)
	}
	if len(raw) == 0 {
		*all = nil
		return nil
	}
	return json.Unmarshal(raw, all)
}

// FreezeRecord is all freezes of an environment.
type FreezeRecord struct {
	EnvironmentID int64
	Freezes       Freezes
}
