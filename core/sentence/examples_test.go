package sentence_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/sample"
	"greenlever.example/core/sentence"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
)

// What the product says stands in testdata/sentences, made from real inputs, to be read in one
// go as text. GREENLEVER_SENTENCES=write writes the files anew; read what changed before it is
// committed.
const examplesDir = "../../testdata/sentences"

const noon = 1_796_126_400_000 // 1 December 2026, 12:00 UTC

// book is one file of examples.
type book struct {
	t     *testing.T
	name  string
	lines []string
}

func (b *book) say(said words.Said) {
	b.t.Helper()
	text := said.String()
	if text == "" || strings.Contains(text, "%!") || strings.Contains(text, "  ") {
		b.t.Errorf("%s: %q", b.name, text)
	}
	if !slices.Contains(b.lines, text) {
		b.lines = append(b.lines, text)
	}
}

func (b *book) all(said []words.Said) {
	for _, s := range said {
		b.say(s)
	}
}

func (b *book) close(least int) {
	b.t.Helper()
	if len(b.lines) < least {
		b.t.Errorf("%s has only %d examples", b.name, len(b.lines))
	}
	path := filepath.Join(examplesDir, b.name+".txt")
	made := strings.Join(b.lines, "\n") + "\n"
	if os.Getenv("GREENLEVER_SENTENCES") == "write" {
		if err := os.WriteFile(path, []byte(made), 0o644); err != nil {
			b.t.Fatal(err)
		}
	}
	kept, err := os.ReadFile(path)
	if err != nil {
		b.t.Fatal(err)
	}
	if string(kept) != made {
		old := strings.Split(string(kept), "\n")
		for i, line := range strings.Split(made, "\n") {
			if i >= len(old) || old[i] != line {
				b.t.Fatalf("%s.txt, line %d: %q is said now; see how it is written anew above", b.name, i+1, line)
			}
		}
		b.t.Fatalf("%s.txt has more lines than are said now", b.name)
	}
}

func node(t *testing.T, raw string) *condition.Node {
	t.Helper()
	n := &condition.Node{}
	if err := json.Unmarshal([]byte(raw), n); err != nil {
		t.Fatalf("%s: %v", raw, err)
	}
	return n
}

// conditions has one example of every test, and of how they are joined.
func conditions(t *testing.T) []*condition.Node {
	raws := []string{
		`{"test":"string.equals","attribute":"role","text":["courier"]}`,
		`{"test":"string.one-of","attribute":"site.region","text":["north","east"]}`,
		`{"test":"string.one-of","attribute":"targetingKey","text":["recipient-17","recipient-18"]}`,
		`{"test":"string.begins","attribute":"site.id","text":["site-1"]}`,
		`{"test":"string.ends","attribute":"email","text":["@pinecrest.example"]}`,
		`{"test":"string.contains","attribute":"site.plan","text":["plus","trial"],"ignoreCase":true}`,
		`{"test":"string.matches","attribute":"site.id","text":["^site-[0-9]$"]}`,
		`{"test":"number.equals","attribute":"crew_size","numbers":[2]}`,
		`{"test":"number.differs","attribute":"crew_size","numbers":[2]}`,
		`{"test":"number.less","attribute":"crew_size","numbers":[2]}`,
		`{"test":"number.at-most","attribute":"crew_size","numbers":[2]}`,
		`{"test":"number.more","attribute":"parcels_this_month","numbers":[2.5]}`,
		`{"test":"number.at-least","attribute":"crew_size","numbers":[2]}`,
		`{"test":"number.between","attribute":"crew_size","numbers":[2,5]}`,
		`{"test":"number.one-of","attribute":"crew_size","numbers":[2,3]}`,
		`{"test":"boolean.true","attribute":"beta"}`, `{"test":"boolean.false","attribute":"beta"}`,
		`{"test":"version.at-least","attribute":"firmware","text":["4.2.0"],"loose":true}`,
		`{"test":"version.less","attribute":"app_version","text":["2.0.0"]}`,
		`{"test":"version.equals","attribute":"firmware","text":["4.2.0"]}`,
		`{"test":"time.before","attribute":"joined","text":["2027-03-01T06:00:00+01:00"]}`,
		`{"test":"time.at-or-after","attribute":"joined","text":["2027-03-01T06:00:00Z"]}`,
		`{"test":"time.between","attribute":"joined","text":["2027-03-01T06:00:00Z","2027-04-01T06:00:00Z"]}`,
		`{"test":"clock.before","text":["2027-03-01T06:00:00Z"]}`,
		`{"test":"clock.at-or-after","text":["2027-03-01T06:00:00Z"]}`,
		`{"test":"clock.between","text":["2027-03-01T06:00:00Z","2027-03-08T06:00:00Z"]}`,
		`{"test":"clock.weekly","weekly":{"days":["mon","fri"],"from":"22:00","to":"06:00","zone":"Europe/Oslo"}}`,
		`{"test":"clock.weekly","weekly":{"days":["mon","tue","wed","thu","fri","sat","sun"],"from":"08:00","to":"17:00","zone":"UTC"}}`,
		`{"test":"address.in","attribute":"network","text":["10.20.0.0/16"]}`,
		`{"test":"list.any","attribute":"languages","text":["nb","en"]}`,
		`{"test":"list.all","attribute":"languages","text":["nb","en"]}`,
		`{"test":"list.none","attribute":"languages","text":["de"]}`,
		`{"test":"present","attribute":"badge"}`, `{"test":"absent","attribute":"badge"}`,
		`{"test":"segment","segment":"pilot-sites"}`, `{"test":"flag.gives","flag":"one-touch-open","text":["on"]}`,
		`{"test":"part","part":{"by":["site.id"],"share":80000,"salt":"x","hash":1}}`,
		`{"test":"string.equals","attribute":"x-plan","text":["a \"b\""]}`,
	}
	var all []*condition.Node
	for _, raw := range raws {
		n := node(t, raw)
		all = append(all, n, &condition.Node{Not: n})
	}
	two := func(i, j int) []condition.Node { return []condition.Node{*all[i], *all[j]} }
	return append(all, &condition.Node{All: two(0, 24)}, &condition.Node{Any: two(0, 3)},
		&condition.Node{All: []condition.Node{*all[0], {Any: two(2, 65)}}},
		&condition.Node{Not: &condition.Node{Any: two(0, 66)}})
}

func shares(t *testing.T, by string, parts ...flag.Part) flag.Gives {
	t.Helper()
	s := &flag.Shares{By: strings.Split(by, ","), Salt: "s", Hash: 1, Parts: parts}
	if err := s.Arrange(nil, "off"); err != nil {
		t.Fatal(err)
	}
	return flag.Gives{Shares: s}
}

func part(variant string, percent uint32) flag.Part {
	return flag.Part{Variant: variant, Share: percent * bucket.Buckets / 100}
}

func left(percent uint32) flag.Part {
	return flag.Part{GoesOn: true, Share: percent * bucket.Buckets / 100}
}

func one(variant string) flag.Gives { return flag.Gives{Variant: variant} }

func document(change func(*flag.Document)) *flag.Document {
	d := &flag.Document{Key: "night-batching", Type: flag.Boolean, Lever: flag.On, Resting: "off", End: one("off"),
		Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")}}
	if change != nil {
		change(d)
	}
	return d
}

// flags are flags as teams have them.
func flags(t *testing.T) []*flag.Document {
	north := node(t, `{"test":"string.equals","attribute":"site.region","text":["north"]}`)
	staff := node(t, `{"test":"segment","segment":"staff"}`)
	named := func(units ...string) *condition.Node {
		return &condition.Node{Test: "string.one-of", Attribute: condition.KeyAttribute, Text: units}
	}
	rule := func(name string, when *condition.Node, g flag.Gives) flag.Rule {
		return flag.Rule{ID: strings.ToLower(name), Name: name, When: when, Gives: g}
	}
	with := func(end flag.Gives, rules ...flag.Rule) *flag.Document {
		return document(func(d *flag.Document) { d.Rules, d.End = rules, end })
	}
	doubt := rule("Doubt", north, one("on"))
	doubt.OnUnknown = flag.Apply
	kept := rule("Kept", north, one("off"))
	kept.OnUnknown = flag.Skip
	parked := rule("Parked", north, one("on"))
	parked.Parked = true
	return []*flag.Document{
		document(nil), document(func(d *flag.Document) { d.Lever = flag.Off }), with(one("on")),
		with(one("off"), rule("Me", named("recipient-17"), one("on"))),
		with(one("off"), rule("Us", named("recipient-17", "recipient-18"), one("on"))),
		with(one("off"), rule("Staff", staff, one("on"))), with(one("off"), rule("North", north, one("on"))),
		with(one("off"), rule("First", nil, shares(t, "site.id", part("on", 8), left(92)))),
		with(one("off"), rule("First", nil, shares(t, "targetingKey", part("on", 0), left(100)))),
		with(one("off"), rule("North", north, shares(t, "site.id", part("on", 30), left(70)))),
		with(one("off"), rule("Half", nil, shares(t, "site.id", part("on", 50), part("off", 50)))),
		with(shares(t, "targetingKey", part("on", 30), part("off", 70))),
		with(shares(t, "site.id", part("on", 30), part("off", 70)), rule("Staff", staff, one("on"))),
		with(shares(t, "site.id,targetingKey", part("on", 65), part("off", 35))),
		with(one("on"), rule("All", nil, one("off"))),
		with(one("off"), rule("Me", named("recipient-17"), one("on")),
			rule("Old", node(t, `{"test":"segment","segment":"old-firmware"}`), one("off")),
			rule("Staff", staff, one("on")), rule("First", nil, shares(t, "site.id", part("on", 8), left(92)))),
		with(one("off"), doubt), with(one("on"), kept), with(one("off"), parked),
		with(one("off"), rule("Named shares", named("site-1", "site-2"), shares(t, "site.id", part("on", 50),
			left(50)))),
		document(func(d *flag.Document) {
			d.Needs, d.End = []flag.Need{{Flag: "one-touch-open", Variant: "on"}}, one("on")
		}),
		document(func(d *flag.Document) {
			d.Needs, d.Rules = []flag.Need{{Flag: "one-touch-open", Variant: "on"},
				{Flag: "weather-holds", Variant: "off"}}, []flag.Rule{rule("North", north, one("on"))}
		}),
		document(func(d *flag.Document) { d.RestAfter, d.End = 60, one("on") }), document(func(d *flag.Document) {
			d.RestAfter, d.End = 1, one("on")
		}),
	}
}

var catalogued = words.Names{"site.id": {One: "site", Many: "sites"}, "crew_size": {One: "crew", Many: "crews"}}

func TestSentencesAsExamples(t *testing.T) {
	b := &book{t: t, name: "flags"}
	for _, d := range flags(t) {
		b.say(sentence.Of(d, false, nil))
		b.say(sentence.Of(d, false, catalogued))
		b.say(sentence.Of(d, true, nil))
	}
	b.close(25)
	b = &book{t: t, name: "conditions"}
	for _, n := range conditions(t) {
		b.say(n.Said(nil))
		b.say(n.Said(catalogued))
	}
	b.close(80)
	b = &book{t: t, name: "segments"}
	for _, s := range []*flag.Segment{{Key: "a"}, {Key: "a", In: &flag.List{Units: []string{"x"}}},
		{Key: "a", In: &flag.List{Units: []string{"x", "y"}}, Out: &flag.List{Units: []string{"z"}}},
		{Key: "a", Lists: "site.id", In: &flag.List{Units: []string{"x", "y"}},
			When: node(t, `{"test":"present","attribute":"badge"}`)},
		{Key: "a", When: node(t, `{"test":"present","attribute":"badge"}`)}} {
		b.say(sentence.Segment(s, nil))
		b.say(sentence.Segment(s, catalogued))
	}
	b.close(6)
}

func TestDifferencesAsExamples(t *testing.T) {
	b := &book{t: t, name: "differences"}
	all := flags(t)
	for i, d := range all {
		b.all(diff.Said(diff.Flags(nil, d)))
		b.all(diff.Said(diff.Flags(d, all[(i+1)%len(all)])))
		b.all(diff.Said(diff.Flags(d, all[(i+7)%len(all)])))
	}
	edit := func(change func(*flag.Document)) {
		now := *all[15]
		now.Rules, now.Variants = slices.Clone(now.Rules), maps.Clone(now.Variants)
		change(&now)
		b.all(diff.Said(diff.Flags(all[15], &now)))
	}
	edit(func(d *flag.Document) {
		d.Rules[0].When = node(t, `{"test":"string.one-of","attribute":"targetingKey","text":["recipient-18"]}`)
	})
	edit(func(d *flag.Document) { d.Rules[0].Name = "My *own* `phone`" })
	edit(func(d *flag.Document) { d.Rules[1].Parked = true })
	edit(func(d *flag.Document) { d.Rules[2].OnUnknown = flag.Apply })
	edit(func(d *flag.Document) { d.Rules[3].Gives = shares(t, "site.id", part("on", 30), left(70)) })
	edit(func(d *flag.Document) {
		d.Rules[3].Gives = shares(t, "targetingKey", part("on", 30), part("off", 10), left(60))
	})
	edit(func(d *flag.Document) {
		d.Rules[3].Gives = shares(t, "site.id", part("on", 8), left(92))
		d.Rules[3].Gives.Shares.Salt = "other"
	})
	edit(func(d *flag.Document) { d.Rules[0], d.Rules[1] = d.Rules[1], d.Rules[0] })
	edit(func(d *flag.Document) {
		d.Variants["on"], d.Variants["maybe"] = json.RawMessage("false"), json.RawMessage("true")
	})
	edit(func(d *flag.Document) { d.Visible, d.Resting = true, "on" })
	old := &flag.Segment{Key: "staff", When: node(t, `{"test":"present","attribute":"badge"}`),
		In: &flag.List{Units: []string{"recipient-1"}}}
	for _, now := range []*flag.Segment{{Key: "staff"},
		{Key: "staff", When: node(t, `{"test":"absent","attribute":"badge"}`),
			In: &flag.List{Units: []string{"recipient-2"}}, Out: &flag.List{Digest: strings.Repeat("ab", 32),
				Count: 5_000}},
		{Key: "staff", Lists: "site.id",
			When: node(t, `{"test":"string.equals","attribute":"role","text":["staff"]}`)}} {
		b.all(diff.Said(diff.Segments(old, now)))
		b.all(diff.Said(diff.Segments(nil, now)))
	}
	b.close(60)
}

// people are units of which the sample holds all but what is personal.
func people(n int, part float64) shift.Population {
	p := shift.Population{Part: part, Hidden: map[string]sample.Derivation{"email": sample.Domain,
		"phone": sample.Presence, "name": sample.Nothing, "compartments": sample.Resolved}}
	text := func(name, v string) condition.Attribute {
		return condition.Attribute{Name: condition.Intern(name), Value: condition.TextValue(v)}
	}
	for i := range n {
		as := []condition.Attribute{text("site.id", fmt.Sprint("site-", i%60)),
			text("site.region", []string{"north", "east"}[i%2]), text("email", "@pinecrest.example"),
			text("badge", "7")}
		if i%4 > 0 {
			as = append(as, text("firmware", []string{"4.1.0", "4.2.0"}[i%2]))
		}
		p.Units = append(p.Units, condition.NewContext(fmt.Sprint("recipient-", i), as...))
	}
	return p
}

func compiled(t *testing.T, docs ...*flag.Document) *decide.Ruleset {
	t.Helper()
	s := &flag.Snapshot{Format: flag.Format, Epoch: 1, Revision: 1, Segments: []json.RawMessage{
		[]byte(`{"key":"staff","when":{"test":"present","attribute":"badge"}}`),
		[]byte(`{"key":"old-firmware","when":{"test":"version.less","attribute":"firmware","text":["4.2.0"]}}`),
		[]byte(`{"key":"pilot-sites","lists":"site.id","in":{"units":["site-1"]},"out":{"units":["site-2"]}}`),
		[]byte(`{"key":"nobody"}`)}}
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
	return decide.Compile(source, func(string) func(int64) int { return func(int64) int { return 60 } })
}

func others() []*flag.Document {
	rename := func(key string, d *flag.Document) *flag.Document { d.Key = key; return d }
	return []*flag.Document{rename("one-touch-open", document(nil)), rename("weather-holds", document(func(d *flag.Document) { d.Lever = flag.Off }))}
}

func TestPreviewsAsExamples(t *testing.T) {
	b := &book{t: t, name: "previews"}
	all := flags(t)
	rest := others()
	say := func(p shift.Population, before, after *flag.Document) {
		s := shift.Between(compiled(t, append(slices.Clone(rest), before)...),
			compiled(t, append(slices.Clone(rest), after)...), before.Key, p, noon)
		b.say(s.Says)
	}
	for i, d := range all {
		say(people(600, 1), d, all[(i+1)%len(all)])
		say(people(600, .04), d, all[(i+3)%len(all)])
		say(people(600, .04), d, d)
	}
	say(shift.Population{Part: 1}, all[0], all[2])
	for _, when := range append(conditions(t),
		node(t, `{"test":"string.one-of","attribute":"email","text":["ida.holm@pinecrest.example"]}`),
		node(t, `{"test":"present","attribute":"phone"}`),
		node(t, `{"test":"string.begins","attribute":"phone","text":["+49"]}`),
		node(t, `{"test":"string.begins","attribute":"name","text":["I"]}`),
		node(t, `{"test":"number.more","attribute":"compartments","numbers":[3]}`)) {
		say(people(600, .04), all[0], document(func(d *flag.Document) {
			d.Rules = []flag.Rule{{ID: "1", Name: "New", When: when, Gives: one("on")}}
		}))
	}
	b.close(40)
}

func TestExplanationsAsExamples(t *testing.T) {
	b := &book{t: t, name: "explanations"}
	unit := people(2, 1).Units[1]
	for _, d := range flags(t) {
		rs := compiled(t, append(others(), d)...)
		for _, c := range []*condition.Context{unit, condition.NewContext("recipient-17"), nil} {
			x := rs.Flag(d.Key).Explain(rs, c, noon)
			b.say(x.Because)
			for _, r := range x.Rules {
				b.say(words.Say("%s %s", words.Rule(r.Name), words.Plain(r.Says)))
			}
		}
	}
	for _, n := range conditions(t) {
		var leaf func(x condition.Explained)
		leaf = func(x condition.Explained) {
			if len(x.Parts) == 0 {
				said := words.Say("%s: %s", words.Plain(x.Said), x.Words)
				if x.Seen != "" {
					said = words.Say("%s; seen: %s", said, words.Plain(x.Seen))
				}
				if len(x.Note) > 0 {
					said = words.Say("%s (%s)", said, x.Note)
				}
				b.say(said)
			}
			for _, p := range x.Parts {
				leaf(p)
			}
		}
		rs := compiled(t, others()...)
		leaf(n.Explain(unit, rs.Around(unit, noon)))
		leaf(n.Explain(nil, rs.Around(nil, noon)))
	}
	b.close(80)
}

func TestChecksAsExamples(t *testing.T) {
	b := &book{t: t, name: "checks"}
	seen := people(200, 1)
	rules := func(rules ...flag.Rule) *flag.Document { return document(func(d *flag.Document) { d.Rules = rules }) }
	rule := func(name, when string, g flag.Gives) flag.Rule {
		r := flag.Rule{ID: name, Name: name, Gives: g}
		if when != "" {
			r.When = node(t, when)
		}
		return r
	}
	north := `{"test":"string.equals","attribute":"site.region","text":["north"]}`
	doubt := rule("Doubt", north, one("on"))
	doubt.OnUnknown = flag.Apply
	kept := rule("Kept", north, one("off"))
	kept.OnUnknown = flag.Skip
	found := map[string]bool{}
	for _, d := range append(flags(t),
		rules(rule("Never",
			`{"all":[{"test":"number.less","attribute":"n","numbers":[2]},{"test":"number.more","attribute":"n","numbers":[5]}]}`, one("on"))),
		rules(rule("All", "", one("on")), rule("Staff", north, one("off"))),
		rules(rule("Half", "", shares(t, "site.id", part("on", 50), part("off", 50))),
			rule("North", north, one("on"))),
		rules(rule("First", "", shares(t, "site.id", part("on", 8), left(92))),
			rule("Me", `{"test":"string.one-of","attribute":"targetingKey","text":["recipient-1"]}`, one("on"))),
		rules(rule("Typo", `{"test":"version.less","attribute":"frimware","text":["4.2.0"]}`, one("on"))),
		rules(rule("Type", `{"test":"number.at-least","attribute":"crew_size","numbers":[2]}`, one("on"))),
		rules(rule("Empty", `{"test":"segment","segment":"nobody"}`, one("on"))),
		rules(rule("Middle", `{"test":"string.matches","attribute":"site.id","text":["site-1"]}`, one("on"))),
		rules(doubt), rules(kept),
		rules(rule("Ends", `{"test":"clock.before","text":["2026-12-24T00:00:00Z"]}`, one("on"))),
		rules(rule("Over", `{"test":"clock.before","text":["2026-11-01T00:00:00Z"]}`, one("on"))),
		rules(rule("Begun", `{"test":"clock.at-or-after","text":["2026-01-01T00:00:00Z"]}`, one("on"))),
		rules(rule("Nobody", `{"test":"string.equals","attribute":"site.region","text":["Nord"]}`, one("on"))),
		rules(rule("Some", "", shares(t, "firmware", part("on", 8), left(92)))), document(func(d *flag.Document) {
			d.Needs = []flag.Need{{Flag: "weather-holds", Variant: "off"}}
		}), document(func(d *flag.Document) { d.End = one("on") })) {
		s := &lint.Subject{Rules: compiled(t, append(others(), d)...), Flag: d.Key, Now: noon, Catalogue: true,
			Contexts: 3_020, Units: lint.NewUnits(seen.Units, nil), GoneBy: "2026-11-30",
			OneSince: noon - 40*86_400_000,
			Attributes: map[string]lint.Attribute{"firmware": {Declared: lint.Version,
				Kinds: map[string]uint64{"string": 3_000}}, "site.id": {Kinds: map[string]uint64{"string": 3_000}},
				"crew_size":   {Kinds: map[string]uint64{"string": 3_000, "number": 20}, Mostly: "string"},
				"site.region": {Declared: lint.String, Kinds: map[string]uint64{"string": 3_000}},
				"badge":       {Declared: lint.String, Kinds: map[string]uint64{"string": 3_000}}}}
		for _, f := range lint.Run(s) {
			found[f.Check] = true
			who := words.Said{{Text: "the flag"}}
			if f.Place != "" {
				who = words.Rule(f.Place)
			}
			b.say(words.Say("%s %s; %s", who, f.Says, words.Plain(f.Mend)))
		}
	}
	for _, c := range lint.Checks() {
		if !found[c.Name] {
			t.Errorf("no example of %s", c.Name)
		}
	}
	b.close(25)
}
