package snippet

import (
	"encoding/json"
	"go/parser"
	"strings"
	"testing"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

func TestSnippetsAreFilledIn(t *testing.T) {
	for kind, c := range map[flag.Type]struct{ a, b, call string }{
		flag.Boolean: {"true", "false", `flags.Bool(ctx, "night-batching", unit, false)`},
		flag.String:  {`"fast"`, `"slow"`, `flags.String(ctx, "night-batching", unit, "slow")`},
		flag.Number:  {"5", "2.5", `flags.Number(ctx, "night-batching", unit, 2.5)`},
		flag.Object:  {`{"a":1}`, `{"a": 2}`, `greenlever.Object(ctx, flags, "night-batching", unit, fallback)`},
	} {
		d := &flag.Document{Key: "night-batching", Type: kind, Resting: "b", End: flag.Gives{Variant: "b"},
			Variants: map[string]json.RawMessage{"a": json.RawMessage(c.a), "b": json.RawMessage(c.b)},
			Rules: []flag.Rule{{ID: "1", Name: "North", When: &condition.Node{Test: "string.equals",
				Attribute: "site.region", Text: []string{"north"}}, Gives: flag.Gives{Variant: "a"}}}}
		for _, s := range For(d, []Attribute{{"site.region", "string"}, {"site.id", ""}, {"crew_size", "number"},
			{"languages", "list"}}, "https://flags.pinecrest.example") {
			if s.Name == "" || !strings.Contains(s.Code, d.Key) || s.Name != "HTTP" && !strings.Contains(s.Code,
				"a: ") {
				t.Errorf("%s %s: %s", kind, s.Name, s.Code)
			}
			if s.Name == "Go" {
				if !strings.Contains(s.Code, c.call) || !strings.Contains(s.Code,
					`greenlever.String("site.region", siteRegion), greenlever.String("site.id", siteID), greenlever.Number("crew_size", crewSize), greenlever.List("languages", languages...)`) {
					t.Errorf("%s: %s", kind, s.Code)
				}
				if _, err := parser.ParseExpr("func() {\n" + s.Code + "\n}"); err != nil {
					t.Errorf("%s does not parse: %v\n%s", kind, err, s.Code)
				}
			}
			if s.Name == "HTTP" {
				body := s.Code[strings.Index(s.Code, "-d '")+4:]
				if !json.Valid([]byte(strings.TrimSuffix(body, "'"))) {
					t.Errorf("no JSON: %s", body)
				}
			}
		}
	}
}
