package audit

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/stage"
)

// SignedHead is a head with a node's signature over [Head.message].
type SignedHead struct {
	Head
	At        int64  `db:"at" json:"at"` // Unix milliseconds
	Key       string `db:"public_key" json:"key"`
	Signature string `db:"signature" json:"signature"`
}

func (h Head) message(at int64) []byte {
	return fmt.Appendf(nil, "greenlever audit head\n%s\n%d\n%s\n%d\n", h.Chain, h.Sequence, h.Digest, at)
}

// Sign signs a head with Ed25519 (RFC 8032).
func Sign(h Head, at int64, key ed25519.PrivateKey) SignedHead {
	return SignedHead{Head: h, At: at, Key: hex.EncodeToString(key.Public().(ed25519.PublicKey)),
		Signature: hex.EncodeToString(ed25519.Sign(key, h.message(at)))}
}

func (s SignedHead) valid() bool {
	key, err1 := hex.DecodeString(s.Key)
	sig, err2 := hex.DecodeString(s.Signature)
	return err1 == nil && err2 == nil && len(key) == ed25519.PublicKeySize && ed25519.Verify(key, s.message(s.At),
		sig)
}

// Finding is one thing that a verification found wrong.
type Finding struct {
	Chain    string `json:"chain"`
	Sequence int64  `json:"sequence"`
	What     string `json:"what"`
}

func (f Finding) String() string { return fmt.Sprintf("%s/%d: %s", f.Chain, f.Sequence, f.What) }

// Report says what a verification looked at and found.
type Report struct {
	Entries int64  `json:"entries"`
	Chains  []Head `json:"chains"`           // as far as they were read
	Signed  int    `json:"signed"`           // heads whose signatures were checked
	Pinned  int    `json:"pinned,omitempty"` // of those, how many were signed with the key that was pinned
	Records int64  `json:"records"`          // that were held against what the chain says of them
	// chains that went on meanwhile: their records were not compared this time
	Moving   []string  `json:"moving,omitempty"`
	Findings []Finding `json:"findings"`
	Cursor   string    `json:"cursor,omitempty"` // there is more: ask again from here
}

// Sound tells whether nothing was found.
func (r *Report) Sound() bool { return len(r.Findings) == 0 }

// Verifier checks rows one after the other, chain by chain in order of sequence.
type Verifier struct {
	report Report
	signed map[string]map[int64][]SignedHead // every head counts: one does not replace another
	open   *Head
	now    []Head // heads that a chain must end at or behind
	keys   map[string]int64
	pinned string
	spoken map[string]said // by table and key: what the open chain last said of it
	gone   func(of string, at int64) bool
	made   map[int64][]string // digests of the open chain's entries that speak of records, by revision
	change string             // the change whose entry last spoke of records
	older  int64              // an entry of a program that did not say what it wrote
	last   int64              // the highest revision that the open chain names
}

// Keys are the public keys that may sign, with the time from which each may; nil takes any.
type Keys map[string]int64

// NewVerifier makes a verifier that also holds the chains against signed heads, those of the
// records and those that were kept elsewhere.
func NewVerifier(heads []SignedHead, keys Keys) *Verifier {
	v := &Verifier{signed: map[string]map[int64][]SignedHead{}, keys: keys, report: Report{Findings: []Finding{},
		Chains: []Head{}}}
	for _, h := range heads {
		v.Held(h)
	}
	return v
}

// said is what an entry of a time, in Unix milliseconds, says of a row.
type said struct {
	Record
	at int64
}

// Forgets says which rows that may go may be gone already, by table and key, and by the time
// when the chain last spoke of them; without it all may.
func (v *Verifier) Forgets(gone func(of string, at int64) bool) { v.gone = gone }

// Pin has a key count that is known from elsewhere: at least one head must be signed with it,
// and heads signed with it count whatever the access chain says of keys.
func (v *Verifier) Pin(key string) { v.pinned = key }

// Held adds a signed head that the chain must agree with.
func (v *Verifier) Held(h SignedHead) {
	if v.signed[h.Chain] == nil {
		v.signed[h.Chain] = map[int64][]SignedHead{}
	}
	since, known := v.keys[h.Key]
	switch {
	case !h.valid():
		v.find(h.Chain, h.Sequence, "the signed head's signature is wrong")
	case v.keys != nil && h.Key != v.pinned && !known:
		v.find(h.Chain, h.Sequence, "the head is signed with a key that is not one of this installation's")
	case v.keys != nil && h.Key != v.pinned && h.At < since:
		v.find(h.Chain, h.Sequence, "the head is signed with a key that was added later")
	case slices.Contains(v.signed[h.Chain][h.Sequence], h): // kept in two places
	default:
		v.report.Signed++
		v.signed[h.Chain][h.Sequence] = append(v.signed[h.Chain][h.Sequence], h)
		if h.Key == v.pinned {
			v.report.Pinned++
		}
	}
}

func (v *Verifier) find(chain string, sequence int64, format string, args ...any) {
	v.report.Findings = append(v.report.Findings, Finding{chain, sequence, fmt.Sprintf(format, args...)})
}

// Row checks the next row.
func (v *Verifier) Row(r *Row) {
	if v.open == nil || v.open.Chain != r.Chain {
		v.close()
		v.open = &Head{Chain: r.Chain}
		v.spoken, v.made, v.change, v.older, v.last = map[string]said{}, map[int64][]string{}, "", 0, 0
	}
	v.report.Entries++
	if r.Sequence != v.open.Sequence+1 {
		v.find(r.Chain, r.Sequence, "entry %d is missing before it", v.open.Sequence+1)
	}
	var e Entry
	canonical, err := Canonical(r.Entry)
	switch {
	case err != nil || json.Unmarshal(r.Entry, &e) != nil:
		v.find(r.Chain, r.Sequence, "the entry cannot be read")
	case !bytes.Equal(canonical, r.Entry):
		v.find(r.Chain, r.Sequence, "the entry is not in canonical form")
	case Digest(r.Entry) != r.Digest:
		v.find(r.Chain, r.Sequence, "the entry does not match its digest")
	case e.Previous != v.open.Digest:
		v.find(r.Chain, r.Sequence, "it does not hold the digest of the entry before")
	case e.Chain != r.Chain || e.Sequence != r.Sequence || e.At != r.At || e.Project != r.Project ||
		e.Environment != r.Environment || e.Subject != r.Subject || e.Actor.ID != r.Actor || e.Action != r.Action:
		v.find(r.Chain, r.Sequence, "its columns differ from the entry")
	}
	v.plain(r, &e)
	v.speak(&e)
	if e.Revision > 0 && len(v.spoken) > 0 {
		v.made[e.Revision] = append(v.made[e.Revision], r.Digest)
	}
	v.open.Sequence, v.open.Digest = r.Sequence, r.Digest
	for _, h := range v.signed[r.Chain][r.Sequence] {
		if h.Digest != r.Digest {
			v.find(r.Chain, r.Sequence, "it differs from the head that was signed at %s with key %s…",
				time.UnixMilli(h.At).UTC().Format(time.RFC3339), h.Key[:min(12, len(h.Key))])
		}
	}
}

// plain checks the personal values that are still kept; erased ones are no finding.
func (v *Verifier) plain(r *Row, e *Entry) {
	if len(r.Personal) == 0 || string(r.Personal) == "null" {
		return
	}
	var plain []Plain
	if json.Unmarshal(r.Personal, &plain) != nil || len(plain) != len(e.Personal) {
		v.find(r.Chain, r.Sequence, "its personal values cannot be read")
		return
	}
	for i, p := range plain {
		if p.digest() != e.Personal[i] {
			v.find(r.Chain, r.Sequence, "personal value %d does not match its digest", i)
		}
	}
	if kept, err := json.Marshal(plain); err != nil || !bytes.Equal(kept, r.Personal) {
		v.find(r.Chain, r.Sequence, "its personal values were rewritten")
	}
}

// speak takes in what an entry says of records.
func (v *Verifier) speak(e *Entry) {
	v.last = max(v.last, e.Revision)
	at := e.At
	if e.Action == Adopted { // the rows are older than what is said of them, and are all spoken of anew
		at = 0
		if e.Change != v.change {
			v.spoken, v.older = map[string]said{}, 0
		}
	}
	for _, r := range e.Records {
		v.spoken[r.Of] = said{r, at}
	}
	switch {
	case len(e.Records) > 0:
		v.change = e.Change
	case len(v.spoken) > 0 && SpeaksOfRecords(e.Action) && e.Change != v.change &&
		(e.Environment != 0 || e.Action != "environment.made"):
		v.older = e.Sequence
	}
}

// writes are the actions whose entries speak of records, besides the steps of releases. One that does not was
// written by a program of the release before.
var writes = map[string]bool{"flag.made": true, "flag.changed": true, "flag.stopped": true, "flag.lifted": true,
	"flag.stop-reason": true, "tripwire.saved": true, "tripwire.rotated": true, "tripwire.removed": true,
	"tripwire.armed": true, "tripwire.fired": true, "tripwire.tried": true, "tripwire.over": true,
	"project.changed": true, "segment.titled": true,
	"drill.held": true, "drill.due": true,
	"emergency.taken": true, "emergency.key-made": true,
	"metric.saved": true, "metric.removed": true,
	"definition.changed": true, "segment.made": true, "segment.changed": true,
	"environment.made": true, "environment.changed": true, "environment.archived": true,
	"environment.brought-back": true, "environment.removed": true, "attribute.declared": true,
	"attribute.removed": true, "test-units.saved": true, "test-units.removed": true, "recipe.saved": true,
	"recipe.removed": true,
	"ladder.saved":   true, "ladder.removed": true, "webhook.saved": true,
	"webhook.rotated": true, "webhook.removed": true, "roles.changed": true,
	"project.made":    true,
	"access-key.made": true, "access-key.revoked": true, "account.made": true, "account.changed": true,
	"environment.frozen": true, "environment.thawed": true,
	"proposal.made": true, "proposal.edited": true, "proposal.carried": true, "proposal.signed": true,
	"proposal.unsigned": true, "proposal.commented": true, "proposal.withdrawn": true, "proposal.applied": true,
	"identity.asked": true, "identity.bound": true, "identity.removed": true, "account.removed": true,
	"calendar.made": true, "calendar.removed": true,
	"policy.saved": true, "policy.removed": true, "flag.retired": true, "flag.restored": true,
	"places.reported": true, "places.forgotten": true,
	"environment.branched": true, "environment.prolonged": true, "environment.over": true,
	"environment.followed": true,
	"flag.family":          true, "bundle.saved": true, "bundle.removed": true,
	"proposal.waits": true, "proposal.expired": true,
	"team.saved": true, "team.removed": true,
	"password.changed": true, "password.reset": true, "token.made": true, "token.removed": true, KeyAdded: true,
	"revision.delivered": true, "epoch.new": true, "population.set": true}

// SpeaksOfRecords tells whether entries of an action speak of records.
func SpeaksOfRecords(action string) bool {
	step, ok := strings.CutPrefix(action, "release.")
	return writes[action] || ok && slices.Contains(stage.Tells, stage.Tell(step))
}

// Comparison reads the rows beside a chain a page at a time, and then holds them against it.
type Comparison interface {
	// Next reads a page; done tells that it was the last.
	Next(ctx context.Context) (done bool, err error)
	// Hold compares what was read. Where the chain moved on meanwhile it gives the new head,
	// and compares nothing.
	Hold(ctx context.Context, v *Verifier) (moved *Head, err error)
}

// Compare makes a whole comparison; see [Comparison.Hold].
func Compare(ctx context.Context, c Comparison, v *Verifier) (moved *Head, err error) {
	for done := false; !done; {
		if done, err = c.Next(ctx); err != nil {
			return nil, err
		}
	}
	return c.Hold(ctx, v)
}

// Records holds the rows beside the chain that was just read against what it says of them.
// visit hands over each row as it is. revision is the environment's, -1 for another chain.
func (v *Verifier) Records(revision int64, visit func(func(Record)) error) error {
	if v.open == nil || len(v.spoken) == 0 {
		return nil // the chain is older than that
	}
	if v.older > 0 {
		v.find(v.open.Chain, v.older, "was written by a program of an older release, which does not say what it "+
			"wrote: the records beside this chain cannot be compared before the next `greenlever serve` has taken "+
			"them over")
		return nil
	}
	if revision >= 0 && revision != v.last {
		v.find(v.open.Chain, v.open.Sequence, "environments: the environment stands at revision %d, and the chain "+
			"at %d", revision, v.last)
	}
	seen := make(map[string]bool, len(v.spoken))
	err := visit(func(r Record) {
		v.report.Records++
		seen[r.Of] = true
		switch last, known := v.spoken[r.Of]; {
		case !known:
			v.find(v.open.Chain, v.open.Sequence, "%s is there, and the chain knows nothing of it", r.Of)
		case last.Digest == "":
			v.find(v.open.Chain, v.open.Sequence, "%s is there, and the chain says that it is gone", r.Of)
		case last.Digest != r.Digest:
			v.find(v.open.Chain, v.open.Sequence, "%s is not as the chain says: it was changed beside it", r.Of)
		case len(v.made[r.Revision]) > 0 && last.at > 0 && !slices.Contains(v.made[r.Revision], r.Entry):
			v.find(v.open.Chain, v.open.Sequence, "%s names another entry than the one that made it", r.Of)
		}
	})
	if err != nil {
		return err
	}
	for of, last := range v.spoken {
		if last.Digest != "" && !seen[of] && !(last.MayGo && (v.gone == nil || v.gone(of, last.at))) {
			v.find(v.open.Chain, v.open.Sequence, "%s is missing: it was removed beside the chain", of)
		}
	}
	return nil
}

// Moved notes that a chain went on while it was read, so that its records could not be compared.
func (v *Verifier) Moved(chain string) { v.report.Moving = append(v.report.Moving, chain) }

// SoFar is the report of what was looked at until now.
func (v *Verifier) SoFar() *Report {
	so := v.report
	so.Findings, so.Chains = slices.Clone(so.Findings), slices.Clone(so.Chains)
	return &so
}

// Expect says where a chain must at least end.
func (v *Verifier) Expect(h Head) { v.now = append(v.now, h) }

func (v *Verifier) close() {
	if v.open == nil {
		return
	}
	v.report.Chains = append(v.report.Chains, *v.open)
	v.open = nil
}

// Done ends the verification: it looks for cut tails and gives the report.
func (v *Verifier) Done() *Report {
	v.close()
	last := map[string]Head{}
	for _, h := range v.report.Chains {
		last[h.Chain] = h
	}
	for _, h := range v.now {
		switch have := last[h.Chain]; {
		case have.Sequence < h.Sequence:
			v.find(h.Chain, have.Sequence, "the chain ends here and should go on to %d", h.Sequence)
		case have.Sequence == h.Sequence && have.Digest != h.Digest:
			v.find(h.Chain, h.Sequence, "the chain's head differs from its last entry")
		}
	}
	for chain, heads := range v.signed {
		for sequence := range heads {
			if have := last[chain]; have.Sequence < sequence {
				v.find(chain, have.Sequence, "the chain ends here, but a head at %d was signed", sequence)
			}
		}
	}
	if v.pinned != "" && v.report.Pinned == 0 {
		v.find("access", 0, "no head is signed with the key that was pinned")
	}
	return &v.report
}

// Line is one line of an export: a row, a signed head, or the last line, which says how
// many rows there are, so that an export that broke off is seen as such.
type Line struct {
	Entry    json.RawMessage `json:"entry,omitempty"`
	Damaged  string          `json:"damaged,omitempty"` // an entry that is no JSON any more
	Digest   string          `json:"digest,omitempty"`
	Personal json.RawMessage `json:"personal,omitempty"`
	Head     *SignedHead     `json:"head,omitempty"`
	End      *int64          `json:"end,omitempty"`
}

// ExportRow gives the row as a line of an export.
func ExportRow(r *Row) Line {
	l := Line{Entry: r.Entry, Digest: r.Digest, Personal: r.Personal}
	if !json.Valid(r.Entry) {
		l.Entry, l.Damaged = nil, string(r.Entry)
	}
	if !json.Valid(r.Personal) {
		l.Personal = json.RawMessage(`"damaged"`)
	}
	return l
}

// VerifyExport checks an export: lines of JSON, as [Line]. It needs nothing but the file.
// It returns an error for what is no export.
//
// pinned is a public key that is known from elsewhere, or empty; held are signed heads that
// were kept elsewhere.
func VerifyExport(in io.Reader, pinned string, held []SignedHead) (*Report, error) {
	var rows []*Row
	var heads []SignedHead
	end := int64(-1)
	scan := bufio.NewScanner(in)
	scan.Buffer(nil, 64<<20)
	for n := 1; scan.Scan(); n++ {
		if len(bytes.TrimSpace(scan.Bytes())) == 0 {
			continue
		}
		var l Line
		dec := json.NewDecoder(bytes.NewReader(scan.Bytes()))
		dec.DisallowUnknownFields()
		err := dec.Decode(&l)
		if _, more := dec.Token(); err == nil && more != io.EOF {
			err = condition.ErrMore
		}
		if err != nil {
			return nil, fmt.Errorf("line %d is no line of an export: %w", n, err)
		}
		if l.Head != nil {
			heads = append(heads, *l.Head)
			continue
		}
		if l.End != nil {
			end = *l.End
			continue
		}
		var e Entry
		if err := json.Unmarshal(l.Entry, &e); err != nil {
			return nil, fmt.Errorf("line %d holds no entry: %w", n, err)
		}
		rows = append(rows, &Row{Chain: e.Chain, Sequence: e.Sequence, At: e.At, Project: e.Project,
			Environment: e.Environment,
			Subject:     e.Subject, Actor: e.Actor.ID, Action: e.Action, Entry: bytes.Clone(l.Entry),
			Digest:   l.Digest,
			Personal: l.Personal})
	}
	if err := scan.Err(); err != nil {
		return nil, err
	}
	v := NewVerifier(nil, keysOf(rows))
	v.Pin(pinned)
	for _, h := range append(heads, held...) {
		v.Held(h)
	}
	for _, r := range rows {
		v.Row(r)
	}
	if end != int64(len(rows)) {
		v.find("export", end, "the export broke off, or lines are missing: %d rows are here", len(rows))
	}
	return v.Done(), nil
}

// keysOf are the keys that an export's access chain names; nil where it does not hold that chain.
func keysOf(rows []*Row) Keys {
	var keys Keys
	for _, r := range rows {
		if r.Chain != Access {
			continue
		}
		if keys == nil {
			keys = Keys{}
		}
		if r.Action == KeyAdded && keys[r.Subject] == 0 {
			keys[r.Subject] = r.At
		}
	}
	return keys
}

// Encode gives a line of an export with its line break. Unlike encoding/json by itself it
// leaves the entry's bytes as they are.
func Encode(l Line) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	err := enc.Encode(l)
	return b.Bytes(), err
}
