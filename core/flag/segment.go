package flag

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math/bits"
	"slices"
	"unicode/utf8"

	"greenlever.example/core/condition"
)

// Segment is a reusable audience, as an environment owns it: units listed in, units
// listed out, and a condition. Out beats in, in beats the condition.
type Segment struct {
	Key   string          `json:"key"`
	When  *condition.Node `json:"when,omitempty"`  // nil: nobody but those listed
	Lists string          `json:"lists,omitempty"` // the attribute that the lists name; empty: the targeting key
	In    *List           `json:"in,omitempty"`
	Out   *List           `json:"out,omitempty"`
}

// MaxInline is how many units a list takes within its document; longer ones live outside it.
const MaxInline = 1_000

// List names units: by key, or, where they are many, by the digest of their hashes.
type List struct {
	Units []string `json:"units,omitempty" shown:"no"`

	Digest string `json:"digest,omitempty"` // of the hashes' bytes, see [Hashes.Bytes]
	Count  int    `json:"count,omitempty"`
	Secret string `json:"secret,omitempty"` // key of the hashes, 16 bytes in base64
}

// ListRef is how a document names a list that lives outside it.
type ListRef struct {
	Digest, Secret string
	Count          int
}

// Ref is how the document names the list.
func (l *List) Ref() *ListRef { return &ListRef{l.Digest, l.Secret, l.Count} }

// Len is the number of units on the list.
func (l *List) Len() int {
	switch {
	case l == nil:
		return 0
	case l.Digest != "":
		return l.Count
	}
	return len(l.Units)
}

// Attribute is the attribute that the lists name.
func (s *Segment) Attribute() string {
	if s.Lists == "" {
		return condition.KeyAttribute
	}
	return s.Lists
}

// Segments lists the keys of the segments that this one names.
func (s *Segment) Segments() []string { return segmentsOf(s.When) }

// Digests lists the digests of the lists that live outside the segment's document.
func (s *Segment) Digests() (digests []string) {
	for _, l := range []*List{s.In, s.Out} {
		if l != nil && l.Digest != "" {
			digests = append(digests, l.Digest)
		}
	}
	return digests
}

// Lists finds the hashes of a list by their digest; nil where they are not at hand.
type Lists func(digest string) Hashes

// Condition is the segment's condition, its lists among it. A list that is not at hand
// makes membership unknown.
func (s *Segment) Condition(lists Lists) *condition.Node {
	when := s.When
	if when == nil {
		when = &nobody
	}
	if s.In.Len()+s.Out.Len() == 0 {
		return when
	}
	return condition.ListedIn(s.Attribute(), s.In.listed(lists), s.Out.listed(lists), when)
}

// nobody is false for every unit: the key cannot be present and absent.
var nobody = condition.Node{All: []condition.Node{
	{Test: "present", Attribute: condition.KeyAttribute}, {Test: "absent", Attribute: condition.KeyAttribute},
}}

func (l *List) listed(lists Lists) condition.Listed {
	if l == nil || l.Digest == "" {
		set := units{}
		if l != nil {
			for _, u := range l.Units {
				set[u] = struct{}{}
			}
		}
		return set
	}
	h := hashed{}
	secret, err := base64.StdEncoding.DecodeString(l.Secret)
	if err != nil || len(secret) != len(h.secret) || lists == nil {
		return nil
	}
	copy(h.secret[:], secret)
	if h.hashes = lists(l.Digest); h.hashes == nil {
		return nil
	}
	return h
}

// units is a short list.
type units map[string]struct{}

func (u units) Has(key string) bool { _, ok := u[key]; return ok }
func (u units) Words() string       { return fmt.Sprintf("%d listed units", len(u)) }

// Hashes is a long list: 64-bit SipHashes of its units' keys, ascending, each once. With
// 64 bits and a secret key, an accident is rarer than 10^-12 for a list of a million.
type Hashes []uint64

type hashed struct {
	secret [16]byte
	hashes Hashes
}

func (h hashed) Has(key string) bool { return h.hashes.has(condition.SipHash(h.secret, key)) }
func (h hashed) Words() string       { return fmt.Sprintf("%d units listed, by hash", len(h.hashes)) }

// has searches by interpolation, since hashes are spread evenly.
func (h Hashes) has(want uint64) bool {
	low, high := 0, len(h) // want, if there, is in [low, high)
	for high-low > 16 {
		first, last := h[low], h[high-1]
		if want < first || want > last {
			return false
		}
		at := low
		if span := last - first; span > 0 {
			hi, lo := bits.Mul64(want-first, uint64(high-1-low))
			q, _ := bits.Div64(hi, lo, span) // hi < span, for want - first <= span
			at += int(q)
		}
		at = min(max(at, low+1), high-1) // each step leaves something out
		if h[at] <= want {
			low = at
			if at+8 < high && h[at+8] > want {
				high = at + 8
			}
		} else {
			high = at
			if at-8 > low && h[at-8] <= want {
				low = at - 8
			}
		}
	}
	return slices.Contains(h[low:high], want)
}

// HashUnits hashes units under a secret.
func HashUnits(secret [16]byte, keys []string) Hashes {
	h := make(Hashes, len(keys))
	for i, k := range keys {
		h[i] = condition.SipHash(secret, k)
	}
	slices.Sort(h)
	return slices.Compact(h)
}

// Bytes are the hashes as they are stored and sent: 8 bytes each, the lowest first.
func (h Hashes) Bytes() []byte {
	out := make([]byte, 0, len(h)*8)
	for _, v := range h {
		out = binary.LittleEndian.AppendUint64(out, v)
	}
	return out
}

// ReadHashes reads what [Hashes.Bytes] gives. It returns an error for bytes that are no
// ascending hashes.
func ReadHashes(raw []byte) (Hashes, error) {
	if len(raw)%8 != 0 {
		return nil, fmt.Errorf("read list: %d bytes are no list of hashes", len(raw))
	}
	h := make(Hashes, len(raw)/8)
	for i := range h {
		h[i] = binary.LittleEndian.Uint64(raw[i*8:])
		if i > 0 && h[i] <= h[i-1] {
			return nil, fmt.Errorf("read list: hash %d is not above the one before", i)
		}
	}
	return h, nil
}

// deltaMark begins a list that is sent as the difference to another.
var deltaMark = []byte("greenlever-list-delta\n")

// Delta writes the list as the difference to another one: how many come, then those that
// come, then those that go.
func (h Hashes) Delta(from Hashes) []byte {
	var come, go_ Hashes
	i, j := 0, 0
	for i < len(h) || j < len(from) {
		switch {
		case j == len(from) || i < len(h) && h[i] < from[j]:
			come = append(come, h[i])
			i++
		case i == len(h) || from[j] < h[i]:
			go_ = append(go_, from[j])
			j++
		default:
			i, j = i+1, j+1
		}
	}
	out := binary.LittleEndian.AppendUint64(bytes.Clone(deltaMark), uint64(len(come)))
	return append(append(out, come.Bytes()...), go_.Bytes()...)
}

// ReadList reads a list, whole or as a difference to one that is at hand. It returns an
// error for bytes that are neither.
func ReadList(raw []byte, from Hashes) (Hashes, error) {
	rest, isDelta := bytes.CutPrefix(raw, deltaMark)
	if !isDelta {
		return ReadHashes(raw)
	}
	if len(rest) < 8 || len(rest)%8 != 0 || binary.LittleEndian.Uint64(rest) > uint64(len(rest)/8-1) {
		return nil, fmt.Errorf("read list: %d bytes are no difference of lists", len(raw))
	}
	split := 8 + 8*int(binary.LittleEndian.Uint64(rest))
	come, err := ReadHashes(rest[8:split])
	if err != nil {
		return nil, err
	}
	gone, err := ReadHashes(rest[split:])
	if err != nil {
		return nil, err
	}
	out := make(Hashes, 0, max(len(from)+len(come)-len(gone), 0))
	for _, v := range from {
		if _, is := slices.BinarySearch(gone, v); !is {
			out = append(out, v)
		}
	}
	out = append(out, come...)
	slices.Sort(out)
	return slices.Compact(out), nil
}

// Check lists everything that keeps the segment from being saved and that it shows by itself.
func (s *Segment) Check() []Problem {
	var found []Problem
	add := func(place, mend string) { found = append(found, Problem{place, mend}) }
	if mend := CheckKey(s.Key); mend != "" {
		add("key", mend)
	}
	if s.When != nil {
		s.When.Check("when", add)
	}
	if mend := condition.CheckAttribute(s.Attribute()); mend != "" {
		add("lists", mend)
	}
	for _, l := range []struct {
		place string
		list  *List
	}{{"in", s.In}, {"out", s.Out}} {
		l.list.check(l.place, add)
	}
	return found
}

func (l *List) check(place string, add func(place, mend string)) {
	switch {
	case l == nil:
		return
	case l.Digest != "" && len(l.Units) > 0:
		add(place, "holds its units here or outside, not both")
	case l.Digest == "" && (l.Count != 0 || l.Secret != ""):
		add(place, "count and secret are set by the service: leave them out")
	case len(l.Units) > MaxInline:
		add(place+".units", fmt.Sprintf("lists %d units, a document takes %d: upload them as a file", len(l.Units),
			MaxInline))
	}
	seen := map[string]bool{}
	for i, u := range l.Units {
		switch at := fmt.Sprintf("%s.units[%d]", place, i); {
		case u == "" || len(u) > condition.MaxText || !utf8.ValidString(u):
			add(at, fmt.Sprintf("must be valid UTF-8 of 1 to %d bytes", condition.MaxText))
		case seen[u]:
			add(at, fmt.Sprintf("%q stands twice", u))
		}
		seen[u] = true
	}
}

// Digest is the list's digest: SHA-256 of [Hashes.Bytes] in hexadecimal.
func (h Hashes) Digest() string {
	sum := sha256.Sum256(h.Bytes())
	return hex.EncodeToString(sum[:])
}
