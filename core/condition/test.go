package condition

import (
	"math"
	"regexp"
	"slices"
	"strings"
	"unicode"
)

type op uint8

const (
	opUnknown op = iota // a test that this build does not know, or an unusable one
	opAlways
	opEquals
	opEqualsFold
	opOneOf
	opOneOfSet
	opOneOfFold
	opBegins
	opEnds
	opContains
	opMatches
	opNumEquals
	opNumDiffers
	opNumLess
	opNumAtMost
	opNumMore
	opNumAtLeast
	opNumBetween
	opNumOneOf
	opTrue
	opFalse
	opPresent
	opAbsent
)

// instr is one compiled leaf: what it tests, and where to go on each outcome. A target of
// zero or more is an instruction, a negative one leaves the code with that number.
type instr struct {
	op             op
	isKey          bool
	fold           bool
	yes, no, maybe int32
	name           Name
	text           string
	num            float64
	more           *constants
}

// constants holds what only some tests need, to keep instructions small.
type constants struct {
	list    []string
	set     map[string]struct{}
	numbers []float64
	pattern *regexp.Regexp
}

// linear is how many strings are compared one by one before a set is quicker.
const linear = 6

// leaf compiles the comparison of a leaf node; segments are not its matter.
func leaf(n *Node) instr {
	k, known := tests[n.Test]
	in := instr{op: k.op, name: Intern(n.Attribute), isKey: n.Attribute == KeyAttribute, fold: n.IgnoreCase}
	if !known || k.takes.check(n) != "" {
		in.op = opUnknown
		return in
	}
	switch k.takes {
	case oneText:
		in.text = n.Text[0]
		if in.fold {
			in.op = opEqualsFold
		}
	case someText:
		in.more = &constants{list: n.Text}
		if in.fold {
			in.more.list = make([]string, len(n.Text))
			for i, s := range n.Text {
				in.more.list[i] = foldText(s)
			}
		}
		if in.op == opOneOf && (in.fold || len(n.Text) > linear) {
			in.op = opOneOfSet
			if in.fold {
				in.op = opOneOfFold
			}
			in.more.set = make(map[string]struct{}, len(n.Text))
			for _, s := range in.more.list {
				in.more.set[s] = struct{}{}
			}
		}
	case onePattern:
		pattern, err := compilePattern(n)
		if err != nil {
			in.op = opUnknown
			return in
		}
		in.more = &constants{pattern: pattern}
	case oneNumber:
		in.num = n.Numbers[0]
	case twoNumbers, someNumbers:
		in.more = &constants{numbers: n.Numbers}
	}
	return in
}

func compilePattern(n *Node) (*regexp.Regexp, error) {
	if n.IgnoreCase {
		return regexp.Compile("(?i:" + n.Text[0] + ")")
	}
	return regexp.Compile(n.Text[0])
}

// test evaluates one leaf. It is the only place that compares: decisions, explanations
// and the plain evaluation all come through it.
func (in *instr) test(c *Context) Truth {
	if in.op == opAlways {
		return True
	}
	var v *Value
	if in.isKey {
		if key := c.Key(); key != "" {
			if in.op == opEquals { // the way of most named units, without building a value
				return truth(key == in.text)
			}
			kv := TextValue(key)
			return in.compare(&kv)
		}
	} else {
		v = c.lookup(in.name)
	}
	if v == nil {
		switch in.op {
		case opPresent:
			return False
		case opAbsent:
			return True
		}
		return Unknown
	}
	if in.op == opEquals && v.kind == Text {
		return truth(v.text == in.text)
	}
	return in.compare(v)
}

func (in *instr) compare(v *Value) Truth {
	switch {
	case in.op == opPresent:
		return True
	case in.op == opAbsent:
		return False
	case in.op >= opEquals && in.op <= opMatches:
		if v.kind != Text {
			return Unknown
		}
		return truth(in.compareText(v.text))
	case in.op >= opNumEquals && in.op <= opNumOneOf:
		if v.kind != Number || math.IsNaN(v.num) {
			return Unknown
		}
		return truth(in.compareNumber(v.num))
	case in.op == opTrue || in.op == opFalse:
		if v.kind != Boolean {
			return Unknown
		}
		return truth((v.num == 1) == (in.op == opTrue))
	}
	return Unknown
}

func (in *instr) compareText(s string) bool {
	switch in.op {
	case opEquals:
		return s == in.text
	case opEqualsFold:
		return strings.EqualFold(s, in.text)
	case opOneOf:
		return slices.Contains(in.more.list, s)
	case opOneOfSet:
		_, ok := in.more.set[s]
		return ok
	case opOneOfFold:
		_, ok := in.more.set[foldText(s)]
		return ok
	case opMatches:
		return in.more.pattern.MatchString(s)
	}
	if in.fold {
		s = foldText(s)
	}
	for _, want := range in.more.list {
		switch {
		case in.op == opBegins && strings.HasPrefix(s, want),
			in.op == opEnds && strings.HasSuffix(s, want),
			in.op == opContains && strings.Contains(s, want):
			return true
		}
	}
	return false
}

func (in *instr) compareNumber(f float64) bool {
	switch in.op {
	case opNumEquals:
		return f == in.num
	case opNumDiffers:
		return f != in.num
	case opNumLess:
		return f < in.num
	case opNumAtMost:
		return f <= in.num
	case opNumMore:
		return f > in.num
	case opNumAtLeast:
		return f >= in.num
	case opNumBetween:
		return in.more.numbers[0] <= f && f <= in.more.numbers[1]
	}
	return slices.Contains(in.more.numbers, f)
}

func truth(b bool) Truth {
	if b {
		return True
	}
	return False
}

// foldText maps every rune to the least of those that simple Unicode folding holds equal,
// so that equal folded texts are those that strings.EqualFold holds equal.
func foldText(s string) string {
	return strings.Map(func(r rune) rune {
		least := r
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			least = min(least, f)
		}
		return least
	}, s)
}
