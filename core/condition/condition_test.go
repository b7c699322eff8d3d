package condition

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
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
		{`"test":"boolean.true"`, `true`, `false`, `"true"`},
		{`"test":"boolean.false"`, `false`, `true`, `0`},
	} {
		n := node(t, `{"attribute":"x",`+c.leaf+`}`)
		n.Check("when", func(place, mend string) { t.Errorf("%s: %s %s", c.leaf, place, mend) })
		not := &Node{Not: n}
		for value, want := range map[string]Truth{c.match: True, c.miss: False, c.wrong: Unknown, "null": Unknown} {
			u := unit(t, `{"x":`+value+`}`)
			if got := n.Match(u, nil); got != want {
				t.Errorf("%s on %s: %s, want %s", c.leaf, value, got, want)
			}
			if got := not.Match(u, nil); got != want.Not() {
				t.Errorf("not %s on %s: %s, want %s", c.leaf, value, got, want.Not())
			}
		}
	}
	present, absent := node(t, `{"test":"present","attribute":"x"}`), node(t, `{"test":"absent","attribute":"x"}`)
	for value, want := range map[string]Truth{`"a"`: True, `1`: True, `{}`: True, `[1]`: True, `null`: False} {
		u := unit(t, `{"x":`+value+`}`)
		if present.Match(u, nil) != want || absent.Match(u, nil) != want.Not() {
			t.Errorf("present and absent on %s", value)
		}
	}
}

func TestKleene(t *testing.T) {
	is := map[Truth]Node{True: {Test: "present", Attribute: "x"}, False: {Test: "absent", Attribute: "x"}, Unknown: {Test: "number.less", Attribute: "x", Numbers: []float64{1}}}
	u := unit(t, `{"x":"text"}`)
	for a, na := range is {
		for b, nb := range is {
			all, any := Node{All: []Node{na, nb}}, Node{Any: []Node{na, nb}}
			if got := all.Match(u, nil); got != min(a, b) {
				t.Errorf("%s and %s: %s", a, b, got)
			}
			if got := any.Match(u, nil); got != max(a, b) {
				t.Errorf("%s or %s: %s", a, b, got)
			}
		}
	}
}

// Compiled code agrees with the tree under both ways to take the unknown.
func TestCodeAgreesWithMatch(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	leaves := []Node{{Test: "present", Attribute: "x"}, {Test: "absent", Attribute: "x"}, {Test: "number.less", Attribute: "x", Numbers: []float64{1}}, {Test: SegmentTest, Segment: "s"}, {Test: "odd"}}
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
		want := n.Match(u, segments)
		counts[want]++
		for _, holds := range []bool{false, true} {
			var code Code
			yes, no := code.Exit(1), code.Exit(0)
			if err := code.Add(&n, segments, holds, yes, no); err != nil {
				t.Fatal(err)
			}
			code.Seal()
			got := code.Run(0, u) == 1
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
	if err := code.Add(&Node{Test: SegmentTest, Segment: "40"}, segments, false, exit, exit); !errors.Is(err, ErrTooLarge) {
		t.Errorf("%v after %d instructions", err, code.Len())
	}
}

func TestParseContext(t *testing.T) {
	c := unit(t, `{"targetingKey":17,"site":{"id":"nested","plan":"plus","deep":{"er":1}},"site.id":"flat","list":["a","b"],"mixed":["a",1],"off":false,"nothing":null}`)
	if c.Key() != "17" {
		t.Errorf("key %q", c.Key())
	}
	for name, want := range map[string]string{"site.id": `"flat"`, "site.plan": `"plus"`, "site.deep.er": "1", "list": `"a", "b"`, "mixed": "an object or a mixed list",
		"site": "an object or a mixed list", "off": "false", "nothing": "absent", "nowhere": "absent", KeyAttribute: `"17"`} {
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
	for raw, place := range map[string]string{`[]`: "context", `5`: "context", `{"targetingKey":1.5}`: "context.targetingKey", `{"targetingKey":[]}`: "context.targetingKey",
		`{"a":{"b":9007199254740992}}`: "context.a.b", `{"a":[1e300]}`: "context.a[0]", "{\"a\":\"\xff\"}": "context", `{`: "context"} {
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
	c := NewContext("k", Attribute{Intern("text"), TextValue("a")}, Attribute{Intern("empty"), TextValue("")}, Attribute{Intern("bad"), TextValue("\xff")},
		Attribute{Intern("n"), NumberValue(-5)}, Attribute{Intern("half"), NumberValue(.5)}, Attribute{Intern("flag"), BooleanValue(true)}, Attribute{Intern("zero"), NumberValue(math.Copysign(0, -1))})
	for name, want := range map[string]string{KeyAttribute: "k", "text": "a", "empty": "", "bad": "", "n": "-5", "half": "", "flag": "", "zero": "0", "nowhere": ""} {
		if got, ok := c.ShareKey(Intern(name)); got != want && ok || ok != (want != "") {
			t.Errorf("%s: %q %t, want %q", name, got, ok, want)
		}
	}
	if _, ok := NewContext("").ShareKey(keyName); ok {
		t.Error("an empty key is drawn")
	}
}

func TestCheckNamesThePlace(t *testing.T) {
	for raw, place := range map[string]string{
		`{}`: "w", `{"all":[]}`: "w.all", `{"test":"present","all":[]}`: "w", `{"all":[{"test":"odd"}]}`: "w.all[0].test", `{"not":{"test":"present"}}`: "w.not.attribute",
		`{"test":"segment"}`: "w", `{"test":"segment","segment":"a","attribute":"b"}`: "w.attribute", `{"test":"string.matches","attribute":"a","text":["("]}`: "w.text[0]",
		`{"test":"number.between","attribute":"a","numbers":[5,2]}`: "w", `{"test":"number.less","attribute":"a","numbers":[1e17]}`: "w.numbers[0]",
		`{"test":"number.less","attribute":"a","numbers":[1],"ignoreCase":true}`: "w.ignoreCase", `{"any":[{"test":"present","attribute":"a"}],"attribute":"x"}`: "w",
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
		c.ShareKey(keyName)
		for name, v := range c.Attributes {
			if v.Kind() == Absent || name == KeyAttribute {
				t.Fatalf("%q is %v", name, v)
			}
		}
	})
}

func FuzzCheck(f *testing.F) {
	f.Add([]byte(`{"all":[{"test":"string.matches","attribute":"a","text":["^x"]},{"not":{"test":"present","attribute":"b"}}]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		n := &Node{}
		if json.Unmarshal(raw, n) != nil {
			return
		}
		n.Check("w", func(place, mend string) {})
		n.Words()
		var code Code
		exit := code.Exit(0)
		if code.Add(n, nil, false, exit, exit) == nil {
			code.Seal()
			code.Run(0, nil)
		}
	})
}
