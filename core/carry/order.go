package carry

import (
	"slices"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// Ref names a document: that of a flag, or of a segment.
type Ref struct {
	Key     string
	Segment bool
}

// Order puts documents that are saved one after the other so that each comes after those that it refers to: then no
// circle can arise on the way that is not there at the end. Where they refer to each other in a circle, that is broken
// somewhere.
func Order(flags []*flag.Document, segments []*flag.Segment) (out []Ref) {
	asks := map[Ref][]Ref{}
	of := func(n *condition.Node) (refs []Ref) {
		n.Leaves(func(l *condition.Node) {
			switch l.Test {
			case condition.SegmentTest:
				refs = append(refs, Ref{l.Segment, true})
			case condition.FlagTest:
				refs = append(refs, Ref{l.Flag, false})
			}
		})
		return refs
	}
	for _, s := range segments {
		asks[Ref{s.Key, true}] = of(s.When)
	}
	like := func(g flag.Gives) []Ref {
		if g.Shares == nil || g.Shares.Like == nil {
			return nil
		}
		return []Ref{{g.Shares.Like.Flag, false}}
	}
	for _, d := range flags {
		refs := like(d.End)
		for _, n := range d.Needs {
			refs = append(refs, Ref{n.Flag, false})
		}
		for i := range d.Rules {
			refs = append(append(refs, of(d.Rules[i].When)...), like(d.Rules[i].Gives)...)
		}
		asks[Ref{d.Key, false}] = refs
	}
	all := make([]Ref, 0, len(asks))
	for r := range asks {
		all = append(all, r)
	}
	slices.SortFunc(all, func(a, b Ref) int {
		if a.Segment != b.Segment {
			if a.Segment {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Key, b.Key)
	})
	done := map[Ref]bool{}
	var visit func(r Ref)
	visit = func(r Ref) {
		if _, is := asks[r]; !is || done[r] {
			return
		}
		done[r] = true
		for _, to := range asks[r] {
			visit(to)
		}
		out = append(out, r)
	}
	for _, r := range all {
		visit(r)
	}
	return out
}
