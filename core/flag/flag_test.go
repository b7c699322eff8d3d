package flag

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"greenlever.example/core/condition"
)

func document() *Document {
	return &Document{Key: "night-batching", Type: Boolean, Lever: On, Resting: "off", End: Gives{Variant: "off"},
		Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")}}
}

func TestCheckTakesAGoodDocument(t *testing.T) {
	d := document()
	s := &Shares{By: []string{"site.id"}, Salt: "s", Hash: 1, Parts: []Part{{Variant: "on", Share: 80_000},
		{GoesOn: true, Share: 920_000}}}
	if err := s.Arrange(nil, "off"); err != nil {
		t.Fatal(err)
	}
	d.Rules = []Rule{{ID: "1", Name: "r", Gives: Gives{Shares: s}, OnUnknown: Apply}}
	if found := d.Check(); len(found) > 0 {
		t.Error(found)
	}
}

func TestCheckNamesThePlace(t *testing.T) {
	shares := func(parts ...Part) Gives {
		return Gives{Shares: &Shares{By: []string{"x"}, Salt: "s", Hash: 1, Parts: parts}}
	}
	rule := func(change func(*Rule)) func(*Document) {
		return func(d *Document) {
			r := Rule{ID: "1", Name: "r", Gives: Gives{Variant: "on"}}
			change(&r)
			d.Rules = []Rule{r}
		}
	}
	for place, change := range map[string]func(*Document){
		"key":     func(d *Document) { d.Key = "Night Batching" },
		"type":    func(d *Document) { d.Type = "date" },
		"lever":   func(d *Document) { d.Lever = "" },
		"resting": func(d *Document) { d.Resting = "x" },
		"variants": func(d *Document) {
			delete(d.Variants, "on")
			d.End.Variant, d.Resting = "off",
				"off"
		},
		"variants.on":    func(d *Document) { d.Variants["on"] = json.RawMessage(`"true"`) },
		"requires":       func(d *Document) { d.Requires = []string{"x"} },
		"needs[0]":       func(d *Document) { d.Needs = []Need{{Flag: "a"}} },
		"needs[0].flag":  func(d *Document) { d.Needs = []Need{{Flag: d.Key, Variant: "on"}} },
		"end":            func(d *Document) { d.End = Gives{} },
		"end.variant":    func(d *Document) { d.End = Gives{Variant: "x"} },
		"rules[0].id":    rule(func(r *Rule) { r.ID = "" }),
		"rules[0].name":  rule(func(r *Rule) { r.Name = " " }),
		"rules[0].gives": rule(func(r *Rule) { r.Gives.Shares = &Shares{} }),
		"rules[0].when":  rule(func(r *Rule) { r.When = &condition.Node{} }),
		"rules[1].id": func(d *Document) {
			r := Rule{ID: "1", Name: "r", Gives: Gives{Variant: "on"}}
			d.Rules = []Rule{r, r}
		},
		"rules[0].onUnknown":          rule(func(r *Rule) { r.OnUnknown = "maybe" }),
		"rules[0].requires":           rule(func(r *Rule) { r.Requires = []string{"x"} }),
		"rules[0].gives.shares.parts": rule(func(r *Rule) { r.Gives = shares(Part{Variant: "on", Share: 1}) }),
		"rules[0].gives.shares.parts[1]": rule(func(r *Rule) {
			r.Gives = shares(Part{Variant: "on", Share: 500_000}, Part{Variant: "on", Share: 500_000})
		}),
		"rules[0].gives.shares.by":   rule(func(r *Rule) { r.Gives = shares(); r.Gives.Shares.By = nil }),
		"rules[0].gives.shares.salt": rule(func(r *Rule) { r.Gives = shares(); r.Gives.Shares.Salt = "" }),
		"rules[0].gives.shares.hash": rule(func(r *Rule) { r.Gives = shares(); r.Gives.Shares.Hash = 2 }),
		"end.shares.parts[0].goesOn": func(d *Document) { d.End = shares(Part{GoesOn: true, Share: 1_000_000}) },
		"rules[0].gives.shares.parts[0]": rule(func(r *Rule) {
			r.Gives = shares(Part{GoesOn: true, Variant: "on", Share: 1_000_000})
		}),
	} {
		d := document()
		change(d)
		found := d.Check()
		ok := false
		for _, p := range found {
			ok = ok || p.Place == place && p.Mend != ""
		}
		if !ok {
			t.Errorf("%s: %v", place, found)
		}
	}
	many := document()
	for i := range MaxRules + 1 {
		many.Rules = append(many.Rules, Rule{ID: fmt.Sprint(i), Name: "r", Gives: Gives{Variant: "on"}})
	}
	if found := many.Check(); len(found) != 1 || found[0].Place != "rules" {
		t.Errorf("%d rules: %v", MaxRules+1, found)
	}
}

func TestValues(t *testing.T) {
	for _, c := range []struct {
		t    Type
		good []string
		bad  []string
	}{
		{Boolean, []string{"true"}, []string{"1", `"true"`, "null", ""}},
		{String, []string{`""`, `"x"`}, []string{"x", "1", "null"}},
		{Number, []string{"1", "-2.5", "9007199254740991"}, []string{`"1"`, "9007199254740993", "1e400", "null"}},
		{Object, []string{"{}", "[1]"}, []string{`"x"`, "1", "null", "{"}},
	} {
		for _, v := range c.good {
			if mend := CheckValue(c.t, json.RawMessage(v)); mend != "" {
				t.Errorf("%s %s: %s", c.t, v, mend)
			}
		}
		for _, v := range c.bad {
			if CheckValue(c.t, json.RawMessage(v)) == "" {
				t.Errorf("%s takes %s", c.t, v)
			}
		}
	}
}

func TestKeys(t *testing.T) {
	for _, good := range []string{"a", "one-touch-open", "v4.2", "a_b", strings.Repeat("a", 100)} {
		if mend := CheckKey(good); mend != "" {
			t.Errorf("%s: %s", good, mend)
		}
	}
	for _, bad := range []string{"", "A", "-a", "a-", "a b", "ä", "a/b", strings.Repeat("a", 101)} {
		if CheckKey(bad) == "" {
			t.Errorf("%q is taken", bad)
		}
	}
}

type docs map[string]*Document

func (d docs) Flag(key string) *Document { return d[key] }
func (d docs) Segment(string) *Segment   { return nil }

func TestReferences(t *testing.T) {
	all := docs{}
	needs := func(key string, on ...string) *Document {
		d := document()
		d.Key = key
		for _, o := range on {
			d.Needs = append(d.Needs, Need{o, "on"})
		}
		all[key] = d
		return d
	}
	needs("a")
	needs("b", "a")
	needs("c", "a", "b")
	if found := needs("d", "c").CheckReferences(all); len(found) > 0 {
		t.Error(found)
	}
	if found := needs("a", "d").CheckReferences(all); len(found) != 1 || found[0].Mend != "flags and segments ask "+
		"for each other in a circle: flag a asks for flag d asks for flag c asks for flag a" {
		t.Error(found)
	}
	needs("a")
	for i := range 12 { // each needs the two before: the cost doubles
		prev := []string{"a", "a2"}
		if i > 0 {
			prev = []string{fmt.Sprintf("l%d", i-1), fmt.Sprintf("m%d", i-1)}
		} else {
			needs("a2")
		}
		needs(fmt.Sprintf("l%d", i), prev...)
		needs(fmt.Sprintf("m%d", i), prev...)
	}
	if found := all["l11"].CheckReferences(all); len(found) != 1 || !strings.Contains(found[0].Mend,
		"shorten the chain") {
		t.Error(found)
	}
	d := document()
	d.Rules = []Rule{{ID: "1", Name: "r", When: &condition.Node{Not: &condition.Node{Test: condition.SegmentTest,
		Segment: "x"}}, Gives: Gives{Variant: "on"}}}
	if found := d.CheckReferences(all); len(found) != 1 || found[0].Place != "rules[0].when" {
		t.Error(found)
	}
}

func TestApplyInOrder(t *testing.T) {
	doc := func(key, lever string) json.RawMessage {
		return json.RawMessage(fmt.Sprintf(`{"key":%q,"lever":%q,"later":1}`, key, lever))
	}
	rs, err := NewRuleset(&Snapshot{Format: 1, Epoch: 7, Revision: 3, Flags: []json.RawMessage{doc("a", "off")},
		Stops: []Stop{{ID: "s1", Flags: []string{"a"}}}})
	if err != nil {
		t.Fatal(err)
	}
	next, err := rs.Apply(&Event{Format: 1, Epoch: 7, Revision: 4, Flags: []json.RawMessage{doc("b", "on")},
		Lifted: []string{"s1"}, Stops: []Stop{{ID: "s2", Flags: []string{"b"}}}})
	if err != nil || len(next.Flags) != 2 || len(next.Stops) != 1 || next.Stops[0].ID != "s2" {
		t.Fatalf("%+v %v", next, err)
	}
	if len(rs.Flags) != 1 || rs.Stops[0].ID != "s1" {
		t.Error("applying an event changed the ruleset before it")
	}
	gone, err := next.Apply(&Event{Format: 1, Epoch: 7, Revision: 5, Gone: &Gone{Flags: []string{"a"}}})
	if err != nil || gone.Flags["a"] != nil || gone.Flag("b").Lever != On {
		t.Errorf("%+v %v", gone, err)
	}
	for name, e := range map[string]Event{"older": {Epoch: 7, Revision: 3}, "gap": {Epoch: 7, Revision: 6},
		"epoch": {Epoch: 8, Revision: 4}} {
		if _, err := rs.Apply(&e); !errors.Is(err, ErrGap) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := rs.Apply(&Event{Format: 2, Epoch: 7, Revision: 4}); !errors.Is(err, ErrFormat) {
		t.Errorf("newer format: %v", err)
	}
	raw, _ := json.Marshal(next.Snapshot())
	again, err := ReadSnapshot(raw)
	if err != nil || !strings.Contains(string(again.Flags["b"]), `"later":1`) {
		t.Errorf("a snapshot loses what this build does not know: %v %s", err, raw)
	}
	for _, bad := range []string{"", "{}", `{"format":9}`, `{"format":1,"flags":[{}]}`, `{"format":1,"flags":[5]}`} {
		if _, err := ReadSnapshot([]byte(bad)); err == nil {
			t.Errorf("%q is read", bad)
		}
	}
}

// The golden streams of each released format are still read.
func TestGoldenFormat1(t *testing.T) {
	rs, err := ReadSnapshot(
		[]byte(
			`{"format":1,"epoch":1795415707217,"revision":16,"at":1795415708300,"flags":[{"key":"weather-holds","type":"boolean","variants":{"off":false,"on":true},"visible":false,"lever":"on","resting":"off","needs":[{"flag":"a","variant":"on"}],"rules":[{"id":"r1","name":"Just me","when":{"test":"string.one-of","attribute":"targetingKey","text":["recipient-17"]},"gives":{"variant":"on"},"parked":true,"onUnknown":"skip"},{"id":"r2","name":"Sites","gives":{"shares":{"by":["site.id"],"salt":"93ccab25289e5f35","hash":1,"parts":[{"variant":"on","share":80000,"ranges":[[0,80000]]},{"goesOn":true,"share":920000,"ranges":[[80000,1000000]]}]}}}],"end":{"variant":"off"}}],"segments":[{"key":"staff","when":{"test":"present","attribute":"badge"}}],"stops":[{"id":"s","flags":["weather-holds"],"at":5}]}`))
	if err != nil {
		t.Fatal(err)
	}
	d := rs.Flag("weather-holds")
	if d.Rules[1].Gives.Shares.Parts[1].Ranges[0] != (Ranges{80_000, 1_000_000}) || d.Rules[0].OnUnknown != Skip ||
		!d.Rules[0].Parked || d.Needs[0].Variant != "on" || rs.Segment("staff").When.Test != "present" ||
		rs.Stops[0].At != 5 {
		t.Errorf("%+v", d)
	}
	if place, used := d.Uses("on"); !used || place != `rule "Just me"` {
		t.Errorf("%s %t", place, used)
	}
}

func TestArrangeKeepsTheOrder(t *testing.T) {
	s := &Shares{Parts: []Part{{GoesOn: true, Share: 500_000}, {Variant: "off", Share: 100_000},
		{Variant: "on", Share: 400_000}}}
	if err := s.Arrange(nil, "off"); err != nil {
		t.Fatal(err)
	}
	if s.Parts[0].Variant != "on" || s.Parts[1].Variant != "off" || !s.Parts[2].GoesOn {
		t.Errorf("%+v", s.Parts)
	}
	if s.Parts[2].Ranges[0] != (Ranges{500_000, 1_000_000}) {
		t.Errorf("%+v", s.Parts[2])
	}
}

// Documents are cut apart as encoding/json cuts them, whatever stands in them.
func FuzzDocumentsAreCutApart(f *testing.F) {
	for _, s := range []string{`[]`, ` [ ] `, `null`,
		`[{"key":"a","x":"]},{\\\"\u005d"},{"key":"b","y":[[1,2],{"z":[]}]}]`, `[1, "a,b" ,null,true,{"a":[",",{}]}]`,
		`[[[]],{"k":"\\\\"}]`, `["\""]`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		var want []json.RawMessage
		if json.Unmarshal(raw, &want) != nil {
			return
		}
		var got raws
		if err := json.Unmarshal(raw, &got); err != nil {
			t.Fatalf("%s: %v", raw, err)
		}
		if len(got) != len(want) {
			t.Fatalf("%s: %d documents, want %d", raw, len(got), len(want))
		}
		for i := range want {
			if string(got[i]) != string(want[i]) {
				t.Errorf("%s: %s, want %s", raw, got[i], want[i])
			}
		}
	})
}

// A key that stands ahead is read alone; any other document is read whole.
func TestKeysAhead(t *testing.T) {
	for doc, want := range map[string]string{`{"key":"a"}`: "a", `{"key":"a","x":"key"}`: "a",
		`{"x":1,"key":"b"}`: "b", `{ "key" : "c" }`: "c", `{"key":"d\u0065"}`: "de"} {
		into := map[string]json.RawMessage{}
		if err := index(into, "flag", []json.RawMessage{json.RawMessage(doc)}); err != nil || into[want] == nil {
			t.Errorf("%s: %v %v", doc, into, err)
		}
	}
	for _, bad := range []string{`{"key":""}`, `{"key":5}`, `{}`, `5`, `{"key":"a"`} {
		if err := index(map[string]json.RawMessage{}, "flag", []json.RawMessage{json.RawMessage(bad)}); err == nil {
			t.Errorf("%s was taken", bad)
		}
	}
}

// Inside an object, too, values are what every reader takes them for.
func TestCheckNewValue(t *testing.T) {
	for value, says := range map[string]string{
		`{"tries":3,"delays":[100,200.5,1e300,9007199254740991,-9007199254740991],"on":{"tries":3}}`: "",
		`[]`: "", `{}`: "", `[[{"a":[{}]}]]`: "",
		`{"a":{"b":[1,9007199254740993]}}`:            "9007199254740993 at .a.b[1]",
		`{"a":-9007199254740992}`:                     "-9007199254740992 at .a",
		`[1,1e400]`:                                   "no JSON",
		`{"a":1,"b":2,"a":1}`:                         "member .a twice",
		`{"a":1,"\u0061":1}`:                          "member .a twice",
		`[{"x":{"retries":1,"retries":{}}},{"x":{}}]`: "member [0].x.retries twice",
		`"text"`:   "must be a JSON object",
		`{"a":1`:   "no JSON",
		`{"a":1}}`: "no JSON",
	} {
		mend := CheckNewValue(Object, json.RawMessage(value))
		if says == "" && mend != "" || !strings.Contains(mend, says) {
			t.Errorf("%s: %q, not %q", value, mend, says)
		}
	}
	if mend := CheckNewValue(String, json.RawMessage(`"9007199254740993"`)); mend != "" {
		t.Errorf("a string: %s", mend)
	}
	if mend := CheckNewValue("integer",
		json.RawMessage("2")); mend != `fits no type: "integer" is none of boolean, string, number and object` {
		t.Errorf("a type that is none: %s", mend)
	}
}
