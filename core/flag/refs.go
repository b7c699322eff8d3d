package flag

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/condition"
)

// MaxNeedCost is how many decisions on other flags one decision may take through needs.
const MaxNeedCost = 200

// Documents finds the documents that references point to; nil where there is none.
type Documents interface {
	Flag(key string) *Document
	Segment(key string) *Segment
}

// CheckReferences lists what is wrong with what a flag refers to among the documents
// around it: needs, flags and segments that its rules ask for, shares that it moves
// together with; missing ones, circles, and chains that are too long to decide.
func (d *Document) CheckReferences(docs Documents) []Problem {
	var found []Problem
	add := func(place, mend string, args ...any) {
		found = append(found, Problem{place, fmt.Sprintf(mend, args...)})
	}
	for i, n := range d.Needs {
		place := fmt.Sprintf("needs[%d]", i)
		other := docs.Flag(n.Flag)
		if other == nil {
			add(place+".flag", "there is no flag %s in this environment", n.Flag)
		} else if _, ok := other.Variants[n.Variant]; !ok {
			add(place+".variant", "%q is no variant of %s: use one of %s", n.Variant, n.Flag,
				strings.Join(other.VariantNames(), ", "))
		}
	}
	for i := range d.Rules {
		place := fmt.Sprintf("rules[%d]", i)
		checkAsked(place+".when", d.Rules[i].When, docs, add)
		d.checkLike(place+".gives", d.Rules[i].Gives, docs, add)
	}
	d.checkLike("end", d.End, docs, add)
	if len(found) > 0 {
		return found
	}
	around := withFlag{docs, d}
	if circle := referenceCircle("flag "+d.Key, around); circle != "" {
		return []Problem{{"needs", "flags and segments ask for each other in a circle: " + circle}}
	}
	if cost := askCost(d, around, map[string]int{}); cost > MaxNeedCost {
		return []Problem{{"needs", fmt.Sprintf("one decision would take %d decisions on other flags, at most %d are "+
			"taken: shorten the chain", cost, MaxNeedCost)}}
	}
	code := condition.Code{}
	for i := range d.Rules {
		exit := code.Exit(0)
		if err := code.Add(d.Rules[i].When, condition.Around{Segments: SegmentConditions(docs.Segment, nil)}, false,
			exit, exit); err != nil {
			return []Problem{{fmt.Sprintf("rules[%d].when", i), err.Error()}}
		}
	}
	return nil
}

// checkAsked checks that the segments and flags of a condition exist.
func checkAsked(place string, n *condition.Node, docs Documents, add func(place, mend string, args ...any)) {
	for _, key := range segmentsOf(n) {
		if docs.Segment(key) == nil {
			add(place, "there is no segment %s in this project", key)
		}
	}
	for _, l := range asked(n) {
		other := docs.Flag(l.Flag)
		if other == nil {
			add(place, "there is no flag %s in this environment", l.Flag)
			continue
		}
		for _, v := range l.Text {
			if _, ok := other.Variants[v]; !ok {
				add(place, "%q is no variant of %s: use one of %s", v, l.Flag, strings.Join(other.VariantNames(),
					", "))
			}
		}
	}
}

func (d *Document) checkLike(place string, g Gives, docs Documents, add func(place, mend string, args ...any)) {
	if g.Shares == nil || g.Shares.Like == nil {
		return
	}
	at := g.Shares.Like
	other := d
	if at.Flag != d.Key {
		other = docs.Flag(at.Flag)
	}
	var to *Shares
	if other != nil {
		to = other.SharesAt(at.Rule)
	}
	switch {
	case to == nil:
		add(place+".shares.like", "there are no shares at that place: name a flag, and the id of a rule that gives "+
			"shares, or no rule for its end")
	case to == g.Shares:
		add(place+".shares.like", "shares cannot move together with themselves: leave it out")
	case to.Like != nil:
		add(place+".shares.like", "those shares move together with others themselves: name the others")
	case to.Salt != g.Shares.Salt || !slices.Equal(to.By, g.Shares.By):
		add(place+".shares.like", "salt and attributes must be those of the shares that it names")
	}
}

// CheckReferences lists missing segments and flags, and circles, of a segment among the
// documents around it.
func (s *Segment) CheckReferences(docs Documents) []Problem {
	around := withSegment{docs, s}
	var found []Problem
	checkAsked("when", s.When, around, func(place, mend string, args ...any) {
		found = append(found, Problem{place, fmt.Sprintf(mend, args...)})
	})
	if len(found) > 0 {
		return found
	}
	if circle := referenceCircle("segment "+s.Key, around); circle != "" {
		return []Problem{{"when", "segments and flags ask for each other in a circle: " + circle}}
	}
	code := condition.Code{}
	if err := code.Add(s.When, condition.Around{Segments: SegmentConditions(docs.Segment, nil)}, false, code.Exit(0),
		code.Exit(0)); err != nil {
		return []Problem{{"when", err.Error()}}
	}
	return nil
}

// withFlag and withSegment are documents with one of them edited.
type withFlag struct {
	Documents
	flag *Document
}

func (w withFlag) Flag(key string) *Document {
	if key == w.flag.Key {
		return w.flag
	}
	return w.Documents.Flag(key)
}

type withSegment struct {
	Documents
	segment *Segment
}

func (w withSegment) Segment(key string) *Segment {
	if key == w.segment.Key {
		return w.segment
	}
	return w.Documents.Segment(key)
}

// SegmentConditions turns a look-up of segments into one of their conditions.
func SegmentConditions(find func(key string) *Segment, lists Lists) condition.Segments {
	return func(key string) *condition.Node {
		if s := find(key); s != nil {
			return s.Condition(lists)
		}
		return nil
	}
}

// referenceCircle looks for a way from a flag or segment back to itself over needs, flag
// leaves and segments, and says it.
func referenceCircle(start string, docs Documents) string {
	circle := findCircle(start, func(node string) (next []string) {
		what, key, _ := strings.Cut(node, " ")
		var conditions []*condition.Node
		if what == "segment" {
			if s := docs.Segment(key); s != nil {
				conditions = append(conditions, s.When)
			}
		} else if d := docs.Flag(key); d != nil {
			for _, n := range d.Needs {
				next = append(next, "flag "+n.Flag)
			}
			for i := range d.Rules {
				conditions = append(conditions, d.Rules[i].When)
			}
		}
		for _, n := range conditions {
			for _, l := range asked(n) {
				next = append(next, "flag "+l.Flag)
			}
			for _, s := range segmentsOf(n) {
				next = append(next, "segment "+s)
			}
		}
		return next
	})
	return strings.Join(circle, " asks for ")
}

// findCircle gives a way from the start back to itself, or nil.
func findCircle(start string, next func(string) []string) []string {
	done := map[string]bool{}
	var walk func(path []string) []string
	walk = func(path []string) []string {
		for _, key := range next(path[len(path)-1]) {
			if key == start {
				return append(slices.Clone(path), start)
			}
			if !done[key] {
				done[key] = true
				if circle := walk(append(path, key)); circle != nil {
					return circle
				}
			}
		}
		return nil
	}
	return walk([]string{start})
}

// askCost is how many decisions on other flags a decision on this one can take.
func askCost(d *Document, docs Documents, known map[string]int) int {
	cost := 0
	for _, key := range d.asks(docs) {
		c, ok := known[key]
		if !ok {
			c = 1
			known[key] = c // a circle elsewhere must not be followed round and round
			if other := docs.Flag(key); other != nil {
				c += askCost(other, docs, known)
			}
			known[key] = c
		}
		cost = min(cost+c, MaxNeedCost*10)
	}
	return cost
}

// Asks counts the needs, and the comparisons that ask for another flag or a segment.
func (d *Document) Asks() int {
	n := len(d.Needs)
	for i := range d.Rules {
		n += len(asked(d.Rules[i].When)) + len(segmentsOf(d.Rules[i].When))
	}
	return n
}

// asks lists the flags that a decision may look at, as often as it may.
func (d *Document) asks(docs Documents) (keys []string) {
	for _, n := range d.Needs {
		keys = append(keys, n.Flag)
	}
	var walk func(n *condition.Node, open []string)
	walk = func(n *condition.Node, open []string) {
		for _, l := range asked(n) {
			keys = append(keys, l.Flag)
		}
		for _, key := range segmentsOf(n) {
			if s := docs.Segment(key); s != nil && !slices.Contains(open, key) && len(keys) <= MaxNeedCost {
				walk(s.When, append(open, key))
			}
		}
	}
	for i := range d.Rules {
		walk(d.Rules[i].When, nil)
	}
	return keys
}

// Flag decodes one flag of the ruleset; nil where there is none or it cannot be read.
func (rs *Ruleset) Flag(key string) *Document {
	return decode[Document](rs.Flags[key])
}

// Segment gives one segment of the ruleset, which must not be changed; nil where there is none or
// it cannot be read. It is decoded once.
func (rs *Ruleset) Segment(key string) *Segment {
	if rs.read == nil {
		return decode[Segment](rs.Segments[key])
	}
	if s, ok := rs.read.Load(key); ok {
		return s.(*Segment)
	}
	s := decode[Segment](rs.Segments[key])
	rs.read.Store(key, s)
	return s
}

func decode[T any](raw json.RawMessage) *T {
	v := new(T)
	if raw == nil || json.Unmarshal(raw, v) != nil {
		return nil
	}
	return v
}
