package decide

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// On 100,000 random rulesets and contexts the compiled decision, the explained one and a second
// engine, which reads the same JSON, agree.
func TestDecideAgreesWithASecondEngine(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	reasons := map[Reason]int{}
	for range 10_000 {
		source := randomRuleset(rng)
		rs := Compile(source, testZones)
		second := newSecond(t, source.Snapshot())
		for range 10 {
			unit, now, c := randomUnit(rng)
			key := fmt.Sprintf("f%d", rng.IntN(4))
			f := rs.Flag(key)
			o := f.Decide(rs, c, now)
			reasons[o.Reason]++
			variant, reason := second.decide(key, unit, now)
			if got := f.Variant(o.Variant).Name; got != variant || o.Reason.String() != reason {
				t.Fatalf("%s for %s: %s %s, the second engine says %s %s\n%s", key, unit, got, o.Reason, variant,
					reason, source.Flags[key])
			}
			if cell := f.Cells()[o.Cell]; cell != (Cell{variant, f.RuleID(o), o.Reason}) {
				t.Fatalf("%s for %s: counted as %+v, decided %+v", key, unit, cell, o)
			}
			if x := f.Explain(rs, c, now); x.Outcome != o || x.Variant != variant || len(x.Because) == 0 {
				t.Fatalf("%s for %s: explained %+v, decided %+v", key, unit, x.Outcome, o)
			} else if o.Rule >= 0 && !strings.HasPrefix(x.Rules[o.Rule].Says, "takes the unit") {
				t.Fatalf("rule %d decided, its step says %q", o.Rule, x.Rules[o.Rule].Says)
			}
		}
	}
	for r := Static; r <= Disabled; r++ {
		if reasons[r] < 500 {
			t.Errorf("the corpus gave %s only %d times", r, reasons[r])
		}
	}
}

var loadedZones = map[string]*time.Location{}

func testZones(name string) func(int64) int {
	zone := loadedZones[name]
	if zone == nil {
		var err error
		if zone, err = time.LoadLocation(name); err != nil {
			return nil
		}
		loadedZones[name] = zone
	}
	return func(unix int64) int {
		_, ahead := time.Unix(unix, 0).In(zone).Zone()
		return ahead
	}
}

// vector is one row of the shared decision vectors.
type vector struct {
	Name    string
	Flag    string
	Context json.RawMessage
	Variant string
	Reason  string
	Missing string
	Value   json.RawMessage
}

func TestVectors(t *testing.T) {
	raw, err := os.ReadFile("../../testdata/vectors/decide.json")
	if err != nil {
		t.Fatal(err)
	}
	var file struct {
		Ruleset flag.Snapshot
		Vectors []vector
	}
	if err := json.Unmarshal(raw, &file); err != nil {
		t.Fatal(err)
	}
	source, err := flag.NewRuleset(&file.Ruleset)
	if err != nil {
		t.Fatal(err)
	}
	rs, second := Compile(source, testZones), newSecond(t, &file.Ruleset)
	if len(file.Vectors) < 30 {
		t.Fatalf("only %d vectors", len(file.Vectors))
	}
	for _, v := range file.Vectors {
		t.Run(v.Name, func(t *testing.T) {
			c, err := condition.ParseContext(v.Context)
			if err != nil {
				t.Fatal(err)
			}
			f := rs.Flag(v.Flag)
			o := f.Decide(rs, c, 1_796_083_200_000) // the clocks of the vectors leave centuries
			got := f.Variant(o.Variant)
			if got.Name != v.Variant || o.Reason.String() != v.Reason {
				t.Errorf("got %s %s, want %s %s", got.Name, o.Reason, v.Variant, v.Reason)
			}
			if v.Value != nil && string(got.Raw) != string(v.Value) {
				t.Errorf("value %s, want %s", got.Raw, v.Value)
			}
			if variant, reason := second.decide(v.Flag, v.Context, 1_796_083_200_000); variant != v.Variant ||
				reason != v.Reason {
				t.Errorf("the second engine says %s %s, want %s %s", variant, reason, v.Variant, v.Reason)
			}
			if missing := map[bool]string{true: f.MissingBy()}[o.Note == Missing]; missing != v.Missing {
				t.Errorf("missing %q, want %q", missing, v.Missing)
			}
		})
	}
}

func compileOne(t testing.TB, docs ...flag.Document) *Ruleset {
	t.Helper()
	s := &flag.Snapshot{Format: flag.Format, Epoch: 1, Revision: 1}
	for _, d := range docs {
		raw, err := json.Marshal(d)
		if err != nil {
			t.Fatal(err)
		}
		s.Flags = append(s.Flags, raw)
	}
	source, err := flag.NewRuleset(s)
	if err != nil {
		t.Fatal(err)
	}
	return Compile(source, testZones)
}

func boolean(key string) flag.Document {
	return flag.Document{Key: key, Type: flag.Boolean, Lever: flag.On, Resting: "off", End: flag.Gives{Variant: "on"},
		Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")}}
}

// What a newer service may send reaches an older client as its resting variant, never as an error.
func TestUnknownThingsRest(t *testing.T) {
	share := &flag.Shares{By: []string{"targetingKey"}, Salt: "s", Hash: 2,
		Parts: []flag.Part{{Variant: "on", Share: 1_000_000, Ranges: []flag.Ranges{{0, 1_000_000}}}}}
	for name, change := range map[string]func(*flag.Document){
		"requires on the flag": func(d *flag.Document) { d.Requires = []string{"tides"} },
		"requires on a rule": func(d *flag.Document) {
			d.Rules = []flag.Rule{{ID: "1", Name: "r", Gives: flag.Gives{Variant: "on"}, Requires: []string{"tides"}}}
		},
		"hash scheme": func(d *flag.Document) { d.End = flag.Gives{Shares: share} },
		"gives":       func(d *flag.Document) { d.Rules = []flag.Rule{{ID: "1", Name: "r"}} },
		"a hole in the buckets": func(d *flag.Document) {
			s := *share
			s.Hash, s.Parts = 1, []flag.Part{{Variant: "on", Share: 1_000_000, Ranges: []flag.Ranges{{0, 1}}}}
			d.End = flag.Gives{Shares: &s}
		},
	} {
		d := boolean("f")
		change(&d)
		rs := compileOne(t, d)
		f := rs.Flag("f")
		c := condition.NewContext("recipient-1")
		o := f.Decide(rs, c, 0)
		if f.Variant(o.Variant).Name != "off" || o.Note != TooOld {
			t.Errorf("%s: %+v", name, o)
		}
		if x := f.Explain(rs, c, 0); x.Outcome != o {
			t.Errorf("%s: explained %+v", name, x.Outcome)
		}
	}
}

// A circle of needs, which no service saves, ends all the same.
func TestCirclesEnd(t *testing.T) {
	a, b := boolean("a"), boolean("b")
	a.Needs, b.Needs = []flag.Need{{Flag: "b", Variant: "on"}}, []flag.Need{{Flag: "a", Variant: "on"}}
	rs := compileOne(t, a, b)
	if o := rs.Flag("a").Decide(rs, nil, 0); o.Reason != Disabled || o.Note != NeedUnmet {
		t.Errorf("%+v", o)
	}
}

// Needs that fan out do not take exponential time.
func TestNeedsAreBounded(t *testing.T) {
	docs := []flag.Document{boolean("l0a"), boolean("l0b")}
	for i := 1; i < 40; i++ {
		for _, side := range "ab" {
			d := boolean(fmt.Sprintf("l%d%c", i, side))
			d.Needs = []flag.Need{{Flag: fmt.Sprintf("l%da", i-1), Variant: "on"}, {Flag: fmt.Sprintf("l%db", i-1),
				Variant: "on"}}
			docs = append(docs, d)
		}
	}
	rs := compileOne(t, docs...)
	if o := rs.Flag("l39a").Decide(rs, nil, 0); o.Reason != Disabled {
		t.Errorf("%+v", o)
	}
	if o := rs.Flag("l2a").Decide(rs, nil, 0); o.Reason != Default {
		t.Errorf("%+v", o)
	}
}

// Compiling an event gives the same decisions as compiling the ruleset after it.
func TestNextAgreesWithCompile(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for range 300 {
		rs := Compile(randomRuleset(rng), testZones)
		for step := range int64(8) {
			other := randomRuleset(rng)
			e := &flag.Event{Format: flag.Format, Epoch: 1, Revision: 2 + step}
			switch rng.IntN(4) {
			case 0:
				e.Flags = []json.RawMessage{other.Flags["f0"], other.Flags["f2"]}
			case 1:
				e.Segments = []json.RawMessage{other.Segments["s1"]}
			case 2:
				e.Stops = []flag.Stop{{ID: fmt.Sprint("new", step), Flags: []string{"f1", "f3"}}}
			case 3:
				for _, s := range rs.Source.Stops {
					e.Lifted = append(e.Lifted, s.ID)
				}
			}
			next, err := rs.Next(e)
			if err != nil {
				t.Fatal(err)
			}
			whole := Compile(next.Source, testZones)
			for range 20 {
				_, now, c := randomUnit(rng)
				for key := range whole.flags {
					if got, want := next.Flag(key).Decide(next, c, now), whole.Flag(key).Decide(whole, c,
						now); got != want {
						t.Fatalf("%s: %+v after the event, %+v compiled whole", key, got, want)
					}
				}
			}
			rs = next
		}
	}
}

func TestDecideAllocatesNothing(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	rs := Compile(randomRuleset(rng), testZones)
	c := condition.NewContext("recipient-1", condition.Attribute{Name: condition.Intern("site.id"),
		Value: condition.TextValue("site-1")})
	f := rs.Flag("f1")
	if n := testing.AllocsPerRun(100, func() { f.Decide(rs, c, 0) }); n != 0 {
		t.Errorf("%v allocations", n)
	}
}

// No bytes, as ruleset or as context, make a decision panic.
func FuzzDecide(f *testing.F) {
	rng := rand.New(rand.NewPCG(1, 1))
	for range 8 {
		raw, _ := json.Marshal(randomRuleset(rng).Snapshot())
		f.Add(raw, []byte(`{"targetingKey":"recipient-7","site":{"id":"site-1"},"crew_size":3}`))
	}
	f.Fuzz(func(t *testing.T, ruleset, context []byte) {
		source, err := flag.ReadSnapshot(ruleset)
		if err != nil {
			return
		}
		c, err := condition.ParseContext(context)
		if err != nil {
			c = nil
		}
		rs := Compile(source, testZones)
		for key, fl := range rs.flags {
			o := fl.Decide(rs, c, 0)
			if (fl.Variant(o.Variant) == nil) != (o.Reason == Error) {
				t.Fatalf("%s: %+v", key, o)
			}
			if x := fl.Explain(rs, c, 0); x.Outcome != o {
				t.Fatalf("%s: decided %+v, explained %+v", key, o, x.Outcome)
			}
			if d := source.Flag(key); d != nil {
				d.Check()
				d.CheckReferences(source)
			}
		}
	})
}

// The explanation prints what the decision did, also where it ran out of decisions on other flags.
func TestExplainedAsItWasWalked(t *testing.T) {
	doc := func(key string, needs []flag.Need, rules ...flag.Rule) json.RawMessage {
		raw, _ := json.Marshal(&flag.Document{Key: key, Type: flag.Boolean, Lever: flag.On, Resting: "off",
			End: flag.Gives{Variant: "on"}, Needs: needs, Rules: rules,
			Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")}})
		return raw
	}
	asks := func(key string) *condition.Node {
		return &condition.Node{Test: condition.FlagTest, Flag: key, Text: []string{"on"}}
	}
	flags := []json.RawMessage{doc("f0", nil)}
	for i := 1; i < 9; i++ { // each asks twice for the one below: more than one decision may take
		n := fmt.Sprint("f", i-1)
		flags = append(flags, doc(fmt.Sprint("f", i), nil,
			flag.Rule{ID: "1", Name: "one", When: &condition.Node{All: []condition.Node{*asks(n), {Not: asks(n)}}},
				Gives: flag.Gives{Variant: "off"}},
			flag.Rule{ID: "2", Name: "two", When: asks(n), Gives: flag.Gives{Variant: "on"}}))
	}
	flags = append(flags, doc("needs", []flag.Need{{Flag: "f7", Variant: "on"}, {Flag: "f8", Variant: "on"}}))
	source, err := flag.NewRuleset(&flag.Snapshot{Format: 1, Epoch: 1, Revision: 1, Flags: flags})
	if err != nil {
		t.Fatal(err)
	}
	rs := Compile(source, nil)
	c := condition.NewContext("recipient-1")
	x := rs.Flag("needs").Explain(rs, c, 0)
	if x.Outcome != rs.Flag("needs").Decide(rs, c, 0) || x.Outcome.Note != UsedUp ||
		!strings.Contains(x.Because.String(), "had used up its 200 decisions") {
		t.Errorf("%+v: %s", x.Outcome, x.Because)
	}
	for i := range 9 {
		f := rs.Flag(fmt.Sprint("f", i))
		x := f.Explain(rs, c, 0)
		if x.Outcome != f.Decide(rs, c, 0) {
			t.Fatalf("f%d: %+v, decided %+v", i, x.Outcome, f.Decide(rs, c, 0))
		}
		for at, step := range x.Rules {
			took := strings.HasPrefix(step.Says, "takes the unit")
			if took != (at == int(x.Outcome.Rule)) {
				t.Errorf("f%d, rule %d: %q, decided by %d", i, at, step.Says, x.Outcome.Rule)
			}
		}
	}

	// Rules that are too large to run say so.
	var huge condition.Node
	for i := range 150_000 {
		huge.Any = append(huge.Any, condition.Node{Test: "present", Attribute: fmt.Sprint("a", i%50)})
	}
	source, err = flag.NewRuleset(&flag.Snapshot{Format: 1, Epoch: 1, Revision: 1,
		Flags: []json.RawMessage{doc("large", nil, flag.Rule{ID: "1", Name: "1", When: &huge,
			Gives: flag.Gives{Variant: "on"}}, flag.Rule{ID: "2", Name: "2", When: &huge,
			Gives: flag.Gives{Variant: "on"}})}})
	if err != nil {
		t.Fatal(err)
	}
	rs = Compile(source, nil)
	if x := rs.Flag("large").Explain(rs, c, 0); x.Outcome.Note != TooLarge || x.Variant != "off" ||
		!strings.Contains(x.Because.String(), "too large to run") {
		t.Errorf("%+v: %s", x.Outcome, x.Because)
	}
}
