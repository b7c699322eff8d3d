package flag

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
)

// ErrFormat is returned for a snapshot or an event in a newer format than this build reads.
var ErrFormat = errors.New("the ruleset is in a newer format than this build reads: update it")

// ErrGap is returned when an event is not the one that follows a ruleset.
var ErrGap = errors.New("the event does not follow this revision")

// Snapshot is a whole environment at a revision.
type Snapshot struct {
	Format   int               `json:"format"`
	Epoch    int64             `json:"epoch"` // UTC milliseconds; the installation's generation
	Revision int64             `json:"revision"`
	At       int64             `json:"at"`               // Unix milliseconds of the revision
	Digest   string            `json:"digest,omitempty"` // see [Position]
	Proof    string            `json:"proof,omitempty"`
	Flags    []json.RawMessage `json:"flags"`
	Segments []json.RawMessage `json:"segments"`
	Stops    []Stop            `json:"stops"`
	SeeAs    string            `json:"seeAs,omitempty"` // the key that overrides are signed with: see [ReadSeeAs]

	Emergency *Emergency `json:"emergency,omitempty"` // what emergency orders are told by
	Settled   []string   `json:"settled,omitempty"`   // ids of orders that the records know, and of what those lifted
	Orders    []string   `json:"orders,omitempty"`    // that are held here, and that the records do not know
	Kept      []Stop     `json:"kept,omitempty"`      // see [Ruleset]
}

// Event is one revision: whole documents of what changed. It applies as a whole or not at all.
type Event struct {
	Format   int               `json:"format"`
	Epoch    int64             `json:"epoch"`
	Revision int64             `json:"revision"`
	At       int64             `json:"at"`
	Digest   string            `json:"digest,omitempty"` // see [Position]
	Proof    string            `json:"proof,omitempty"`
	Flags    []json.RawMessage `json:"flags,omitempty"`
	Segments []json.RawMessage `json:"segments,omitempty"`
	Gone     *Gone             `json:"gone,omitempty"`
	Stops    []Stop            `json:"stops,omitempty"`
	Lifted   []string          `json:"lifted,omitempty"`
	Settled  []string          `json:"settled,omitempty"` // see [Snapshot]
}

// Gone names what is no more.
type Gone struct {
	Flags    []string `json:"flags,omitempty"`
	Segments []string `json:"segments,omitempty"`
}

// Ruleset is an environment's documents at a revision. Documents are kept as they came,
// so that what this build does not understand survives being stored.
type Ruleset struct {
	Epoch    int64
	Revision int64
	At       int64
	Digest   string
	Proof    string
	Flags    map[string]json.RawMessage
	Segments map[string]json.RawMessage
	Stops    []Stop
	SeeAs    string // see [Snapshot]

	Emergency *Emergency
	Settled   []string
	Orders    []*Order // emergency orders that the service's records do not know yet
	Kept      []Stop   // of an epoch before this one, whose records do not know them (yet)
	// Hashes are the long lists of its segments, by digest: see [Ruleset.Needed].
	Hashes map[string]Hashes

	read *sync.Map // segments that were decoded, by key; nil where none are kept
}

// Position is where the ruleset stands.
func (rs *Ruleset) Position() Position {
	return Position{rs.Epoch, rs.Revision, rs.At, rs.Digest, rs.Proof}
}

// List finds the hashes of a long list; nil where they are not at hand.
func (rs *Ruleset) List(digest string) Hashes { return rs.Hashes[digest] }

// heldAndNeeded leaves out lists that no segment names any more.
func (rs *Ruleset) heldAndNeeded() map[string]Hashes {
	needed, _ := rs.Needed()
	held := make(map[string]Hashes, len(needed))
	for _, d := range needed {
		if h := rs.Hashes[d]; h != nil {
			held[d] = h
		}
	}
	return held
}

// Digests lists the digests of the long lists that the event's segments name.
func (e *Event) Digests() (digests []string) {
	for _, raw := range e.Segments {
		if s := decode[Segment](raw); s != nil {
			digests = append(digests, s.Digests()...)
		}
	}
	return digests
}

// Needed lists the digests of the long lists of all segments, and which of them are not at
// hand.
func (rs *Ruleset) Needed() (needed, missing []string) {
	for key := range rs.Segments {
		s := rs.Segment(key)
		if s == nil {
			continue
		}
		for _, d := range s.Digests() {
			needed = append(needed, d)
			if rs.Hashes[d] == nil {
				missing = append(missing, d)
			}
		}
	}
	return needed, missing
}

type keyed struct {
	Key string `json:"key"`
}

func index(into map[string]json.RawMessage, what string, docs []json.RawMessage) error {
	for i, raw := range docs {
		if key := keyAhead(raw); key != "" {
			into[key] = raw
			continue
		}
		var k keyed
		if err := json.Unmarshal(raw, &k); err != nil || k.Key == "" {
			return fmt.Errorf("%s %d of the ruleset has no key: %w", what, i, err)
		}
		into[k.Key] = raw
	}
	return nil
}

// keyAhead reads the key of a document that begins with it, as ours do, without reading the
// rest; empty where it does not.
func keyAhead(raw []byte) string {
	rest, ours := bytes.CutPrefix(raw, []byte(`{"key":"`))
	end := bytes.IndexByte(rest, '"')
	if !ours || end < 0 || bytes.IndexByte(rest[:end], '\\') >= 0 || rest[len(rest)-1] != '}' {
		return ""
	}
	return string(rest[:end])
}

// raws are documents as they came. They are cut apart without being read: that is done
// once, where each is compiled.
type raws []json.RawMessage

// UnmarshalJSON cuts a list that is known to be valid JSON into its elements.
func (d *raws) UnmarshalJSON(raw []byte) error {
	if string(raw) == "null" {
		*d = nil
		return nil
	}
	if len(raw) < 2 || raw[0] != '[' {
		return errors.New("documents must be a list")
	}
	own := bytes.Clone(raw[1 : len(raw)-1]) // the caller's buffer is not ours to keep
	*d = raws{}
	depth, start, quoted := 0, 0, false
	add := func(end int) {
		if one := bytes.TrimSpace(own[start:end]); len(one) > 0 {
			*d = append(*d, json.RawMessage(one))
		}
		start = end + 1
	}
	for i := 0; i < len(own); i++ {
		switch c := own[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			depth++
		case c == '}' || c == ']':
			depth--
		case c == ',' && depth == 0:
			add(i)
		}
	}
	add(len(own))
	return nil
}

// NewRuleset indexes a snapshot. It returns [ErrFormat] for a newer format.
func NewRuleset(s *Snapshot) (*Ruleset, error) {
	if s.Format > Format {
		return nil, fmt.Errorf("%w (format %d, this build reads up to %d)", ErrFormat, s.Format, Format)
	}
	rs := &Ruleset{Epoch: s.Epoch, Revision: s.Revision, At: s.At, Digest: s.Digest, Proof: s.Proof, Stops: s.Stops,
		SeeAs: s.SeeAs, Emergency: s.Emergency, Settled: s.Settled, Kept: s.Kept,
		Flags: make(map[string]json.RawMessage, len(s.Flags)), Segments: make(map[string]json.RawMessage,
			len(s.Segments)), read: &sync.Map{}}
	for _, text := range s.Orders {
		if o, err := ReadOrder(text, s.Emergency); err == nil {
			rs.Orders = append(rs.Orders, o)
		}
	}
	return rs, errors.Join(index(rs.Flags, "flag", s.Flags), index(rs.Segments, "segment", s.Segments))
}

// ReadSnapshot decodes a snapshot.
func ReadSnapshot(raw []byte) (*Ruleset, error) {
	var read struct {
		Snapshot
		Flags    raws `json:"flags"` // in place of the snapshot's own
		Segments raws `json:"segments"`
	}
	if err := json.Unmarshal(raw, &read); err != nil {
		return nil, fmt.Errorf("read snapshot: %w", err)
	}
	s := read.Snapshot
	s.Flags, s.Segments = read.Flags, read.Segments
	if s.Format == 0 {
		return nil, errors.New(`read snapshot: "format" is missing: this is no ruleset`)
	}
	return NewRuleset(&s)
}

// Snapshot gives the ruleset back as it is sent, sorted by key.
func (rs *Ruleset) Snapshot() *Snapshot {
	return &Snapshot{Format: Format, Epoch: rs.Epoch, Revision: rs.Revision, At: rs.At, Digest: rs.Digest,
		Proof: rs.Proof,
		Flags: sorted(rs.Flags), Segments: sorted(rs.Segments), Stops: append([]Stop{}, rs.Stops...), SeeAs: rs.SeeAs,
		Emergency: rs.Emergency, Settled: rs.Settled, Orders: rs.OrderTexts(), Kept: rs.Kept}
}

func sorted(docs map[string]json.RawMessage) []json.RawMessage {
	out := make([]json.RawMessage, 0, len(docs))
	for _, key := range slices.Sorted(maps.Keys(docs)) {
		out = append(out, docs[key])
	}
	return out
}

// Apply gives the ruleset after an event, leaving this one as it is. It returns [ErrGap]
// unless the event is of the same epoch and the next revision, and [ErrFormat].
func (rs *Ruleset) Apply(e *Event) (*Ruleset, error) {
	if e.Format > Format {
		return nil, fmt.Errorf("%w (format %d, this build reads up to %d)", ErrFormat, e.Format, Format)
	}
	if e.Epoch != rs.Epoch || e.Revision != rs.Revision+1 {
		return nil, fmt.Errorf("%w: have %d.%d, got %d.%d", ErrGap, rs.Epoch, rs.Revision, e.Epoch, e.Revision)
	}
	next := &Ruleset{Epoch: e.Epoch, Revision: e.Revision, At: e.At, Digest: e.Digest, Proof: e.Proof, Flags: rs.Flags,
		Segments: rs.Segments, SeeAs: rs.SeeAs, Hashes: rs.Hashes, read: rs.read,
		Emergency: rs.Emergency}
	if len(e.Flags) > 0 || e.Gone != nil && len(e.Gone.Flags) > 0 {
		next.Flags = maps.Clone(rs.Flags)
	}
	if len(e.Segments) > 0 || e.Gone != nil && len(e.Gone.Segments) > 0 {
		next.Segments, next.read = maps.Clone(rs.Segments), &sync.Map{}
	}
	if err := errors.Join(index(next.Flags, "flag", e.Flags), index(next.Segments, "segment",
		e.Segments)); err != nil {
		return nil, err
	}
	if len(e.Segments) > 0 && len(rs.Hashes) > 0 {
		next.Hashes = next.heldAndNeeded()
	}
	if e.Gone != nil {
		for _, k := range e.Gone.Flags {
			delete(next.Flags, k)
		}
		for _, k := range e.Gone.Segments {
			delete(next.Segments, k)
		}
	}
	for _, s := range rs.Stops {
		if !slices.Contains(e.Lifted, s.ID) {
			next.Stops = append(next.Stops, s)
		}
	}
	next.Stops = append(next.Stops, e.Stops...)
	next.Settled = append(slices.Clip(rs.Settled), e.Settled...)
	next.hold(rs, e.Lifted)
	return next, nil
}
