package stage

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// deepest is how far needs of needs, and segments of segments, are followed.
const deepest = 20

// Around digests what bears on whom the release's rules reach: the flag's own switches, the rules above
// the group, and the segments and flags that they, its conditions and its needs ask for.
func Around(rules *flag.Ruleset, key, id string, p *Plan) string {
	d := rules.Flag(key)
	if d == nil {
		return "none"
	}
	h := sha256.New()
	add := func(what string, v any) { fmt.Fprintf(h, "%s %v\n", what, v) }
	add("flag", []any{d.Resting, d.RestAfter, string(d.Variants[p.From]), string(d.Variants[p.To])})
	for _, v := range p.Beside {
		add("beside", string(d.Variants[v]))
	}
	var conditions []*condition.Node
	for i := range d.Rules {
		r := &d.Rules[i]
		if r.Release == id || r.ID == p.Above { // its group begins, or would begin
			break
		}
		add("rule", []any{r.When.Words(), r.Gives.Variant, sharesOf(r.Gives.Shares), r.Parked, r.OnUnknown})
		conditions = append(conditions, r.When)
	}
	conditions = append(conditions, p.Where)
	for i := range p.Stages {
		conditions = append(conditions, p.Stages[i].Who)
	}
	seen := map[string]bool{}
	var follow func(n *condition.Node, depth int)
	ask := func(key string, depth int) {
		if seen["f "+key] || depth > deepest {
			return
		}
		seen["f "+key] = true
		add("needs "+key, string(rules.Flags[key]))
		if other := rules.Flag(key); other != nil {
			for i := range other.Rules {
				follow(other.Rules[i].When, depth+1)
			}
		}
	}
	follow = func(n *condition.Node, depth int) {
		n.Leaves(func(l *condition.Node) {
			if l.Test == condition.FlagTest {
				ask(l.Flag, depth)
			}
			if l.Test == condition.SegmentTest && !seen["s "+l.Segment] {
				seen["s "+l.Segment] = true
				add("segment "+l.Segment, string(rules.Segments[l.Segment]))
				if s := rules.Segment(l.Segment); s != nil {
					follow(s.When, depth+1)
				}
			}
		})
	}
	for _, n := range d.Needs {
		add("need", n)
		ask(n.Flag, 0)
	}
	for _, n := range conditions {
		follow(n, 0)
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// sharesOf says how shares divide units.
func sharesOf(s *flag.Shares) string {
	if s == nil {
		return ""
	}
	return fmt.Sprint(s.By, s.Salt, s.Hash, s.Parts)
}
