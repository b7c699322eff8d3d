package expr

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"greenlever.example/core/condition"
)

// Each text is canonical, and reads as the words say.
func TestParseAndPrint(t *testing.T) {
	for text, words := range map[string]string{
		`role == "courier"`: `role is "courier"`,
		`role != "courier" && folded(role).startsWith("C")`:                                      `role is not "courier" and role begins with "C" (ignoring case)`,
		`site.region in ["north", "east"] || present(badge)`:                                     `site.region is one of "north", "east" or badge is present`,
		`(role == "a" || role == "b") && !(crew_size >= 2)`:                                      `(role is "a" or role is "b") and not (crew_size ≥ 2)`,
		`crew_size in [1, -2.5] && between(crew_size, 2, 5)`:                                     `crew_size is one of 1, -2.5 and crew_size is between 2 and 5`,
		`version(firmware) >= version("4.2.0") && looseVersion(app_version) < version("4.2")`:    `firmware is version ≥ 4.2.0 and app_version is version < 4.2 (4.2 and v4.2.0 too)`,
		`timestamp(joined) < timestamp("2027-03-01T06:00:00Z")`:                                  `joined is before 2027-03-01T06:00:00Z`,
		`window(now, timestamp("2027-03-01T06:00:00Z"), timestamp("2027-03-08T06:00:00+01:00"))`: `it is between 2027-03-01T06:00:00Z and 2027-03-08T06:00:00+01:00`,
		`weekly(["mon", "tue"], "22:00", "06:00", "Europe/Oslo")`:                                `it is Monday or Tuesday from 22:00 to 06:00 the next day in Europe/Oslo`,
		`inBlocks(network, ["10.20.0.0/16", "fd00::/8"])`:                                        `network is an address in 10.20.0.0/16, fd00::/8`,
		`hasAny(languages, ["de"]) && !hasNone(languages, ["en", "fr"])`:                         `languages has any of "de" and not (languages has none of "en", "fr")`,
		`inSegment("staff") && gives("one-touch-open", ["on", "off"])`: "in segment staff " +
			"and flag one-touch-open gives `on` or `off`",
		`part("0.0125 %", [key, site.id], "ab12")`:                                       `among 0.0125 % of units (else by site.id)`,
		`attr["x-plan"] == true && attr["in.a"] == false && key.endsWithAny(["1", "2"])`: `x-plan is true and in.a is false and the key ends with "1", "2"`,
		`email.matches("^a\\.b\"\u0001$") || absent(email)`: "email matches " +
			"\"^a\\\\.b\\\"\\x01$\" or email is absent",
	} {
		n, err := Parse(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if n.Words() != words {
			t.Errorf("%s: %s, want %s", text, n.Words(), words)
		}
		if again, err := Print(n); err != nil || again != text {
			t.Errorf("%s: printed %s, %v", text, again, err)
		}
	}
	for text, want := range map[string]string{
		`((role=='courier'))&&(present(a)&&present(b))`: `role == "courier" && present(a) && present(b)`,
		"!!present(a) // who is on shift\n|| r'\\d'":    "", // a constant alone
		`role.startsWith(r"\d")`:                        `role.startsWith("\\d")`,
		`inRange(firmware, "4.2.x")`:                    `version(firmware) >= version("4.2.0") && version(firmware) < version("4.3.0-0")`,
		`crew_size == 5.0`:                              `crew_size == 5`,
		`version(firmware) == "4.2.0"`:                  `version(firmware) == version("4.2.0")`,
		`part("8", [key])`:                              `part("8 %", [key])`,
	} {
		n, err := Parse(text)
		if want == "" {
			if err == nil {
				t.Errorf("%s is taken", text)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got, err := Print(n); err != nil || got != want {
			t.Errorf("%s: %s %v, want %s", text, got, err, want)
		}
	}
}

// Errors name line and column and what to write instead.
func TestErrorsSayWhere(t *testing.T) {
	for text, want := range map[string]string{
		``:                                     `line 1, column 1: write a comparison here`,
		`role = "a"`:                           `line 1, column 6: write == to compare`,
		`role == "a" and present(b)`:           `line 1, column 13: write && for and`,
		"present(a) &&\n  not present(b)":      `line 2, column 3: write ! for not`,
		`"Zoë" == name`:                        `line 1, column 1: begin with an attribute`,
		`name == "Zoë" && x`:                   `line 1, column 19: compare x with something`,
		`name == "Zoë`:                         `line 1, column 9: the string has no end`,
		`site.in == "a"`:                       `line 1, column 6: in is a word of the language: write the whole name in quotes, as in attr["site.in"]`,
		`has(badge)`:                           `line 1, column 5: has() takes a path such as site.id: write present(badge)`,
		`has(attr["x-plan"])`:                  `line 1, column 5: has() takes a path such as site.id: write present(attr["x-plan"])`,
		`!role == "courier"`:                   `line 1, column 2: put brackets around what ! is of: !(role == "courier")`,
		`!!beta in ["a"] && present(b)`:        `line 1, column 3: put brackets around what ! is of: !(beta in ["a"])`,
		`crew_size > 5.`:                       `line 1, column 13: "5." is no number`,
		"role == \"a\rb\"":                     `line 1, column 9: the string has no end`,
		`"de" in languages`:                    `line 1, column 1: write hasAny(languages, ["de"])`,
		`beta`:                                 `line 1, column 5: compare beta with something, such as beta == true`,
		`(n) >= 2`:                             `line 1, column 1: take the brackets away, and write n`,
		`present(a) ? present(b) : present(c)`: `line 1, column 12: there is no ?: in conditions`,
		`role == courier`:                      `line 1, column 9: write a constant here: a string stands in quotes, as in "courier"`,
		`firmware >= "4.2.0"`:                  `line 1, column 10: strings have no order`,
		`version(firmware) >= version("4.2")`:  `line 1, column 30: "4.2" is no version`,
		`timestamp(joined) > "2027-03-01T00:00:00Z"`: `line 1, column 19: write < or >= here`,
		`now < timestamp("1 March")`:                 `line 1, column 17: "1 March" is no time`,
		`role in []`:                                 `line 1, column 10: the list is empty`,
		`role in ["a", 1]`:                           `line 1, column 15: a list holds strings only or numbers only`,
		`role in ["a" "b"]`:                          `line 1, column 14: write , or ] here`,
		`inBlocks(ip, ["10.0.0.0/8", "10/8"])`:       `line 1, column 29: "10/8" is no address block`,
		`role.matches("(")`:                          `line 1, column 14: is no RE2 pattern`,
		`role.beginsWith("a")`:                       `line 1, column 16: beginsWith is no method here`,
		`lower(role) == "a"`:                         `line 1, column 1: lower is no function here`,
		`(present(a)`:                                `line 1, column 12: write ) here to close the bracket, instead of the end`,
		`present(a))`:                                `line 1, column 11: this bracket closes nothing`,
		`present(a) present(b)`:                      `line 1, column 12: join comparisons with && or ||`,
		`x-plan == true`:                             `line 1, column 2: compare x with something`,
		`role § "a"`:                                 `line 1, column 6: '§' has no meaning here`,
		`part("108 %", [key])`:                       `line 1, column 6: "108 %" is no percentage`,
		`weekly(["moon"], "22:00", "06:00", "UTC")`:  `line 1, column 9: "moon" is no day`,
		`crew_size < 9007199254740993`:               `line 1, column 13: is outside`,
		`crew_size < 5x`:                             `line 1, column 13: "5x" is no number`,
		`if == true`:                                 `line 1, column 1: if is a word of the language: write the attribute as attr["if"]`,
		`between(crew_size, 5, 2)`:                   `line 1, column 20: number.between takes two numbers`,
	} {
		_, err := Parse(text)
		var syntax *SyntaxError
		if !errors.As(err, &syntax) || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%s\n got %v\nwant %s", text, err, want)
		}
	}
	if _, err := Parse(strings.Repeat("(", 10_000)); err == nil {
		t.Error("endless brackets are taken")
	}
}

func pick[T any](rng *rand.Rand, from ...T) T { return from[rng.IntN(len(from))] }

// randomNode is a random tree over every test there is.
func randomNode(rng *rand.Rand, depth int) *condition.Node {
	if depth > 0 && rng.IntN(2) == 0 {
		var nodes []condition.Node
		for range 1 + rng.IntN(3) {
			nodes = append(nodes, *randomNode(rng, depth-1))
		}
		return pick(rng, &condition.Node{All: nodes}, &condition.Node{Any: nodes}, &condition.Node{Not: &nodes[0]})
	}
	tests := condition.Tests()
	n := &condition.Node{Test: tests[rng.IntN(len(tests))]}
	names := []string{"role", "site.id", "x-plan", "in", "a.if", "key", "targetingKey", "Zoë", "a b", `a"b`, "_x1",
		"a..b", "version", "has"}
	texts := []string{"a", "", "Zoë", "\"", "\\", "\n\x01\u2028", "📦", "' or"}
	times := []string{"2027-03-01T06:00:00Z", "2027-03-08T06:00:00.5+01:00"}
	kind, how, _ := strings.Cut(n.Test, ".")
	n.Attribute = pick(rng, names...)
	switch {
	case how == "between" && kind != "number":
		n.Text = times
	case how == "between":
		n.Numbers = []float64{-1.5, 1e15}
	case kind == "number" && how == "one-of":
		n.Numbers = []float64{1, 2.25, -7}
	case kind == "number":
		n.Numbers = []float64{pick(rng, 0, 1, -2.5, 1e-7, condition.MaxInteger)}
	case kind == "version" && how == "range":
		return randomNode(rng, depth) // written out when parsed
	case kind == "version":
		n.Loose = rng.IntN(2) == 0
		n.Text = []string{pick(rng, "4.2.0", "1.0.0-rc.1+b")}
	case kind == "time" || n.Test == "clock.before" || n.Test == "clock.at-or-after":
		n.Text = []string{pick(rng, times...)}
	case kind == "string" && (how == "equals" || how == "matches"):
		n.Text, n.IgnoreCase = []string{pick(rng, "a", "^b.c$", "Zoë", "")}, rng.IntN(2) == 0
	case kind == "string":
		n.IgnoreCase = rng.IntN(2) == 0
		fallthrough
	case kind == "list":
		for range 1 + rng.IntN(3) {
			n.Text = append(n.Text, pick(rng, texts...))
		}
	case kind == "address":
		n.Text = []string{"10.0.0.0/8", "fd00::1"}
	}
	switch n.Test {
	case condition.SegmentTest:
		n.Attribute, n.Segment = "", "staff"
	case condition.FlagTest:
		n.Attribute, n.Flag, n.Text = "", "one-touch-open", []string{"on", "off"}
	case condition.WeeklyTest:
		n.Attribute, n.Weekly = "", &condition.Weekly{Days: []string{"mon", "sun"}, From: "22:00", To: "06:00",
			Zone: "Europe/Oslo"}
	case condition.PartTest:
		n.Attribute, n.Part = "", &condition.Within{By: []string{pick(rng, names...), "site.id"},
			Share: rng.Uint32N(1_000_001), Salt: "ab12", Hash: 1}
	case "clock.before", "clock.at-or-after", "clock.between":
		n.Attribute = ""
	}
	return n
}

// Canonical trees survive being written and read; what is read is canonical text.
func TestRoundTrip(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 12))
	for range 20_000 {
		n := randomNode(rng, 4).Canonical()
		text, err := Print(n)
		if err != nil {
			t.Fatalf("%s: %v", n.Words(), err)
		}
		again, err := Parse(text)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		if a, b := asJSON(n), asJSON(again); a != b {
			t.Fatalf("%s\nwas  %s\nread %s", text, a, b)
		}
	}
}

func asJSON(n *condition.Node) string {
	raw, err := json.Marshal(n)
	if err != nil {
		return err.Error()
	}
	return string(raw)
}

// Whatever is taken prints to text that reads as the same tree.
func FuzzRoundTrip(f *testing.F) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 50 {
		text, _ := Print(randomNode(rng, 3))
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, source string) {
		n, err := Parse(source)
		if err != nil {
			var syntax *SyntaxError
			if !errors.As(err, &syntax) || syntax.Line < 1 || syntax.Column < 1 || syntax.Mend == "" {
				t.Fatalf("%q: %v", source, err)
			}
			return
		}
		text, err := Print(n)
		if err != nil {
			t.Fatalf("%q: %v", source, err)
		}
		again, err := Parse(text)
		if err != nil || asJSON(again) != asJSON(n) {
			t.Fatalf("%q printed %q, which reads %s (%v)", source, text, asJSON(again), err)
		}
		if twice, _ := Print(again); twice != text {
			t.Fatalf("%q is not canonical: %q", text, twice)
		}
	})
}

// Each function's example is taken.
func TestUsage(t *testing.T) {
	if len(Usage()) < 13 {
		t.Fatalf("%d functions", len(Usage()))
	}
	for _, u := range Usage() {
		if _, err := Parse(u); err != nil {
			t.Errorf("%s: %v", u, err)
		}
	}
	if _, err := Print(&condition.Node{Test: "moon.phase"}); err == nil {
		t.Error("an unknown test is printed")
	}
	if s, err := Print(nil); s != "" || err != nil {
		t.Error(fmt.Sprint(s, err))
	}
}
