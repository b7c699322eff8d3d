// Package condition holds the tree of comparisons that decides whether a targeting rule
// or a segment takes a unit.
//
// Its nouns are a [Context] (what is known about a unit), a [Node] (the tree as it is
// stored and sent), a [Truth] (false, unknown or true, combined by Kleene's three-valued
// logic) and a [Code] (trees compiled to one flat array of instructions). The smallest use:
//
//	n := condition.Node{Test: "string.equals", Attribute: "role", Text: []string{"courier"}}
//	c := condition.NewContext("courier-7",
//		condition.Attribute{condition.Intern("role"), condition.TextValue("courier")})
//	n.Match(c, condition.Around{}) // True
//
// A comparison on an attribute that is absent or of another type is unknown, never an error.
package condition

import "slices"

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
	Text       []string  `json:"text,omitempty" shown:"no"`
	Numbers    []float64 `json:"numbers,omitempty"`
	IgnoreCase bool      `json:"ignoreCase,omitempty"`
	Loose      bool      `json:"loose,omitempty"` // version tests take 4.2 and v4.2.0 too
	Segment    string    `json:"segment,omitempty"`
	Flag       string    `json:"flag,omitempty"`
	Weekly     *Weekly   `json:"weekly,omitempty"`
	Part       *Within   `json:"part,omitempty"`

	listed Listed // of the leaves that a segment's lists are written out to
}

// Segments finds the condition of a segment by key; nil where there is none.
type Segments func(key string) *Node

// Around is what a condition may look at beside the unit: all that changes with the
// place and the moment. The zero Around has no segments, zones and flags, and it is 1970.
type Around struct {
	Segments Segments
	Zones    Zones
	Now      int64                                       // Unix milliseconds
	Gives    func(flag string) (variant string, ok bool) // what another flag gives the unit; not ok for an error
	// whether it was not decided any more, for explanations; may be nil
	UsedUp func(flag string) bool
}

// Match evaluates the condition and is the plain meaning of it: compiled code must agree.
func (n *Node) Match(c *Context, around Around) Truth {
	return n.explain(c, around, nil).Truth
}

// Equal tells whether two trees are written alike; nil is no condition.
func (n *Node) Equal(o *Node) bool {
	if n == nil || o == nil {
		return n == o
	}
	alike := func(a, b Node) bool { return a.Equal(&b) }
	return n.Test == o.Test && n.Attribute == o.Attribute && n.IgnoreCase == o.IgnoreCase && n.Loose == o.Loose &&
		n.Segment == o.Segment && n.Flag == o.Flag &&
		slices.Equal(n.Text, o.Text) && slices.Equal(n.Numbers, o.Numbers) && n.Weekly.equal(o.Weekly) &&
		n.Part.equal(o.Part) &&
		slices.EqualFunc(n.All, o.All, alike) && slices.EqualFunc(n.Any, o.Any, alike) && n.Not.Equal(o.Not)
}

func (w *Weekly) equal(o *Weekly) bool {
	if w == nil || o == nil {
		return w == o
	}
	return slices.Equal(w.Days, o.Days) && w.From == o.From && w.To == o.To && w.Zone == o.Zone
}

func (w *Within) equal(o *Within) bool {
	if w == nil || o == nil {
		return w == o
	}
	return slices.Equal(w.By, o.By) && w.Share == o.Share && w.Salt == o.Salt && w.Hash == o.Hash
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

// Clone is a copy that shares no groups and leaves; constants are shared.
func (n *Node) Clone() *Node {
	if n == nil {
		return nil
	}
	c := *n
	c.All, c.Any, c.Not = cloneNodes(n.All), cloneNodes(n.Any), n.Not.Clone()
	if n.Part != nil {
		p := *n.Part
		c.Part = &p
	}
	return &c
}

func cloneNodes(nodes []Node) []Node {
	if nodes == nil {
		return nil
	}
	out := make([]Node, len(nodes))
	for i := range nodes {
		out[i] = *nodes[i].Clone()
	}
	return out
}

// Canonical gives the tree in its one form: groups are flat, have two parts at least, and
// nothing is negated twice. It decides as the tree does.
func (n *Node) Canonical() *Node {
	switch {
	case n == nil:
		return nil
	case n.Not != nil:
		inner := n.Not.Canonical()
		if inner.Not != nil {
			return inner.Not
		}
		return &Node{Not: inner}
	case len(n.All) > 0:
		return joined(n.All, func(p *Node) []Node { return p.All }, func(parts []Node) *Node {
			return &Node{All: parts}
		})
	case len(n.Any) > 0:
		return joined(n.Any, func(p *Node) []Node { return p.Any }, func(parts []Node) *Node {
			return &Node{Any: parts}
		})
	}
	return n
}

func joined(nodes []Node, same func(*Node) []Node, group func([]Node) *Node) *Node {
	var parts []Node
	for i := range nodes {
		p := nodes[i].Canonical()
		if inner := same(p); len(inner) > 0 {
			parts = append(parts, inner...)
		} else {
			parts = append(parts, *p)
		}
	}
	if len(parts) == 1 {
		return &parts[0]
	}
	return group(parts)
}
