package shift

import (
	"slices"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
)

// Dependents lists the flags whose decisions an edit of flags and segments can change, the
// edited ones first: those that use a segment, need one of the flags or ask what it gives,
// at any remove.
func Dependents(rs *decide.Ruleset, flags, segments []string) []string {
	edited := map[string]bool{}
	for _, s := range segments {
		edited["segment "+s] = true
	}
	for _, f := range flags {
		edited["flag "+f] = true
	}
	uses := map[string][]string{} // what each flag and segment asks for
	note := func(node string, n *condition.Node) {
		n.Leaves(func(l *condition.Node) {
			switch l.Test {
			case condition.SegmentTest:
				uses[node] = append(uses[node], "segment "+l.Segment)
			case condition.FlagTest:
				uses[node] = append(uses[node], "flag "+l.Flag)
			}
		})
	}
	for key := range rs.Source.Segments {
		if s := rs.Source.Segment(key); s != nil {
			note("segment "+key, s.When)
		}
	}
	var all []string
	for f := range rs.Flags {
		node := "flag " + f.Key
		all = append(all, f.Key)
		for _, n := range f.Document().Needs {
			uses[node] = append(uses[node], "flag "+n.Flag)
		}
		for i := range f.Document().Rules {
			note(node, f.Document().Rules[i].When)
		}
	}
	for grew := true; grew; {
		grew = false
		for node, asks := range uses {
			if !edited[node] && slices.ContainsFunc(asks, func(a string) bool { return edited[a] }) {
				edited[node], grew = true, true
			}
		}
	}
	slices.Sort(all)
	out := slices.Clone(flags)
	for _, f := range all {
		if edited["flag "+f] && !slices.Contains(flags, f) {
			out = append(out, f)
		}
	}
	return out
}

// Drawn is how many units of what shares are drawn by fall into each part.
type Drawn struct {
	By    string              `json:"by"`
	Units Estimate            `json:"units"`
	Parts map[string]Estimate `json:"parts"` // by variant; ">" for the part that goes on
}

// Draw counts the values of an attribute by the part of shares in which they fall.
func Draw(s *flag.Shares, by string, values Population, name condition.Name) Drawn {
	seed := bucket.Seed(s.Salt)
	counts := map[string]int{}
	drawn := 0
	for _, c := range values.Units {
		key, ok := c.ShareKey(name)
		if !ok {
			continue
		}
		drawn++
		b := bucket.Of(key, seed)
		for _, p := range s.Parts {
			if p.Has(b) {
				part := p.Variant
				if p.GoesOn {
					part = ">"
				}
				counts[part]++
			}
		}
	}
	d := Drawn{By: by, Units: values.Count(drawn), Parts: map[string]Estimate{}}
	for part, n := range counts {
		d.Parts[part] = values.Count(n)
	}
	return d
}
