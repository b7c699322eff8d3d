package condition

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"greenlever.example/core/bucket"
)

// Limits of a condition.
const (
	MaxDepth     = 24      // groups within groups
	MaxLeaves    = 2_000   // comparisons in one condition
	MaxConstants = 100_000 // constants in one comparison; longer lists belong in a segment
	MaxPieces    = 100     // texts that a value may begin with, end with or contain: each is tried
	MaxText      = 1_000   // bytes of one constant
	MaxPattern   = 500     // bytes of a pattern
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
		report(place, fmt.Sprintf("has %d comparisons, at most %d are taken: move some into a segment", leaves,
			MaxLeaves))
	}
}

func (n *Node) check(place string, depth int, leaves *int, report Report) {
	if depth > MaxDepth {
		report(place, fmt.Sprintf("is nested deeper than %d groups: flatten it, or move a part into a segment",
			MaxDepth))
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
		if n.Attribute != "" || n.Text != nil || n.Numbers != nil || n.Segment != "" || n.IgnoreCase || n.Loose ||
			n.Flag != "" || n.Weekly != nil || n.Part != nil {
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
	if !known || n.Test == listedTest {
		names := Tests()
		slices.Sort(names)
		report(place+".test", fmt.Sprintf("%q is no test: use one of %s", n.Test, strings.Join(names, ", ")))
		return
	}
	if k.asksNoAttribute() {
		if n.Attribute != "" {
			report(place+".attribute", fmt.Sprintf("%s takes no attribute: remove it", n.Test))
		}
	} else if mend := CheckAttribute(n.Attribute); mend != "" {
		report(place+".attribute", mend)
	}
	if mend := k.takes.check(n); mend != "" {
		report(place, fmt.Sprintf("%s %s", n.Test, mend))
		return
	}
	if (n.Test == "string.begins" || n.Test == "string.ends" || n.Test == "string.contains") &&
		len(n.Text) > MaxPieces {
		report(place+".text", fmt.Sprintf("has %d texts, of which each is tried one by one: at most %d are taken; "+
			"list whole values, or move them into a segment", len(n.Text), MaxPieces))
	}
	if n.IgnoreCase && !strings.HasPrefix(n.Test, "string.") {
		report(place+".ignoreCase", "only string tests can ignore case: remove it")
	}
	if n.Loose && !strings.HasPrefix(n.Test, "version.") {
		report(place+".loose", "only version tests can be loose: remove it")
	}
	if extra := n.extra(k.takes); extra != "" {
		report(place+"."+extra, fmt.Sprintf("%s does not take this: remove it", n.Test))
	}
	for i, s := range n.Text {
		if len(s) > MaxText || !utf8.ValidString(s) {
			report(fmt.Sprintf("%s.text[%d]", place, i), fmt.Sprintf("must be valid UTF-8 of at most %d bytes",
				MaxText))
		}
	}
	for i, f := range n.Numbers {
		if math.IsNaN(f) || math.Abs(f) > MaxInteger {
			report(fmt.Sprintf("%s.numbers[%d]", place, i), "is outside -(2^53-1) to 2^53-1: compare strings instead")
		}
	}
	n.checkForm(place, k.takes, report)
}

// extra names a member that the test does not take.
func (n *Node) extra(t takes) string {
	switch {
	case n.Flag != "" && t != someVariants:
		return "flag"
	case n.Weekly != nil && t != oneWeekly:
		return "weekly"
	case n.Part != nil && t != onePart:
		return "part"
	}
	return ""
}

// checkForm checks constants that have a form of their own.
func (n *Node) checkForm(place string, t takes, report Report) {
	at := func(i int) string { return fmt.Sprintf("%s.text[%d]", place, i) }
	switch t {
	case onePattern:
		if len(n.Text[0]) > MaxPattern {
			report(at(0), fmt.Sprintf("a pattern takes at most %d bytes", MaxPattern))
		} else if _, err := compilePattern(n); err != nil {
			report(at(0), "is no RE2 pattern: "+err.Error())
		}
	case oneVersion:
		if _, ok := parseVersion(n.Text[0], n.Loose); !ok {
			report(at(0), fmt.Sprintf("%q is no version: write one of Semantic Versioning 2.0.0, such as 4.2.0 or "+
				"4.2.0-rc.1", n.Text[0]))
		}
	case oneRange:
		if _, err := versionRange(n); err != nil {
			report(at(0), err.Error())
		}
	case oneTime, twoTimes:
		var times []int64
		for i, s := range n.Text {
			ms, ok := ParseTime(s)
			if !ok {
				report(at(i), fmt.Sprintf("%q is no time: write it as RFC 3339 does, with its zone, such as "+
					"2027-03-01T06:00:00Z or 2027-03-01T07:00:00+01:00", s))
			}
			times = append(times, ms)
		}
		if t == twoTimes && times[0] >= times[1] {
			report(place, n.Test+" takes the earlier time first")
		}
	case someBlocks:
		for i, s := range n.Text {
			if _, ok := parseBlock(s); !ok {
				report(at(i), fmt.Sprintf("%q is no address block: write an address, or a block such as "+
					"10.20.0.0/16 or fd00::/8", s))
			}
		}
	case oneWeekly:
		n.Weekly.check(place+".weekly", report)
	case onePart:
		n.Part.check(place+".part", report)
	}
}

func (w *Weekly) check(place string, report Report) {
	if len(w.Days) == 0 {
		report(place+".days", "names no day: use mon, tue, wed, thu, fri, sat, sun")
	}
	for i, d := range w.Days {
		if indexOf(days, d) < 0 || indexOf(w.Days[:i], d) >= 0 {
			report(fmt.Sprintf("%s.days[%d]", place, i),
				fmt.Sprintf("%q is no day or stands twice: use mon, tue, wed, thu, fri, sat, sun", d))
		}
	}
	for _, t := range []struct{ name, text string }{{"from", w.From}, {"to", w.To}} {
		if m, ok := parseMinutes(t.text); !ok || t.name == "from" && m == 24*60 {
			report(place+"."+t.name, fmt.Sprintf("%q is no time of the day: write it such as 06:00 or 22:30", t.text))
		}
	}
	if !zoneName(w.Zone) {
		report(place+".zone", fmt.Sprintf("%q is no time zone: use a name of the IANA database, such as Europe/Oslo "+
			"or UTC", w.Zone))
	}
}

func (p *Within) check(place string, report Report) {
	if len(p.By) == 0 || len(p.By) > 5 {
		report(place+".by", "names 1 to 5 attributes, such as "+KeyAttribute)
	}
	for i, by := range p.By {
		if mend := CheckAttribute(by); mend != "" {
			report(fmt.Sprintf("%s.by[%d]", place, i), mend)
		}
	}
	if p.Share > bucket.Buckets {
		report(place+".share", "is over 100 % (1000000)")
	}
	if p.Salt == "" || len(p.Salt) > 64 || strings.ContainsFunc(p.Salt, func(r rune) bool {
		return r <= ' ' || r == utf8.RuneError || strings.ContainsRune("():;,", r)
	}) {
		report(place+".salt", "must be 1 to 64 bytes of text without spaces, brackets, commas and colons")
	}
	if p.Hash != bucket.Scheme {
		report(place+".hash", fmt.Sprintf("must be %d, the only scheme there is", bucket.Scheme))
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
	case oneVersion:
		if text != 1 || numbers > 0 || segment {
			return `takes exactly one version in "text"`
		}
	case oneRange:
		if text != 1 || numbers > 0 || segment {
			return `takes exactly one range in "text"`
		}
	case oneTime:
		if text != 1 || numbers > 0 || segment {
			return `takes exactly one time in "text"`
		}
	case twoTimes:
		if text != 2 || numbers > 0 || segment {
			return `takes two times in "text", the earlier first`
		}
	case someBlocks:
		if text == 0 || text > MaxConstants || numbers > 0 || segment {
			return fmt.Sprintf(`takes 1 to %d addresses or blocks in "text"`, MaxConstants)
		}
	case someVariants:
		if n.Flag == "" || text == 0 || text > 100 || numbers > 0 || segment {
			return `takes a flag's key in "flag" and 1 to 100 of its variants in "text"`
		}
	case oneWeekly:
		if n.Weekly == nil || text+numbers > 0 || segment {
			return `takes days, times and a zone in "weekly" and no constants`
		}
	case onePart:
		if n.Part == nil || text+numbers > 0 || segment {
			return `takes a share with what it is drawn by in "part" and no constants`
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
