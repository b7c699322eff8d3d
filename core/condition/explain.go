package condition

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Explained is a condition's outcome with that of each of its parts.
type Explained struct {
	Truth Truth       `json:"-"`
	Said  string      `json:"truth"` // "true", "false" or "unknown"
	Words string      `json:"words"` // the comparison, or "all of", "any of", "not"
	Seen  string      `json:"seen,omitempty"`
	Note  string      `json:"note,omitempty"` // why it is unknown
	Parts []Explained `json:"parts,omitempty"`
}

// Explain evaluates the whole tree, leaving nothing out, and says what each leaf saw.
func (n *Node) Explain(c *Context, segments Segments) Explained {
	return n.explain(c, segments, nil)
}

func (n *Node) explain(c *Context, segments Segments, open []string) Explained {
	var x Explained
	switch {
	case n == nil:
		x = Explained{Truth: True, Words: "everybody"}
	case n.Not != nil:
		x = group("not", []Node{*n.Not}, c, segments, open)
		x.Truth = x.Truth.Not()
	case len(n.All) > 0:
		x = group("all of", n.All, c, segments, open)
	case len(n.Any) > 0:
		x = group("any of", n.Any, c, segments, open)
	case n.Test == SegmentTest:
		x = Explained{Truth: Unknown, Words: n.Words()}
		if inner := find(segments, n.Segment, open); inner != nil {
			part := inner.explain(c, segments, append(slices.Clone(open), n.Segment))
			x.Truth, x.Parts = part.Truth, []Explained{part}
		} else {
			x.Note = fmt.Sprintf("segment %s is not in this environment, or contains itself", n.Segment)
		}
	default:
		in := leaf(n)
		x = Explained{Truth: in.test(c), Words: n.Words()}
		v := c.Lookup(in.name)
		x.Seen = v.String()
		if x.Truth == Unknown {
			x.Note = n.whyUnknown(v)
		}
	}
	x.Said = x.Truth.String()
	return x
}

func group(words string, nodes []Node, c *Context, segments Segments, open []string) Explained {
	x := Explained{Words: words, Truth: True}
	if words == "any of" {
		x.Truth = False
	}
	for i := range nodes {
		part := nodes[i].explain(c, segments, open)
		if words == "any of" {
			x.Truth = max(x.Truth, part.Truth)
		} else {
			x.Truth = min(x.Truth, part.Truth)
		}
		x.Parts = append(x.Parts, part)
	}
	return x
}

func (n *Node) whyUnknown(v Value) string {
	if _, known := tests[n.Test]; !known {
		return fmt.Sprintf("this build does not know the test %q", n.Test)
	}
	if v.Kind() == Absent {
		return n.Attribute + " is absent"
	}
	wanted, _, _ := strings.Cut(n.Test, ".")
	return fmt.Sprintf("%s is %s, the comparison takes a %s", n.Attribute, v.Kind(), wanted)
}

// Quote prints a constant that is compared with an attribute.
type Quote func(attribute, constant string) string

// PlainQuote prints the constant as it is.
func PlainQuote(_, constant string) string { return strconv.Quote(constant) }

// Words says the condition as part of a sentence, complete: two conditions that differ
// read differently.
func (n *Node) Words() string { return n.WordsWith(PlainQuote) }

// WordsWith is Words with the caller's way to print constants.
func (n *Node) WordsWith(quote Quote) string { return n.words(false, quote) }

func (n *Node) words(inner bool, quote Quote) string {
	switch {
	case n == nil:
		return "everybody"
	case n.Not != nil:
		return "not " + n.Not.words(true, quote)
	case len(n.All) > 0:
		return joinWords(n.All, " and ", inner, quote)
	case len(n.Any) > 0:
		return joinWords(n.Any, " or ", inner, quote)
	}
	k, known := tests[n.Test]
	if !known {
		return fmt.Sprintf("test %q on %s (unknown to this build)", n.Test, n.Attribute)
	}
	if n.Test == SegmentTest {
		return "in segment " + n.Segment
	}
	said := attributeWords(n.Attribute) + " " + k.words
	switch k.takes {
	case oneText, onePattern, someText:
		quoted := make([]string, len(n.Text))
		for i, s := range n.Text {
			quoted[i] = quote(n.Attribute, s)
		}
		said += " " + strings.Join(quoted, ", ")
	case twoNumbers, oneNumber, someNumbers:
		numbers := make([]string, len(n.Numbers))
		for i, f := range n.Numbers {
			numbers[i] = FormatNumber(f)
		}
		sep := ", "
		if k.takes == twoNumbers {
			sep = " and "
		}
		said += " " + strings.Join(numbers, sep)
	}
	if n.IgnoreCase {
		said += " (ignoring case)"
	}
	return said
}

func joinWords(nodes []Node, sep string, inner bool, quote Quote) string {
	parts := make([]string, len(nodes))
	for i := range nodes {
		parts[i] = nodes[i].words(true, quote)
	}
	said := strings.Join(parts, sep)
	if inner && len(nodes) > 1 {
		return "(" + said + ")"
	}
	return said
}

// attributeWords gives the name as sentences use it.
func attributeWords(name string) string {
	if name == KeyAttribute {
		return "the key"
	}
	return name
}
