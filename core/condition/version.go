package condition

import (
	"fmt"
	"strings"
)

// order is a set of outcomes of a comparison.
type order uint8

const (
	less order = 1 << iota
	equal
	more
)

func orderOf(c int) order { return [...]order{less, equal, more}[c+1] }

// version is a version as Semantic Versioning 2.0.0 orders them.
type version struct {
	numbers [3]uint64
	pre     string // identifiers of a pre-release, joined by dots; empty for a release
}

// parseVersion reads a version of Semantic Versioning 2.0.0, with numbers of at most 18
// digits. Loosely, a leading v is taken, and minor and patch may be left out.
func parseVersion(s string, loose bool) (v version, ok bool) {
	if loose && len(s) > 0 && (s[0] == 'v' || s[0] == 'V') {
		s = s[1:]
	}
	for i := range v.numbers {
		digits := 0
		for digits < len(s) && s[digits] >= '0' && s[digits] <= '9' {
			v.numbers[i] = v.numbers[i]*10 + uint64(s[digits]-'0')
			digits++
		}
		if digits == 0 || digits > 18 || digits > 1 && s[0] == '0' {
			return v, false
		}
		s = s[digits:]
		if i == 2 {
			break
		}
		if s == "" || s[0] != '.' {
			if !loose {
				return v, false
			}
			break
		}
		s = s[1:]
	}
	if s != "" && s[0] == '-' {
		end := strings.IndexByte(s, '+')
		if end < 0 {
			end = len(s)
		}
		v.pre, s = s[1:end], s[end:]
		if !identifiers(v.pre, true) {
			return v, false
		}
	}
	if s != "" && s[0] == '+' {
		return v, identifiers(s[1:], false)
	}
	return v, s == ""
}

// packedBits is how many bits each number of a packed version has.
const packedBits = 21

// pack gives a release as one number in the same order, one more than zero; zero where it is
// no release, or its numbers are too large.
func (v *version) pack() uint64 {
	if v.pre != "" || v.numbers[0]|v.numbers[1]|v.numbers[2] >= 1<<packedBits {
		return 0
	}
	return (v.numbers[0]<<(2*packedBits) | v.numbers[1]<<packedBits | v.numbers[2]) + 1
}

// packVersion packs a plain release such as 4.2.0 without the detour over its parts; zero
// for everything else, which [parseVersion] judges.
func packVersion(s string) uint64 {
	var packed, number uint64
	dots, digits := 0, 0
	for i := range len(s) {
		c := s[i]
		switch {
		case c >= '0' && c <= '9':
			if digits == 6 || digits > 0 && number == 0 {
				return 0
			}
			number = number*10 + uint64(c-'0')
			digits++
		case c == '.' && digits > 0 && dots < 2:
			packed, number, digits = packed<<packedBits|number, 0, 0
			dots++
		default:
			return 0
		}
	}
	if dots != 2 || digits == 0 {
		return 0
	}
	return (packed<<packedBits | number) + 1
}

// identifiers checks dot-separated identifiers; numeric ones of a pre-release take no
// leading zero.
func identifiers(s string, pre bool) bool {
	for {
		id, rest, more := strings.Cut(s, ".")
		if id == "" || pre && len(id) > 1 && id[0] == '0' && numeric(id) {
			return false
		}
		for i := range len(id) {
			if c := id[i]; c != '-' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
				return false
			}
		}
		if !more {
			return true
		}
		s = rest
	}
}

func numeric(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// compareVersions is the precedence of Semantic Versioning 2.0.0, section 11.
func compareVersions(a, b *version) int {
	for i := range a.numbers {
		if a.numbers[i] != b.numbers[i] {
			if a.numbers[i] < b.numbers[i] {
				return -1
			}
			return 1
		}
	}
	switch {
	case a.pre == b.pre:
		return 0
	case a.pre == "":
		return 1
	case b.pre == "":
		return -1
	}
	x, y := a.pre, b.pre
	for {
		p, restX, moreX := strings.Cut(x, ".")
		q, restY, moreY := strings.Cut(y, ".")
		if c := compareIdentifiers(p, q); c != 0 {
			return c
		}
		switch {
		case !moreX && !moreY:
			return 0
		case !moreX:
			return -1
		case !moreY:
			return 1
		}
		x, y = restX, restY
	}
}

func compareIdentifiers(p, q string) int {
	pn, qn := numeric(p), numeric(q)
	switch {
	case pn && qn && len(p) != len(q):
		if len(p) < len(q) {
			return -1
		}
		return 1
	case pn == qn:
		return strings.Compare(p, q)
	case pn:
		return -1
	}
	return 1
}

// RangeTest takes a range of versions in Text. It is written out to comparisons when a
// condition is saved, by [Node.Expand], and never decided by itself.
const RangeTest = "version.range"

// Expand writes ranges of versions out to comparisons and returns an error naming the
// first that is none. A range is comparisons that must all hold (">=4.2.0 <5.0.0"), or a version
// whose tail is left open ("4.2.x").
func (n *Node) Expand() error {
	var wrong error
	n.Leaves(func(l *Node) {
		if l.Test != RangeTest || len(l.Text) != 1 {
			return
		}
		leaves, err := versionRange(l)
		if err != nil {
			if wrong == nil {
				wrong = err
			}
			return
		}
		if len(leaves) == 1 {
			*l = leaves[0]
			return
		}
		*l = Node{All: leaves}
	})
	return wrong
}

func versionRange(l *Node) ([]Node, error) {
	bad := fmt.Errorf("%q is no range of versions: write comparisons such as \">=4.2.0 <5.0.0\", or a version with "+
		"an open tail such as \"4.2.x\"", l.Text[0])
	leaf := func(test, v string) Node {
		return Node{Test: "version." + test, Attribute: l.Attribute, Text: []string{v}, Loose: l.Loose}
	}
	full := func(v string) (string, bool) {
		p, ok := parseVersion(v, true)
		text := fmt.Sprintf("%d.%d.%d", p.numbers[0], p.numbers[1], p.numbers[2])
		if p.pre != "" {
			text += "-" + p.pre
		}
		return text, ok
	}
	var out []Node
	for _, part := range strings.Fields(l.Text[0]) {
		if open, is := strings.CutSuffix(part, ".x"); is {
			p, ok := parseVersion(open, true)
			dots := strings.Count(open, ".")
			if !ok || p.pre != "" || dots > 1 {
				return nil, bad
			}
			low, _ := full(open)
			p.numbers[dots]++
			high := fmt.Sprintf("%d.%d.%d-0", p.numbers[0], p.numbers[1], p.numbers[2])
			out = append(out, leaf("at-least", low), leaf("less", high))
			continue
		}
		test := "equals"
		for _, o := range []struct{ sign, test string }{{">=", "at-least"}, {"<=", "at-most"}, {">", "more"},
			{"<", "less"}, {"=", "equals"}} {
			if rest, is := strings.CutPrefix(part, o.sign); is {
				part, test = rest, o.test
				break
			}
		}
		v, ok := full(part)
		if !ok {
			return nil, bad
		}
		out = append(out, leaf(test, v))
	}
	if len(out) == 0 {
		return nil, bad
	}
	return out, nil
}
