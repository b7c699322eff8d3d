package expr

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"greenlever.example/core/condition"
)

// celOf is an environment of CEL in which attributes are variables, and functions of ours are
// declared.
func celOf(t *testing.T) *cel.Env {
	t.Helper()
	options := []cel.EnvOption{cel.Variable("attr", cel.MapType(cel.StringType, cel.DynType))}
	for _, name := range []string{"role", "plan", "n", "m", "beta", "site", "key"} {
		options = append(options, cel.Variable(name, cel.DynType))
	}
	options = append(options, cel.Function("between", cel.Overload("between", []*cel.Type{cel.DynType, cel.DynType,
		cel.DynType}, cel.BoolType,
		cel.FunctionBinding(func(a ...ref.Val) ref.Val {
			f := func(v ref.Val) float64 { return float64(v.ConvertToType(types.DoubleType).(types.Double)) }
			return types.Bool(f(a[0]) >= f(a[1]) && f(a[0]) <= f(a[2]))
		}))))
	env, err := cel.NewEnv(options...)
	if err != nil {
		t.Fatal(err)
	}
	return env
}

// All that is printed is CEL, over every test there is.
func TestWhatIsPrintedIsCEL(t *testing.T) {
	env := celOf(t)
	rng := rand.New(rand.NewPCG(41, 42))
	for range 20_000 {
		n := randomNode(rng, 2)
		text, err := Print(n)
		if err != nil {
			continue // odd names have no text
		}
		if _, issues := env.Parse(text); issues.Err() != nil {
			t.Fatalf("%s\n%v", text, issues.Err())
		}
	}
	for _, usage := range Usage() {
		if _, issues := env.Parse(usage); issues.Err() != nil {
			t.Errorf("%s: %v", usage, issues.Err())
		}
	}
}

// What CEL refuses is refused here: texts are damaged at random, and none that is read is none
// of CEL's.
func TestWhatIsReadIsCEL(t *testing.T) {
	env := celOf(t)
	rng := rand.New(rand.NewPCG(43, 44))
	pieces := []string{"!", "(", ")", "==", "in", "[", "]", ",", ".", "-", "\"", "'", "r", "\\", "\r", "\n", "5", "e",
		"x", "role", "has", "attr", " ", "&&", "||", "?", ":", "//", "\t", "0", "u", "_", "true", "null"}
	read := 0
	for range 60_000 {
		text, err := Print(randomNode(rng, 1))
		if err != nil {
			continue
		}
		for range 1 + rng.IntN(3) {
			at := rng.IntN(len(text) + 1)
			switch rng.IntN(3) {
			case 0:
				text = text[:at] + pick(rng, pieces...) + text[at:]
			case 1:
				text = text[:at] + text[min(len(text), at+1+rng.IntN(3)):]
			case 2:
				text = text[:at] + pick(rng, pieces...) + text[min(len(text), at+1):]
			}
		}
		if _, err := Parse(text); err != nil {
			continue
		}
		read++
		if _, issues := env.Parse(text); issues.Err() != nil {
			t.Errorf("read here and refused by CEL: %q\n%v", text, issues.Err())
		}
	}
	if read < 2_000 {
		t.Errorf("only %d texts were read", read)
	}
}

// Where attributes are there and of the type that is compared, CEL and the tree agree.
func TestCELMeansTheSame(t *testing.T) {
	env := celOf(t)
	rng := rand.New(rand.NewPCG(45, 46))
	var node func(depth int) *condition.Node
	node = func(depth int) *condition.Node {
		if depth > 0 && rng.IntN(3) > 0 {
			a, b := node(depth-1), node(depth-1)
			return pick(rng, &condition.Node{All: []condition.Node{*a, *b}},
				&condition.Node{Any: []condition.Node{*a, *b}}, &condition.Node{Not: a})
		}
		text := func(test string) *condition.Node {
			n := &condition.Node{Test: test, Attribute: pick(rng, "role", "plan", "site.region", "x-plan"),
				Text: []string{pick(rng, "courier", "c", "", "Zoë", "rier", "^c.*r$", "a\"b")}}
			if test == "string.one-of" {
				n.Text = append(n.Text, "plus")
			}
			return n
		}
		switch rng.IntN(8) {
		case 0, 1, 2:
			return text(pick(rng, "string.equals", "string.one-of", "string.begins", "string.ends", "string.contains"))
		case 3:
			return &condition.Node{Test: pick(rng, "boolean.true", "boolean.false"), Attribute: "beta"}
		case 4:
			return &condition.Node{Test: "string.matches", Attribute: "role",
				Text: []string{pick(rng, "^c.*r$", "our", "[0-9]", "^$")}}
		case 5:
			return &condition.Node{Test: "number.one-of", Attribute: pick(rng, "n", "m"), Numbers: []float64{1, 2.5,
				-7}}
		case 6:
			return &condition.Node{Test: "number.between", Attribute: pick(rng, "n", "m"), Numbers: []float64{-1, 2.5}}
		}
		return &condition.Node{Test: pick(rng, "number.equals", "number.differs", "number.less", "number.at-most",
			"number.more", "number.at-least"), Attribute: pick(rng, "n", "m"),
			Numbers: []float64{pick(rng, 0, 1, 2.5, -7)}}
	}
	for range 3_000 {
		n := node(3)
		text, err := Print(n)
		if err != nil {
			t.Fatal(err)
		}
		ast, issues := env.Compile(text)
		if issues.Err() != nil {
			t.Fatalf("%s\n%v", text, issues.Err())
		}
		program, err := env.Program(ast)
		if err != nil {
			t.Fatal(err)
		}
		for range 5 {
			role, plan, region, x := pick(rng, "courier", "c", "Zoë", ""), pick(rng, "plus", "c", "a\"b"),
				pick(rng, "north", "c"), pick(rng, "plus", "")
			beta, a, b := rng.IntN(2) == 0, pick(rng, 0, 1, 2.5, -7, 3), pick(rng, 1, 2)
			got, _, err := program.Eval(map[string]any{"role": role, "plan": plan,
				"site": map[string]any{"region": region}, "beta": beta, "n": a, "m": b,
				"attr": map[string]any{"x-plan": x}})
			if err != nil {
				t.Fatalf("%s: %v", text, err)
			}
			c, err := condition.ParseContext(fmt.Appendf(nil,
				`{"role":%q,"plan":%q,"site":{"region":%q},"x-plan":%q,"beta":%t,"n":%v,"m":%v}`, role, plan, region,
				x, beta, a, b))
			if err != nil {
				t.Fatal(err)
			}
			if want := n.Match(c, condition.Around{}); (want == condition.True) != (got == types.True) ||
				want == condition.Unknown {
				t.Fatalf("%s: %s here, %v in CEL", text, want, got)
			}
		}
	}
}
