package condition

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"greenlever.example/core/bucket"
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
func (n *Node) Explain(c *Context, around Around) Explained {
	return n.explain(c, around, nil)
}

func (n *Node) explain(c *Context, around Around, open []string) Explained {
	var x Explained
	switch {
	case n == nil:
		x = Explained{Truth: True, Words: "everybody"}
	case n.Not != nil:
		x = group("not", []Node{*n.Not}, c, around, open)
		x.Truth = x.Truth.Not()
	case len(n.All) > 0:
		x = group("all of", n.All, c, around, open)
	case len(n.Any) > 0:
		x = group("any of", n.Any, c, around, open)
	case n.Test == SegmentTest:
		x = Explained{Truth: Unknown, Words: n.Words()}
		if inner := find(around.Segments, n.Segment, open); inner != nil {
			part := inner.explain(c, around, append(slices.Clone(open), n.Segment))
			x.Truth, x.Parts = part.Truth, []Explained{part}
		} else {
			x.Note = fmt.Sprintf("segment %s is not in this environment, or contains itself", n.Segment)
		}
	case n.Test == FlagTest:
		x = n.explainFlag(around)
	default:
		x = n.explainLeaf(c, around)
	}
	x.Said = x.Truth.String()
	return x
}

func group(words string, nodes []Node, c *Context, around Around, open []string) Explained {
	x := Explained{Words: words, Truth: True}
	if words == "any of" {
		x.Truth = False
	}
	for i := range nodes {
		part := nodes[i].explain(c, around, open)
		if words == "any of" {
			x.Truth = max(x.Truth, part.Truth)
		} else {
			x.Truth = min(x.Truth, part.Truth)
		}
		x.Parts = append(x.Parts, part)
	}
	return x
}

func (n *Node) explainFlag(around Around) Explained {
	x := Explained{Truth: Unknown, Words: n.Words(), Note: n.Flag + " gives nothing"}
	if around.Gives == nil || tests[FlagTest].takes.check(n) != "" {
		return x
	}
	if variant, ok := around.Gives(n.Flag); ok {
		x.Truth, x.Seen, x.Note = truth(slices.Contains(n.Text, variant)), variant, ""
	}
	return x
}

func (n *Node) explainLeaf(c *Context, around Around) Explained {
	in := leaf(n, around.Zones)
	x := Explained{Truth: in.test(c, around.Now), Words: n.Words()}
	switch in.op {
	case opClock, opClockBetween, opWeekly:
		return x
	case opPart:
		x.Note = strings.Join(n.Part.By, " and ") + " absent, so there is nothing to draw by"
		for _, by := range in.more.by {
			if key, ok := c.ShareKey(by); ok {
				x.Note = ""
				x.Seen = fmt.Sprintf("%s %q lies at %s", by.Value(), key, bucket.Percent(bucket.Of(key, in.more.seed)))
				break
			}
		}
		return x
	}
	v := c.Lookup(in.name)
	x.Seen = v.String()
	if x.Truth == Unknown {
		x.Note = n.whyUnknown(v)
	}
	return x
}

func (n *Node) whyUnknown(v Value) string {
	k, known := tests[n.Test]
	if !known {
		return fmt.Sprintf("this build does not know the test %q", n.Test)
	}
	if v.Kind() == Absent {
		return n.Attribute + " is absent"
	}
	wanted, _, _ := strings.Cut(n.Test, ".")
	switch {
	case k.op == opListed:
		wanted = "string or an integer"
	case wanted == "list":
		wanted = "list of strings"
	case v.Kind() == Text && wanted != "number" && wanted != "boolean":
		form := map[string]string{"version": "no version such as 4.2.0", "time": "no time such as 2027-03-01T06:00:00Z", "address": "no IP address"}[wanted]
		return fmt.Sprintf("%s is %s, which is %s", n.Attribute, v, form)
	case wanted == "version" || wanted == "time" || wanted == "address":
		wanted += " in a string"
	}
	article := "a"
	if wanted == "address in a string" {
		article = "an"
	}
	return fmt.Sprintf("%s is %s, the comparison takes %s %s", n.Attribute, v.Kind(), article, wanted)
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
	var said string
	switch {
	case n.Test == SegmentTest:
		return "in segment " + n.Segment
	case n.Test == WeeklyTest && n.Weekly != nil:
		w := n.Weekly
		return fmt.Sprintf("it is %s from %s to %s in %s", strings.Join(w.Days, ", "), w.From, w.To, w.Zone)
	case n.Test == PartTest && n.Part != nil:
		return fmt.Sprintf("within %s by %s of salt %s", bucket.Percent(n.Part.Share), ByWords(n.Part.By), n.Part.Salt)
	case n.Test == FlagTest:
		return fmt.Sprintf("flag %s gives `%s`", n.Flag, strings.Join(n.Text, "` or `"))
	case n.Test == listedTest && n.listed != nil:
		return fmt.Sprintf("%s is one of %s", attributeWords(n.Attribute), n.listed.Words())
	case k.asksNoAttribute():
		said = k.words
	default:
		said = attributeWords(n.Attribute) + " " + k.words
	}
	switch k.takes {
	case oneText, onePattern, someText:
		quoted := make([]string, len(n.Text))
		for i, s := range n.Text {
			quoted[i] = quote(n.Attribute, s)
		}
		said += " " + strings.Join(quoted, ", ")
	case oneVersion, oneRange, oneTime, someBlocks:
		said += " " + strings.Join(n.Text, ", ")
	case twoTimes:
		said += " " + strings.Join(n.Text, " and ")
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
	if n.Loose {
		said += " (4.2 and v4.2.0 too)"
	}
	return said
}

// ByWords says what shares are drawn by.
func ByWords(by []string) string {
	words := make([]string, len(by))
	for i, b := range by {
		words[i] = attributeWords(b)
		if b == KeyAttribute {
			words[i] = "key"
		}
	}
	return strings.Join(words, ", else ")
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

// plainName holds the names that read as one word of a sentence.
var plainName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*[A-Za-z0-9_]$|^[A-Za-z_]$`)

// ownWords begin sentences of ours, so an attribute of such a name is quoted.
var ownWords = []string{"the", "it", "in", "not", "flag", "within", "everybody", "attribute", "key", "named"}

// attributeWords gives the name as sentences use it.
func attributeWords(name string) string {
	switch {
	case name == KeyAttribute:
		return "the key"
	case !plainName.MatchString(name) || slices.Contains(ownWords, name):
		return "attribute " + strconv.Quote(name)
	}
	return name
}
