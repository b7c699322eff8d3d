// Package policy judges changes by expressions that a project wrote down: rules for rules.
//
// Its noun is a [Policy], which is compiled to a [Program]:
//
//	p, err := policy.Compile(`difference.step > 40.0 && environment.key == "production"`)
//	bites, err := p.Bites(facts)
//
// Expressions are CEL (https://cel.dev), over the types of [Facts], which are declared to the compiler: a field that
// there is none of is an error with its column. They read nothing, know no time but now, and are bounded in cost.
package policy

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"
)

// MaxCost bounds what an expression may cost to judge one change, in CEL's units: a few milliseconds at most.
const MaxCost = 100_000

// MaxText bounds an expression, in bytes.
const MaxText = 4_000

// Document is a flag in an environment, before or after a change.
type Document struct {
	Lever    string   `cel:"lever"` // on or off
	Resting  string   `cel:"resting"`
	Variants []string `cel:"variants"`
	Visible  bool     `cel:"visible"` // to browsers
	Needs    []string `cel:"needs"`   // keys of other flags
	Rules    []Rule   `cel:"rules"`
	End      Gives    `cel:"end"`
}

// Rule is a rule of a document.
type Rule struct {
	ID     string `cel:"id"`
	Name   string `cel:"name"`
	When   string `cel:"when"` // its condition as text; empty for everybody
	Parked bool   `cel:"parked"`
	Gives  Gives  `cel:"gives"`
}

// Gives is what a rule or the end gives: a variant, or shares.
type Gives struct {
	Variant string   `cel:"variant"`
	By      []string `cel:"by"`
	Shares  []Share  `cel:"shares"`
}

// Share is a part of the units.
type Share struct {
	Variant string  `cel:"variant"` // empty: goes on to the next rule
	Percent float64 `cel:"percent"`
}

// Flag is what a project owns of a flag.
type Flag struct {
	Key         string   `cel:"key"`
	Title       string   `cel:"title"`
	Description string   `cel:"description"`
	Type        string   `cel:"type"`
	Loses       string   `cel:"loses"` // what users lose while it rests
	GoneBy      string   `cel:"goneBy"`
	Owners      []string `cel:"owners"`
	Tags        []string `cel:"tags"`
	Visible     bool     `cel:"visible"`
	Releasing   bool     `cel:"releasing"` // a release of it runs here
}

// Environment is where a change is made; its key is empty where the project as a whole is changed.
type Environment struct {
	Key        string `cel:"key"`
	AskFirst   bool   `cel:"askFirst"`
	OwnersOnly bool   `cel:"ownersOnly"`
}

// Person is who makes a change, or signed it.
type Person struct {
	ID    string   `cel:"id"`
	Kind  string   `cel:"kind"` // person, robot, service
	Roles []string `cel:"roles"`
	Teams []string `cel:"teams"`
}

// Difference is what a change makes of what stood.
type Difference struct {
	Lines []string `cel:"lines"`
	// Step is by how many percentage points at most the share of everybody grows who get a variant that is not the
	// resting one, by one rule without a condition, the end, or between two stages of a release.
	Step  float64 `cel:"step"`
	Lever bool    `cel:"lever"` // the lever is turned
}

// Shift is what a change would move, on the units that were seen lately.
type Shift struct {
	Moved   int64 `cel:"moved"`
	Units   int64 `cel:"units"`
	Certain bool  `cel:"certain"` // nobody moves whoever there is
	Sweep   bool  `cel:"sweep"`   // everybody goes from the resting variant in one step
}

// Release is a release that begins, or whose stages are edited.
type Release struct {
	Stages  int64     `cel:"stages"`
	Shares  []float64 `cel:"shares"` // in percent, of those that are shared
	Watches int64     `cel:"watches"`
	SignOff int64     `cel:"signOff"` // stages that somebody signs
}

// Change is how it is made.
type Change struct {
	Noun     string `cel:"noun"` // flag, definition, segment, release, environment
	Of       string `cel:"of"`   // key
	Reason   string `cel:"reason"`
	Proposed bool   `cel:"proposed"`
}

// Facts are what is known of a change. Shift and Elsewhere are asked for where an expression names them.
type Facts struct {
	Before, After *Document
	Difference    Difference
	Flag          Flag
	Environment   Environment
	Actor         Person
	Signed        []Person
	Release       Release
	Change        Change
	Now           time.Time
	Shift         func() (*Shift, error)
	Elsewhere     func() (map[string]*Document, error)
}

// ErrUnknown says that something is not known, as the shift of a change of long ago.
var ErrUnknown = errors.New("that is not known any more")

// Nouns are what policies may judge.
func Nouns() []string { return []string{"flag", "definition", "segment", "release", "environment"} }

var environment = newEnvironment()

func newEnvironment() *cel.Env {
	object := func(t reflect.Type) *cel.Type { return cel.ObjectType("policy." + t.Name()) }
	of := func(name string, v any) cel.EnvOption { return cel.Variable(name, object(reflect.TypeOf(v))) }
	env, err := cel.NewEnv(
		ext.NativeTypes(reflect.TypeFor[Document](), reflect.TypeFor[Rule](), reflect.TypeFor[Gives](),
			reflect.TypeFor[Share](), reflect.TypeFor[Flag](), reflect.TypeFor[Environment](),
			reflect.TypeFor[Person](), reflect.TypeFor[Difference](), reflect.TypeFor[Shift](),
			reflect.TypeFor[Release](), reflect.TypeFor[Change](), ext.ParseStructTags(true)),
		ext.Strings(), ext.Lists(),
		of("before", Document{}), of("after", Document{}), of("difference", Difference{}), of("flag", Flag{}),
		of("environment", Environment{}), of("actor", Person{}), of("shift", Shift{}), of("release", Release{}),
		of("change", Change{}),
		cel.Variable("signed", cel.ListType(object(reflect.TypeFor[Person]()))),
		cel.Variable("elsewhere", cel.MapType(cel.StringType, object(reflect.TypeFor[Document]()))),
		cel.Variable("now", cel.TimestampType),
	)
	if err != nil {
		panic(fmt.Sprintf("the types of policies cannot be declared: %v", err))
	}
	return env
}

// Program is a compiled expression.
type Program struct {
	run cel.Program
	// Shift and Elsewhere tell whether it asks for them.
	Shift, Elsewhere bool
}

// Compile compiles an expression. The error names line, column and what is wrong.
func Compile(text string) (*Program, error) {
	if len(text) > MaxText {
		return nil, fmt.Errorf("takes at most %d bytes", MaxText)
	}
	if strings.TrimSpace(text) == "" {
		return nil, errors.New("say when the policy bites, such as difference.step > 40.0")
	}
	tree, issues := environment.Compile(text)
	if issues.Err() != nil {
		var says []string
		for _, e := range issues.Errors() {
			says = append(says, fmt.Sprintf("line %d, column %d: %s", e.Location.Line(), e.Location.Column()+1,
				e.Message))
		}
		return nil, errors.New(strings.Join(says, "; "))
	}
	if tree.OutputType() != cel.BoolType {
		return nil, fmt.Errorf("gives %s: it must be true where the policy bites, and false elsewhere",
			tree.OutputType())
	}
	p, loops := &Program{}, false
	ast.PostOrderVisit(tree.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		loops = loops || e.Kind() == ast.ComprehensionKind
		if e.Kind() == ast.IdentKind {
			p.Shift = p.Shift || e.AsIdent() == "shift"
			p.Elsewhere = p.Elsewhere || e.AsIdent() == "elsewhere"
		}
	}))
	options := []cel.ProgramOption{cel.EvalOptions(cel.OptOptimize)}
	if loops { // what has no loop costs no more than its text is long
		options = append(options, cel.CostLimit(MaxCost))
	}
	run, err := environment.Program(tree, options...)
	if err != nil {
		return nil, err
	}
	p.run = run
	return p, nil
}

// Input is facts as expressions read them. One serves all policies that judge a change.
type Input struct {
	facts *Facts
	vars  map[string]any
	// failed is why something that an expression asked for could not be found out.
	failed error
}

// NewInput makes an input of facts.
func NewInput(f *Facts) *Input {
	empty := func(d *Document) *Document {
		if d == nil {
			return &Document{}
		}
		return d
	}
	signed := f.Signed
	if signed == nil {
		signed = []Person{}
	}
	in := &Input{facts: f, vars: map[string]any{"before": empty(f.Before), "after": empty(f.After),
		"difference": &f.Difference,
		"flag":       &f.Flag, "environment": &f.Environment, "actor": &f.Actor, "signed": signed,
		"release": &f.Release,
		"change":  &f.Change, "now": f.Now}}
	for name, v := range in.vars { // once for all that read them
		in.vars[name] = environment.CELTypeAdapter().NativeToValue(v)
	}
	in.vars["shift"] = asked(in, f.Shift)
	in.vars["elsewhere"] = asked(in, f.Elsewhere)
	return in
}

// asked finds something out once an expression asks for it, and once.
func asked[T any](in *Input, find func() (T, error)) func() ref.Val {
	var known ref.Val
	return func() ref.Val {
		if known != nil {
			return known
		}
		v, err := find()
		if err != nil {
			in.failed = err
			return types.WrapErr(err)
		}
		known = environment.CELTypeAdapter().NativeToValue(v)
		return known
	}
}

// Bites tells whether the policy bites. An error says that it could not be judged, and why.
func (p *Program) Bites(in *Input) (bool, error) {
	out, _, err := p.run.Eval(in.vars)
	if in.failed != nil {
		err, in.failed = in.failed, nil
	}
	if err != nil {
		return false, err
	}
	bites, is := out.Value().(bool)
	if !is {
		return false, fmt.Errorf("it gave %v", out.Value())
	}
	return bites, nil
}
