package files

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/expr"
)

// texts are what people write that a file must give back as it was.
var odd = []string{"plain", "on", "off", "yes", "null", "true", "12", "1e3", "0x10", "~", "- dash", "# hash", "a: b",
	"'quoted'", `"double"`, "two\nlines", "two\nlines\n", " before", "after ", "ünï", "{}", "[x]", "*star", "&amp", "%", "@at",
	"2027-03-31", "tab\tin it", "back\\slash", "|", ">", "?", ": ", "!tag", "`tick`", "\nfirst", "  \n x"}

var conditions = []string{"", `site.id == "site-1"`, `crew_size >= 2`, `!(site.plan in ["small", "large"]) && crew_size < 7`,
	`inSegment("staff")`, `version(firmware) >= version("4.2.0") || present(site.id)`, `gives("doors", ["on"])`}

func randomFlag(t *testing.T, r *rand.Rand, key string) (*app.Definition, map[string]*flag.Document) {
	t.Helper()
	word := func() string { return odd[r.IntN(len(odd))] }
	kind := flag.Types()[r.IntN(4)]
	d := &app.Definition{Key: key, Title: strings.TrimSpace(key + word()), Description: word(), Type: kind,
		GoneBy: []string{"stays", "2027-03-31"}[r.IntN(2)], Owners: []string{}, Tags: []string{}, Visible: r.IntN(2) == 0,
		Loses: word()}
	for i := range r.IntN(3) {
		d.Owners, d.Tags = append(d.Owners, fmt.Sprint(word(), i)), append(d.Tags, fmt.Sprint("tag", i))
	}
	names := []string{"on", "off", "half", "left-out"}[:2+r.IntN(3)]
	value := func(i int) json.RawMessage {
		var v any
		switch kind {
		case flag.Boolean:
			v = i == 0
		case flag.String:
			v = word()
		case flag.Number:
			v = json.Number([]string{"1", "-2.5", "1e3", "9007199254740991", "0.1"}[r.IntN(5)])
		default:
			v = map[string]any{"a": word(), "b": []any{1, nil, true, map[string]any{"c": word()}}, word(): 1.5}
		}
		raw, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		return raw
	}
	for i, name := range names {
		d.Variants = append(d.Variants, app.Variant{Name: name, Value: value(i)})
	}
	if r.IntN(2) == 0 {
		d.Muted = []app.Mute{{Check: "shadowed", Reason: "because " + word()}}
	}
	d.Resting, d.End = names[1], names[r.IntN(2)]
	gives := func(end bool) flag.Gives {
		if r.IntN(2) == 0 {
			return flag.Gives{Variant: names[r.IntN(len(names))]}
		}
		n := uint32(r.IntN(1_000_001))
		s := &flag.Shares{By: []string{"targetingKey", "site.id"}[:1+r.IntN(2)], Salt: word() + "x", Hash: 1,
			Parts: []flag.Part{{Variant: names[0], Share: n}, {Variant: names[1], Share: 1_000_000 - n}}}
		if !end && r.IntN(2) == 0 {
			s.Parts[1] = flag.Part{GoesOn: true, Share: 1_000_000 - n}
		}
		if r.IntN(4) == 0 {
			s.Like = &flag.SharesAt{Flag: "doors", Rule: []string{"", "r1"}[r.IntN(2)]}
		}
		if err := s.Arrange(nil, d.Resting); err != nil {
			t.Fatal(err)
		}
		return flag.Gives{Shares: s}
	}
	in := map[string]*flag.Document{}
	for _, env := range []string{"production", "staging", "yes"} {
		doc := &flag.Document{Key: key, Type: kind, Visible: d.Visible, Lever: []flag.Lever{flag.On, flag.Off}[r.IntN(2)],
			Resting: names[r.IntN(2)], End: gives(true), Variants: map[string]json.RawMessage{}, RestAfter: r.IntN(2) * 30}
		for i, v := range d.Variants {
			doc.Variants[v.Name] = v.Value
			if r.IntN(4) == 0 {
				doc.Variants[v.Name] = value(i)
			}
		}
		if r.IntN(3) == 0 {
			doc.Needs = []flag.Need{{Flag: "doors", Variant: "on"}}
		}
		for i := range r.IntN(4) {
			when, err := expr.Parse(conditions[1+r.IntN(len(conditions)-1)])
			if err != nil {
				t.Fatal(err)
			}
			rule := flag.Rule{ID: fmt.Sprint("r", i), Name: "Rule " + word(), When: when, Gives: gives(false),
				Parked: r.IntN(3) == 0, OnUnknown: []flag.OnUnknown{"", flag.Apply, flag.Skip}[r.IntN(3)]}
			if r.IntN(4) == 0 {
				rule.When = nil
			}
			doc.Rules = append(doc.Rules, rule)
		}
		in[env] = doc
	}
	return d, in
}

func asJSON(t *testing.T, v any) string {
	t.Helper()
	raw, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}

// What is written is read back as it was, whatever people wrote into it, and written again it is the same bytes.
func TestFlagsComeBack(t *testing.T) {
	t.Parallel()
	for seed := range uint64(1_000) {
		r := rand.New(rand.NewPCG(seed, 7))
		d, in := randomFlag(t, r, fmt.Sprint("flag-", seed))
		raw, err := WriteFlag(d, in, FlagOptions{Exact: true})
		if err != nil {
			t.Fatal(err)
		}
		back, err := ReadFlag(raw)
		if err != nil {
			t.Fatalf("%v\n%s", err, raw)
		}
		if want, got := asJSON(t, d), asJSON(t, back.Definition); want != got {
			t.Fatalf("%s is read as\n%s of\n%s", want, got, raw)
		}
		for env, doc := range in {
			got := back.In[env]
			if got == nil {
				got = firstOf(&back.Definition)
			}
			if asJSON(t, doc) != asJSON(t, got) {
				t.Fatalf("%s: %s is read as\n%s of\n%s", env, asJSON(t, doc), asJSON(t, got), raw)
			}
		}
		again, err := WriteFlag(&back.Definition, back.In, FlagOptions{Exact: true})
		if err != nil || string(again) != string(raw) {
			t.Fatalf("%v: written again it is\n%s and was\n%s", err, again, raw)
		}
		kept, err := Keeping(raw, raw)
		if err != nil || string(kept) != string(raw) {
			t.Fatalf("%v: saved over itself it is\n%s and was\n%s", err, kept, raw)
		}
	}
}

// Comments stay where a file is saved over: at what they stood at, though the order and the values are others.
func TestCommentsStay(t *testing.T) {
	t.Parallel()
	d := &app.Definition{Key: "doors", Title: "Doors", Type: flag.Boolean, Resting: "off", End: "off", GoneBy: "stays",
		Variants: []app.Variant{{Name: "on", Value: json.RawMessage("true")}, {Name: "off", Value: json.RawMessage("false")}}}
	rule := func(id string) flag.Rule { return flag.Rule{ID: id, Name: id, Gives: flag.Gives{Variant: "on"}} }
	doc := &flag.Document{Lever: flag.On, Resting: "off", End: flag.Gives{Variant: "off"}, Rules: []flag.Rule{rule("r1"),
		rule("r2")}, Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")}}
	raw, err := WriteFlag(d, map[string]*flag.Document{"production": doc}, FlagOptions{})
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(string(raw), "title: Doors", "# why it is called so\ntitle: Doors # for now", 1)
	text = strings.Replace(text, "- id: r2", "# the second one matters\n      - id: r2", 1)
	doc.Rules = []flag.Rule{rule("r2"), rule("r3")}
	d.Title = "All doors"
	if raw, err = WriteFlag(d, map[string]*flag.Document{"production": doc}, FlagOptions{}); err != nil {
		t.Fatal(err)
	}
	kept, err := Keeping([]byte(text), raw)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"# why it is called so\ntitle: All doors # for now", "# the second one matters\n",
		"id: r3"} {
		if !strings.Contains(string(kept), want) {
			t.Errorf("%q is not in\n%s", want, kept)
		}
	}
	if back, err := ReadFlag(kept); err != nil || len(back.In["production"].Rules) != 2 {
		t.Errorf("%v\n%s", err, kept)
	}
}

// Segments, projects, attributes and bundles come back as well.
func TestTheRestComesBack(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 8))
		word := func() string { return odd[r.IntN(len(odd))] }
		seg := &Segment{Key: "crews", Title: "crews" + strings.TrimSpace(word()), In: map[string]SegmentIn{}}
		when, err := expr.Parse(conditions[1+r.IntN(4)])
		if err != nil {
			t.Fatal(err)
		}
		seg.In["production"] = SegmentIn{When: when, Lists: "site.id", In: []string{word(), "x"}, OutFile: "crews.out.txt"}
		raw, err := WriteSegment(seg)
		if err != nil {
			t.Fatal(err)
		}
		if back, err := ReadSegment(raw); err != nil || asJSON(t, back) != asJSON(t, seg) {
			t.Fatalf("%v: %s is not %s of\n%s", err, asJSON(t, back), asJSON(t, seg), raw)
		}
		p := &Project{Key: "pinecrest", Title: "x" + strings.TrimSpace(word()), Exact: true, LeftOut: []string{"people"},
			Environments: []app.Environment{{Key: "production", Title: "x" + word(), AskFirst: true,
				Signing: app.Signing{Need: 2, Roles: []app.Role{"keeper"}, Lever: true}}, {Key: "b", Title: "b"}}}
		if raw, err = WriteProject(p); err != nil {
			t.Fatal(err)
		}
		if back, err := ReadProject(raw); err != nil || asJSON(t, back) != asJSON(t, p) {
			t.Fatalf("%v: %s is not %s of\n%s", err, asJSON(t, back), asJSON(t, p), raw)
		}
		all := []app.Attribute{{Name: "site.id", Type: "string", Description: word(), One: "site", Many: "sites",
			Personal: true, Derive: "presence"}, {Name: "b", Type: "number", Example: word()}}
		if raw, err = WriteAttributes(all); err != nil {
			t.Fatal(err)
		}
		if back, err := ReadAttributes(raw); err != nil || !slices.Equal(back, all) {
			t.Fatalf("%v: %v is not %v", err, back, all)
		}
		bundles := []app.Bundle{{Key: "opening", Title: "x" + word(), Says: word(), Flags: []string{"a", "b"}}}
		if raw, err = WriteBundles(bundles); err != nil {
			t.Fatal(err)
		}
		if back, err := ReadBundles(raw); err != nil || asJSON(t, back) != asJSON(t, bundles) {
			t.Fatalf("%v: %v is not %v", err, back, bundles)
		}
	}
}

func firstOf(d *app.Definition) *flag.Document {
	doc := &flag.Document{Key: d.Key, Type: d.Type, Visible: d.Visible, Lever: flag.Off, Resting: d.Resting,
		End: flag.Gives{Variant: d.End}, Variants: map[string]json.RawMessage{}}
	for _, v := range d.Variants {
		doc.Variants[v.Name] = v.Value
	}
	return doc
}

const good = `flag: doors
title: Doors
type: string
variants:
  on: "open"
  off: "shut"
  half: "ajar"
resting: off
goneBy: stays
owners: [doors@pinecrest.example]
environments:
  production:
    lever: on
    rules:
      - id: r1
        name: Crews
        when: crew_size >= 2
        gives: on
      - name: Shares
        gives:
          by: [site.id]
          shares: {on: 8 %, off: 2 %}
          left: 90 %
    end: off
`

// What is wrong with a file is refused with its line and the mend.
func TestBrokenFlags(t *testing.T) {
	t.Parallel()
	if _, err := ReadFlag([]byte(good)); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ from, to, line, mend string }{
		{"8 %", "9 %", "line 22", "add up to 101 %"},
		{"90 %", "90", "line 23", "want string"},
		{"8 %", "8.00001 %", "line 22", "no percentage"},
		{"title:", "tittle:", "line 2", "did you mean title?"},
		{"lever:", "leaver:", "line 13", "did you mean lever?"},
		{"when:", "wen:", "line 17", "did you mean when?"},
		{"gives: on", "gives: onn", "line 18", "did you mean on?"},
		{"resting: off", "resting: of", "line 8", "did you mean off?"},
		{"    end: off", "    end: open", "line 24", "is no variant"},
		{"  production:", "\tproduction:", "line 12", "spaces"},
		{"goneBy: stays", "goneBy: 2027-13-01", "line 9", "2027-03-31"},
		{"goneBy: stays", "goneBy: soon", "line 9", "2027-03-31"},
		{"goneBy: stays\n", "", "line 1", "goneBy"},
		{"resting: off\n", "", "line 1", "resting"},
		{"flag: doors\n", "", "line 1", "flag"},
		{"flag: doors", "flag: Doors and more", "line 1", "letters"},
		{"flag: doors", "flag: 7", "line 1", "string"},
		{"title: Doors", "title: Doors\ntitle: Again", "line 3", "stands twice"},
		{"  off: \"shut\"", "  on: \"shut\"", "line 6", "stands twice"},
		{"  half: \"ajar\"", "  half: 3", "line 7", "string"},
		{"  half: \"ajar\"", "  half:", "line 7", ""},
		{"type: string", "type: text", "line 3", "value must be one of"},
		{"lever: on", "lever: maybe", "line 13", "value must be one of"},
		{"crew_size >= 2", "crew_size >=", "line 17", "column"},
		{"crew_size >= 2", "crew_size => 2", "line 17", ""},
		{"crew_size >= 2", "inSegmnt(\"x\")", "line 17", ""},
		{"- name: Shares", "- id: r1\n        name: Shares", "line 19", "stands twice"},
		{"name: Crews", "nam: Crews", "line 16", "did you mean name?"},
		{"name: Crews", "name: \"\"", "line 16", ""},
		{"gives: on", "gives: [on]", "line 18", ""},
		{"gives: on", "gives: {on: 8 %}", "line 18", ""},
		{"shares: {on: 8 %, off: 2 %}", "shares: {onn: 8 %, off: 2 %}", "line 22", "did you mean on?"},
		{"shares: {on: 8 %, off: 2 %}", "shares: {on: 8, off: 2 %}", "line 22", ""},
		{"by: [site.id]", "by: []", "line 21", ""},
		{"by: [site.id]", "by: site.id", "line 21", "array"},
		{"    end: off", "    end: {shares: {on: 50 %}, left: 50 %}", "line 24", "nothing comes after the end"},
		{"owners: [doors@pinecrest.example]", "owners: doors@pinecrest.example", "line 10", "array"},
		{"owners: [doors@pinecrest.example]", "owners: [a, a]", "line 10", ""},
		{"    lever: on", "    lever: on\n    lever: off", "line 14", "stands twice"},
		{"    lever: on", "    restAfter: -1", "line 13", "minimum"},
		{"    lever: on", "    restAfter: soon", "line 13", "integer"},
		{"    lever: on", "    needs: [{flag: x}]", "line 13", "variant"},
		{"    lever: on", "    needs: [{flag: x, variant: on, also: y}]", "line 13", "no field"},
		{"    lever: on", "    values: {onn: \"x\"}", "line 13", "did you mean on?"},
		{"    lever: on", "    values: {on: 3}", "line 13", "string"},
		{"    lever: on", "    resting: nothing", "line 13", "is no variant"},
		{"    lever: on", "    revision: 12", "line 13", "is no field here"},
		{"title: Doors", "title: *doors", "line 2", ""},
		{"title: Doors", "title: &d Doors\ndescription: *d", "line 3", "anchors"},
		{"variants:\n  on: \"open\"\n  off: \"shut\"\n  half: \"ajar\"\n", "variants: {}\n", "line 4", ""},
		{"  production:\n    lever: on\n", "  production: on\n  x:\n    lever: on\n", "line 12", "object"},
		{"parked", "parked", "", ""},
		{"        gives: on\n", "        gives: on\n        parked: maybe\n", "line 19", "boolean"},
		{"        gives: on\n", "        gives: on\n        onUnknown: perhaps\n", "line 19", "value must be one of"},
		{"        gives: on\n", "        gives: on\n        release: x\n", "line 19", "is no field here"},
		{"environments:", "environment:", "line 11", "did you mean environments?"},
		{"title: Doors", "title: [Doors", "line", ""},
		{"title: Doors", "title: \"Doors", "line", ""},
		{"          left: 90 %", "          left: 190 %", "line 23", "from 0 to 100"},
		{"          left: 90 %", "          left: 90 %\n          drawAnew: true", "line 24", "is no field here"},
		{"          left: 90 %", "          left: 90 %\n          ranges: {on: [[0, 2000000]]}", "line 24", "maximum"},
		{"          left: 90 %", "          left: 90 %\n          ranges: {on: [[0]]}", "line 24", "minItems"},
		{"          left: 90 %", "          left: 90 %\n          like: {rule: r1}", "line 24", "flag"},
	} {
		if c.from == c.to {
			continue
		}
		broken := strings.Replace(good, c.from, c.to, 1)
		if broken == good {
			t.Fatalf("%q is not in the file", c.from)
		}
		_, err := ReadFlag([]byte(broken))
		if err == nil {
			t.Errorf("%s is taken", c.to)
			continue
		}
		if said := err.Error(); !strings.Contains(said, c.line) || !strings.Contains(said, c.mend) {
			t.Errorf("%s: %v, want %s and %q", c.to, err, c.line, c.mend)
		}
	}
	for _, raw := range []string{"", "# nothing\n", "- a\n", "x", "---\nflag: a\n---\nflag: b\n"} {
		if _, err := ReadFlag([]byte(raw)); err == nil {
			t.Errorf("%q is taken", raw)
		}
	}
}
