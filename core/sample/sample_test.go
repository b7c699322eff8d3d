package sample

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"greenlever.example/core/condition"
)

// Hashes of keys that look alike are even: in each of 64 bands of the hash space lies its
// share of them, and one changed bit changes half of the bits.
func TestHashIsEven(t *testing.T) {
	for _, format := range []string{"site-%d", "recipient-%08d", "%d@pinecrest.example",
		"7f3c9c1e-52a4-4a8e-9b51-%012d"} {
		const n, bands = 64_000, 64
		var count [bands]int
		seen := map[uint64]bool{}
		for i := range n {
			h := Hash(42, fmt.Sprintf(format, i))
			count[h>>58]++
			seen[h] = true
		}
		if len(seen) != n {
			t.Errorf("%s: %d of %d hashes differ", format, len(seen), n)
		}
		chi := 0.0
		for _, c := range count {
			d := float64(c) - n/bands
			chi += d * d / (n / bands)
		}
		if chi > 120 { // the 99.999 % quantile of 63 degrees of freedom is about 119
			t.Errorf("%s: chi-squared %.1f", format, chi)
		}
	}
	if Hash(1, "a") == Hash(2, "a") || Hash(1, "") == Hash(1, "\x00") || Hash(1, "12345678") == Hash(1,
		"12345678\x00") {
		t.Error("different inputs hash alike")
	}
}

// Few units make most of the calls; the sample holds each unit as likely, whatever it calls.
func TestSampleIsOverUnitsNotCalls(t *testing.T) {
	const units = 20_000
	rng := rand.New(rand.NewPCG(1, 1))
	s := NewUnits()
	for i := range units { // each calls once, those below 100 another ten thousand times
		calls := 1
		if i < 100 {
			calls = 10_000
		}
		key := fmt.Sprintf("recipient-%d", i)
		h := Hash(7, key)
		for range calls {
			if h < s.Limit() {
				s.Add(h, key, condition.NewContext(key), rng.Int64N(1000))
			}
		}
	}
	all := s.All()
	if len(all) != K {
		t.Fatalf("%d units", len(all))
	}
	busy := 0
	for _, u := range all {
		var i int
		_, _ = fmt.Sscanf(u.Key, "recipient-%d", &i)
		if i < 100 {
			busy++
		}
	}
	if want := 100.0 * K / units; math.Abs(float64(busy)-want) > 4*math.Sqrt(want) {
		t.Errorf("%d busy units in the sample, about %.0f are their share", busy, want)
	}
}

// Samples of parts, merged, are the sample of the whole, whatever was seen where and when.
func TestMergingIsSamplingTheWhole(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 2))
	whole := NewUnits()
	parts := []*Units{NewUnits(), NewUnits(), NewUnits()}
	for range 60_000 {
		key := fmt.Sprint("site-", rng.IntN(9_000))
		h := Hash(3, key)
		whole.Add(h, key, nil, 0)
		parts[rng.IntN(3)].Add(h, key, nil, 0)
	}
	merged := NewUnits()
	for _, p := range parts {
		for _, u := range p.All() {
			merged.Add(u.Hash, u.Key, u.Context, u.Seen)
		}
	}
	keys := func(u *Units) (out []string) {
		for _, unit := range u.All() {
			out = append(out, unit.Key)
		}
		return out
	}
	if !slices.Equal(keys(whole), keys(merged)) {
		t.Error("the merged sample is another one")
	}
	merged.Bound(merged.All()[100].Hash)
	if len(merged.All()) != 100 || merged.Limit() != whole.All()[100].Hash {
		t.Errorf("bounded to %d units", len(merged.All()))
	}
	if _, fresh := merged.Add(math.MaxUint64, "late", nil, 0); fresh {
		t.Error("a unit beyond the limit is kept")
	}
}

// The cover shrinks at once and widens only when what it should hold could come again.
func TestCover(t *testing.T) {
	const keep = 1000
	c := WholeCover()
	if c = c.Step(K, nil, 0, keep); c.Part() != 1 {
		t.Errorf("%+v", c)
	}
	c = c.Step(2*K, func() uint64 { return 1 << 62 }, 10, keep)
	if c.Collect != 1<<62 || c.Part() != .25 {
		t.Errorf("too many: %+v", c)
	}
	c = c.Step(K/2, nil, 20, keep) // few are left: collect more, use the narrow part for now
	if c.Collect != 1<<63 || c.Part() != .25 {
		t.Errorf("few: %+v", c)
	}
	if c = c.Step(K, nil, 20+keep-1, keep); c.Part() != .25 {
		t.Errorf("too early: %+v", c)
	}
	if c = c.Step(K, nil, 20+keep, keep); c.Part() != .5 {
		t.Errorf("in time: %+v", c)
	}
	if c = c.Step(3, nil, 2*keep, keep); c.Collect != math.MaxUint64 {
		t.Errorf("hardly any: %+v", c)
	}
	if c = c.Step(3, nil, 4*keep, keep); c.Part() != 1 {
		t.Errorf("everybody again: %+v", c)
	}
}

func attr(name string, v condition.Value) condition.Attribute {
	return condition.Attribute{Name: condition.Intern(name), Value: v}
}

func TestAttributesWithinFixedMemory(t *testing.T) {
	var a Attributes
	keep := func(name string) bool { return name != "email" }
	for i := range 10_000 {
		region := "north"
		if i%4 == 0 {
			region = "east"
		}
		crew := condition.NumberValue(float64(i % 3))
		if i < 300 {
			crew = condition.TextValue("2")
		}
		a.Note(condition.NewContext("k", attr("site.region", condition.TextValue(region)), attr("crew_size", crew),
			attr("email", condition.TextValue("a@pinecrest.example")),
			attr(fmt.Sprint("x", i), condition.BooleanValue(true)), attr("id", condition.TextValue(fmt.Sprint(i)))),
			int64(i), keep)
	}
	contexts, seen := a.Take()
	if contexts != 10_000 || len(seen) != MaxAttributes {
		t.Errorf("%d contexts, %d attributes", contexts, len(seen))
	}
	byName := map[string]Seen{}
	for _, s := range seen {
		byName[s.Name] = s
		if len(s.Values) > MaxValues {
			t.Errorf("%s keeps %d values", s.Name, len(s.Values))
		}
	}
	if v := byName["site.region"].Values; len(v) != 2 || v[0] != (ValueCount{"north", 7_500}) ||
		v[1] != (ValueCount{"east", 2_500}) {
		t.Errorf("regions: %v", v)
	}
	if s := byName["crew_size"]; s.Kinds["string"] != 300 || s.Kinds["number"] != 9_700 {
		t.Errorf("crew_size: %v", s.Kinds)
	} else if kind, ok := s.Mostly(); kind != "number" || !ok {
		t.Errorf("crew_size is mostly %q", kind)
	}
	if s := byName["email"]; len(s.Values) != 0 || s.Present() != 10_000 || s.Last != 9_999 {
		t.Errorf("email: %+v", s)
	}
	if n, _ := a.Take(); n != 0 {
		t.Errorf("%d contexts after taking", n)
	}
	// A value that is frequent is never lost to many rare ones.
	values := map[string]uint64{}
	for i := range 5_000 {
		CountValue(values, fmt.Sprint("rare", i), 1)
		if i%10 == 0 {
			CountValue(values, "frequent", 10)
		}
	}
	if values["frequent"] < 5_000 {
		t.Errorf("the frequent value was counted %d times", values["frequent"])
	}
}

func TestCleanTakesPersonalAttributesOut(t *testing.T) {
	c := condition.NewContext("k", attr("email", condition.TextValue("ida.holm@pinecrest.example")),
		attr("badge", condition.TextValue("B-7")), attr("phone", condition.TextValue("1")),
		attr("site.id", condition.TextValue("site-1")), attr("broken", condition.TextValue("no address")),
		attr("languages", condition.ListValue([]string{"de"})))
	got, removed := Clean(c, map[string]Derivation{"email": Domain, "badge": Presence, "phone": Nothing,
		"broken": Domain})
	if fmt.Sprint(got) != "map[badge:map[] email:@pinecrest.example languages:[de] site.id:site-1]" ||
		fmt.Sprint(removed) != "[phone broken]" {
		t.Errorf("%v, removed %v", got, removed)
	}
}
