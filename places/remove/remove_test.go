package remove

import (
	"context"
	"fmt"
	"go/format"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// planted is a function that asks for the flag, and what becomes of it.
type planted struct {
	says  string
	value any
	was   string // the body of a function of (ctx, c, u, s, other) that gives a text
	is    string // empty: as it was
	left  string // why it was left; empty: it was rewritten
}

const ask = `c.Bool(ctx, "door", u, false)`

var cases = []planted{
	{"an if", true, `if ` + ask + " {\nreturn \"new\"\n}\nreturn \"old\"", "return \"new\"\n\nreturn \"old\"", ""},
	{"an if, off", false, `if ` + ask + " {\nreturn \"new\"\n}\nreturn \"old\"", "return \"old\"", ""},
	{"an else", true, `if ` + ask + " {\nnote(\"a\")\n} else {\nnote(\"b\")\n}\nreturn \"\"", "note(\"a\")\n\nreturn \"\"", ""},
	{"an else, off", false, `if ` + ask + " {\nnote(\"a\")\n} else {\nnote(\"b\")\n}\nreturn \"\"",
		"note(\"b\")\n\nreturn \"\"", ""},
	{"not", true, "if !" + ask + " {\nreturn \"old\"\n}\nreturn \"new\"", "return \"new\"", ""},
	{"not, off", false, "if !" + ask + " {\nreturn \"old\"\n}\nreturn \"new\"", "return \"old\"\n\nreturn \"new\"", ""},
	{"not in brackets", true, "if !(" + ask + ") {\nreturn \"old\"\n}\nreturn \"new\"", "return \"new\"", ""},
	{"and something", true, "if " + ask + " && other() {\nreturn \"new\"\n}\nreturn \"\"",
		"if other() {\nreturn \"new\"\n}\nreturn \"\"", ""},
	{"something and", true, "if other() && " + ask + " {\nreturn \"new\"\n}\nreturn \"\"",
		"if other() {\nreturn \"new\"\n}\nreturn \"\"", ""},
	{"and something, off", false, "if " + ask + " && other() {\nreturn \"new\"\n}\nreturn \"\"", "return \"\"", ""},
	{"something that does something, and, off", false, "if other() && " + ask + " {\nreturn \"new\"\n}\nreturn \"\"",
		"if other() && false {\nreturn \"new\"\n}\nreturn \"\"", ""},
	{"something calm, and, off", false, "on := len(\"x\") > 0\nif on && " + ask + " {\nreturn \"new\"\n}\nreturn fmt.Sprint(on)",
		"on := len(\"x\") > 0\n\nreturn fmt.Sprint(on)", ""},
	{"or something", false, "if " + ask + " || other() {\nreturn \"new\"\n}\nreturn \"\"",
		"if other() {\nreturn \"new\"\n}\nreturn \"\"", ""},
	{"or something, on", true, "if " + ask + " || other() {\nreturn \"new\"\n}\nreturn \"\"", "return \"new\"\n\nreturn \"\"", ""},
	{"not and or", true, "if other() || !" + ask + " {\nreturn \"a\"\n}\nreturn \"b\"",
		"if other() {\nreturn \"a\"\n}\nreturn \"b\"", ""},
	{"deep in brackets", true, "if (other() || s == \"x\") && (" + ask + " || s == \"y\") {\nreturn \"a\"\n}\nreturn \"b\"",
		"if (other() || s == \"x\") {\nreturn \"a\"\n}\nreturn \"b\"", ""},
	{"compared with true", true, "if " + ask + " == true {\nreturn \"a\"\n}\nreturn \"b\"", "return \"a\"\n\nreturn \"b\"", ""},
	{"an else if", true, "if other() {\nreturn \"a\"\n} else if " + ask + " {\nreturn \"b\"\n}\nreturn \"c\"",
		"if other() {\nreturn \"a\"\n} else {\nreturn \"b\"\n}\nreturn \"c\"", ""},
	{"an else if, off", false, "if other() {\nreturn \"a\"\n} else if " + ask + " {\nreturn \"b\"\n}\nreturn \"c\"",
		"if other() {\nreturn \"a\"\n}\nreturn \"c\"", ""},
	{"an else if with an else, off", false, "if other() {\nreturn \"a\"\n} else if " + ask +
		" {\nreturn \"b\"\n} else {\nreturn \"c\"\n}", "if other() {\nreturn \"a\"\n} else {\nreturn \"c\"\n}", ""},
	{"an if before an else if, off", false, "if " + ask + " {\nreturn \"a\"\n} else if other() {\nreturn \"b\"\n}\nreturn \"c\"",
		"if other() {\nreturn \"b\"\n}\nreturn \"c\"", ""},
	{"names of its own", true, "x := \"out\"\nif " + ask + " {\nx := \"in\"\nnote(x)\n}\nreturn x",
		"x := \"out\"\n{\nx := \"in\"\nnote(x)\n}\nreturn x", ""},
	{"a comment within", true, "if " + ask + " {\n// it opens\nnote(\"a\") // at once\n}\nreturn \"\"",
		"// it opens\nnote(\"a\") // at once\n\nreturn \"\"", ""},
	{"one in another", true, "if " + ask + " {\nif !" + ask + " {\nreturn \"never\"\n}\nreturn \"new\"\n}\nreturn \"old\"",
		"return \"new\"\n\nreturn \"old\"", ""},
	{"a variable", true, "on := " + ask + "\nif on && other() {\nreturn \"a\"\n}\nreturn \"b\"",
		"on := true\nif on && other() {\nreturn \"a\"\n}\nreturn \"b\"", ""},
	{"given back", true, "return fmt.Sprint(" + ask + ")", "return fmt.Sprint(true)", ""},
	{"a variable that nothing uses then", true, "who := greenlever.Unit(\"x\")\nif c.Bool(ctx, \"door\", who, false) {\n" +
		"return \"a\"\n}\nreturn \"b\"", "return \"a\"\n\nreturn \"b\"", ""},
	{"a scope", true, "if c.Scope(ctx, u).Bool(\"door\", false) {\nreturn \"a\"\n}\nreturn \"b\"", "return \"a\"\n\nreturn \"b\"", ""},
	{"a constant of the key", true, "if c.Bool(ctx, doorKey, u, false) {\nreturn \"a\"\n}\nreturn \"b\"",
		"return \"a\"\n\nreturn \"b\"", ""},
	{"a handle", true, "if door.For(ctx, c, u) {\nreturn \"a\"\n}\nreturn \"b\"", "return \"a\"\n\nreturn \"b\"", ""},
	{"a generated accessor", true, "if flags.Door.In(c.Scope(ctx, u)) {\nreturn \"a\"\n}\nreturn \"b\"",
		"return \"a\"\n\nreturn \"b\"", ""},
	{"a text compared", "quick", "if c.String(ctx, \"door\", u, \"slow\") == \"quick\" {\nreturn \"a\"\n}\nreturn \"b\"",
		"return \"a\"\n\nreturn \"b\"", ""},
	{"a text compared with what is not known", "quick", "if c.String(ctx, \"door\", u, \"slow\") == s {\nreturn \"a\"\n}\nreturn \"b\"",
		"if \"quick\" == s {\nreturn \"a\"\n}\nreturn \"b\"", ""},
	{"a switch", "quick", "switch c.String(ctx, \"door\", u, \"slow\") {\ncase \"slow\":\nnote(\"a\")\ncase \"quick\", \"fast\":\n" +
		"note(\"b\")\ndefault:\nnote(\"c\")\n}\nreturn \"\"", "note(\"b\")\nreturn \"\"", ""},
	{"a switch, by default", "other", "switch c.String(ctx, \"door\", u, \"slow\") {\ncase \"slow\":\nnote(\"a\")\ndefault:\n" +
		"x := \"c\"\nnote(x)\n}\nreturn \"\"", "{\nx := \"c\"\nnote(x)\n}\nreturn \"\"", ""},
	{"a switch without the case", "other", "switch c.String(ctx, \"door\", u, \"slow\") {\ncase \"slow\":\nnote(\"a\")\n}\nreturn \"\"",
		"return \"\"", ""},
	{"a number", 2.5, "return fmt.Sprint(c.Number(ctx, \"door\", u, 1) * 2)", "return fmt.Sprint(float64(2.5) * 2)", ""},
	{"a whole number", 3.0, "return fmt.Sprint(c.Int(ctx, \"door\", u, 1))", "return fmt.Sprint(int64(3))", ""},
	// Left as they are.
	{"a switch that is left with break", "quick", "switch c.String(ctx, \"door\", u, \"slow\") {\ncase \"quick\":\nif other() {\n" +
		"break\n}\nnote(\"b\")\n}\nreturn \"\"", "", "leaves the switch with break"},
	{"a case that goes on", "quick", "switch c.String(ctx, \"door\", u, \"slow\") {\ncase \"quick\":\nnote(\"b\")\nfallthrough\n" +
		"case \"slow\":\nnote(\"c\")\n}\nreturn \"\"", "", "goes on to the next"},
	{"a statement before", true, "if x := other(); x && " + ask + " {\nreturn \"a\"\n}\nreturn \"b\"", "if x := other(); x {\nreturn \"a\"\n}\nreturn \"b\"", ""},
	{"a statement before, decided", true, "if x := other(); " + ask + " {\nreturn fmt.Sprint(x)\n}\nreturn \"b\"", "",
		"begins with a statement"},
	{"a case", true, "switch {\ncase " + ask + ":\nreturn \"a\"\n}\nreturn \"b\"", "", "one of the cases"},
	{"a loop", true, "for " + ask + " {\nreturn \"a\"\n}\nreturn \"b\"", "", "a loop"},
	{"the whole answer", true, "return c.Answer(ctx, \"door\", u).Variant", "", "something else than a question"},
	{"of another type", "quick", "if " + ask + " {\nreturn \"a\"\n}\nreturn \"b\"", "", "another type"},
	{"a handle handed on", true, "return fmt.Sprint(door)", "", "handed on"},
}

func fileOf(i int, body string) string {
	return "package app\n\nimport (\n\"context\"\n\"fmt\"\n\n\"example.org/app/flags\"\ngreenlever \"greenlever.example/client\"\n)\n\n" +
		"var _ = fmt.Sprint\nvar _ = flags.Other\n\n" +
		fmt.Sprintf("func f%d(ctx context.Context, c *greenlever.Client, u greenlever.Context, s string, other func() bool) "+
			"string {\n%s\n}\n", i, body)
}

// module makes a module of functions, one for each case.
func module(t *testing.T, wants any) string {
	t.Helper()
	dir := t.TempDir()
	write := func(name, text string) {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	repo, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	write("go.mod", "module example.org/app\n\ngo 1.26\n\nrequire greenlever.example/client v0.0.0\n\nrequire "+
		"greenlever.example/core v0.0.0 // indirect\n\nreplace (\n\tgreenlever.example/client => "+repo+
		"/client\n\tgreenlever.example/core => "+repo+"/core\n)\n")
	write("flags/flags.go", "// Code generated by \"greenlever generate go\" from project x; DO NOT EDIT.\n\npackage flags\n\n"+
		"import greenlever \"greenlever.example/client\"\n\nvar Door = greenlever.NewBoolFlag(\"door\", false)\n\n"+
		"var Other = greenlever.NewBoolFlag(\"other\", false)\n")
	write("app.go", "package app\n\nimport greenlever \"greenlever.example/client\"\n\nconst doorKey = \"door\"\n\n"+
		"var door = greenlever.NewBoolFlag(\"door\", false)\n\nfunc note(string) {}\n")
	for i, c := range cases {
		if c.value != wants {
			continue
		}
		text, err := format.Source([]byte(fileOf(i, c.was)))
		if err != nil {
			t.Fatalf("%s: %v", c.says, err)
		}
		write(fmt.Sprintf("f%d.go", i), string(text))
	}
	return dir
}

// Of the planted cases each becomes what it should, or is left with its reason; and the module compiles.
func TestPlanted(t *testing.T) {
	t.Parallel()
	if len(cases) < 40 {
		t.Fatalf("only %d cases", len(cases))
	}
	values := map[any]bool{}
	for _, c := range cases {
		values[c.value] = true
	}
	for value := range values {
		t.Run(fmt.Sprint(value), func(t *testing.T) {
			t.Parallel()
			dir := module(t, value)
			r, err := Flag(context.Background(), Options{Dir: dir, Key: "door", Value: value})
			if err != nil {
				t.Fatal(err)
			}
			became := map[string]string{}
			for _, f := range r.Files {
				became[f.Path] = string(f.New)
				if err := os.WriteFile(filepath.Join(dir, f.Path), f.New, 0o600); err != nil {
					t.Fatal(err)
				}
				if !strings.HasPrefix(f.Diff(), "--- a/"+f.Path+"\n+++ b/"+f.Path+"\n@@ ") {
					t.Errorf("the difference is\n%s", f.Diff())
				}
			}
			for i, c := range cases {
				if c.value != value {
					continue
				}
				name := fmt.Sprintf("f%d.go", i)
				got, changed := became[name]
				if c.left != "" {
					if changed || !strings.Contains(fmt.Sprint(r.Left), name+":") || !strings.Contains(fmt.Sprint(r.Left), c.left) {
						t.Errorf("%s: was to be left since %q: %s\n%v", c.says, c.left, got, r.Left)
					}
					continue
				}
				want, err := format.Source([]byte(fileOf(i, c.is)))
				if err != nil {
					t.Fatal(err)
				}
				if squeezed(got) != squeezed(string(want)) {
					t.Errorf("%s: is\n%s\nand should be\n%s", c.says, got, want)
				}
			}
			if out, err := exec.Command("go", "-C", dir, "build", "./...").CombinedOutput(); err != nil {
				t.Errorf("the module does not compile:\n%s", out)
			}
			if out, err := exec.Command("gofmt", "-l", dir).Output(); err != nil || len(out) > 0 {
				t.Errorf("not formatted: %s %v", out, err)
			}
		})
	}
}

// squeezed is a text without its empty lines: where something was cut out of the middle, one may stay.
func squeezed(s string) string {
	var out []string
	for line := range strings.Lines(s) {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	return strings.Join(out, "\n")
}

// What does not compile as it is, is not touched; nor is anything of another flag.
func TestNothingElse(t *testing.T) {
	t.Parallel()
	dir := module(t, nil)
	r, err := Flag(context.Background(), Options{Dir: dir, Key: "nothing", Value: true})
	if err != nil || len(r.Files)+len(r.Left) > 0 {
		t.Errorf("%+v %v", r, err)
	}
	if err := os.WriteFile(filepath.Join(dir, "broken.go"), []byte("package app\n\nfunc g() int { return \"x\" }\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Flag(context.Background(), Options{Dir: dir, Key: "door", Value: true}); err == nil ||
		!strings.Contains(err.Error(), "does not compile as it is") {
		t.Error(err)
	}
	if _, err := Flag(context.Background(), Options{Dir: dir, Key: "door", Value: []string{}}); err == nil {
		t.Error("a list is taken")
	}
}
