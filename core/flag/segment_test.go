package flag

import (
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"greenlever.example/core/condition"
)

func TestListsBeatTheCondition(t *testing.T) {
	s := &Segment{Key: "pilot", In: &List{Units: []string{"a", "b"}}, Out: &List{Units: []string{"b", "c"}},
		When: &condition.Node{Test: "string.one-of", Attribute: condition.KeyAttribute, Text: []string{"c", "d"}}}
	for key, want := range map[string]condition.Truth{"a": condition.True, "b": condition.False, "c": condition.False,
		"d": condition.True, "e": condition.False, "": condition.Unknown} {
		n := s.Condition(nil)
		if got := n.Match(condition.NewContext(key), condition.Around{}); got != want {
			t.Errorf("%q: %s, want %s", key, got, want)
		}
		if got := (&condition.Node{Not: n}).Match(condition.NewContext(key), condition.Around{}); got != want.Not() {
			t.Errorf("not %q: %s", key, got)
		}
	}
	// Where the listed attribute is absent, membership is unknown even if the condition holds.
	s.Lists, s.When = "site.id", &condition.Node{Test: "present", Attribute: condition.KeyAttribute}
	if got := s.Condition(nil).Match(condition.NewContext("d"), condition.Around{}); got != condition.Unknown {
		t.Errorf("without the attribute: %s", got)
	}
	site := condition.NewContext("x", condition.Attribute{Name: condition.Intern("site.id"),
		Value: condition.NumberValue(7)})
	s.In.Units = []string{"7"}
	if got := s.Condition(nil).Match(site, condition.Around{}); got != condition.True {
		t.Errorf("an integer is listed in decimal: %s", got)
	}
	if got := (&Segment{Key: "nobody"}).Condition(nil).Match(site, condition.Around{}); got != condition.False {
		t.Errorf("nobody: %s", got)
	}
}

func TestLongLists(t *testing.T) {
	var secret [16]byte
	copy(secret[:], "pinecrest-lists!")
	keys := make([]string, 200_000)
	for i := range keys {
		keys[i] = fmt.Sprint("recipient-", i)
	}
	h := HashUnits(secret, keys)
	if len(h) != len(keys) {
		t.Fatalf("%d hashes", len(h))
	}
	s := &Segment{Key: "many", In: &List{Digest: "d", Count: len(h),
		Secret: base64.StdEncoding.EncodeToString(secret[:])}}
	at := func(lists Lists) *condition.Node { return s.Condition(lists) }
	have := at(func(string) Hashes { return h })
	for _, k := range keys[:5_000] {
		if have.Match(condition.NewContext(k), condition.Around{}) != condition.True {
			t.Fatalf("%s is not in the list", k)
		}
		if have.Match(condition.NewContext(k+"x"), condition.Around{}) != condition.False {
			t.Fatalf("%sx is in the list", k)
		}
	}
	if got := at(func(string) Hashes { return nil }).Match(condition.NewContext(keys[0]),
		condition.Around{}); got != condition.Unknown {
		t.Errorf("a list that is not at hand: %s", got)
	}
	if x := have.Explain(condition.NewContext("recipient-7"),
		condition.Around{}); x.Parts[1].Parts[0].Words.String() != "the key is one of 200000 units listed, by hash" {
		t.Errorf("%+v", x)
	}
	for range 1_000 { // searching agrees with looking
		want := rand.Uint64()
		if h.has(want) != slices.Contains(h, want) {
			t.Fatal(want)
		}
	}
	for _, small := range []Hashes{{}, {5}, {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18,
		1<<64 - 1}} {
		for _, want := range []uint64{0, 5, 18, 19, 1<<64 - 1, 1 << 63} {
			if small.has(want) != slices.Contains(small, want) {
				t.Errorf("%d in %v", want, small)
			}
		}
	}
}

func TestListsTravelAsDifferences(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 9))
	random := func(n int) Hashes {
		h := make(Hashes, n)
		for i := range h {
			h[i] = rng.Uint64N(500)
		}
		slices.Sort(h)
		return slices.Compact(h)
	}
	for range 300 {
		a, b := random(rng.IntN(200)), random(rng.IntN(200))
		got, err := ReadList(b.Delta(a), a)
		if err != nil || !slices.Equal(got, b) {
			t.Fatalf("%v to %v gave %v, %v", a, b, got, err)
		}
		if whole, err := ReadList(b.Bytes(), a); err != nil || !slices.Equal(whole, b) {
			t.Fatalf("whole: %v", err)
		}
	}
	big := random(300)
	one := append(slices.Clone(big), 1_000_000)
	if d := one.Delta(big); len(d) > 60 {
		t.Errorf("one unit more takes %d bytes", len(d))
	}
	for _, bad := range [][]byte{{1}, Hashes{2, 1}.Bytes(), append(slices.Clone(deltaMark), 1),
		append(slices.Clone(deltaMark), 9, 0, 0, 0, 0, 0, 0, 0)} {
		if _, err := ReadList(bad, nil); err == nil {
			t.Errorf("%v is taken", bad)
		}
	}
}

func TestSegmentCheck(t *testing.T) {
	many := make([]string, MaxInline+1)
	for i := range many {
		many[i] = fmt.Sprint(i)
	}
	for want, s := range map[string]*Segment{
		"in.units[1]":  {Key: "a", In: &List{Units: []string{"x", "x"}}},
		"out.units[0]": {Key: "a", Out: &List{Units: []string{""}}},
		"in.units":     {Key: "a", In: &List{Units: many}},
		"in":           {Key: "a", In: &List{Units: []string{"x"}, Digest: "d"}},
		"out":          {Key: "a", Out: &List{Count: 3}},
		"key":          {Key: "A B"},
	} {
		if found := s.Check(); len(found) == 0 || found[0].Place != want || found[0].Mend == "" {
			t.Errorf("%s: %v", want, found)
		}
	}
}
