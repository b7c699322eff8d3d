package lint

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
)

const now = 1_796_083_200_000 // 1 December 2026

func subject(t *testing.T, rules, end string) *Subject {
	t.Helper()
	doc := fmt.Sprintf(
		`{"key":"f","type":"boolean","lever":"on","resting":"off","variants":{"on":true,"off":false},"rules":[%s],"end":%s,"needs":[{"flag":"other","variant":"off"}]}`, rules, end)
	other := `{"key":"other","type":"boolean","lever":"on","resting":"off","variants":{"on":true,"off":false},"end":{"variant":"off"}}`
	source, err := flag.NewRuleset(&flag.Snapshot{Format: 1, Epoch: 1, Revision: 1,
		Flags: []json.RawMessage{[]byte(doc), []byte(other)},
		Segments: []json.RawMessage{[]byte(`{"key":"pilot"}`),
			[]byte(`{"key":"past","when":{"test":"clock.before","text":["2026-11-01T00:00:00Z"]}}`),
			[]byte(`{"key":"crew","when":{"test":"number.at-least","attribute":"crew_size","numbers":[2]}}`)}})
	if err != nil {
		t.Fatal(err)
	}
	s := &Subject{Rules: decide.Compile(source, nil), Flag: "f", Now: now, Muted: map[string]string{}}
	if s.Rules.Flag("f") == nil || len(s.Rules.Flag("f").Variants()) != 2 {
		t.Fatalf("the document cannot be read: %s", doc)
	}
	return s
}

func rule(id, when, gives string) string {
	if when != "" {
		when = `"when":` + when + ","
	}
	return fmt.Sprintf(`{"id":%q,"name":"Rule %s",%s"gives":%s}`, id, id, when, gives)
}

const (
	on     = `{"variant":"on"}`
	off    = `{"variant":"off"}`
	shares = `{"shares":{"by":["site.id"],"salt":"a","hash":1,"parts":[{"variant":"on","share":80000,"ranges":[[0,80000]]},{"goesOn":true,"share":920000,"ranges":[[80000,1000000]]}]}}`
	halves = `{"shares":{"by":["site.id"],"salt":"a","hash":1,"parts":[{"variant":"on","share":500000,"ranges":[[0,500000]]},{"variant":"off","share":500000,"ranges":[[500000,1000000]]},{"goesOn":true,"share":0,"ranges":[]}]}}`
	north  = `{"test":"string.equals","attribute":"site.region","text":["north"]}`
)

func num(test string, n string) string {
	return `{"test":"number.` + test + `","attribute":"crew_size","numbers":[` + n + `]}`
}

// Each check finds its bad example, and not the good one beside it.
func TestChecks(t *testing.T) {
	units := make([]*condition.Context, 200)
	for i := range units {
		var as []condition.Attribute
		as = append(as, condition.Attribute{Name: condition.Intern("site.region"), Value: condition.TextValue("east")})
		if i%2 == 0 {
			as = append(as, condition.Attribute{Name: condition.Intern("site.id"),
				Value: condition.TextValue(fmt.Sprint("site-", i))})
		}
		units[i] = condition.NewContext(fmt.Sprint("recipient-", i), as...)
	}
	seen := func(s *Subject) {
		s.Catalogue, s.Contexts = true, 3_020
		s.Attributes = map[string]Attribute{
			"crew_size":   {Declared: "", Kinds: map[string]uint64{"string": 3_000, "number": 20}, Mostly: "string"},
			"firmware":    {Declared: Version, Kinds: map[string]uint64{"string": 3_020}, Mostly: "string"},
			"site.region": {Declared: String, Kinds: map[string]uint64{"string": 3_020}, Mostly: "string"},
			"site.id":     {Declared: String, Kinds: map[string]uint64{"string": 3_020}, Mostly: "string"},
		}
	}
	for _, c := range []struct {
		check, bad, good string
		with             func(*Subject)
		says             string
	}{
		{"contradiction", rule("1", `{"all":[`+num("less", "2")+`,`+num("more", "5")+`]}`, on),
			rule("1", `{"all":[`+num("more", "2")+`,`+num("less", "5")+`]}`, on), nil, "can never take a unit"},
		{"contradiction",
			rule("1", `{"all":[`+north+`,{"test":"string.one-of","attribute":"site.region","text":["east","south"]}]}`,
				on), rule("1",
				`{"all":[`+north+`,{"test":"string.one-of","attribute":"site.region","text":["east","north"]}]}`, on),
			nil, ""},
		{"contradiction",
			rule("1", `{"all":[{"test":"present","attribute":"badge"},{"test":"absent","attribute":"badge"}]}`, on),
			rule("1",
				`{"all":[{"test":"present","attribute":"badge"},{"test":"string.equals","attribute":"badge","text":["x"]}]}`, on), nil, ""},
		{"contradiction",
			rule("1",
				`{"all":[{"test":"clock.before","text":["2027-01-01T00:00:00Z"]},{"test":"clock.at-or-after","text":["2027-02-01T00:00:00Z"]}]}`, on), rule("1", `{"all":[{"test":"clock.before","text":["2027-03-01T00:00:00Z"]},{"test":"clock.at-or-after","text":["2027-02-01T00:00:00Z"]}]}`, on), nil, ""},
		{"contradiction",
			rule("1",
				`{"any":[{"all":[{"test":"boolean.true","attribute":"a"},{"test":"boolean.false","attribute":"a"}]}]}`,
				on), rule("1",
				`{"any":[`+north+
					`,{"all":[{"test":"boolean.true","attribute":"a"},{"test":"boolean.false","attribute":"a"}]}]}`,
				on), nil, ""},
		{"shadowed", rule("1", "", on) + "," + rule("2", north, off), rule("1", "", shares) + "," + rule("2", north,
			off), nil, `rule "Rule 1" above`},
		{"shadowed", rule("1", north, on) + "," + rule("2", `{"all":[`+num("less", "2")+`,`+north+`]}`, off),
			rule("1", `{"all":[`+num("less", "2")+`,`+north+`]}`, off) + "," + rule("2", north, on), nil, ""},
		{"shadowed", rule("1", `{"test":"string.one-of","attribute":"site.region","text":["north","east"]}`, on) +
			"," + rule("2", north, off), rule("1", north, on) + "," + rule("2",
			`{"test":"string.one-of","attribute":"site.region","text":["north","east"]}`, off), nil, ""},
		{"order", rule("1", "", shares) + "," + rule("2",
			`{"test":"string.one-of","attribute":"targetingKey","text":["a"]}`, on),
			rule("2", `{"test":"string.one-of","attribute":"targetingKey","text":["a"]}`, on) + "," + rule("1", "",
				shares), nil, "names units below"},
		{"attribute", rule("1", `{"test":"version.at-least","attribute":"frimware","text":["4.2.0"]}`, on),
			rule("1", `{"test":"version.at-least","attribute":"firmware","text":["4.2.0"]}`, on), seen,
			"in none of 3020 contexts"},
		{"type", rule("1", num("at-least", "2"), on),
			rule("1", `{"test":"string.equals","attribute":"crew_size","text":["2"]}`, on), seen,
			"crew_size arrived as a string in 3000 of 3020"},
		{"type", rule("1", `{"test":"segment","segment":"crew"}`, on), rule("1", north, on), seen, "in segment crew"},
		{"type", rule("1", `{"test":"number.less","attribute":"firmware","numbers":[4]}`, on),
			rule("1", `{"test":"version.less","attribute":"firmware","text":["4.0.0"]}`, on), seen,
			"declared as a version"},
		{"empty", rule("1", `{"test":"segment","segment":"pilot"}`, on),
			rule("1", `{"test":"segment","segment":"crew"}`, on), nil, "takes nobody"},
		{"anchors", rule("1", `{"test":"string.matches","attribute":"site.id","text":["site-1"]}`, on),
			rule("1", `{"test":"string.matches","attribute":"site.id","text":["^site-1$"]}`, on), nil,
			"in the middle"},
		{"doubt", strings.Replace(rule("1", north, on), `"gives"`, `"onUnknown":"apply","gives"`, 1),
			strings.Replace(rule("1", north, on), `"gives"`, `"onUnknown":"skip","gives"`, 1), nil, "lets them in"},
		{"doubt", strings.Replace(rule("1", north, off), `"gives"`, `"onUnknown":"skip","gives"`, 1),
			rule("1", north, off), nil, "not kept out"},
		{"window-ends", rule("1", `{"test":"clock.between","text":["2026-11-01T00:00:00Z","2026-12-24T00:00:00Z"]}`,
			on), rule("1", `{"test":"clock.at-or-after","text":["2026-11-01T00:00:00Z"]}`, on), nil,
			"2026-12-24T00:00:00Z"},
		{"window-over", rule("1", `{"all":[`+north+`,{"test":"clock.before","text":["2026-11-01T00:00:00Z"]}]}`, on),
			rule("1", `{"test":"clock.at-or-after","text":["2026-11-01T00:00:00Z"]}`, on), nil, "is over"},
		{"window-over",
			rule("1",
				`{"any":[{"all":[`+north+
					`,{"test":"clock.before","text":["2026-11-01T00:00:00Z"]}]},{"not":{"test":"clock.at-or-after","text":["2026-10-01T00:00:00Z"]}}]}`, on), rule("1", `{"any":[`+north+`,{"test":"clock.before","text":["2026-11-01T00:00:00Z"]}]}`, on), nil, "is over since 2026-11-01T00:00:00Z"},
		{"window-over", rule("1", `{"test":"segment","segment":"past"}`, on),
			rule("1", `{"test":"segment","segment":"crew"}`, on), nil, "is over"},
		{"window-begun", rule("1", `{"all":[`+north+`,{"test":"clock.at-or-after","text":["2026-01-01T00:00:00Z"]}]}`,
			on), rule("1", `{"test":"clock.at-or-after","text":["2027-02-01T00:00:00Z"]}`, on), nil, "gone by for"},
		{"contradiction", rule("1", `{"all":[`+num("less", "0.5")+`,`+num("more", "0.5001")+`]}`, on),
			rule("1", `{"all":[`+num("more", "0.5")+`,`+num("less", "0.5001")+`]}`, on), nil, ""},
		{"shadowed", rule("1", "", halves) + "," + rule("2", north, off), rule("2", north, off) + "," + rule("1", "",
			halves), nil, "leave nothing over"},
		{"nobody", rule("1", north, on),
			rule("1", `{"test":"string.equals","attribute":"site.region","text":["east"]}`, on), func(s *Subject) {
				s.Units = NewUnits(units, nil)
			}, "none of 200 units"},
		{"split-by-some", rule("1", "", shares), rule("1", "", strings.Replace(shares, `["site.id"]`,
			`["site.id","targetingKey"]`, 1)), func(s *Subject) { s.Units = NewUnits(units, nil) },
			"50 % of the units"},
	} {
		for i, rules := range []string{c.bad, c.good} {
			s := subject(t, rules, off)
			if c.with != nil {
				c.with(s)
			}
			found := Run(s)
			at := slices.IndexFunc(found, func(f Finding) bool { return f.Check == c.check })
			switch {
			case i == 0 && (at < 0 || !strings.Contains(found[at].Says.String(), c.says) || found[at].Mend == "" ||
				found[at].Rule == ""):
				t.Errorf("%s is not found in %s: %+v", c.check, rules, found)
			case i == 1 && at >= 0:
				t.Errorf("%s is found in %s: %s", c.check, rules, found[at].Says)
			}
		}
	}
}

func TestFlagChecks(t *testing.T) {
	s := subject(t, "", on)
	s.OneSince = now - 30*day
	var names []string
	for _, f := range Run(s) {
		names = append(names, f.Check)
	}
	if !slices.Equal(names, []string{"one-variant"}) {
		t.Errorf("%v", names)
	}
	// A need that is met while the other flag is off is told.
	next, err := s.Rules.With([]*flag.Document{{Key: "other", Type: flag.Boolean, Lever: flag.Off, Resting: "off",
		End:      flag.Gives{Variant: "on"},
		Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")}}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	s.Rules, s.OneSince = next, 0
	s.Muted["need-off"] = "resting is meant here"
	if found := Run(s); len(found) != 1 || found[0].Check != "need-off" || found[0].Muted != "resting is meant here" {
		t.Errorf("%+v", found)
	}
}

// Flags past their date are found without units or attributes.
func TestOverdue(t *testing.T) {
	s := subject(t, rule("1", `{"test":"clock.before","text":["2026-11-01T00:00:00Z"]}`, on)+","+rule("2", "", on)+","+
		rule("3", north, off), off)
	s.GoneBy = "2026-11-30"
	found := Overdue(s)
	if len(found) != 2 || found[0].Check != "window-over" || found[1].Check != "gone-by" ||
		found[1].Says.String() != "should be gone since 2026-11-30" {
		t.Errorf("%+v", found)
	}
	for _, by := range []string{"2026-12-01", "stays", ""} {
		s.GoneBy = by
		if len(Overdue(s)) != 1 {
			t.Errorf("%q: %+v", by, Overdue(s))
		}
	}
}

// The order that is suggested puts the named units above the shares.
func TestSuggestedOrder(t *testing.T) {
	named := `{"test":"string.one-of","attribute":"targetingKey","text":["a"]}`
	s := subject(t, rule("1", north, on)+","+rule("2", "", shares)+","+rule("3", north, off)+","+rule("4", named, on),
		off)
	found := Run(s)
	at := slices.IndexFunc(found, func(f Finding) bool { return f.Check == "order" })
	if at < 0 || !slices.Equal(found[at].Order, []string{"1", "4", "2", "3"}) {
		t.Errorf("%+v", found)
	}
}

func TestEveryCheckIsComplete(t *testing.T) {
	names := map[string]bool{}
	for _, c := range Checks() {
		if c.Name == "" || c.Reason == "" || c.Bad == "" || c.Mend == "" || names[c.Name] {
			t.Errorf("%+v", c)
		}
		names[c.Name] = true
	}
	if len(names) < 12 {
		t.Errorf("%d checks", len(names))
	}
}

func TestNearest(t *testing.T) {
	known := map[string]Attribute{"firmware": {}, "site.region": {}}
	if got := nearest("frimware", known); got != " (firmware?)" {
		t.Errorf("%q", got)
	}
	if got := nearest("colour", known); got != "" {
		t.Errorf("%q", got)
	}
}

func TestNearestOfMany(t *testing.T) {
	all := slices.Values([]string{"handover-photo", "night-batching", "hall"})
	for name, want := range map[string]string{"handover-foto": "handover-photo", "night_batching": "night-batching",
		"hal": "hall", "weather-holds": "", "x": ""} {
		if got := Nearest(name, all); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
}

// What the seen values say of a condition is what matching every unit says: never means that none
// meets it.
func TestNeverMeansNever(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	values := []string{"north", "east", "", "7", "South"}
	var units []*condition.Context
	for i := range 30 {
		var as []condition.Attribute
		for _, name := range []string{"region", "plan"} {
			switch rng.IntN(4) {
			case 0: // it has none
			case 1:
				as = append(as, condition.Attribute{Name: condition.Intern(name), Value: condition.NumberValue(7)})
			default:
				as = append(as, condition.Attribute{Name: condition.Intern(name),
					Value: condition.TextValue(values[rng.IntN(len(values))])})
			}
		}
		units = append(units, condition.NewContext(fmt.Sprint("recipient-", i), as...))
	}
	var node func(depth int) condition.Node
	node = func(depth int) condition.Node {
		if depth > 0 && rng.IntN(2) == 0 {
			parts := []condition.Node{node(depth - 1), node(depth - 1)}
			switch rng.IntN(3) {
			case 0:
				return condition.Node{All: parts}
			case 1:
				return condition.Node{Any: parts}
			}
			return condition.Node{Not: &parts[0]}
		}
		n := condition.Node{Test: "string.equals", Attribute: []string{"region", "plan",
			condition.KeyAttribute}[rng.IntN(3)], Text: []string{append(values, "west", "recipient-3",
			"SOUTH")[rng.IntN(8)]}, IgnoreCase: rng.IntN(5) == 0}
		if rng.IntN(2) == 0 {
			n.Test, n.Text = "string.one-of", append(n.Text, "nowhere")
		}
		return n
	}
	nevers, rules := 0, &decide.Ruleset{}
	for range 3_000 {
		n := node(3)
		u := NewUnits(units, nil)
		if !u.never(&n) {
			continue
		}
		nevers++
		for _, c := range units {
			if n.Match(c, rules.Around(c, 0)) == condition.True {
				t.Fatalf("%s is met by %s", n.Words(), c.Key())
			}
		}
	}
	if nevers < 100 {
		t.Errorf("only %d conditions that never hold", nevers)
	}
}
