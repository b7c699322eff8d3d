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

// CheckReferences lists what is wrong with the needs and segments of a flag among the
// documents around it: missing ones, circles, and chains that are too long to decide.
func (d *Document) CheckReferences(docs Documents) []Problem {
	var found []Problem
	for i, n := range d.Needs {
		place := fmt.Sprintf("needs[%d]", i)
		other := docs.Flag(n.Flag)
		if other == nil {
			found = append(found, Problem{place + ".flag", fmt.Sprintf("there is no flag %s in this environment", n.Flag)})
		} else if _, ok := other.Variants[n.Variant]; !ok {
			found = append(found, Problem{place + ".variant", fmt.Sprintf("%q is no variant of %s: use one of %s", n.Variant, n.Flag, strings.Join(other.VariantNames(), ", "))})
		}
	}
	for i := range d.Rules {
		for _, key := range segmentsOf(d.Rules[i].When) {
			if docs.Segment(key) == nil {
				found = append(found, Problem{fmt.Sprintf("rules[%d].when", i), fmt.Sprintf("there is no segment %s in this project", key)})
			}
		}
	}
	if len(found) > 0 {
		return found
	}
	if circle := needCircle(d, docs); circle != nil {
		return []Problem{{"needs", "go in a circle: " + strings.Join(circle, " needs ")}}
	}
	if cost := needCost(d, docs, map[string]int{}); cost > MaxNeedCost {
		return []Problem{{"needs", fmt.Sprintf("one decision would take %d decisions on other flags, at most %d are taken: shorten the chain", cost, MaxNeedCost)}}
	}
	code := condition.Code{}
	for i := range d.Rules {
		exit := code.Exit(0)
		if err := code.Add(d.Rules[i].When, SegmentConditions(docs.Segment), false, exit, exit); err != nil {
			return []Problem{{fmt.Sprintf("rules[%d].when", i), err.Error()}}
		}
	}
	return nil
}

// CheckReferences lists missing segments, and circles, of a segment among the documents around it.
func (s *Segment) CheckReferences(docs Documents) []Problem {
	for _, key := range s.Segments() {
		if key != s.Key && docs.Segment(key) == nil {
			return []Problem{{"when", fmt.Sprintf("there is no segment %s in this project", key)}}
		}
	}
	next := func(key string) []string {
		if key == s.Key {
			return s.Segments()
		}
		if other := docs.Segment(key); other != nil {
			return other.Segments()
		}
		return nil
	}
	if circle := findCircle(s.Key, next); circle != nil {
		return []Problem{{"when", "segments go in a circle: " + strings.Join(circle, " contains ")}}
	}
	code := condition.Code{}
	if err := code.Add(s.When, SegmentConditions(docs.Segment), false, code.Exit(0), code.Exit(0)); err != nil {
		return []Problem{{"when", err.Error()}}
	}
	return nil
}

// Check lists everything that keeps the segment from being saved and that it shows by itself.
func (s *Segment) Check() []Problem {
	var found []Problem
	add := func(place, mend string) { found = append(found, Problem{place, mend}) }
	if mend := CheckKey(s.Key); mend != "" {
		add("key", mend)
	}
	if s.When != nil {
		s.When.Check("when", add)
	}
	return found
}

// SegmentConditions turns a look-up of segments into one of their conditions.
func SegmentConditions(find func(key string) *Segment) condition.Segments {
	return func(key string) *condition.Node {
		if s := find(key); s != nil {
			return s.Condition()
		}
		return nil
	}
}

func needCircle(d *Document, docs Documents) []string {
	return findCircle(d.Key, func(key string) (keys []string) {
		doc := d
		if key != d.Key {
			doc = docs.Flag(key)
		}
		if doc != nil {
			for _, n := range doc.Needs {
				keys = append(keys, n.Flag)
			}
		}
		return keys
	})
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

func needCost(d *Document, docs Documents, known map[string]int) int {
	cost := 0
	for _, n := range d.Needs {
		c, ok := known[n.Flag]
		if !ok {
			c = 1
			known[n.Flag] = c // a circle elsewhere must not be followed round and round
			if other := docs.Flag(n.Flag); other != nil {
				c += needCost(other, docs, known)
			}
			known[n.Flag] = c
		}
		cost = min(cost+c, MaxNeedCost*10)
	}
	return cost
}

// Flag decodes one flag of the ruleset; nil where there is none or it cannot be read.
func (rs *Ruleset) Flag(key string) *Document {
	return decode[Document](rs.Flags[key])
}

// Segment decodes one segment of the ruleset; nil where there is none or it cannot be read.
func (rs *Ruleset) Segment(key string) *Segment {
	return decode[Segment](rs.Segments[key])
}

func decode[T any](raw json.RawMessage) *T {
	v := new(T)
	if raw == nil || json.Unmarshal(raw, v) != nil {
		return nil
	}
	return v
}
