// Package app holds the nouns that the use cases share: projects, environments,
// definitions, people, access keys, actors, and the faults that a request can meet.
//
// The use cases themselves are the packages below: change (everything that is edited),
// people (accounts, sessions, tokens), feed (who follows what), audit (the chain). None of
// them knows how it is called or where it is stored.
package app

import (
	"encoding/hex"
	"encoding/json"
	"fmt"

	"greenlever.example/core/flag"
)

// Project is flags, segments and environments that belong together.
type Project struct {
	ID      int64  `json:"-" db:"id"`
	Key     string `json:"key" db:"project_key"`
	Title   string `json:"title" db:"title"`
	Created int64  `json:"created" db:"created"`
}

// Environment is an isolated place where flags are decided.
type Environment struct {
	ID        int64  `json:"-" db:"id"`
	ProjectID int64  `json:"-" db:"project_id"`
	Key       string `json:"key" db:"environment_key"`
	Title     string `json:"title" db:"title"`
	AskFirst  bool   `json:"askFirst" db:"ask_first"`
	Revision  int64  `json:"revision" db:"revision"`
	// Behind is the revision that a follower has had of this epoch while the records know
	// only a lower one: they were restored from a backup. Zero where all is well.
	Behind  int64  `json:"behind,omitempty" db:"behind"`
	Created int64  `json:"created" db:"created"`
	Digest  string `json:"-" db:"-"` // of the revision; empty where it was not asked for
}

// Purpose is what a flag is for. It pre-fills a new flag and decides nothing about its life.
type Purpose string

// Purposes lists the purposes.
func Purposes() []Purpose { return []Purpose{"introduce", "compare", "kill-switch", "tune", "grant"} }

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
	Resting     string    `json:"resting"` // in an environment that is made later
	Purpose     Purpose   `json:"purpose"`
	GoneBy      string    `json:"goneBy"` // a date, 2027-03-31, or "stays"
	Owners      []string  `json:"owners"`
	Tags        []string  `json:"tags"`
	Visible     bool      `json:"visible"` // to browsers
	Muted       []Mute    `json:"muted,omitempty"`
	Version     int64     `json:"version"`
	Created     int64     `json:"created"`
}

// FlagRecord is a flag's document in an environment, with its version.
type FlagRecord struct {
	EnvironmentID int64
	Key           string
	Version       int64
	Revision      int64 // that made this version
	Document      *flag.Document
}

// HeldFlag is a flag as it stands in an environment that is held, with what an edit of it rests on.
type HeldFlag struct {
	Environment *Environment
	Flag        *FlagRecord
	Stop        string // the id of one that stands on it; empty for none
}

// SegmentRecord is a segment in an environment, with its version.
type SegmentRecord struct {
	EnvironmentID int64
	Key           string
	Version       int64
	Revision      int64
	Document      *flag.Segment
}

// StopRecord is a stop with who set it, and who lifted it if it was.
type StopRecord struct {
	ID             string   `json:"id"`
	EnvironmentID  int64    `json:"-"`
	Flags          []string `json:"flags"`
	By             string   `json:"by"`
	At             int64    `json:"at"`
	Reason         string   `json:"reason"`
	Revision       int64    `json:"revision"`
	LiftedBy       string   `json:"liftedBy,omitempty"`
	LiftedAt       int64    `json:"liftedAt,omitempty"`
	LiftedRevision int64    `json:"liftedRevision,omitempty"`
}

// Account is a person.
type Account struct {
	ID       string `json:"id" db:"id"`
	Email    string `json:"email" db:"email"`
	Name     string `json:"name" db:"name"`
	Keeper   bool   `json:"keeper" db:"keeper"` // of the installation
	Created  int64  `json:"created" db:"created"`
	Disabled int64  `json:"disabled,omitempty" db:"disabled"` // since when it may not be used
	Password string `json:"-" db:"password"`
}

// Token is a personal token. It has its person's rights.
type Token struct {
	ID        string `json:"id" db:"id"`
	AccountID string `json:"-" db:"account_id"`
	Name      string `json:"name" db:"name"`
	Created   int64  `json:"created" db:"created"`
	Expires   int64  `json:"expires" db:"expires"` // Unix milliseconds
	Digest    []byte `json:"-" db:"digest"`
}

// Caller is who stands behind a token or a session.
type Caller struct {
	Account    Account          `db:"-"`
	Roles      map[int64][]Role `db:"-"`          // by project
	Credential string           `db:"credential"` // a token's id
	Label      string           `db:"label"`      // a token's name
	Expires    int64            `db:"expires"`    // Unix milliseconds
	CSRF       string           `db:"csrf"`       // of a session
}

// Session is a signed-in browser.
type Session struct {
	AccountID string `json:"-" db:"account_id"`
	CSRF      string `json:"-" db:"csrf"`
	Digest    []byte `json:"-" db:"digest"`
	Created   int64  `json:"created" db:"created"`
	Expires   int64  `json:"expires" db:"expires"`
	Address   string `json:"address" db:"address"` // that it was signed in from
	Agent     string `json:"agent" db:"agent"`     // the browser, as it calls itself
}

// ID names a session without giving it away.
func (s *Session) ID() string { return hex.EncodeToString(s.Digest[:min(8, len(s.Digest))]) }

// KeyKind is what an access key may do.
type KeyKind string

// The kinds: a service key may follow whole rulesets, a browser key gets answers only.
const (
	ServiceKey KeyKind = "service"
	BrowserKey KeyKind = "browser"
)

// AccessKey is a credential of software, bound to one environment.
type AccessKey struct {
	ID            string  `json:"id" db:"id"`
	EnvironmentID int64   `json:"-" db:"environment_id"`
	Kind          KeyKind `json:"kind" db:"kind"`
	Purpose       string  `json:"purpose" db:"purpose"`
	Hint          string  `json:"hint" db:"hint"` // the first characters of the secret
	Digest        []byte  `json:"-" db:"digest"`
	Created       int64   `json:"created" db:"created"`
	Revoked       int64   `json:"revoked,omitempty" db:"revoked"`
	Origins       Texts   `json:"origins,omitempty" db:"origins"` // of pages that may use a browser key; none: any
}

// FaultKind groups faults by what the caller can do about them.
type FaultKind int

// The kinds.
const (
	Invalid      FaultKind = iota // mend the request
	Unauthorized                  // sign in
	Forbidden                     // ask for a role
	NotFound
	Conflict     // the records say no; the detail says what to do
	Stale        // the version given is not the present one
	NeedsVersion // no version was given
	TooMany      // wait
	Unavailable  // the records cannot be reached
)

// Fault is why a request is refused: what is wrong, where, and the mend.
type Fault struct {
	Kind   FaultKind
	Detail string
	Fields []flag.Problem
	More   map[string]any // members of the problem document
}

func (f *Fault) Error() string {
	said := f.Detail
	for _, p := range f.Fields {
		if said != "" {
			said += "; "
		}
		said += p.String()
	}
	return said
}

// Faultf makes a Fault.
func Faultf(kind FaultKind, format string, args ...any) *Fault {
	return &Fault{Kind: kind, Detail: fmt.Sprintf(format, args...)}
}

// InvalidFields makes a Fault of the things that are wrong; nil for none.
func InvalidFields(problems []flag.Problem) error {
	if len(problems) == 0 {
		return nil
	}
	return &Fault{Kind: Invalid, Detail: "some fields cannot be taken", Fields: problems}
}

// InvalidField makes a Fault of one field.
func InvalidField(place, format string, args ...any) *Fault {
	return &Fault{Kind: Invalid, Detail: "a field cannot be taken", Fields: []flag.Problem{{Place: place, Mend: fmt.Sprintf(format, args...)}}}
}

// Aside is something that cannot be read and is left out, while everything else goes on.
type Aside struct {
	Kind string `json:"kind"` // flag, segment or list
	Key  string `json:"key"`  // of the flag or segment, or the list's digest
	Why  string `json:"why"`
}
