package accessor

import (
	"encoding/json"
	"go/parser"
	"go/token"
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

func definition(key string, kind flag.Type, resting string, variants ...string) app.Definition {
	d := app.Definition{Key: key, Type: kind, Resting: resting, GoneBy: "stays"}
	for _, v := range variants {
		name, value, _ := strings.Cut(v, "=")
		d.Variants = append(d.Variants, app.Variant{Name: name, Value: json.RawMessage(value)})
	}
	return d
}

// Whatever keys, variants and descriptions there are, the source parses, names differ, and
// nothing written by people ends a comment or a string.
func TestOddNames(t *testing.T) {
	odd := definition("1st-try", flag.String, "a", `a="x\"y"`, `b="*/ \n func"`, `A="other"`)
	odd.Description = "ends */ here\nvar Evil = 1\r// and \u2028 there"
	all := []app.Definition{odd, definition("door.open", flag.Boolean, "off", "on=true", "off=false"),
		definition("door-open", flag.Boolean, "on", "on=true", "off=false"),
		definition("revision", flag.Number, "m", "m=2.5", "n=0"), definition("o", flag.Object, "x", `x={"a":1}`,
			"y={}")}
	raw, err := Go("pinecrest", "flags", all)
	if err != nil {
		t.Fatal(err)
	}
	file, err := parser.ParseFile(token.NewFileSet(), "flags.go", raw, parser.ParseComments)
	if err != nil {
		t.Fatalf("%v\n%s", err, raw)
	}
	if file.Scope.Lookup("Evil") != nil {
		t.Errorf("a description became code:\n%s", raw)
	}
	for _, name := range []string{"Flag1stTry", "DoorOpen", "DoorOpen2", "Revision", "Revision2", "O", "Flag1stTryA",
		"Flag1stTryB", "Flag1stTryA2"} {
		if file.Scope.Lookup(name) == nil {
			t.Errorf("there is no %s:\n%s", name, raw)
		}
	}
	for _, want := range []string{`NewStringFlag("1st-try", "x\"y")`, `NewBoolFlag("door-open", true)`,
		`NewNumberFlag("revision", 2.5)`, `NewObjectFlag[map[string]any]("o", nil)`} {
		if !strings.Contains(string(raw), want) {
			t.Errorf("the source lacks %s:\n%s", want, raw)
		}
	}
}

// The revision changes with what is said, and with nothing else.
func TestRevision(t *testing.T) {
	all := []app.Definition{definition("a", flag.Boolean, "off", "on=true", "off=false"), definition("b", flag.Boolean,
		"off", "on=true", "off=false")}
	first := Revision(all)
	if Revision([]app.Definition{all[1], all[0]}) != first {
		t.Error("the order counts")
	}
	all[0].Version, all[0].Tags, all[0].Visible = 9, []string{"x"}, true
	if Revision(all) != first {
		t.Error("what the source does not say counts")
	}
	for name, change := range map[string]func(*app.Definition){
		"title": func(d *app.Definition) { d.Title = "T" }, "description": func(d *app.Definition) {
			d.Description = "D"
		}, "gone by": func(d *app.Definition) { d.GoneBy = "2027-01-01" },
		"resting": func(d *app.Definition) { d.Resting = "on" }, "variants": func(d *app.Definition) {
			d.Variants = d.Variants[:1]
		}, "type": func(d *app.Definition) { d.Type = flag.Number },
	} {
		other := []app.Definition{all[0], all[1]}
		change(&other[1])
		if Revision(other) == first {
			t.Errorf("%s does not count", name)
		}
	}
	empty, err := Go("pinecrest", "flags", nil)
	if err != nil || strings.Contains(string(empty), "import") {
		t.Errorf("%v %s", err, empty)
	}
	for _, bad := range []string{"", "_", "my flags", "func", "9x"} {
		if _, err := Go("pinecrest", bad, all); err == nil {
			t.Errorf("package %q", bad)
		}
	}
}
