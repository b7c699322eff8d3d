package condition

import (
	"errors"
	"slices"
)

// MaxInstructions is how many instructions the rules of one flag may compile to, with the
// conditions of their segments written out.
const MaxInstructions = 200_000

// ErrTooLarge is returned when compiled conditions pass [MaxInstructions].
var ErrTooLarge = errors.New("conditions are too large with their segments written out")

// Code is a flag's conditions, compiled one behind the other into one flat array.
//
// Three-valued logic costs nothing at run time. Negations are pushed down to the leaves,
// where they swap two targets; what is left is monotone in its leaves, so a condition is
// true exactly if it holds with every unknown leaf taken as false, and not false exactly
// if it holds with every unknown leaf taken as true. The caller says which of the two is
// asked for, and each leaf gets a third target accordingly.
type Code struct {
	ins    []instr
	labels []int32
}

// Label is a place in the code that targets refer to before it is known.
type Label int32

// Label makes a new place.
func (c *Code) Label() Label {
	c.labels = append(c.labels, -1)
	return Label(len(c.labels) - 1)
}

// Mark puts the label at the next instruction.
func (c *Code) Mark(l Label) { c.labels[l] = int32(len(c.ins)) }

// Exit makes a label that leaves the code with exit number n, zero or more.
func (c *Code) Exit(n int) Label {
	l := c.Label()
	c.labels[l] = int32(^n)
	return l
}

// Always emits a jump.
func (c *Code) Always(to Label) {
	c.ins = append(c.ins, instr{op: opAlways, yes: int32(to), no: int32(to), maybe: int32(to)})
}

// Add compiles a condition: it goes on at yes where the condition holds and at no where it
// does not; a condition that is unknown as a whole goes to yes if unknownHolds. Of what is
// around, the segments and zones are looked up now, the rest when the code runs.
// It returns [ErrTooLarge].
func (c *Code) Add(n *Node, around Around, unknownHolds bool, yes, no Label) error {
	e := emitter{code: c, around: around, unknownHolds: unknownHolds}
	return e.emit(n, false, yes, no)
}

type emitter struct {
	code         *Code
	around       Around
	unknownHolds bool
	open         []string // segments being written out, to meet circles
}

func (e *emitter) emit(n *Node, negated bool, yes, no Label) error {
	if len(e.code.ins) >= MaxInstructions {
		return ErrTooLarge
	}
	switch {
	case n == nil:
		e.code.Always(yes)
		return nil
	case n.Not != nil:
		return e.emit(n.Not, !negated, yes, no)
	case len(n.All) > 0:
		return e.group(n.All, negated, !negated, yes, no)
	case len(n.Any) > 0:
		return e.group(n.Any, negated, negated, yes, no)
	case n.Test == SegmentTest:
		if inner := e.enter(n.Segment); inner != nil {
			defer e.leave()
			return e.emit(inner, negated, yes, no)
		}
	}
	in := leaf(n, e.around.Zones)
	in.yes, in.no, in.maybe = int32(yes), int32(no), int32(no)
	if negated {
		in.yes, in.no = in.no, in.yes
	}
	if e.unknownHolds {
		in.maybe = int32(yes)
	}
	e.code.ins = append(e.code.ins, in)
	return nil
}

// group emits parts that must all hold, or of which one must; the cheap ones first. The
// order bears on nothing: all takes the least of its parts and any the greatest.
func (e *emitter) group(parts []Node, negated, all bool, yes, no Label) error {
	parts = slices.Clone(parts)
	slices.SortStableFunc(parts, func(a, b Node) int { return a.cost() - b.cost() })
	for i := range parts {
		y, n := yes, no
		last := i == len(parts)-1
		next := e.code.Label()
		if !last && all {
			y = next
		} else if !last {
			n = next
		}
		if err := e.emit(&parts[i], negated, y, n); err != nil {
			return err
		}
		e.code.Mark(next)
	}
	return nil
}

// cost orders parts by how much memory and time they take, roughly.
func (n *Node) cost() int {
	sum := 0
	for _, group := range [][]Node{n.All, n.Any} {
		for i := range group {
			sum += group[i].cost()
		}
	}
	if n.Not != nil {
		sum += n.Not.cost()
	}
	k := tests[n.Test]
	switch {
	case n.Test == "":
		return sum
	case n.Test == FlagTest:
		return 100
	case n.Test == SegmentTest, k.op == opListed:
		return 20
	case k.takes == onePattern:
		return 30
	case k.takes == someText && len(n.Text) > linear:
		return 12
	case k.takes == someText, k.takes == oneVersion, k.takes == oneTime, k.takes == twoTimes, k.takes == someBlocks,
		k.takes == onePart:
		return 5
	}
	return 1
}

func (e *emitter) enter(key string) *Node {
	inner := find(e.around.Segments, key, e.open)
	if inner != nil {
		e.open = append(e.open, key)
	}
	return inner
}

func (e *emitter) leave() { e.open = e.open[:len(e.open)-1] }

// find looks a segment up; an unknown one, and one that is being evaluated already, is nil.
func find(segments Segments, key string, open []string) *Node {
	if segments == nil {
		return nil
	}
	for _, k := range open {
		if k == key {
			return nil
		}
	}
	return segments(key)
}

// Seal resolves the labels; the code can run after it. Every label that is used must be
// marked, and nothing jumps backwards: that is what makes [Code.Run] end.
func (c *Code) Seal() {
	for i := range c.ins {
		in := &c.ins[i]
		in.yes, in.no, in.maybe = c.labels[in.yes], c.labels[in.no], c.labels[in.maybe]
	}
}

// At is the place of a label in sealed code: an argument for [Code.Run].
func (c *Code) At(l Label) int32 { return c.labels[l] }

// Done lets go of what only making the code needed; labels have no places any more.
func (c *Code) Done() { c.ins, c.labels = slices.Clone(c.ins), nil }

// Run evaluates from a place until an exit and returns the exit's number, zero or more.
// Places only grow, so it always ends. now is in Unix milliseconds; it may be anything
// where the code asks for no clock.
//
// A negative number is a leaf that asks what another flag gives: [Code.Asked] says which,
// and Run is called again at the place that [Code.Then] gives for the answer.
func (c *Code) Run(at int32, unit *Context, now int64) int {
	for at >= 0 {
		in := &c.ins[at]
		if in.op == opFlag {
			return int(^at)
		}
		switch in.test(unit, now) {
		case True:
			at = in.yes
		case False:
			at = in.no
		default:
			at = in.maybe
		}
	}
	return int(^at)
}

// Asked is the flag that a leaf at which [Code.Run] stopped asks for, and the variants that it wants.
func (c *Code) Asked(stopped int) (flag string, variants []string) {
	more := c.ins[^stopped].more
	return more.flag, more.list
}

// Then is the place to go on at after the leaf at which [Code.Run] stopped.
func (c *Code) Then(stopped int, t Truth) int32 {
	in := &c.ins[^stopped]
	switch t {
	case True:
		return in.yes
	case False:
		return in.no
	}
	return in.maybe
}

// Asks tells whether the code asks for the clock, and whether for other flags.
func (c *Code) Asks() (clock, flags bool) {
	for i := range c.ins {
		switch c.ins[i].op {
		case opClock, opClockBetween, opWeekly:
			clock = true
		case opFlag:
			flags = true
		}
	}
	return clock, flags
}

// Flags lists the flags that the code asks for, as often as it does.
func (c *Code) Flags() (keys []string) {
	for i := range c.ins {
		if c.ins[i].op == opFlag {
			keys = append(keys, c.ins[i].more.flag)
		}
	}
	return keys
}

// Len is the number of instructions.
func (c *Code) Len() int { return len(c.ins) }
