package bucket

import (
	"errors"
	"fmt"
	"slices"
)

// Range is a half-open run of buckets [From, To).
type Range struct{ From, To uint32 }

// Len is the number of buckets in the range.
func (r Range) Len() uint32 { return r.To - r.From }

// Part owns ranges of buckets under a name. The name stands for a variant or for the part
// that goes on; this package gives it no meaning.
type Part struct {
	Name   string
	Ranges []Range // ascending, not touching, not empty
}

// Size is the number of buckets that the part owns.
func (p Part) Size() uint32 {
	var n uint32
	for _, r := range p.Ranges {
		n += r.Len()
	}
	return n
}

// Want is a part's name and the number of buckets that it is to own.
type Want struct {
	Name string
	Size uint32
}

// ErrSum is returned when sizes do not add up to all buckets.
var ErrSum = errors.New("shares do not add up to 100 %")

// ErrParts is returned when parts overlap, leave buckets out, or repeat a name.
var ErrParts = errors.New("parts do not cover every bucket exactly once")

// Allocate lays out wants, given the parts as they are now. It moves as few buckets as
// the sizes require: a shrinking part gives up its highest buckets, the last part its
// lowest, and what is freed goes in ascending order to the growing parts in their order.
// So a part that only grows never loses a bucket, whatever the order of the edits.
//
// The order of the answer is fixed: parts that exist already keep theirs, new ones enter
// before the last one, and the last of wants stays last. Parts that are not wanted any
// more give up all they have. Without old parts the layout is canonical: one range a part, in order.
//
// It returns [ErrSum] when the sizes do not add up and [ErrParts] when old or wants are malformed.
func Allocate(old []Part, wants []Want) ([]Part, error) {
	if err := checkWants(wants); err != nil {
		return nil, err
	}
	if len(old) > 0 {
		if err := Check(old); err != nil {
			return nil, err
		}
	}
	order := orderParts(old, wants)
	size := make(map[string]uint32, len(wants))
	for _, w := range wants {
		size[w.Name] = w.Size
	}
	have := make(map[string][]Range, len(old))
	var freed []Range
	if len(old) == 0 {
		freed = []Range{{0, Buckets}}
	}
	for _, p := range old {
		want, kept := size[p.Name]
		last := kept && p.Name == order[len(order)-1]
		ranges, gone := shrink(p.Ranges, want, last)
		have[p.Name] = ranges
		freed = append(freed, gone...)
	}
	freed = merge(freed)
	out := make([]Part, 0, len(order))
	for _, name := range order {
		ranges := have[name]
		missing := size[name] - Part{Ranges: ranges}.Size()
		for missing > 0 {
			r := freed[0]
			take := min(missing, r.Len())
			ranges = append(ranges, Range{r.From, r.From + take})
			missing -= take
			freed[0].From += take
			if freed[0].Len() == 0 {
				freed = freed[1:]
			}
		}
		out = append(out, Part{Name: name, Ranges: merge(ranges)})
	}
	return out, nil
}

// Check returns [ErrParts] unless the parts own every bucket exactly once, in ascending ranges.
func Check(parts []Part) error {
	var all []Range
	seen := map[string]bool{}
	for _, p := range parts {
		if seen[p.Name] {
			return fmt.Errorf("%w: %q stands twice", ErrParts, p.Name)
		}
		seen[p.Name] = true
		for i, r := range p.Ranges {
			if r.From >= r.To || r.To > Buckets || i > 0 && r.From < p.Ranges[i-1].To {
				return fmt.Errorf("%w: range %d to %d of %q is empty, out of order or too high", ErrParts, r.From,
					r.To, p.Name)
			}
		}
		all = append(all, p.Ranges...)
	}
	slices.SortFunc(all, func(a, b Range) int { return int(a.From) - int(b.From) })
	next := uint32(0)
	for _, r := range all {
		if r.From != next {
			return fmt.Errorf("%w: buckets from %d", ErrParts, min(next, r.From))
		}
		next = r.To
	}
	if next != Buckets {
		return fmt.Errorf("%w: buckets from %d", ErrParts, next)
	}
	return nil
}

func checkWants(wants []Want) error {
	sum := uint64(0)
	seen := map[string]bool{}
	for _, w := range wants {
		if seen[w.Name] {
			return fmt.Errorf("%w: %q stands twice", ErrParts, w.Name)
		}
		seen[w.Name] = true
		sum += uint64(w.Size)
	}
	if sum != Buckets {
		return fmt.Errorf("%w: they add up to %s", ErrSum, Percent(sum))
	}
	return nil
}

func orderParts(old []Part, wants []Want) []string {
	wanted := map[string]bool{}
	for _, w := range wants {
		wanted[w.Name] = true
	}
	last := wants[len(wants)-1].Name
	known := map[string]bool{last: true}
	var order []string
	for _, p := range old {
		if wanted[p.Name] && !known[p.Name] {
			known[p.Name] = true
			order = append(order, p.Name)
		}
	}
	for _, w := range wants {
		if !known[w.Name] {
			known[w.Name] = true
			order = append(order, w.Name)
		}
	}
	return append(order, last)
}

// shrink cuts ranges down to size, from the top, or from the bottom for the last part.
func shrink(ranges []Range, size uint32, fromBottom bool) (kept, gone []Range) {
	kept = slices.Clone(ranges)
	have := Part{Ranges: kept}.Size()
	for have > size {
		i := len(kept) - 1
		if fromBottom {
			i = 0
		}
		cut := min(have-size, kept[i].Len())
		if fromBottom {
			gone = append(gone, Range{kept[i].From, kept[i].From + cut})
			kept[i].From += cut
		} else {
			gone = append(gone, Range{kept[i].To - cut, kept[i].To})
			kept[i].To -= cut
		}
		if kept[i].Len() == 0 {
			kept = slices.Delete(kept, i, i+1)
		}
		have -= cut
	}
	return kept, gone
}

// merge sorts ranges and joins those that touch.
func merge(ranges []Range) []Range {
	slices.SortFunc(ranges, func(a, b Range) int { return int(a.From) - int(b.From) })
	var out []Range
	for _, r := range ranges {
		if n := len(out); n > 0 && out[n-1].To == r.From {
			out[n-1].To = r.To
			continue
		}
		out = append(out, r)
	}
	return out
}
