package condition

import "errors"

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
// does not; a condition that is unknown as a whole goes to yes if unknownHolds.
// It returns [ErrTooLarge].
func (c *Code) Add(n *Node, segments Segments, unknownHolds bool, yes, no Label) error {
	e := emitter{code: c, segments: segments, unknownHolds: unknownHolds}
	return e.emit(n, false, yes, no)
}

type emitter struct {
	code         *Code
	segments     Segments
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
	in := leaf(n)
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

// group emits parts that must all hold, or of which one must.
func (e *emitter) group(parts []Node, negated, all bool, yes, no Label) error {
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

func (e *emitter) enter(key string) *Node {
	inner := find(e.segments, key, e.open)
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

// Run evaluates from a place until an exit and returns the exit's number. Places only
// grow, so it always ends.
func (c *Code) Run(at int32, unit *Context) int {
	for at >= 0 {
		in := &c.ins[at]
		switch in.test(unit) {
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

// Len is the number of instructions.
func (c *Code) Len() int { return len(c.ins) }
