package condition

import (
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/words"
)

// Explained is a condition's outcome with that of each of its parts.
type Explained struct {
	Truth Truth       `json:"-"`
	Said  string      `json:"truth"` // "true", "false" or "unknown"
	Words words.Said  `json:"words"` // the comparison, or "all of", "any of", "not"
	Seen  string      `json:"seen,omitempty"`
	Note  words.Said  `json:"note,omitempty"` // why it is unknown
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
		x = Explained{Truth: True, Words: words.Say("all")}
	case n.Not != nil:
		x = group("not", []Node{*n.Not}, c, around, open)
		x.Truth = x.Truth.Not()
	case len(n.All) > 0:
		x = group("all of", n.All, c, around, open)
	case len(n.Any) > 0:
		x = group("any of", n.Any, c, around, open)
	case n.Test == SegmentTest:
		x = Explained{Truth: Unknown, Words: n.Said(nil)}
		if inner := find(around.Segments, n.Segment, open); inner != nil {
			x.ofSegment(inner, inner.explain(c, around, append(slices.Clone(open), n.Segment)), c)
		} else {
			x.Note = words.Say("segment %s is not in this environment, or contains itself", words.Key(n.Segment))
		}
	case n.Test == FlagTest:
		x = n.explainFlag(around)
	default:
		x = n.explainLeaf(c, around)
	}
	x.Said = x.Truth.String()
	return x
}

// ofSegment says how a segment took a unit or left it: of lists in one line.
func (x *Explained) ofSegment(n *Node, whole Explained, c *Context) {
	x.Truth, x.Parts = whole.Truth, []Explained{whole}
	if len(n.All) != 2 || n.All[0].Not == nil || n.All[0].Not.Test != listedTest {
		return
	}
	out, in, when := whole.Parts[0].Parts[0], whole.Parts[1].Parts[0], whole.Parts[1].Parts[1]
	x.Parts = nil
	attribute := n.All[0].Not.Attribute
	unit := attribute
	if attribute == KeyAttribute {
		unit = "the key"
	}
	switch {
	case out.Truth == True:
		x.Seen = unit + " " + out.Seen + ", listed out" + n.All[0].Not.byHash()
	case in.Truth == True:
		x.Seen = unit + " " + in.Seen + ", listed in" + n.All[1].Any[0].byHash()
	case out.Truth == Unknown || in.Truth == Unknown:
		if x.Note = in.Note; len(x.Note) == 0 {
			x.Note = out.Note
		}
		x.Parts = []Explained{when}
	default:
		x.Seen = unit + " " + in.Seen + ", not listed"
		x.Parts = []Explained{when}
	}
	if len(n.All[1].Any[1].All) == 2 && n.All[1].Any[1].All[1].Test == "absent" &&
		n.All[1].Any[1].All[0].Attribute == n.All[1].Any[1].All[1].Attribute {
		x.Parts = nil // a segment of lists alone: its condition is that of nobody
	}
}

// byHash tells of a long list, in which the unit was looked up by its hash.
func (n *Node) byHash() string {
	if n.listed != nil && strings.Contains(n.listed.Words(), "by hash") {
		return ", by hash"
	}
	return ""
}

func group(how string, nodes []Node, c *Context, around Around, open []string) Explained {
	x := Explained{Words: words.Say(how), Truth: True}
	if how == "any of" {
		x.Truth = False
	}
	for i := range nodes {
		part := nodes[i].explain(c, around, open)
		if how == "any of" {
			x.Truth = max(x.Truth, part.Truth)
		} else {
			x.Truth = min(x.Truth, part.Truth)
		}
		x.Parts = append(x.Parts, part)
	}
	return x
}

func (n *Node) explainFlag(around Around) Explained {
	x := Explained{Truth: Unknown, Words: n.Said(nil), Note: words.Say("%s gives nothing", words.Key(n.Flag))}
	if around.Gives == nil || tests[FlagTest].takes.check(n) != "" {
		return x
	}
	if variant, ok := around.Gives(n.Flag); ok {
		x.Truth, x.Seen, x.Note = truth(slices.Contains(n.Text, variant)), variant, nil
	} else if around.UsedUp != nil && around.UsedUp(n.Flag) {
		x.Note = words.Say("the decision had used up its decisions on other flags before %s", words.Key(n.Flag))
	}
	return x
}

func (n *Node) explainLeaf(c *Context, around Around) Explained {
	in := leaf(n, around.Zones)
	x := Explained{Truth: in.test(c, around.Now), Words: n.Said(nil)}
	switch in.op {
	case opClock, opClockBetween, opWeekly:
		return x
	case opPart:
		x.Note = words.Say("%s absent, so there is nothing to draw by", words.Names(nil).Either(n.Part.By))
		for _, by := range in.more.by {
			if key, ok := c.ShareKey(by); ok {
				x.Note = nil
				x.Seen = fmt.Sprintf("%s %q lies at %s", by.Value(), key, bucket.Percent(bucket.Of(key, in.more.seed)))
				break
			}
		}
		return x
	}
	v := c.Lookup(in.name)
	if x.Truth == Unknown {
		x.Note = n.whyUnknown(v)
	}
	if x.Truth != Unknown || v.Kind() != Absent { // that it is absent is said already
		x.Seen = v.String()
	}
	return x
}

func (n *Node) whyUnknown(v Value) words.Said {
	k, known := tests[n.Test]
	if !known {
		return words.Say("this build does not know the test %s", words.Value(n.Test, ""))
	}
	if v.Kind() == Absent {
		return words.Say("%s is absent", words.Names(nil).Attribute(n.Attribute))
	}
	wanted, _, _ := strings.Cut(n.Test, ".")
	switch {
	case k.op == opListed:
		wanted = "string or an integer"
	case wanted == "list":
		wanted = "list of strings"
	case v.Kind() == Text && wanted != "number" && wanted != "boolean":
		form := map[string]string{"version": "no version such as 4.2.0",
			"time": "no time such as 2027-03-01T06:00:00Z", "address": "no IP address"}[wanted]
		return words.Say("%s is %s, which is %s", words.Names(nil).Attribute(n.Attribute),
			words.Value(v.Text(), n.Attribute), form)
	case wanted == "version" || wanted == "time" || wanted == "address":
		wanted += " in a string"
	}
	article := "a"
	if wanted == "address in a string" {
		article = "an"
	}
	return words.Say("%s is %s, the comparison takes %s %s", words.Names(nil).Attribute(n.Attribute),
		v.Kind().String(), article, wanted)
}

// Words says the condition plainly, with the attributes' own names.
func (n *Node) Words() string { return n.Said(nil).String() }

// Said says the condition as part of a sentence, complete but for salts: two conditions that
// differ otherwise read differently.
func (n *Node) Said(names words.Names) words.Said { return n.said(false, names) }

func (n *Node) said(inner bool, names words.Names) words.Said {
	switch {
	case n == nil:
		return words.Say("all")
	case n.Not != nil:
		return n.Not.saidNot(names)
	case len(n.All) > 0:
		return joinSaid(n.All, " and ", inner, names)
	case len(n.Any) > 0:
		return joinSaid(n.Any, " or ", inner, names)
	}
	k, known := tests[n.Test]
	if !known {
		return words.Say("test %s on %s (unknown to this build)", words.Value(n.Test, ""),
			names.Attribute(n.Attribute))
	}
	switch {
	case n.Test == SegmentTest:
		return words.Say("in segment %s", words.Key(n.Segment))
	case n.Test == WeeklyTest && n.Weekly != nil:
		return n.Weekly.said()
	case n.Test == PartTest && n.Part != nil:
		return words.Say("among %s of %s", words.Number(bucket.Percent(n.Part.Share)), names.Of(n.Part.By))
	case n.Test == FlagTest:
		variants := make([]words.Said, len(n.Text))
		for i, v := range n.Text {
			variants[i] = words.Said{words.Variant(v)}
		}
		return words.Say("flag %s gives %s", words.Key(n.Flag), words.Join(variants, " or "))
	case n.Test == listedTest && n.listed != nil:
		return words.Say("%s is one of %s", names.Attribute(n.Attribute), n.listed.Words())
	}
	return n.comparison(k, k.words, names)
}

// saidNot says that the condition does not hold.
func (n *Node) saidNot(names words.Names) words.Said {
	k, known := tests[n.Test]
	switch {
	case n.Not != nil:
		return words.Say("not (%s)", n.Not.saidNot(names))
	case !known:
		return words.Say("not %s", n.said(true, names))
	case n.Test == SegmentTest || n.Test == PartTest:
		return words.Say("not %s", n.said(true, names))
	case negated[k.words] != "" && n.listed == nil && n.Test != FlagTest && n.Test != WeeklyTest:
		return n.comparison(k, negated[k.words], names)
	}
	return words.Say("not (%s)", n.said(false, names))
}

// negated is how comparisons read that do not hold; around others stands "not (...)".
var negated = map[string]string{
	"is": "is not", "is one of": "is not one of", "begins with": "does not begin with",
	"ends with": "does not end with",
	"contains":  "does not contain", "matches": "does not match", "is between": "is not between",
	"is true":  "is not true",
	"is false": "is not false", "is before": "is not before", "is at or after": "is not at or after",
	"is an address in": "is not an address in",
	"is present":       "is not present", "is absent": "is not absent",
	"it is before": "it is not before", "it is at or after": "it is not at or after",
	"it is between": "it is not between",
}

// comparison says a leaf with its verb.
func (n *Node) comparison(k kind, verb string, names words.Names) words.Said {
	if n.Test == "string.one-of" && len(n.Text) == 1 {
		verb = strings.TrimSuffix(verb, " one of")
	}
	said := words.Say(verb)
	if !k.asksNoAttribute() {
		said = words.Say("%s %s", names.Attribute(n.Attribute), verb)
	}
	if constants := n.constants(k.takes); len(constants) > 0 {
		sep := ", "
		if k.takes == twoNumbers || k.takes == twoTimes {
			sep = " and "
		}
		said = words.Say("%s %s", said, words.Join(constants, sep))
	}
	if n.IgnoreCase {
		said = words.Say("%s (ignoring case)", said)
	}
	if n.Loose {
		said = words.Say("%s (4.2 and v4.2.0 too)", said)
	}
	return said
}

// constants says what a comparison compares with.
func (n *Node) constants(t takes) (all []words.Said) {
	switch t {
	case oneText, onePattern, someText:
		for _, s := range n.Text {
			token := words.Value(s, n.Attribute)
			if n.Attribute == KeyAttribute {
				token = words.Unit(s, n.Attribute)
			}
			all = append(all, words.Said{token})
		}
	case oneTime, twoTimes:
		for _, s := range n.Text {
			all = append(all, words.Said{words.Time(s)})
		}
	case oneVersion, oneRange, someBlocks:
		for _, s := range n.Text {
			all = append(all, words.Plain(s))
		}
	case twoNumbers, oneNumber, someNumbers:
		for _, f := range n.Numbers {
			all = append(all, words.Said{words.Number(FormatNumber(f))})
		}
	}
	return all
}

var dayNames = map[string]string{"mon": "Monday", "tue": "Tuesday", "wed": "Wednesday", "thu": "Thursday",
	"fri": "Friday", "sat": "Saturday", "sun": "Sunday"}

func (w *Weekly) said() words.Said {
	days := make([]string, len(w.Days))
	for i, d := range w.Days {
		days[i] = d
		if name := dayNames[d]; name != "" {
			days[i] = name
		}
	}
	last := max(len(days)-1, 0)
	said := strings.Join(days[last:], "")
	if last > 0 {
		said = strings.Join(days[:last], ", ") + " or " + said
	}
	if len(days) == len(dayNames) {
		said = "any day"
	}
	next := ""
	if w.To <= w.From {
		next = " the next day"
	}
	return words.Say("it is %s from %s to %s%s in %s", said, w.From, w.To, next, w.Zone)
}

func joinSaid(nodes []Node, sep string, inner bool, names words.Names) words.Said {
	parts := make([]words.Said, len(nodes))
	for i := range nodes {
		parts[i] = nodes[i].said(true, names)
	}
	said := words.Join(parts, sep)
	if inner && len(nodes) > 1 {
		return words.Say("(%s)", said)
	}
	return said
}
