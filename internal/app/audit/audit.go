// Package audit keeps the record of who changed what, when, why and through what as
// chains in which every entry holds the digest of the one before.
//
// Its nouns are an [Entry], the [Row] that stores it, the [Head] of a chain, and a
// [Report] of what a verification found. There is one chain per environment, one per
// project and one for access. The smallest use:
//
//	row, err := audit.Append(head, audit.Entry{Action: "flag.changed", ...}, nil)
//	report := audit.Verify(rows, nil)
//
// Personal values stand in an entry as salted digests only; the plain ones are kept beside
// it and can be erased without breaking the chain.
package audit

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

// Access is the chain of accounts, access keys, roles and sign-ins.
const Access = "access"

// KeyAdded is the action of an entry that names a key which signs heads from then on.
const KeyAdded = "audit.key-added"

// ProjectChain names a project's chain.
func ProjectChain(id int64) string { return fmt.Sprintf("project:%d", id) }

// EnvironmentChain names an environment's chain.
func EnvironmentChain(id int64) string { return fmt.Sprintf("environment:%d", id) }

// Entry is one thing that happened.
type Entry struct {
	Chain       string    `json:"chain"`
	Sequence    int64     `json:"sequence"` // from 1, without gaps
	Previous    string    `json:"previous"` // digest of the entry before, empty for the first
	At          int64     `json:"at"`       // Unix milliseconds
	Actor       app.Actor `json:"actor"`
	Action      string    `json:"action"` // such as "flag.changed"
	Project     int64     `json:"project,omitempty"`
	Environment int64     `json:"environment,omitempty"`
	Subject     string    `json:"subject,omitempty"` // key of the flag, segment, ...
	Change      string    `json:"change"`            // shared by the entries of one change
	Revision    int64     `json:"revision,omitempty"`
	Version     int64     `json:"version,omitempty"`
	Reason      string    `json:"reason,omitempty"`
	Difference  []string  `json:"difference"`         // in words, with places for personal values
	Personal    []string  `json:"personal,omitempty"` // salted digests, in the order of the places
	Document    string    `json:"document,omitempty"` // digest of the document as it is now
	Refers      int64     `json:"refers,omitempty"`   // the entry of this chain that this one adds to
	Records     []Record  `json:"records,omitempty"`  // rows that were written, as they are now
}

// Written is what a change writes into one chain, and what comes with it. Entries of a revision come with its
// event, which gets its epoch, its digest and its proof.
type Written struct {
	Chain    string
	Entries  []Entry
	Personal [][]string // of each entry
	Event    *flag.Event
	Notices  []app.Notice // that the project's webhooks are told of the entries, one each; none: they are not told
}

// Record is a row of the records as an entry left it: a digest under the installation's
// secret, or none where the row is gone.
type Record struct {
	Of     string `json:"of"` // table and key
	Digest string `json:"digest,omitempty"`
	MayGo  bool   `json:"mayGo,omitempty"` // the row is forgotten some day, without an entry

	// Of a row as it is, which no entry can hold: the digest of the entry that made a revision.
	Revision int64  `json:"-"`
	Entry    string `json:"-"`
}

// Adopted is the action of an entry that speaks of rows that were written before chains did.
const Adopted = "records.adopted"

// Plain is a personal value with the salt that its digest was made with.
type Plain struct {
	Salt  string `json:"salt"`
	Value string `json:"value"`
}

// Row is an entry as it is stored: canonical bytes, their digest, and the plain values.
// The other columns repeat what the entry says, for looking things up.
type Row struct {
	Chain       string `db:"chain" json:"-"`
	Sequence    int64  `db:"sequence" json:"-"`
	At          int64  `db:"at" json:"-"`
	Project     int64  `db:"project_id" json:"-"`
	Environment int64  `db:"environment_id" json:"-"`
	Subject     string `db:"subject" json:"-"`
	Actor       string `db:"actor" json:"-"`
	Action      string `db:"action" json:"-"`
	Entry       []byte `db:"entry" json:"-"`
	Digest      string `db:"digest" json:"-"`
	Personal    []byte `db:"personal" json:"-"` // a JSON list of Plain, or null once erased
}

// Head is the end of a chain.
type Head struct {
	Chain    string `db:"chain" json:"chain"`
	Sequence int64  `db:"sequence" json:"sequence"`
	Digest   string `db:"digest" json:"digest"`
}

// Differences turns lines of a difference into an entry's members: texts with numbered
// places through all lines, and the values for them.
func Differences(lines []diff.Line) (texts []string, personal []string) {
	texts = []string{}
	for _, l := range lines {
		places := make([]string, len(l.Personal))
		for i := range l.Personal {
			places[i] = fmt.Sprintf("⟨%d⟩", len(personal)+i)
		}
		texts = append(texts, renumber(l.Text, places))
		personal = append(personal, l.Personal...)
	}
	return texts, personal
}

// renumber replaces the places of one line, which count from 0, from the last to the
// first, so that no new place is taken for an old one.
func renumber(text string, places []string) string {
	for i := len(places) - 1; i >= 0; i-- {
		text = replaceLast(text, fmt.Sprintf("⟨%d⟩", i), places[i])
	}
	return text
}

func replaceLast(s, old, now string) string {
	for i := len(s) - len(old); i >= 0; i-- {
		if s[i:i+len(old)] == old {
			return s[:i] + now + s[i+len(old):]
		}
	}
	return s
}

// Append makes the row that follows a head, sets the entry's place in the chain, and
// moves the head.
func Append(head *Head, e Entry, personal []string) (*Row, error) {
	e.Chain, e.Sequence, e.Previous = head.Chain, head.Sequence+1, head.Digest
	if e.Difference == nil {
		e.Difference = []string{}
	}
	plain := make([]Plain, len(personal))
	for i, v := range personal {
		var salt [16]byte
		rand.Read(salt[:]) // never fails
		plain[i] = Plain{hex.EncodeToString(salt[:]), v}
		e.Personal = append(e.Personal, plain[i].digest())
	}
	raw, err := CanonicalOf(e)
	if err != nil {
		return nil, err
	}
	kept, err := json.Marshal(plain)
	if err != nil {
		return nil, err
	}
	row := &Row{Chain: e.Chain, Sequence: e.Sequence, At: e.At, Project: e.Project, Environment: e.Environment,
		Subject: e.Subject, Actor: e.Actor.ID, Action: e.Action, Entry: raw, Digest: Digest(raw), Personal: kept}
	head.Sequence, head.Digest = row.Sequence, row.Digest
	return row, nil
}

func (p Plain) digest() string { return Digest([]byte(p.Salt + "\x00" + p.Value)) }

// Digest is SHA-256 in lower-case hexadecimal.
func Digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Read decodes a row's entry and fills the personal values in, as far as they are kept.
func (r *Row) Read() (*Entry, error) {
	var e Entry
	if err := json.Unmarshal(r.Entry, &e); err != nil {
		return nil, fmt.Errorf("entry %s/%d: %w", r.Chain, r.Sequence, err)
	}
	var plain []Plain
	if len(r.Personal) > 0 && json.Unmarshal(r.Personal, &plain) == nil {
		for line := range e.Difference {
			for i, p := range plain {
				e.Difference[line] = replaceLast(e.Difference[line], fmt.Sprintf("⟨%d⟩", i),
					fmt.Sprintf("%q", p.Value))
			}
		}
	}
	return &e, nil
}

// Query says which entries are looked for; zero fields take all.
type Query struct {
	Project     int64 // 0: the access chain
	Environment int64
	Subject     string
	Actor       string
	From, To    int64  // Unix milliseconds
	Before      Cursor // entries older than this one; the zero Cursor is now
	Limit       int
}

// Cursor is where an entry stands among all, newest first.
type Cursor struct {
	At       int64
	Chain    string
	Sequence int64
}
