// Package condition holds the tree of comparisons that decides whether a targeting rule
// or a segment takes a unit.
//
// Its nouns are a [Context] (what is known about a unit), a [Node] (the tree as it is
// stored and sent), a [Truth] (false, unknown or true, combined by Kleene's three-valued
// logic) and a [Code] (trees compiled to one flat array of instructions). The smallest use:
//
//	n := condition.Node{Test: "string.equals", Attribute: "role", Text: []string{"courier"}}
//	c := condition.NewContext("courier-7", condition.Attribute{condition.Intern("role"), condition.TextValue("courier")})
//	n.Match(c, nil) // True
//
// A comparison on an attribute that is absent or of another type is unknown, never an error.
package condition

// Truth is a value of Kleene's three-valued logic.
type Truth int8

// The three truths, in their order: all takes the least of its parts, any the greatest.
const (
	False Truth = iota
	Unknown
	True
)

// Not is true for false, false for true and unknown for unknown.
func (t Truth) Not() Truth { return True - t }

// String is "false", "unknown" or "true".
func (t Truth) String() string { return [...]string{"false", "unknown", "true"}[t] }

// Node is a condition: exactly one of All, Any, Not or Test is set.
//
// A leaf names its Test, which carries the type: "string.equals", "number.between". A test
// that this build does not know makes the leaf unknown, so that a new kind of leaf can
// reach an older client without harm.
type Node struct {
	All  []Node `json:"all,omitempty"`
	Any  []Node `json:"any,omitempty"`
	Not  *Node  `json:"not,omitempty"`
	Test string `json:"test,omitempty"`

	Attribute  string    `json:"attribute,omitempty"`
	Text       []string  `json:"text,omitempty"`
	Numbers    []float64 `json:"numbers,omitempty"`
	IgnoreCase bool      `json:"ignoreCase,omitempty"`
	Segment    string    `json:"segment,omitempty"`
}

// SegmentTest is the test of a leaf that asks whether the unit is in a segment.
const SegmentTest = "segment"

// takes says which constants a test needs.
type takes uint8

const (
	noConstants takes = iota
	oneText
	someText
	onePattern
	oneNumber
	twoNumbers
	someNumbers
	oneSegment
)

// kind describes a test: its operation, the constants it takes and how it reads aloud.
type kind struct {
	op    op
	takes takes
	words string
}

// Tests by name. The words continue "the attribute ...".
var tests = map[string]kind{
	"string.equals":   {opEquals, oneText, "is"},
	"string.one-of":   {opOneOf, someText, "is one of"},
	"string.begins":   {opBegins, someText, "begins with"},
	"string.ends":     {opEnds, someText, "ends with"},
	"string.contains": {opContains, someText, "contains"},
	"string.matches":  {opMatches, onePattern, "matches"},
	"number.equals":   {opNumEquals, oneNumber, "="},
	"number.differs":  {opNumDiffers, oneNumber, "≠"},
	"number.less":     {opNumLess, oneNumber, "<"},
	"number.at-most":  {opNumAtMost, oneNumber, "≤"},
	"number.more":     {opNumMore, oneNumber, ">"},
	"number.at-least": {opNumAtLeast, oneNumber, "≥"},
	"number.between":  {opNumBetween, twoNumbers, "is between"},
	"number.one-of":   {opNumOneOf, someNumbers, "is one of"},
	"boolean.true":    {opTrue, noConstants, "is true"},
	"boolean.false":   {opFalse, noConstants, "is false"},
	"present":         {opPresent, noConstants, "is present"},
	"absent":          {opAbsent, noConstants, "is absent"},
	SegmentTest:       {opUnknown, oneSegment, "is in segment"},
}

// Tests lists the names of the tests that this build knows.
func Tests() []string {
	names := make([]string, 0, len(tests))
	for n := range tests {
		names = append(names, n)
	}
	return names
}

// Segments finds the condition of a segment by key; nil where there is none.
type Segments func(key string) *Node

// Match evaluates the condition and is the plain meaning of it: compiled code must agree.
func (n *Node) Match(c *Context, segments Segments) Truth {
	return n.explain(c, segments, nil).Truth
}

// Leaves calls visit for every leaf of the tree, not following segments.
func (n *Node) Leaves(visit func(*Node)) {
	if n == nil {
		return
	}
	for i := range n.All {
		n.All[i].Leaves(visit)
	}
	for i := range n.Any {
		n.Any[i].Leaves(visit)
	}
	n.Not.Leaves(visit)
	if n.Test != "" {
		visit(n)
	}
}
