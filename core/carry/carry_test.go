package carry

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"testing"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/merge"
)

// history makes random edits of one flag, as they are saved: shares move as few buckets as their new sizes want.
type history struct {
	*rand.Rand
	next int
}

var places = []string{"north", "south", "yard"}

func (h *history) gives(old *flag.Shares, end bool) flag.Gives {
	if h.IntN(2) == 0 {
		return flag.Gives{Variant: []string{"a", "b", "c"}[h.IntN(3)]}
	}
	first := uint32(h.IntN(1_000_001))
	second := uint32(h.IntN(1_000_001 - int(first)))
	s := &flag.Shares{By: []string{condition.KeyAttribute}, Salt: fmt.Sprint("s", h.next), Hash: 1, Parts: []flag.Part{
		{Variant: "a", Share: first}, {Variant: "b", Share: second}, {Variant: "c", Share: 1_000_000 - first - second}}}
	if !end && h.IntN(2) == 0 {
		s.Parts[2] = flag.Part{GoesOn: true, Share: s.Parts[2].Share}
	}
	if old != nil {
		s.Salt = old.Salt
	}
	h.next++
	if err := s.Arrange(old, "c"); err != nil {
		panic(err)
	}
	return flag.Gives{Shares: s}
}

func (h *history) edit(of *flag.Document) *flag.Document {
	d := *of
	d.Rules = slices.Clone(of.Rules)
	switch n := h.IntN(8); {
	case n == 0:
		d.Lever = []flag.Lever{flag.On, flag.On, flag.Off}[h.IntN(3)]
	case n == 1:
		d.End = h.gives(of.End.Shares, true)
	case n == 2 && len(d.Rules) > 0:
		d.Rules = slices.Delete(d.Rules, 0, 1)
	case n == 3 && len(d.Rules) > 1:
		d.Rules[0], d.Rules[1] = d.Rules[1], d.Rules[0]
	case n == 4 && len(d.Rules) > 0:
		at := h.IntN(len(d.Rules))
		d.Rules[at].Gives = h.gives(d.Rules[at].Gives.Shares, false)
	case n == 5 && len(d.Rules) > 0:
		at := h.IntN(len(d.Rules))
		d.Rules[at].Parked = !d.Rules[at].Parked
	default:
		h.next++
		d.Rules = slices.Insert(d.Rules, h.IntN(len(d.Rules)+1), flag.Rule{ID: fmt.Sprint("r", h.next),
			Name: fmt.Sprint("Rule ", h.next), Gives: h.gives(nil, false),
			When: &condition.Node{Test: "string.one-of", Attribute: "place", Text: []string{places[h.IntN(3)]}}})
	}
	return &d
}

func first() *flag.Document {
	return &flag.Document{Key: "doors", Type: flag.String, Lever: flag.On, Resting: "c",
		Variants: map[string]json.RawMessage{"a": json.RawMessage(`"A"`), "b": json.RawMessage(`"B"`),
			"c": json.RawMessage(`"C"`)}, End: flag.Gives{Variant: "c"}}
}

// decisions are what a document gives to units.
func decisions(t *testing.T, d *flag.Document, n int, seed uint64) []string {
	t.Helper()
	raw, err := json.Marshal(d)
	if err != nil {
		t.Fatal(err)
	}
	src, err := flag.NewRuleset(&flag.Snapshot{Format: flag.Format, Flags: []json.RawMessage{raw}})
	if err != nil {
		t.Fatal(err)
	}
	rs := decide.Compile(src, func(string) func(int64) int { return nil })
	f := rs.Flag(d.Key)
	r := rand.New(rand.NewPCG(seed, 1))
	out := make([]string, n)
	for i := range out {
		c := condition.NewContext(fmt.Sprint("unit-", r.IntN(1<<30)),
			condition.Attribute{Name: condition.Intern("place"), Value: condition.TextValue(places[r.IntN(3)])})
		out[i] = f.Variant(f.Decide(rs, c, 0).Variant).Name
	}
	return out
}

// amounts are how many histories and contexts: all of them where there is time.
func amounts() (histories, contexts int) {
	if os.Getenv("GREENLEVER_TORTURE") != "" {
		return 2_000, 10_000
	}
	return 400, 400
}

// A flag as it stood decides as it did then, whatever came since; and the last change taken back leaves what was there
// before it.
func TestHistories(t *testing.T) {
	t.Parallel()
	histories, contexts := amounts()
	for seed := range uint64(histories) {
		h := &history{Rand: rand.New(rand.NewPCG(seed, 2))}
		past := []*flag.Document{first()}
		for range 3 + h.IntN(8) {
			past = append(past, h.edit(past[len(past)-1]))
		}
		now, before := past[len(past)-1], past[len(past)-2]
		then := past[h.IntN(len(past))]
		stands, err := Stood(now, then, func(string) bool { return false })
		if err != nil {
			t.Fatal(err)
		}
		if want, got := decisions(t, then, contexts, seed), decisions(t, stands, contexts, seed); !slices.Equal(want,
			got) {
			t.Fatalf("history %d: as it stood it decides otherwise", seed)
		}
		merged, conflicts, err := merge.Flag.Merge(asJSON(t, now), asJSON(t, now), asJSON(t, before))
		if err != nil || len(conflicts) > 0 {
			t.Fatalf("history %d: %v %v", seed, conflicts, err)
		}
		var undone flag.Document
		if err := json.Unmarshal(merged, &undone); err != nil {
			t.Fatal(err)
		}
		if want, got := decisions(t, before, contexts, seed), decisions(t, &undone, contexts, seed); !slices.Equal(want,
			got) {
			t.Fatalf("history %d: taken back it decides otherwise", seed)
		}
	}
}

// A change in the middle is taken back under what came later: either the two touch, and it says so, or everything that
// came later stands.
func TestUndoneUnderLater(t *testing.T) {
	t.Parallel()
	clean := 0
	for seed := range uint64(1_000) {
		h := &history{Rand: rand.New(rand.NewPCG(seed, 3))}
		before := first()
		for range 4 {
			before = h.edit(before)
		}
		after := h.edit(before)
		now := h.edit(after)
		merged, conflicts, err := merge.Flag.Merge(asJSON(t, after), asJSON(t, now), asJSON(t, before))
		if err != nil {
			t.Fatal(err)
		}
		if len(conflicts) > 0 {
			continue
		}
		clean++
		// What the later change did is done to what was before, as well.
		later, err := merge.Flag.Edits(asJSON(t, after), asJSON(t, now))
		if err != nil {
			t.Fatal(err)
		}
		left, err := merge.Flag.Edits(merged, asJSON(t, now))
		if err != nil {
			t.Fatal(err)
		}
		undone, err := merge.Flag.Edits(asJSON(t, before), asJSON(t, after))
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range left { // what is other than now is what was taken back, and nothing of what came later
			if slices.ContainsFunc(later, func(o merge.Edit) bool { return o.Place == e.Place && o.Place != "rules" }) &&
				!slices.ContainsFunc(undone, func(o merge.Edit) bool { return o.Place == e.Place }) {
				t.Fatalf("history %d: %s of a later change was taken back", seed, e.Place)
			}
		}
	}
	if clean < 300 {
		t.Fatalf("only %d of 1000 could be taken back", clean)
	}
}

func asJSON(t *testing.T, d *flag.Document) json.RawMessage {
	t.Helper()
	raw, err := json.Marshal(d)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// Rules of a release that runs stay as they stand, where they stand; those of one that is over are plain.
func TestReleasesStay(t *testing.T) {
	t.Parallel()
	rule := func(id, release string) flag.Rule {
		return flag.Rule{ID: id, Name: id, Release: release, Gives: flag.Gives{Variant: "a"}}
	}
	runs := func(release string) bool { return release == "runs" }
	for _, c := range []struct {
		says             string
		then, now, wants []flag.Rule
	}{
		{"it had begun already: its group is the one of now", []flag.Rule{rule("x", ""), rule("old", "runs"),
			rule("y", "")}, []flag.Rule{rule("g1", "runs"), rule("g2", "runs"), rule("x", "")},
			[]flag.Rule{rule("x", ""), rule("g1", "runs"), rule("g2", "runs"), rule("y", "")}},
		{"it began later: behind what stands before it", []flag.Rule{rule("x", ""), rule("y", "")},
			[]flag.Rule{rule("x", ""), rule("z", ""), rule("g1", "runs"), rule("g2", "runs")},
			[]flag.Rule{rule("x", ""), rule("g1", "runs"), rule("g2", "runs"), rule("y", "")}},
		{"nothing of what stands before it is left: on top", []flag.Rule{rule("y", "")},
			[]flag.Rule{rule("z", ""), rule("g1", "runs")}, []flag.Rule{rule("g1", "runs"), rule("y", "")}},
		{"it is over: a plain rule", []flag.Rule{rule("e", "over")}, nil, []flag.Rule{rule("e", "")}},
		{"it ran then, and is gone: a plain rule", []flag.Rule{rule("e", "runs")}, []flag.Rule{rule("z", "")},
			[]flag.Rule{rule("e", "")}},
	} {
		if got := Around(c.then, c.now, runs); !reflect.DeepEqual(got, c.wants) {
			t.Errorf("%s: %v", c.says, ids(got))
		}
	}
}

func ids(rules []flag.Rule) (out []string) {
	for _, r := range rules {
		out = append(out, r.ID+"/"+r.Release)
	}
	return out
}

// A variant that came since stays; one that is no more and that it gave then is named.
func TestVariantsOfThen(t *testing.T) {
	t.Parallel()
	then, now := first(), first()
	now.Variants["d"] = json.RawMessage(`"D"`)
	delete(now.Variants, "b")
	got, err := Stood(now, then, func(string) bool { return false })
	if err != nil || len(got.Variants) != 3 || got.Variants["d"] == nil {
		t.Fatalf("%v %v", got, err)
	}
	then.End = flag.Gives{Variant: "b"}
	if _, err := Stood(now, then, func(string) bool { return false }); err == nil {
		t.Error("it gave b then, and there is no b")
	}
}

// Promoted with its salts and buckets a flag gives the same units the same, of 600,000 keys.
func TestPromotedUnits(t *testing.T) {
	t.Parallel()
	keys := 60_000
	if os.Getenv("GREENLEVER_TORTURE") != "" {
		keys = 600_000
	}
	h := &history{Rand: rand.New(rand.NewPCG(5, 5))}
	from, to := first(), first()
	for range 6 {
		from, to = h.edit(from), h.edit(to)
	}
	from.Lever, to.Lever, from.End = flag.On, flag.On, h.gives(nil, true)
	got := Promote(from, to, What{Rules: true}, func(string) bool { return false })
	if !slices.Equal(decisions(t, from, keys, 9), decisions(t, got, keys, 9)) {
		t.Error("other units are in")
	}
	if got.Resting != to.Resting || got.Lever != to.Lever {
		t.Error("more than the rules was promoted")
	}
	to.Variants["a"] = json.RawMessage(`"other"`)
	if v := Promote(from, to, What{Values: true}, nil).Variants["a"]; string(v) != `"A"` {
		t.Errorf("the value is %s", v)
	}
}

// Each document comes after those that it refers to.
func TestOrder(t *testing.T) {
	t.Parallel()
	a, b, c := first(), first(), first()
	a.Key, b.Key, c.Key = "a", "b", "c"
	a.Needs = []flag.Need{{Flag: "c", Variant: "a"}}
	c.Rules = []flag.Rule{{ID: "r", When: &condition.Node{Test: condition.FlagTest, Flag: "b", Text: []string{"a"}}},
		{ID: "q", When: &condition.Node{Test: condition.SegmentTest, Segment: "y"}}}
	y := &flag.Segment{Key: "y", When: &condition.Node{Test: condition.SegmentTest, Segment: "z"}}
	z := &flag.Segment{Key: "z"}
	got := Order([]*flag.Document{a, b, c}, []*flag.Segment{y, z})
	want := []Ref{{"z", true}, {"y", true}, {"b", false}, {"c", false}, {"a", false}}
	if !slices.Equal(got, want) {
		t.Errorf("%v", got)
	}
	empty, other := Missing(c, func(key string) *flag.Segment {
		return map[string]*flag.Segment{"y": y,
			"z": {Key: "z", When: y.When}}[key]
	}, func(key string) *flag.Segment { return &flag.Segment{Key: key} })
	if !slices.Equal(empty, []string{"y", "z"}) || other != nil {
		t.Errorf("%v %v", empty, other)
	}
}
