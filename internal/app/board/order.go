package board

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Sort is by what a list is sorted.
type Sort string

// The orders. Attention has what asks for somebody first: stopped, moving, then what was changed lately,
// newest first, and the rest by key.
const (
	ByAttention Sort = "attention"
	ByKey       Sort = "key"
	ByChanged   Sort = "changed"
	ByGoneBy    Sort = "gone-by"
)

// Sorts lists the orders.
func Sorts() []Sort { return []Sort{ByAttention, ByKey, ByChanged, ByGoneBy} }

// Group is by what a list is grouped.
type Group string

// The groups. A flag with several owners or tags stands once under each.
const (
	Ungrouped Group = ""
	ByOwner   Group = "owner"
	ByTag     Group = "tag"
	ByBundle  Group = "bundle"
)

// Groups lists the groups.
func Groups() []Group { return []Group{Ungrouped, ByOwner, ByTag, ByBundle} }

// lately is for how long a change counts as one that asks for attention.
const lately = 24 * time.Hour

// Shown is a place in a list: a flag, and the group that it stands in there.
type Shown struct {
	Row   *Row
	Group string
}

// Arrange puts rows into the order of a list. Those whose keys are pinned come first, in their own group.
func Arrange(rows []Row, by Sort, group Group, pinned []string, now time.Time) []Shown {
	out := make([]Shown, 0, len(rows))
	for i := range rows {
		r := &rows[i]
		if slices.Contains(pinned, r.Definition.Key) {
			out = append(out, Shown{r, ""})
			continue
		}
		in := groupsOf(r, group)
		for _, g := range in {
			out = append(out, Shown{r, g})
		}
	}
	order := byKey
	switch by {
	case ByAttention:
		order = byAttention(now)
	case ByChanged:
		order = func(a, b *Row) int { return cmp.Compare(newest(b), newest(a)) }
	case ByGoneBy:
		// "stays" last
		order = func(a, b *Row) int { return strings.Compare(a.Definition.GoneBy, b.Definition.GoneBy) }
	}
	pin := func(s Shown) int {
		if slices.Contains(pinned, s.Row.Definition.Key) {
			return 0
		}
		return 1
	}
	none := func(g string) int { // what has no owner or tag stands last
		if g == "" {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(out, func(a, b Shown) int {
		return cmp.Or(cmp.Compare(pin(a), pin(b)), cmp.Compare(none(a.Group), none(b.Group)),
			strings.Compare(a.Group, b.Group), order(a.Row, b.Row), byKey(a.Row, b.Row))
	})
	return out
}

func groupsOf(r *Row, by Group) []string {
	all, d := []string{}, r.Definition
	switch by {
	case ByOwner:
		all = d.Owners
	case ByTag:
		all = d.Tags
	case ByBundle:
		all = r.Bundles
	}
	if len(all) == 0 {
		return []string{""}
	}
	return all
}

func byKey(a, b *Row) int { return strings.Compare(a.Definition.Key, b.Definition.Key) }

func newest(r *Row) int64 { return last(r, func(i In) int64 { return i.Changed }) }

func byAttention(now time.Time) func(a, b *Row) int {
	rank := func(r *Row) (rank int, changed int64) {
		rank = 3
		for _, i := range r.In {
			switch {
			case i.Stopped:
				rank = 0
			case i.Moving:
				rank = min(rank, 1)
			}
		}
		if changed = newest(r); changed < now.Add(-lately).UnixMilli() {
			changed = 0
		} else {
			rank = min(rank, 2)
		}
		return rank, changed
	}
	return func(a, b *Row) int {
		x, at := rank(a)
		y, bt := rank(b)
		return cmp.Or(cmp.Compare(x, y), cmp.Compare(bt, at))
	}
}
