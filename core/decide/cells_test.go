package decide

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// A flag with more rules than a block has slots still counts each decision somewhere that
// says its variant and reason.
func TestCellsFitIntoABlock(t *testing.T) {
	d := boolean("night-batching")
	half := func() *flag.Shares {
		s := &flag.Shares{By: []string{condition.KeyAttribute}, Salt: "s", Hash: bucket.Scheme,
			Parts: []flag.Part{{Variant: "on", Share: 500_000}, {GoesOn: true, Share: 500_000}}}
		if err := s.Arrange(nil, "off"); err != nil {
			t.Fatal(err)
		}
		return s
	}
	for i := range flag.MaxRules {
		r := flag.Rule{ID: fmt.Sprint("r", i), Name: "x", When: &condition.Node{Test: "number.equals", Attribute: "n",
			Numbers: []float64{float64(i)}}}
		r.Gives = (flag.Gives{Variant: "on"})
		if i%2 == 0 {
			r.Gives = flag.Gives{Shares: half()}
		}
		d.Rules = append(d.Rules, r)
	}
	for i := range 20 { // many variants, so that cells run out
		d.Variants[fmt.Sprint("v", i)] = json.RawMessage("true")
	}
	rs := compileOne(t, d)
	f := rs.Flag(d.Key)
	if len(f.Cells()) > SlotBlock || rs.Slots() > SlotBlock {
		t.Fatalf("%d cells, %d slots", len(f.Cells()), rs.Slots())
	}
	later := 0
	for i := range flag.MaxRules {
		c := condition.NewContext("recipient-17", condition.Attribute{Name: condition.Intern("n"),
			Value: condition.NumberValue(float64(i))})
		o := f.Decide(rs, c, 0)
		cell := f.Cells()[o.Cell]
		if cell.Variant != f.Variant(o.Variant).Name || cell.Reason != o.Reason {
			t.Fatalf("rule %d: counted as %+v, decided %+v", i, cell, o)
		}
		if cell.Rule == LaterRules {
			later++
		} else if cell.Rule != f.RuleID(o) {
			t.Fatalf("rule %d: counted as %+v", i, cell)
		}
	}
	if later == 0 || later > flag.MaxRules-20 {
		t.Errorf("%d rules share their cells", later)
	}
	if o := compileOne(t, flag.Document{Key: "broken"}).Flag("broken"); o.ErrorCell() != 0 {
		t.Errorf("the error's cell of a broken flag is %d", o.ErrorCell())
	}
}

// The next change is the first minute at which an answer differs, for random clocks, over
// needs and segments too.
func TestNextChange(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 11))
	const minute = 60_000
	start := int64(1_774_728_000_000) // 28 March 2026, the evening before clocks go forward in Oslo
	changes := 0
	for range 300 {
		when := &condition.Node{Test: "clock.weekly",
			Weekly: &condition.Weekly{Days: []string{pick(rng, []string{"sat", "sun", "mon"})},
				From: fmt.Sprintf("%02d:%02d", rng.IntN(24), rng.IntN(60)), To: fmt.Sprintf("%02d:%02d", rng.IntN(24),
					rng.IntN(60)), Zone: pick(rng, []string{"Europe/Oslo", "Asia/Kolkata", "UTC"})}}
		if rng.IntN(3) == 0 {
			when = &condition.Node{Test: "clock.before", Text: []string{"2026-03-29T03:07:00+02:00"}}
		}
		inner, outer := boolean("inner"), boolean("outer")
		inner.End = flag.Gives{Variant: "off"}
		inner.Rules = []flag.Rule{{ID: "r", Name: "r", When: when, Gives: flag.Gives{Variant: "on"}}}
		if rng.IntN(2) == 0 {
			outer.Needs = []flag.Need{{Flag: "inner", Variant: "on"}}
		} else {
			outer.Rules = []flag.Rule{{ID: "r", Name: "r", Gives: flag.Gives{Variant: "on"},
				When: &condition.Node{Test: condition.FlagTest, Flag: "inner", Text: []string{"on"}}}}
		}
		outer.End = flag.Gives{Variant: "on"}
		if len(outer.Needs) == 0 {
			outer.End = flag.Gives{Variant: "off"}
		}
		rs := compileOne(t, inner, outer)
		f := rs.Flag("outer")
		now := start + int64(rng.IntN(24*60))*minute
		want, found := now, false
		for i := 0; i < 24*60 && !found; i++ {
			want += minute
			found = f.Decide(rs, nil, want).Variant != f.Decide(rs, nil, now).Variant
		}
		at, ok := rs.NextChange(now, func(f *Flag) bool { return f.Key == "outer" })
		if found && (!ok || at != want) || !found && ok && at <= now+24*60*minute {
			t.Fatalf("%+v: from %d the next change is %d %v, found %d %v", when, now, at, ok, want, found)
		}
		if found {
			changes++
		}
	}
	if changes < 100 {
		t.Errorf("only %d clocks changed", changes)
	}
	if at, ok := compileOne(t, boolean("plain")).NextChange(start, func(*Flag) bool { return true }); ok {
		t.Errorf("a flag without a clock changes at %d", at)
	}
}

// A process without contact gives resting variants where flags say so, also to those that
// need them, and takes what comes next by the ruleset that it had.
func TestSilentProcessesRest(t *testing.T) {
	a, b, c := boolean("a"), boolean("b"), boolean("c")
	a.RestAfter, b.RestAfter = 5, 60
	c.Needs = []flag.Need{{Flag: "a", Variant: "on"}}
	for _, d := range []*flag.Document{&a, &b, &c} {
		d.End = flag.Gives{Variant: "on"}
		d.Requires = d.Needed()
	}
	rs := compileOne(t, a, b, c)
	if got := fmt.Sprint(rs.Rests()); got != "[5 60]" {
		t.Errorf("rests after %s", got)
	}
	given := func(rs *Ruleset) (s string) {
		for _, key := range []string{"a", "b", "c"} {
			f := rs.Flag(key)
			s += f.Variant(f.Decide(rs, nil, 0).Variant).Name + " "
		}
		return s
	}
	for minutes, want := range map[int]string{0: "on on on ", 4: "on on on ", 5: "off on off ", 60: "off off off "} {
		if got := given(rs.Silent(minutes)); got != want {
			t.Errorf("after %d minutes: %s, want %s", minutes, got, want)
		}
	}
	silent := rs.Silent(60)
	if x := silent.Flag("a").Explain(silent, nil, 0); x.Outcome.Note != Silent || x.Reason != "DISABLED" {
		t.Errorf("explained %+v", x)
	}
	if given(rs) != "on on on " {
		t.Error("the ruleset itself has changed")
	}
	a.Requires = append(a.Requires, "of a later build")
	later := compileOne(t, a)
	if o := later.Flag("a").Decide(later, nil, 0); o.Note != TooOld {
		t.Errorf("an unknown requirement: %+v", o)
	}
}

// A resolver is asked only for what a decision looks at.
func TestResolversAreAskedOnlyForWhatIsLookedAt(t *testing.T) {
	d := boolean("chilled-compartments")
	d.End = flag.Gives{Variant: "off"}
	d.Rules = []flag.Rule{{ID: "r", Name: "r", Gives: flag.Gives{Variant: "on"},
		When: &condition.Node{All: []condition.Node{
			{Test: "string.equals", Attribute: "site.plan", Text: []string{"plus"}},
			{Test: "number.more", Attribute: "free", Numbers: []float64{2}}}}}}
	rs := compileOne(t, d)
	f := rs.Flag(d.Key)
	asked := ""
	three := condition.NumberValue(3)
	unit := func(plan string) *condition.Context {
		c := condition.NewContext("site-1", condition.Attribute{Name: condition.Intern("site.plan"),
			Value: condition.TextValue(plan)})
		return c.Resolving(func(n condition.Name) *condition.Value {
			asked += n.Value() + " "
			if n.Value() == "free" {
				return &three
			}
			return nil
		})
	}
	for plan, want := range map[string]string{"plus": "on", "basic": "off"} {
		asked = ""
		c := unit(plan)
		got := f.Variant(f.Decide(rs, c, 0).Variant).Name
		if got != want || asked != map[string]string{"plus": "free ", "basic": ""}[plan] {
			t.Errorf("%s: %s, asked for %q", plan, got, asked)
		}
		if x := f.Explain(rs, c, 0); x.Variant != want {
			t.Errorf("%s: explained %s", plan, x.Variant)
		}
		if c.Seeing(map[string]string{d.Key: "on"}).Lookup(condition.Intern("free")).Kind() != condition.Number {
			t.Error("an override loses the resolver")
		}
	}
}
