package words

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
)

func TestSaying(t *testing.T) {
	s := Say("%s of %s get %s", Number("8 %"), Names{"site.id": {One: "site", Many: "sites"}}.Of([]string{"site.id"}),
		Variant("on"))
	want := Said{Number("8 %"), {Text: " of "}, {Kind: AnAttribute, Text: "sites", Of: "site.id"}, {Text: " get "},
		Variant("on")}
	if !reflect.DeepEqual(s, want) || s.String() != "8 % of sites get `on`" {
		t.Errorf("%+v: %s", s, s)
	}
	if got := Say("%s%s%s", "a ", Plain("100 %s"), " b"); len(got) != 1 || got.String() != "a 100 %s b" {
		t.Errorf("plain words do not go together: %+v", got)
	}
	for said, want := range map[string]string{
		Say("%s", About(120, 100, 140)).String():                      "about 120 (100 to 140)",
		Say("%s", About(120, 120, 120)).String():                      "120",
		Say("%s", Counted(1, "chain", "chains")).String():             "1 chain",
		Say("%s", Counted(0, "chain", "chains")).String():             "0 chains",
		Say("%s added", Rule(`Night "crews" *`)).String():             `rule "Night \"crews\" *" added`,
		Names(nil).Of([]string{"site.id", KeyAttribute}).String():     "units by site.id (else by key)",
		Names(nil).Of([]string{"x plan"}).String():                    `units by attribute "x plan"`,
		Names(nil).Either([]string{"site.id", KeyAttribute}).String(): "site.id or key",
		Names(nil).Attribute("not").Text:                              `attribute "not"`,
		Names(nil).Attribute(KeyAttribute).Text:                       "the key",
	} {
		if said != want {
			t.Errorf("%q, want %q", said, want)
		}
	}
	func() {
		defer func() {
			if recover() == nil {
				t.Error("a format with too few arguments is taken")
			}
		}()
		Say("%s and %s", "one")
	}()
}

// What is printed plainly can be read again, whatever the names of people hold; so can what
// was written when names stood between stars.
func TestReading(t *testing.T) {
	for _, name := range []string{"Night crews", `with "quotes"`, "`ticks`", "*stars*", "⟨0⟩", "rule \"x\": `on`",
		"новый 📦", "tab\tnew\nline", `back\slash`, ""} {
		s := Say("%s: %s → %s, + %s at %s", Rule(name), Variant("on"), Variant("off-2"), Value(name, "role"),
			Time("2027-03-01T06:00:00+01:00"))
		again := Read(s.String())
		for i := range s {
			s[i].Of = "" // is not printed
		}
		if !reflect.DeepEqual(again, s) {
			t.Errorf("%q:\n%+v\n%+v", name, again, s)
		}
		if strings.Contains(s.String(), "⟨") {
			t.Errorf("%s holds the mark of a place", s)
		}
	}
	old := Read("rule *Night crews* renamed *Crews*: share of `on` 8 % → 30 %")
	if old[1] != Name("Night crews") || old.String() != "rule \"Night crews\" renamed \"Crews\": share of `on` 8 % "+
		"→ 30 %" {
		t.Errorf("%+v", old)
	}
	if got := Read("rules now in the order *A*, *B c*").String(); got != `rules now in the order "A", "B c"` {
		t.Errorf("%s", got)
	}
	for _, odd := range []string{"", "an \"open quote", "`not a name!`", "100 %s", "2027-13-45T99:99:99Z"} {
		if got := Read(odd).String(); got != odd {
			t.Errorf("%q became %q", odd, got)
		}
	}
}

func TestJSON(t *testing.T) {
	s := Say("moves %s of %s", About(120, 100, 140), Variant("on"))
	raw, err := json.Marshal(s)
	if err != nil || !strings.HasPrefix(string(raw), "{\"text\":\"moves about 120 (100 to 140) of "+
		"`on`\",\"tokens\":[{\"text\":\"moves \"},{\"kind\":\"number\",") {
		t.Fatalf("%s %v", raw, err)
	}
	var again Said
	if err := json.Unmarshal(raw, &again); err != nil || !reflect.DeepEqual(again, s) {
		t.Errorf("%+v %v", again, err)
	}
	if err := json.Unmarshal([]byte(`"Off: everybody gets `+"`off`"+`."`), &again); err != nil ||
		again.String() != "Off: everybody gets `off`." || again[1] != Variant("off") {
		t.Errorf("of a release before: %+v %v", again, err)
	}
	if raw, _ := json.Marshal(Said(nil)); string(raw) != `{"text":"","tokens":[]}` {
		t.Errorf("%s", raw)
	}
}

func TestUsableWords(t *testing.T) {
	for word, usable := range map[string]bool{"": true, "site": true, "parcel lockers": true, "crew's sites": true,
		"Größe": true, "not": false, "size is": false,
		"a, b": false, "`on`": false, "one two three four five": false, strings.Repeat("x", 61): false,
		"all others": false} {
		if got := Usable(word) == ""; got != usable {
			t.Errorf("%q: %s", word, Usable(word))
		}
	}
}
