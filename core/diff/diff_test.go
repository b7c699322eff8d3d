package diff

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/words"
)

func texts(lines []Line) []string { return words.Texts(Said(lines)) }

func read(t *testing.T, raw string) *flag.Document {
	t.Helper()
	d := &flag.Document{}
	if err := json.Unmarshal([]byte(raw), d); err != nil {
		t.Fatal(err)
	}
	return d
}

const base = `{"key":"f","type":"boolean","variants":{"on":true,"off":false},"lever":"on","resting":"off",
"rules":[{"id":"1","name":"Just me","when":{"test":"string.one-of","attribute":"targetingKey","text":["a","b"]},"gives":{"variant":"on"}},
{"id":"2","name":"Night crews","when":{"test":"number.at-least","attribute":"crew_size","numbers":[2]},"gives":{"shares":{"by":["site.id"],"salt":"s","hash":1,"parts":[{"variant":"on","share":80000},{"goesOn":true,"share":920000}]}}}],"end":{"variant":"off"}}`

func TestDifferencesInWords(t *testing.T) {
	for _, c := range []struct{ old, now, want string }{
		{`"lever":"on"`, `"lever":"off"`, "lever on → off"},
		{`"resting":"off"`, `"resting":"on"`, "resting `off` → `on`"},
		{`"on":true,`, `"on":false,`, "value of `on` true → false"},
		{`"on":true,`, `"on":true,"new":true,`, "variant `new` added: true"},
		{`"lever":"on"`, `"lever":"on","visible":true`, "visible to browsers no → yes"},
		{`"lever":"on"`, `"lever":"on","needs":[{"flag":"g","variant":"on"}]`, "needs g to give `on`"},
		{`"name":"Just me"`, `"name":"Me"`, `rule "Just me" renamed "Me"`},
		{`"name":"Just me"`, `"name":"Just me","parked":true`, "rule \"Just me\" parked"},
		{`"name":"Just me"`, `"name":"Just me","onUnknown":"apply"`,
			"rule \"Just me\": if its condition is unknown, it does not take the unit (unless it says otherwise) → " +
				"takes the unit"},
		{`["a","b"]`, `["b","c"]`, `rule "Just me": the key + "c", − "a"`},
		{`"crew_size","numbers":[2]`, `"crew_size","numbers":[3]`, "rule \"Night crews\": condition crew_size ≥ 2 → " +
			"crew_size ≥ 3"},
		{`"share":80000},{"goesOn":true,"share":920000`, `"share":300000},{"goesOn":true,"share":700000`,
			"rule \"Night crews\": share of `on` 8 % → 30 %"},
		{`"by":["site.id"]`, `"by":["targetingKey"]`, "rule \"Night crews\": shares by site.id → key"},
		{`"salt":"s"`, `"salt":"t"`, "rule \"Night crews\": shares drawn anew"},
		{`"end":{"variant":"off"}`, `"end":{"variant":"on"}`, "end gives `off` → `on`"},
	} {
		if !strings.Contains(base, c.old) {
			t.Fatalf("the base has no %s", c.old)
		}
		old, now := read(t, base), read(t, strings.Replace(base, c.old, c.now, 1))
		if got := strings.Join(texts(Flags(old, now)), "; "); got != c.want {
			t.Errorf("%s: %q, want %q", c.now, got, c.want)
		}
	}
	swapped := read(t, base)
	swapped.Rules[0], swapped.Rules[1] = swapped.Rules[1], swapped.Rules[0]
	if got := texts(Flags(read(t, base), swapped)); !slices.Equal(got,
		[]string{`rules now in the order "Night crews", "Just me"`}) {
		t.Errorf("%q", got)
	}
	fewer := read(t, base)
	fewer.Rules = fewer.Rules[1:]
	if got := texts(Flags(read(t, base), fewer)); !slices.Equal(got,
		[]string{"rule \"Just me\" removed: units \"a\", \"b\" get `on`"}) {
		t.Errorf("%q", got)
	}
	if got := Flags(read(t, base), read(t, base)); len(got) != 0 {
		t.Errorf("nothing changed, and it says %q", got)
	}
}

// Personal values are kept apart, so that a text can be stored without them.
func TestPersonalValuesAreKeptApart(t *testing.T) {
	now := read(t, base)
	now.Rules[0].When.Text = append(now.Rules[0].When.Text, "ida.holm@pinecrest.example")
	now.Rules = append(now.Rules, flag.Rule{ID: "3", Name: "mail", Gives: flag.Gives{Variant: "on"},
		When: &condition.Node{Any: []condition.Node{
			{Test: "string.equals", Attribute: "email", Text: []string{"noor.berg@pinecrest.example"}},
			{Test: "string.equals", Attribute: "role", Text: []string{"courier"}}}}})
	for _, l := range Flags(read(t, base), now) {
		if strings.Contains(l.Text, "@") {
			t.Errorf("%q names a person", l.Text)
		}
		if !strings.Contains(l.String(), "@pinecrest.example") {
			t.Errorf("%q names nobody", l.String())
		}
	}
}

func TestSegments(t *testing.T) {
	a := &flag.Segment{Key: "staff"}
	b := &flag.Segment{Key: "staff", When: &condition.Node{Test: "present", Attribute: "badge"}}
	for want, got := range map[string][]Line{"segment made: nobody": Segments(nil, a),
		"condition nobody → badge is present": Segments(a, b), "": Segments(b, b)} {
		if said := strings.Join(texts(got), "; "); said != want {
			t.Errorf("%q, want %q", said, want)
		}
	}
}

// Whatever changes a decision changes the sentence.
func TestSentencesTellDecisionsApart(t *testing.T) {
	seen := map[string]string{sentence.Of(read(t, base), false, nil).String(): "the base"}
	for _, c := range []struct{ old, now string }{
		{`"lever":"on"`, `"lever":"off"`}, {`"lever":"on"`, `"lever":"on","needs":[{"flag":"g","variant":"on"}]`},
		{`"name":"Just me"`, `"name":"Just me","parked":true`},
		{`"name":"Just me"`, `"name":"Just me","onUnknown":"apply"`}, {`["a","b"]`, `["b","c"]`},
		{`"numbers":[2]`, `"numbers":[3]`}, {`number.at-least`, `number.more`},
		{`"share":80000},{"goesOn":true,"share":920000`, `"share":300000},{"goesOn":true,"share":700000`},
		{`"by":["site.id"]`, `"by":["targetingKey"]`}, {`"end":{"variant":"off"}`, `"end":{"variant":"on"}`},
	} {
		said := sentence.Of(read(t, strings.Replace(base, c.old, c.now, 1)), false, nil).String()
		if before, ok := seen[said]; ok {
			t.Errorf("%s reads like %s: %q", c.now, before, said)
		}
		seen[said] = c.now
	}
}

func TestSentences(t *testing.T) {
	d := read(t, base)
	want := "Units \"a\", \"b\" get `on`; where crew_size ≥ 2: 8 % of units by site.id get `on`; all others get `off`."
	if got := sentence.Of(d, false, nil).String(); got != want {
		t.Errorf("%q, want %q", got, want)
	}
	d.Needs = []flag.Need{{Flag: "one-touch-open", Variant: "on"}}
	if got := sentence.Of(d, false, nil).String(); got != "Only where one-touch-open gives `on` (elsewhere `off`): u"+
		want[1:] {
		t.Errorf("%q", got)
	}
	if got := sentence.Of(d, true, nil).String(); got != "Stopped: all get `off`." {
		t.Errorf("%q", got)
	}
	if parts := sentence.Parts(d, nil); len(parts) != 3 || parts[2].String() != "all others get `off`" {
		t.Errorf("%q", parts)
	}
	d.Lever = flag.Off
	if got := sentence.Of(d, false, nil).String(); got != "Off: all get `off`." {
		t.Errorf("%q", got)
	}
}

// Lists of segments are told by who came and went; long ones by number. Units are personal.
func TestSegmentLists(t *testing.T) {
	old := &flag.Segment{Key: "pilot", In: &flag.List{Units: []string{"a", "b"}}}
	now := &flag.Segment{Key: "pilot", Lists: "site.id", In: &flag.List{Units: []string{"b", "c"}},
		Out: &flag.List{Digest: "0123456789abcdef", Count: 5_000}}
	lines := Segments(old, now)
	want := []string{"lists name key → site.id", `listed in: + "c", − "a"`, "listed out: 0 units → 5000 units (list " +
		"0123456789ab)"}
	if got := texts(lines); strings.Join(got, "|") != strings.Join(want, "|") {
		t.Errorf("%q", got)
	}
	if lines[1].Text != "listed in: + ⟨0⟩, − ⟨1⟩" || len(lines[1].Personal) != 2 {
		t.Errorf("%+v", lines[1])
	}
	if made := texts(Segments(nil, old)); len(made) != 2 || made[0] != "segment made: nobody" {
		t.Errorf("%q", made)
	}
	if same := Segments(now, now); len(same) != 0 {
		t.Errorf("%q", texts(same))
	}
}
