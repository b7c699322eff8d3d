package condition

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"
)

// Limits of a condition.
const (
	MaxDepth     = 24     // groups within groups
	MaxLeaves    = 2_000  // comparisons in one condition
	MaxConstants = 10_000 // constants in one comparison; longer lists belong in a segment
	MaxText      = 1_000  // bytes of one constant
	MaxPattern   = 500    // bytes of a pattern
)

// Report takes one thing that is wrong: the place, as a path below the condition's own,
// and what to do about it.
type Report func(place, mend string)

// Check reports everything that keeps the condition from being saved. Whether segments
// exist is the caller's to check.
func (n *Node) Check(place string, report Report) {
	leaves := 0
	n.check(place, 0, &leaves, report)
	if leaves > MaxLeaves {
		report(place, fmt.Sprintf("has %d comparisons, at most %d are taken: move some into a segment", leaves, MaxLeaves))
	}
}

func (n *Node) check(place string, depth int, leaves *int, report Report) {
	if depth > MaxDepth {
		report(place, fmt.Sprintf("is nested deeper than %d groups: flatten it, or move a part into a segment", MaxDepth))
		return
	}
	set := 0
	for _, is := range []bool{n.All != nil, n.Any != nil, n.Not != nil, n.Test != ""} {
		if is {
			set++
		}
	}
	if set != 1 {
		report(place, `needs exactly one of "all", "any", "not" and "test"`)
		return
	}
	if n.Test == "" {
		if n.Attribute != "" || n.Text != nil || n.Numbers != nil || n.Segment != "" || n.IgnoreCase {
			report(place, `a group takes no attribute or constants: they belong to a comparison with a "test"`)
		}
		n.checkGroup(place, depth, leaves, report)
		return
	}
	*leaves++
	n.checkLeaf(place, report)
}

func (n *Node) checkGroup(place string, depth int, leaves *int, report Report) {
	for _, g := range []struct {
		name  string
		nodes []Node
		set   bool
	}{{"all", n.All, n.All != nil}, {"any", n.Any, n.Any != nil}} {
		if g.set && len(g.nodes) == 0 {
			report(place+"."+g.name, "is empty: add a comparison or take the group out")
		}
		for i := range g.nodes {
			g.nodes[i].check(fmt.Sprintf("%s.%s[%d]", place, g.name, i), depth+1, leaves, report)
		}
	}
	if n.Not != nil {
		n.Not.check(place+".not", depth+1, leaves, report)
	}
}

func (n *Node) checkLeaf(place string, report Report) {
	k, known := tests[n.Test]
	if !known {
		names := Tests()
		slices.Sort(names)
		report(place+".test", fmt.Sprintf("%q is no test: use one of %s", n.Test, strings.Join(names, ", ")))
		return
	}
	if k.takes == oneSegment {
		if n.Attribute != "" {
			report(place+".attribute", "a segment test takes no attribute: remove it")
		}
	} else if mend := CheckAttribute(n.Attribute); mend != "" {
		report(place+".attribute", mend)
	}
	if mend := k.takes.check(n); mend != "" {
		report(place, fmt.Sprintf("%s %s", n.Test, mend))
		return
	}
	if n.IgnoreCase && !strings.HasPrefix(n.Test, "string.") {
		report(place+".ignoreCase", "only string tests can ignore case: remove it")
	}
	for i, s := range n.Text {
		if len(s) > MaxText || !utf8.ValidString(s) {
			report(fmt.Sprintf("%s.text[%d]", place, i), fmt.Sprintf("must be valid UTF-8 of at most %d bytes", MaxText))
		}
	}
	for i, f := range n.Numbers {
		if math.IsNaN(f) || math.Abs(f) > MaxInteger {
			report(fmt.Sprintf("%s.numbers[%d]", place, i), "is outside -(2^53-1) to 2^53-1: compare strings instead")
		}
	}
	if k.takes == onePattern {
		if len(n.Text[0]) > MaxPattern {
			report(place+".text[0]", fmt.Sprintf("a pattern takes at most %d bytes", MaxPattern))
		} else if _, err := compilePattern(n); err != nil {
			report(place+".text[0]", "is no RE2 pattern: "+err.Error())
		}
	}
}

// check says what a leaf lacks of the constants that its test takes; nothing if all is well.
func (t takes) check(n *Node) string {
	text, numbers, segment := len(n.Text), len(n.Numbers), n.Segment != ""
	switch t {
	case noConstants:
		if text+numbers > 0 || segment {
			return "takes no constants: remove them"
		}
		return ""
	case oneText, onePattern:
		if text != 1 || numbers > 0 || segment {
			return `takes exactly one string in "text"`
		}
	case someText:
		if text == 0 || text > MaxConstants || numbers > 0 || segment {
			return fmt.Sprintf(`takes 1 to %d strings in "text"`, MaxConstants)
		}
	case oneNumber:
		if numbers != 1 || text > 0 || segment {
			return `takes exactly one number in "numbers"`
		}
	case twoNumbers:
		if numbers != 2 || text > 0 || segment || n.Numbers[0] > n.Numbers[1] {
			return `takes two numbers in "numbers", the lower first`
		}
	case someNumbers:
		if numbers == 0 || numbers > MaxConstants || text > 0 || segment {
			return fmt.Sprintf(`takes 1 to %d numbers in "numbers"`, MaxConstants)
		}
	case oneSegment:
		if !segment || text+numbers > 0 {
			return `takes a segment's key in "segment" and no constants`
		}
	}
	return ""
}

// CheckAttribute says what is wrong with an attribute's name; nothing if it can be used.
func CheckAttribute(name string) string {
	switch {
	case name == "":
		return "names no attribute: give one, such as site.region"
	case len(name) > 200 || !utf8.ValidString(name):
		return "must be valid UTF-8 of at most 200 bytes"
	}
	return ""
}
