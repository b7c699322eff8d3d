package condition

import (
	"cmp"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"
)

func unit(t *testing.T, raw string) *Context {
	t.Helper()
	c, err := ParseContext([]byte(raw))
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func node(t *testing.T, raw string) *Node {
	t.Helper()
	n := &Node{}
	if err := json.Unmarshal([]byte(raw), n); err != nil {
		t.Fatal(err)
	}
	return n
}

// Each comparison: match, no match, absent, wrong type, and under not.
func TestEachComparison(t *testing.T) {
	for _, c := range []struct{ leaf, match, miss, wrong string }{
		{`"test":"string.equals","text":["a"]`, `"a"`, `"A"`, `1`},
		{`"test":"string.equals","text":["a"],"ignoreCase":true`, `"A"`, `"b"`, `true`},
		{`"test":"string.equals","text":["\u212a"],"ignoreCase":true`, `"k"`, `"j"`, `1`},
		{`"test":"string.one-of","text":["a","b"]`, `"b"`, `"c"`, `["a"]`},
		{`"test":"string.one-of","text":["1","2","3","4","5","6","7","8"]`, `"8"`, `"9"`, `8`},
		{`"test":"string.one-of","text":["A","B"],"ignoreCase":true`, `"b"`, `"c"`, `{}`},
		{`"test":"string.begins","text":["si","x"]`, `"site-1"`, `"Site-1"`, `1`},
		{`"test":"string.begins","text":["SI"],"ignoreCase":true`, `"site-1"`, `"a site"`, `1`},
		{`"test":"string.ends","text":["-1"]`, `"site-1"`, `"site-2"`, `1`},
		{`"test":"string.contains","text":["te-"]`, `"site-1"`, `"site"`, `1`},
		{`"test":"string.contains","text":["STRASSE"],"ignoreCase":true`, `"hauptstrasse"`, `"hauptstraße"`, `1`},
		{`"test":"string.matches","text":["^s.*1$"]`, `"site-1"`, `"site-2"`, `1`},
		{`"test":"string.matches","text":["^S"],"ignoreCase":true`, `"site"`, `"a site"`, `1`},
		{`"test":"number.equals","numbers":[5]`, `5.0`, `5.5`, `"5"`},
		{`"test":"number.equals","numbers":[0]`, `-0.0`, `1`, `false`},
		{`"test":"number.differs","numbers":[5]`, `4`, `5`, `"4"`},
		{`"test":"number.less","numbers":[5]`, `4.9`, `5`, `"4"`},
		{`"test":"number.at-most","numbers":[5]`, `5`, `5.1`, `"4"`},
		{`"test":"number.more","numbers":[5]`, `5.1`, `5`, `"6"`},
		{`"test":"number.at-least","numbers":[5]`, `5`, `4.9`, `"6"`},
		{`"test":"number.between","numbers":[2,5]`, `5`, `5.1`, `"3"`},
		{`"test":"number.one-of","numbers":[2,5]`, `2`, `3`, `"2"`},
		{`"test":"string.matches","text":["^site-1$"]`, `"site-1"`, `"site-12"`, `1`},
		{`"test":"string.matches","text":["^site-"]`, `"site-1"`, `"a site-1"`, `1`},
		{`"test":"string.matches","text":["-1$"],"ignoreCase":true`, `"site-1"`, `"site-11"`, `1`},
		{`"test":"string.matches","text":["ITE"],"ignoreCase":true`, `"site-1"`, `"sit-1"`, `1`},
		{`"test":"version.equals","text":["4.2.0"]`, `"4.2.0+build.7"`, `"4.2.0-rc.1"`, `"4.2"`},
		{`"test":"version.less","text":["4.2.0"]`, `"4.2.0-rc.1"`, `"4.10.0"`, `"v4.1.0"`},
		{`"test":"version.at-most","text":["4.2.0-rc.2"]`, `"4.2.0-rc.2"`, `"4.2.0-rc.10"`, `4.2`},
		{`"test":"version.more","text":["4.2.0-alpha.beta"]`, `"4.2.0-beta"`, `"4.2.0-alpha.1"`, `"04.2.0"`},
		{`"test":"version.at-least","text":["4.2.0"]`, `"4.10.0"`, `"4.1.99"`, `"4.2.0-"`},
		{`"test":"version.at-least","text":["4.2"],"loose":true`, `"v4.2"`, `"4.1"`, `"4.2.x"`},
		{`"test":"time.before","text":["2027-03-01T06:00:00Z"]`, `"2027-03-01T06:59:59+01:00"`,
			`"2027-03-01T06:00:00Z"`, `"2027-03-01"`},
		{`"test":"time.at-or-after","text":["2027-03-01T06:00:00Z"]`, `"2027-03-01T06:00:00.001Z"`,
			`"2027-03-01T05:59:59.999Z"`, `1772344800`},
		{`"test":"time.between","text":["2027-03-01T00:00:00Z","2027-03-02T00:00:00Z"]`, `"2027-03-01T00:00:00Z"`,
			`"2027-03-02T00:00:00Z"`, `"2027-02-29T00:00:00Z"`},
		{`"test":"address.in","text":["10.20.0.0/16","192.0.2.7"]`, `"10.20.255.255"`, `"10.21.0.0"`, `"10.20.0"`},
		{`"test":"address.in","text":["fd00::/8","::ffff:10.0.0.0/104"]`, `"::ffff:10.1.2.3"`, `"fe80::1%eth0"`, `10`},
		{`"test":"list.any","text":["de","en"]`, `["fr","en"]`, `[]`, `"de"`},
		{`"test":"list.all","text":["de","en"]`, `["en","fr","de"]`, `["de"]`, `["de","en",1]`},
		{`"test":"list.none","text":["de","en"]`, `["fr"]`, `["fr","de"]`, `{}`},
		{`"test":"boolean.true"`, `true`, `false`, `"true"`},
		{`"test":"boolean.false"`, `false`, `true`, `0`},
	} {
		n := node(t, `{"attribute":"x",`+c.leaf+`}`)
		n.Check("when", func(place, mend string) { t.Errorf("%s: %s %s", c.leaf, place, mend) })
		not := &Node{Not: n}
		for value, want := range map[string]Truth{c.match: True, c.miss: False, c.wrong: Unknown, "null": Unknown} {
			u := unit(t, `{"x":`+value+`}`)
			if got := n.Match(u, Around{}); got != want {
				t.Errorf("%s on %s: %s, want %s", c.leaf, value, got, want)
			}
			if got := not.Match(u, Around{}); got != want.Not() {
				t.Errorf("not %s on %s: %s, want %s", c.leaf, value, got, want.Not())
			}
		}
	}
	present, absent := node(t, `{"test":"present","attribute":"x"}`), node(t, `{"test":"absent","attribute":"x"}`)
	for value, want := range map[string]Truth{`"a"`: True, `1`: True, `{}`: True, `[1]`: True, `null`: False} {
		u := unit(t, `{"x":`+value+`}`)
		if present.Match(u, Around{}) != want || absent.Match(u, Around{}) != want.Not() {
			t.Errorf("present and absent on %s", value)
		}
	}
}

// The clock, parts of the population and other flags compare no attribute.
func TestLeavesWithoutAttribute(t *testing.T) {
	at := func(s string) int64 {
		ms, ok := ParseTime(s)
		if !ok {
			t.Fatalf("%s is no time", s)
		}
		return ms
	}
	zone := func(name string) func(int64) int {
		if name != "Here" {
			return nil
		}
		return func(unix int64) int { return 3600 }
	}
	gives := func(flag string) (string, bool) { return "on", flag == "a" }
	for _, c := range []struct {
		leaf, now string
		want      Truth
	}{
		{`"test":"clock.before","text":["2027-03-01T06:00:00Z"]`, "2027-03-01T05:59:59Z", True},
		{`"test":"clock.before","text":["2027-03-01T06:00:00Z"]`, "2027-03-01T06:00:00Z", False},
		{`"test":"clock.at-or-after","text":["2027-03-01T06:00:00Z"]`, "2027-03-01T06:00:00Z", True},
		{`"test":"clock.between","text":["2027-03-01T06:00:00Z","2027-03-01T08:00:00Z"]`, "2027-03-01T08:00:00Z",
			False},
		// 1 March 2027 is a Monday; the zone is an hour ahead.
		{`"test":"clock.weekly","weekly":{"days":["mon"],"from":"22:00","to":"06:00","zone":"Here"}`,
			"2027-03-01T21:00:00Z", True},
		{`"test":"clock.weekly","weekly":{"days":["mon"],"from":"22:00","to":"06:00","zone":"Here"}`,
			"2027-03-02T04:59:59Z", True},
		{`"test":"clock.weekly","weekly":{"days":["mon"],"from":"22:00","to":"06:00","zone":"Here"}`,
			"2027-03-02T05:00:00Z", False},
		{`"test":"clock.weekly","weekly":{"days":["tue"],"from":"22:00","to":"06:00","zone":"Here"}`,
			"2027-03-02T04:00:00Z", False},
		{`"test":"clock.weekly","weekly":{"days":["mon"],"from":"08:00","to":"24:00","zone":"Here"}`,
			"2027-03-01T22:59:59Z", True},
		{`"test":"clock.weekly","weekly":{"days":["mon"],"from":"08:00","to":"24:00","zone":"Here"}`,
			"2027-03-01T06:59:59Z", False},
		{`"test":"clock.weekly","weekly":{"days":["thu"],"from":"00:00","to":"24:00","zone":"Here"}`,
			"1969-12-31T23:00:00Z", True},
		{`"test":"clock.weekly","weekly":{"days":["mon"],"from":"08:00","to":"24:00","zone":"Nowhere"}`,
			"2027-03-01T12:00:00Z", Unknown},
		{`"test":"part","part":{"by":["none","x"],"share":53003,"salt":"pinecrest","hash":1}`, "2027-03-01T12:00:00Z",
			True},
		{`"test":"part","part":{"by":["x"],"share":53002,"salt":"pinecrest","hash":1}`, "2027-03-01T12:00:00Z", False},
		{`"test":"part","part":{"by":["none"],"share":1000000,"salt":"pinecrest","hash":1}`, "2027-03-01T12:00:00Z",
			Unknown},
		{`"test":"part","part":{"by":["x"],"share":1000000,"salt":"pinecrest","hash":2}`, "2027-03-01T12:00:00Z",
			Unknown},
		{`"test":"flag.gives","flag":"a","text":["off","on"]`, "2027-03-01T12:00:00Z", True},
		{`"test":"flag.gives","flag":"a","text":["off"]`, "2027-03-01T12:00:00Z", False},
		{`"test":"flag.gives","flag":"b","text":["on"]`, "2027-03-01T12:00:00Z", Unknown},
	} {
		n := node(t, `{`+c.leaf+`}`)
		around := Around{Zones: zone, Now: at(c.now), Gives: gives}
		u := unit(t, `{"x":"site-1"}`)
		if x := n.Explain(u, around); x.Truth != c.want || len(x.Words) == 0 {
			t.Errorf("%s at %s: %s (%s), want %s", c.leaf, c.now, x.Truth, x.Words, c.want)
		}
		if got := (&Node{Not: n}).Match(u, around); got != c.want.Not() {
			t.Errorf("not %s at %s: %s", c.leaf, c.now, got)
		}
	}
}

func TestParseTime(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 3))
	for range 20_000 {
		want := time.UnixMilli(rng.Int64N(8e12) - 4e12).In(time.FixedZone("", (rng.IntN(24*60)-12*60)*60))
		text := want.Format("2006-01-02T15:04:05.000Z07:00")
		if want.Year() < 0 {
			continue
		}
		if got, ok := ParseTime(text); !ok || got != want.UnixMilli() {
			t.Fatalf("%s: %d %t, want %d", text, got, ok, want.UnixMilli())
		}
	}
	for _, bad := range []string{"", "2027-03-01", "2027-03-01T06:00:00", "2027-02-29T06:00:00Z",
		"2027-13-01T06:00:00Z", "2027-03-01T24:00:00Z", "2027-03-01T06:00:00.Z", "2027-03-01T06:00:00+1:00",
		"2027-03-01 06:00:00Z", "2027-03-01T06:00:00Zx"} {
		if _, ok := ParseTime(bad); ok {
			t.Errorf("%q is taken", bad)
		}
	}
}

// Precedence as section 11 of Semantic Versioning 2.0.0 lists it.
func TestVersionPrecedence(t *testing.T) {
	order := []string{"0.9.9", "1.0.0-0", "1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta", "1.0.0-beta",
		"1.0.0-beta.2", "1.0.0-beta.11", "1.0.0-rc.1", "1.0.0", "2.0.0", "2.1.0", "2.1.1", "10.0.0"}
	for i, a := range order {
		for j, b := range order {
			x, ok1 := parseVersion(a, false)
			y, ok2 := parseVersion(b, false)
			if c := compareVersions(&x, &y); !ok1 || !ok2 || c != cmp.Compare(i, j) {
				t.Errorf("%s against %s: %d", a, b, c)
			}
		}
	}
	for _, bad := range []string{"1", "1.2", "v1.2.3", "1.2.3-", "1.2.3+", "1.2.3-01", "01.2.3", "1.2.3.4",
		"1.2.3-a..b", "1.2.3-ä", "1234567890123456789.0.0", " 1.2.3"} {
		if _, ok := parseVersion(bad, false); ok {
			t.Errorf("%q is taken", bad)
		}
	}
}

// The quick ways agree with the whole ones.
func TestQuickForms(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	texts := []string{"4.2.0", "0.0.0", "04.2.0", "4.2", "4.2.0.1", "4..0", "1000000.0.0", "999999.999999.999999",
		"4.2.0-a", "", ".", "10.0.0.1", "256.0.0.1", "1.2.3.04", "1.2.3", "1.2.3.4.5", "0.0.0.0", "255.255.255.255"}
	for range 5_000 {
		b := make([]byte, rng.IntN(12))
		for i := range b {
			b[i] = "0123456789..."[rng.IntN(13)]
		}
		texts = append(texts, string(b))
	}
	packed := 0
	for _, s := range texts {
		v, ok := parseVersion(s, false)
		if p := packVersion(s); p != 0 {
			packed++
			if !ok || p != v.pack() {
				t.Errorf("%q packs to %d, %t", s, p, ok)
			}
		}
		a, quick := parseIPv4(s)
		whole, err := netip.ParseAddr(s)
		if quick != (err == nil && whole.Is4()) {
			t.Errorf("%q: %t, netip says %v", s, quick, err)
		} else if four := whole.As16(); quick && binary.BigEndian.Uint32(four[12:]) != a {
			t.Errorf("%q is %x", s, a)
		}
	}
	if packed < 20 {
		t.Errorf("only %d versions", packed)
	}
	for range 300 { // sets agree with looking
		var in []string
		for range rng.IntN(60) {
			in = append(in, fmt.Sprint(rng.IntN(80)), strings.Repeat("é", rng.IntN(9)))
		}
		set := newTextSet(in)
		for i := range 100 {
			if s := fmt.Sprint(i); set.has(s) != slices.Contains(in, s) {
				t.Fatalf("%q in %q: %t", s, in, set.has(s))
			}
			if s := strings.Repeat("é", i); set.has(s) != slices.Contains(in, s) {
				t.Fatalf("%q in %q: %t", s, in, set.has(s))
			}
		}
	}
}

func TestVersionRanges(t *testing.T) {
	for text, want := range map[string]string{
		">=4.2.0 <5.0.0": "firmware is version ≥ 4.2.0 and firmware is version < 5.0.0",
		"4.2.x":          "firmware is version ≥ 4.2.0 and firmware is version < 4.3.0-0",
		"v4.x":           "firmware is version ≥ 4.0.0 and firmware is version < 5.0.0-0",
		"4.2.0":          "firmware is version 4.2.0",
		">4":             "firmware is version > 4.0.0",
	} {
		n := &Node{Test: RangeTest, Attribute: "firmware", Text: []string{text}}
		n.Check("w", func(place, mend string) { t.Errorf("%s: %s %s", text, place, mend) })
		if err := n.Expand(); err != nil || n.Words() != want {
			t.Errorf("%s: %v %q, want %q", text, err, n.Words(), want)
		}
	}
	for _, bad := range []string{"", "x", "^4", "4.2.0.x", "4.2.0-rc.x", "=>4"} {
		if err := (&Node{Test: RangeTest, Attribute: "firmware", Text: []string{bad}}).Expand(); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

// Patterns that stand for a comparison of strings decide as the regular expression does.
func TestLiteralPatterns(t *testing.T) {
	texts := []string{"", "site-1", "site-12", "a site-1", "SITE-1", "site", "ſite-1", "4.2.0", "4x2x0", "k", "\u212a",
		"a\nsite-1"}
	literals := 0
	for _, p := range []string{"site-1", "^site-1", "site-1$", "^site-1$", `^4\.2\.0$`, `4.2.0`, "^$", "", "(site)-1",
		"^site|1$", "k", `\Asite-1\z`, "(?m)^site-1$", "(?i)SITE-1", "s+ite"} {
		for _, fold := range []bool{false, true} {
			n := &Node{Test: "string.matches", Attribute: "x", Text: []string{p}, IgnoreCase: fold}
			if _, _, _, ok := literal(p, fold); ok {
				literals++
			}
			re, err := compilePattern(n)
			if err != nil {
				t.Fatal(err)
			}
			for _, s := range texts {
				u := NewContext("", Attribute{Intern("x"), TextValue(s)})
				if got := n.Match(u, Around{}) == True; got != re.MatchString(s) {
					t.Errorf("%q (ignoring case %t) on %q: %t", p, fold, s, got)
				}
			}
		}
	}
	if literals < 12 {
		t.Errorf("only %d patterns were found literal", literals)
	}
}

func TestUnanchored(t *testing.T) {
	for p, want := range map[string]bool{"^a$": false, "^(a|b)$": false, "^a|b$": true, "a": true, "^a": true,
		"^a.*": false, ".*a$": false, "^a$|^b$": false} {
		if got := (&Node{Test: "string.matches", Text: []string{p}}).Unanchored(); got != want {
			t.Errorf("%s: %t", p, got)
		}
	}
}

// The example of the paper's appendix: key 00 01 .. 0f, text 00 01 .. 0e.
func TestSipHash(t *testing.T) {
	var key [16]byte
	var text []byte
	for i := range key {
		key[i] = byte(i)
		if i < 15 {
			text = append(text, byte(i))
		}
	}
	if got := SipHash(key, string(text)); got != 0xa129ca6149be45e5 {
		t.Errorf("%x", got)
	}
	if got := SipHash(key, ""); got != 0x726fdb47dd0e0e31 {
		t.Errorf("empty: %x", got)
	}
}

func TestCanonical(t *testing.T) {
	for raw, want := range map[string]string{
		`{"all":[{"all":[{"test":"present","attribute":"a"},{"test":"present","attribute":"b"}]},{"test":"present","attribute":"c"}]}`:                           "a is present and b is present and c is present",
		`{"not":{"not":{"any":[{"test":"present","attribute":"a"}]}}}`:                                                                                           "a is present",
		`{"any":[{"all":[{"not":{"not":{"any":[{"test":"present","attribute":"a"},{"test":"present","attribute":"b"}]}}}]},{"test":"present","attribute":"c"}]}`: "a is present or b is present or c is present",
	} {
		n := node(t, raw).Canonical()
		if n.Words() != want {
			t.Errorf("%s: %s", raw, n.Words())
		}
	}
}

func TestKleene(t *testing.T) {
	is := map[Truth]Node{True: {Test: "present", Attribute: "x"}, False: {Test: "absent", Attribute: "x"},
		Unknown: {Test: "number.less", Attribute: "x", Numbers: []float64{1}}}
	u := unit(t, `{"x":"text"}`)
	for a, na := range is {
		for b, nb := range is {
			all, any := Node{All: []Node{na, nb}}, Node{Any: []Node{na, nb}}
			if got := all.Match(u, Around{}); got != min(a, b) {
				t.Errorf("%s and %s: %s", a, b, got)
			}
			if got := any.Match(u, Around{}); got != max(a, b) {
				t.Errorf("%s or %s: %s", a, b, got)
			}
		}
	}
}

// Compiled code agrees with the tree under both ways to take the unknown.
func TestCodeAgreesWithMatch(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	leaves := []Node{{Test: "present", Attribute: "x"}, {Test: "absent", Attribute: "x"},
		{Test: "number.less", Attribute: "x", Numbers: []float64{1}}, {Test: SegmentTest, Segment: "s"}, {Test: "odd"}}
	var grow func(depth int) Node
	grow = func(depth int) Node {
		if depth == 0 || rng.IntN(3) == 0 {
			return leaves[rng.IntN(len(leaves))]
		}
		var parts []Node
		for range 1 + rng.IntN(3) {
			parts = append(parts, grow(depth-1))
		}
		return []Node{{All: parts}, {Any: parts}, {Not: &parts[0]}}[rng.IntN(3)]
	}
	counts := map[Truth]int{}
	for range 100_000 {
		n, s := grow(4), grow(2)
		segments := func(key string) *Node { return &s }
		u := []*Context{nil, unit(t, `{"x":"a"}`), unit(t, `{"x":0}`)}[rng.IntN(3)]
		want := n.Match(u, Around{Segments: segments})
		counts[want]++
		for _, holds := range []bool{false, true} {
			var code Code
			yes, no := code.Exit(1), code.Exit(0)
			if err := code.Add(&n, Around{Segments: segments}, holds, yes, no); err != nil {
				t.Fatal(err)
			}
			code.Seal()
			got := code.Run(0, u, 0) == 1
			if got != (want == True || holds && want == Unknown) {
				t.Fatalf("%s is %s; compiled with unknown as %t it gives %t", n.Words(), want, holds, got)
			}
		}
	}
	if counts[True] < 10_000 || counts[False] < 10_000 || counts[Unknown] < 10_000 {
		t.Errorf("the corpus is lopsided: %v", counts)
	}
}

func TestTooLarge(t *testing.T) {
	// Each segment holds the one before twice: written out they double at each step.
	segments := func(key string) *Node {
		var i int
		if _, err := fmt.Sscan(key, &i); err != nil || i == 0 {
			return &Node{Test: "present", Attribute: "x"}
		}
		inner := Node{Test: SegmentTest, Segment: fmt.Sprint(i - 1)}
		return &Node{Any: []Node{inner, inner}}
	}
	var code Code
	exit := code.Exit(0)
	if err := code.Add(&Node{Test: SegmentTest, Segment: "40"}, Around{Segments: segments}, false, exit,
		exit); !errors.Is(err, ErrTooLarge) {
		t.Errorf("%v after %d instructions", err, code.Len())
	}
}

func TestParseContext(t *testing.T) {
	c := unit(t,
		`{"targetingKey":17,"site":{"id":"nested","plan":"plus","deep":{"er":1}},"site.id":"flat","list":["a","b"],"mixed":["a",1],"off":false,"nothing":null}`)
	if c.Key() != "17" {
		t.Errorf("key %q", c.Key())
	}
	for name, want := range map[string]string{"site.id": `"flat"`, "site.plan": `"plus"`, "site.deep.er": "1",
		"list": `"a", "b"`, "mixed": "an object or a mixed list",
		"site": "an object or a mixed list", "off": "false", "nothing": "absent", "nowhere": "absent",
		KeyAttribute: `"17"`} {
		if got := c.Lookup(Intern(name)).String(); got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
	// Of two ways to nest, the longer flat name wins, whatever the order of members.
	for _, raw := range []string{`{"a":{"b.c":1},"a.b":{"c":2}}`, `{"a.b":{"c":2},"a":{"b.c":1}}`} {
		if got := unit(t, raw).Lookup(Intern("a.b.c")).String(); got != "2" {
			t.Errorf("%s: %s", raw, got)
		}
	}
	for raw, place := range map[string]string{`[]`: "context", `5`: "context",
		`{"targetingKey":1.5}`: "context.targetingKey", `{"targetingKey":[]}`: "context.targetingKey",
		`{"a":{"b":9007199254740992}}`: "context.a.b", `{"a":[1e300]}`: "context.a[0]", "{\"a\":\"\xff\"}": "context",
		`{`: "context"} {
		var bad *ContextError
		if _, err := ParseContext([]byte(raw)); !errors.As(err, &bad) || bad.Place != place || bad.Error() == "" {
			t.Errorf("%s: %v, want place %s", raw, err, place)
		}
	}
	if c, err := ParseContext(nil); err != nil || c.Key() != "" {
		t.Errorf("no context: %v", err)
	}
}

func TestShareKey(t *testing.T) {
	c := NewContext("k", Attribute{Intern("text"), TextValue("a")}, Attribute{Intern("empty"), TextValue("")},
		Attribute{Intern("bad"), TextValue("\xff")},
		Attribute{Intern("n"), NumberValue(-5)}, Attribute{Intern("half"), NumberValue(.5)}, Attribute{Intern("flag"),
			BooleanValue(true)}, Attribute{Intern("zero"), NumberValue(math.Copysign(0, -1))})
	for name, want := range map[string]string{KeyAttribute: "k", "text": "a", "empty": "", "bad": "", "n": "-5",
		"half": "", "flag": "", "zero": "0", "nowhere": ""} {
		if got, ok := c.ShareKey(Intern(name)); got != want && ok || ok != (want != "") {
			t.Errorf("%s: %q %t, want %q", name, got, ok, want)
		}
	}
	if _, ok := NewContext("").ShareKey(KeyName); ok {
		t.Error("an empty key is drawn")
	}
}

func TestCheckNamesThePlace(t *testing.T) {
	for raw, place := range map[string]string{
		`{}`: "w", `{"all":[]}`: "w.all", `{"test":"present","all":[]}`: "w",
		`{"all":[{"test":"odd"}]}`: "w.all[0].test", `{"not":{"test":"present"}}`: "w.not.attribute",
		`{"test":"segment"}`: "w", `{"test":"segment","segment":"a","attribute":"b"}`: "w.attribute",
		`{"test":"string.matches","attribute":"a","text":["("]}`:                                    "w.text[0]",
		`{"test":"number.between","attribute":"a","numbers":[5,2]}`:                                 "w",
		`{"test":"number.less","attribute":"a","numbers":[1e17]}`:                                   "w.numbers[0]",
		`{"test":"number.less","attribute":"a","numbers":[1],"ignoreCase":true}`:                    "w.ignoreCase",
		`{"any":[{"test":"present","attribute":"a"}],"attribute":"x"}`:                              "w",
		`{"test":"version.less","attribute":"a","text":["4.2"]}`:                                    "w.text[0]",
		`{"test":"clock.before","text":["2027-03-01"]}`:                                             "w.text[0]",
		`{"test":"clock.before","attribute":"a","text":["2027-03-01T00:00:00Z"]}`:                   "w.attribute",
		`{"test":"clock.between","text":["2027-03-01T00:00:00Z","2027-03-01T00:00:00Z"]}`:           "w",
		`{"test":"address.in","attribute":"a","text":["10.0.0.0/33"]}`:                              "w.text[0]",
		`{"test":"clock.weekly","weekly":{"days":["mo"],"from":"22:00","to":"06:00","zone":"UTC"}}`: "w.weekly.days[0]", `{"test":"clock.weekly","weekly":{"days":["mon"],"from":"24:00","to":"6:00","zone":"UTC"}}`: "w.weekly.from",
		`{"test":"part","part":{"by":[],"share":1,"salt":"s","hash":1}}`:                             "w.part.by",
		`{"test":"part","part":{"by":["a"],"share":1,"salt":"","hash":1}}`:                           "w.part.salt",
		`{"test":"flag.gives","flag":"a"}`:                                                           "w",
		`{"test":"listed","attribute":"a"}`:                                                          "w.test",
		`{"test":"present","attribute":"a","loose":true}`:                                            "w.loose",
		`{"test":"present","attribute":"a","flag":"b"}`:                                              "w.flag",
		`{"test":"string.equals","attribute":"a","text":["` + strings.Repeat("x", MaxText+1) + `"]}`: "w.text[0]",
	} {
		var places []string
		node(t, raw).Check("w", func(place, mend string) {
			if mend == "" {
				t.Errorf("%s: %s without a mend", raw, place)
			}
			places = append(places, place)
		})
		if len(places) == 0 || places[0] != place {
			t.Errorf("%s: %v, want %s", raw, places, place)
		}
	}
}

func TestWords(t *testing.T) {
	for raw, want := range map[string]string{
		`{"test":"string.one-of","attribute":"targetingKey","text":["a","b"]}`:                                                                                                `the key is one of "a", "b"`,
		`{"all":[{"test":"present","attribute":"badge"},{"any":[{"test":"number.between","attribute":"n","numbers":[1,2.5]},{"not":{"test":"segment","segment":"staff"}}]}]}`: `badge is present and (n is between 1 and 2.5 or not in segment staff)`,
		`{"not":{"any":[{"test":"boolean.true","attribute":"a"},{"test":"number.one-of","attribute":"n","numbers":[1,2]}]}}`:                                                  `not (a is true or n is one of 1, 2)`,
		`{"test":"string.ends","attribute":"role","text":["x"],"ignoreCase":true}`:                                                                                            `role ends with "x" (ignoring case)`,
	} {
		if got := node(t, raw).Words(); got != want {
			t.Errorf("%s: %q, want %q", raw, got, want)
		}
	}
}

func FuzzParseContext(f *testing.F) {
	f.Add([]byte(`{"targetingKey":"a","b":{"c":[1,"x"]}}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		c, err := ParseContext(raw)
		var bad *ContextError
		if err != nil && !errors.As(err, &bad) {
			t.Fatalf("%v", err)
		}
		c.ShareKey(KeyName)
		for name, v := range c.Attributes {
			if v.Kind() == Absent || name == KeyAttribute {
				t.Fatalf("%q is %v", name, v)
			}
		}
	})
}

func FuzzCheck(f *testing.F) {
	f.Add(
		[]byte(
			`{"all":[{"test":"string.matches","attribute":"a","text":["^x"]},{"not":{"test":"present","attribute":"b"}}]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		n := &Node{}
		if json.Unmarshal(raw, n) != nil {
			return
		}
		n.Check("w", func(place, mend string) {})
		n.Words()
		var code Code
		exit := code.Exit(0)
		if code.Add(n, Around{}, false, exit, exit) == nil {
			code.Seal()
			code.Run(0, nil, 0)
		}
	})
}

// What is tried one by one is bounded, so that no comparison costs milliseconds.
func TestManyPieces(t *testing.T) {
	many := make([]string, MaxPieces+1)
	for i := range many {
		many[i] = fmt.Sprint("site-", i)
	}
	for test, most := range map[string]int{"string.begins": MaxPieces, "string.ends": MaxPieces,
		"string.contains": MaxPieces, "string.one-of": len(many)} {
		for _, n := range []int{MaxPieces, len(many)} {
			wrong := ""
			(&Node{Test: test, Attribute: "site.id", Text: many[:n]}).Check("w", func(place, mend string) {
				wrong = place + " " + mend
			})
			if (wrong == "") != (n <= most) {
				t.Errorf("%s of %d: %q", test, n, wrong)
			}
		}
	}
}

// Leaves that ask for no attribute are what they are, whatever the context holds.
func TestLeavesWithoutAnAttribute(t *testing.T) {
	c := NewContext("a", Attribute{Intern(""), TextValue("x")}, Attribute{Intern(KeyAttribute), TextValue("y")})
	for raw, want := range map[string]Truth{
		`{"test":"clock.before","text":["2030-01-01T00:00:00Z"]}`:                                                                        True,
		`{"test":"clock.between","text":["2029-01-01T00:00:00Z","2030-01-01T00:00:00Z"]}`:                                                False,
		`{"test":"clock.weekly","weekly":{"days":["mon","tue","wed","thu","fri","sat","sun"],"from":"00:00","to":"24:00","zone":"UTC"}}`: True,
		`{"test":"part","part":{"by":["targetingKey"],"share":1000000,"salt":"x","hash":1}}`:                                             True,
	} {
		n := node(t, raw)
		around := Around{Zones: func(string) func(int64) int { return func(int64) int { return 0 } }}
		if got := n.Match(c, around); got != want {
			t.Errorf("%s: %s", raw, got)
		}
		var code Code
		yes, no := code.Exit(1), code.Exit(0)
		if err := code.Add(n, around, false, yes, no); err != nil {
			t.Fatal(err)
		}
		code.Seal()
		if got := code.Run(0, c, 0); (got == 1) != (want == True) {
			t.Errorf("%s compiled: %d", raw, got)
		}
	}
}

// Trees are equal exactly if they are written alike, member by member.
func TestEqual(t *testing.T) {
	one := `{"all":[{"test":"string.one-of","attribute":"a","text":["x","y"]},{"not":{"any":[{"test":"clock.weekly","weekly":{"days":["mon"],"from":"22:00","to":"06:00","zone":"UTC"}},` +
		`{"test":"part","part":{"by":["a"],"share":5,"salt":"s","hash":1}},{"test":"number.between","attribute":"n","numbers":[1,2]},{"test":"segment","segment":"s"},{"test":"flag.gives","flag":"f","text":["on"]}]}}]}`
	if !node(t, one).Equal(node(t, one)) || !(*Node)(nil).Equal(nil) || node(t, one).Equal(nil) {
		t.Error("a tree is not equal to itself")
	}
	for old, now := range map[string]string{`"string.one-of"`: `"string.begins"`, `"attribute":"a"`: `"attribute":"b"`,
		`["x","y"]`: `["x"]`, `"not":{"any"`: `"not":{"all"`, `["mon"]`: `["tue"]`, `"22:00"`: `"21:00"`,
		`"06:00"`: `"07:00"`,
		`"UTC"`:   `"Europe/Oslo"`, `"share":5`: `"share":6`, `"salt":"s"`: `"salt":"t"`, `"by":["a"]`: `"by":["b"]`,
		`[1,2]`: `[1,3]`, `"segment":"s"`: `"segment":"t"`, `"flag":"f"`: `"flag":"g"`,
		`"text":["on"]`: `"text":["on"],"ignoreCase":true`} {
		if other := node(t, strings.Replace(one, old, now, 1)); node(t, one).Equal(other) ||
			other.Equal(node(t, one)) {
			t.Errorf("%s in place of %s makes no difference", now, old)
		}
	}
}

// No comparison allocates, whatever it compares and however long the text.
func TestComparisonsAllocateNothing(t *testing.T) {
	texts := []string{"courier", "Straße", "ÉTÉ ſK", "10.1.2.3", "2001:db8::1", "1.2.3-rc.1",
		"2027-03-01T06:00:00+01:00", strings.Repeat("aß", 100), strings.Repeat("Zürich ", 5_000)}
	values := []Value{NumberValue(2), BooleanValue(true), ListValue([]string{"nb", "de", "ß"}), OtherValue(), {}}
	for _, s := range texts {
		values = append(values, TextValue(s))
	}
	constants := map[takes]Node{
		oneText: {Text: []string{"COURIER"}}, someText: {Text: []string{"straße", "x", "courier", "nb", "été", "zz",
			"de", "fr"}}, onePattern: {Text: []string{"^[a-zß]+$"}},
		oneNumber: {Numbers: []float64{2}}, twoNumbers: {Numbers: []float64{1, 3}},
		someNumbers: {Numbers: []float64{1, 2}}, oneVersion: {Text: []string{"1.2.3"}},
		oneTime:    {Text: []string{"2027-01-01T00:00:00Z"}},
		twoTimes:   {Text: []string{"2027-01-01T00:00:00Z", "2028-01-01T00:00:00Z"}},
		someBlocks: {Text: []string{"10.0.0.0/8", "2001:db8::/32"}},
		onePart:    {Part: &Within{By: []string{"a"}, Share: 500_000, Salt: "s", Hash: 1}},
		oneWeekly:  {Weekly: &Weekly{Days: []string{"mon"}, From: "22:00", To: "06:00", Zone: "UTC"}},
	}
	utc := func(string) func(int64) int { return func(int64) int { return 0 } }
	ran := 0
	for test, k := range tests {
		patterns := []string{""}
		if k.takes == onePattern {
			patterns = []string{"^[a-z]+$", "[0-9]{3}$", "^(a|b)*c", "(courier|messenger)", "^cour", "ier$", "a.*b.*c",
				"^.{2,30}$"}
		}
		for _, pattern := range patterns {
			for _, ignore := range []bool{false, true} {
				n, ok := constants[k.takes], true
				if pattern != "" {
					n.Text = []string{pattern}
				}
				n.Test, n.Attribute, n.IgnoreCase = test, "a", ignore
				if k.asksNoAttribute() {
					n.Attribute = ""
				}
				in := leaf(&n, utc)
				if ok = in.op != opUnknown; !ok {
					continue // it is written out, or asks others
				}
				for _, v := range values {
					c := NewContext("recipient-7", Attribute{Intern("a"), v})
					ran++
					if got := testing.AllocsPerRun(50, func() { in.test(c, 0) }); got > 0 {
						t.Errorf("%s %s (ignoring case: %v) of %.30s: %v allocations", test, pattern, ignore, v, got)
					}
				}
			}
		}
	}
	if ran < 1_000 {
		t.Errorf("%d comparisons", ran)
	}
}

// Times are written as they are read, and as the calendar has them.
func TestPrintTime(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	for range 20_000 {
		ms := rng.Int64N(253_402_300_799_000+62_135_596_800_000) - 62_135_596_800_000
		got, want := PrintTime(ms), time.UnixMilli(ms).UTC().Format(time.RFC3339)
		if got != want {
			t.Fatalf("%d is printed as %s, not %s", ms, got, want)
		}
		if back, ok := ParseTime(got); !ok || back != ms-((ms%1000)+1000)%1000 {
			t.Fatalf("%s is read as %d", got, back)
		}
	}
}
