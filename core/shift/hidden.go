package shift

import (
	"fmt"
	"maps"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/core/words"
)

// What a sample does not know of its units, such as personal values, must not be taken for
// absent: "nobody moves" would be said while everybody does. Comparisons of such attributes
// are hidden leaves. A unit is decided once for each way in which its hidden leaves could
// come out; only where all agree it is known what becomes of it.

// maxHidden is how many hidden leaves are tried out together, in up to three ways each.
const maxHidden = 4

// hidden is a comparison whose outcome the sample does not always know.
type hidden struct {
	leaf   condition.Node
	derive sample.Derivation
	always sample.Truths // what it could be whatever the unit; zero: it depends on the unit's value
}

// veil is the hidden leaves on which a flag depends, before and after an edit, and the rulesets
// in which they come out one way or another.
type veil struct {
	leaves        []hidden
	tooMany       bool
	drawn         []string // attributes that shares are drawn by, and the sample does not have
	before, after *decide.Ruleset
	key           string
	made          map[string][2]*side
}

// newVeil finds what of a flag's decisions the sample hides; nil where it hides nothing.
func newVeil(before, after *decide.Ruleset, key string, p Population) *veil {
	if len(p.Hidden) == 0 {
		return nil
	}
	v := &veil{before: before, after: after, key: key, made: map[string][2]*side{}}
	for _, rs := range []*decide.Ruleset{before, after} {
		flags, segments := closure(rs, key)
		for _, f := range flags {
			for i := range f.Rules {
				if !f.Rules[i].Parked {
					v.look(rs, f.Rules[i].When, p.Hidden)
					v.shares(f.Rules[i].Gives, p.Hidden)
				}
			}
			v.shares(f.End, p.Hidden)
		}
		for _, s := range segments {
			v.look(rs, s.When, p.Hidden)
		}
	}
	if len(v.leaves) == 0 && len(v.drawn) == 0 {
		return nil
	}
	v.tooMany = len(v.leaves) > maxHidden
	return v
}

func (v *veil) shares(g flag.Gives, by map[string]sample.Derivation) {
	if g.Shares == nil {
		return
	}
	for _, name := range g.Shares.By {
		if _, is := by[name]; is && !slices.Contains(v.drawn, name) {
			v.drawn = append(v.drawn, name)
		}
	}
}

// look notes the hidden leaves of a condition.
func (v *veil) look(rs *decide.Ruleset, n *condition.Node, by map[string]sample.Derivation) {
	n.Leaves(func(l *condition.Node) {
		if h, is := hides(rs, l, by); is && v.find(l) < 0 {
			v.leaves = append(v.leaves, h)
		}
	})
}

// hides tells whether the sample may not know how a leaf comes out.
func hides(rs *decide.Ruleset, l *condition.Node, by map[string]sample.Derivation) (hidden, bool) {
	switch {
	case l.Test == condition.SegmentTest:
		s := rs.Source.Segment(l.Segment)
		if s == nil || s.In.Len()+s.Out.Len() == 0 {
			return hidden{}, false
		}
		derive, is := by[s.Attribute()]
		return hidden{*l, derive, sample.CouldBeAny}, is
	case l.Part != nil:
		for _, name := range l.Part.By {
			if derive, is := by[name]; is {
				return hidden{*l, derive, sample.CouldBeAny}, true
			}
		}
		return hidden{}, false
	}
	derive, is := by[l.Attribute]
	return hidden{leaf: *l, derive: derive}, is && l.Attribute != ""
}

func (v *veil) find(l *condition.Node) int {
	return slices.IndexFunc(v.leaves, func(h hidden) bool { return h.leaf.Equal(l) })
}

// closure is a flag with those that it needs or asks for, and their segments.
func closure(rs *decide.Ruleset, key string) (flags []*flag.Document, segments []*flag.Segment) {
	seen := map[string]bool{}
	var visit func(key string)
	var walk func(n *condition.Node)
	walk = func(n *condition.Node) {
		n.Leaves(func(l *condition.Node) {
			switch {
			case l.Test == condition.FlagTest:
				visit(l.Flag)
			case l.Test == condition.SegmentTest && !seen["segment "+l.Segment]:
				seen["segment "+l.Segment] = true
				if s := rs.Source.Segment(l.Segment); s != nil {
					segments = append(segments, s)
					walk(s.When)
				}
			}
		})
	}
	visit = func(key string) {
		f := rs.Flag(key)
		if seen[key] || f == nil {
			return
		}
		seen[key] = true
		d := f.Document()
		flags = append(flags, d)
		for _, n := range d.Needs {
			visit(n.Flag)
		}
		for i := range d.Rules {
			if !d.Rules[i].Parked {
				walk(d.Rules[i].When)
			}
		}
	}
	visit(key)
	return flags, segments
}

// Attributes lists the attributes on which a flag's decisions depend, with those of the segments
// and flags that it asks for, by name; the targeting key is not among them.
func Attributes(rs *decide.Ruleset, key string) []string {
	names := map[string]bool{}
	look := func(n *condition.Node) {
		n.Leaves(func(l *condition.Node) {
			names[l.Attribute] = true
			if l.Part != nil {
				for _, by := range l.Part.By {
					names[by] = true
				}
			}
		})
	}
	flags, segments := closure(rs, key)
	for _, d := range flags {
		if d.Lever != flag.On {
			continue
		}
		for i := range d.Rules {
			if !d.Rules[i].Parked {
				look(d.Rules[i].When)
			}
		}
		for _, by := range d.Draws() {
			names[by] = true
		}
	}
	for _, s := range segments {
		look(s.When)
		if s.In.Len()+s.Out.Len() > 0 {
			names[s.Attribute()] = true
		}
	}
	delete(names, "")
	delete(names, condition.KeyAttribute)
	return slices.Sorted(maps.Keys(names))
}

// ways lists how the hidden leaves could come out for a unit: nil where nothing is hidden of it.
func (v *veil) ways(c *condition.Context) (ways [][]condition.Truth) {
	ways = [][]condition.Truth{nil}
	for i := range v.leaves {
		h := &v.leaves[i]
		could := h.always
		if could == 0 {
			could = sample.Could(&h.leaf, c.Lookup(condition.Intern(h.leaf.Attribute)), h.derive)
		}
		var next [][]condition.Truth
		for _, t := range []condition.Truth{condition.False, condition.Unknown, condition.True} {
			if could.Has(t) {
				for _, w := range ways {
					next = append(next, append(slices.Clone(w), t))
				}
			}
		}
		ways = next
	}
	return ways
}

// under gives both sides as they are where the hidden leaves come out in one way.
func (v *veil) under(way []condition.Truth) [2]*side {
	key := fmt.Sprint(way)
	if made, is := v.made[key]; is {
		return made
	}
	made := [2]*side{newSide(v.settle(v.before, way), v.key), newSide(v.settle(v.after, way), v.key)}
	v.made[key] = made
	return made
}

// settle is a ruleset whose hidden leaves come out in one way.
func (v *veil) settle(rs *decide.Ruleset, way []condition.Truth) *decide.Ruleset {
	flags, segments := closure(rs, v.key)
	var changed []*flag.Document
	for _, d := range flags {
		now := *d
		now.Rules = slices.Clone(d.Rules)
		for i := range now.Rules {
			now.Rules[i].When = v.replaced(now.Rules[i].When, way)
		}
		changed = append(changed, &now)
	}
	var edited []*flag.Segment
	for _, s := range segments {
		now := *s
		now.When = v.replaced(s.When, way)
		edited = append(edited, &now)
	}
	settled, err := rs.With(changed, edited)
	if err != nil {
		return rs // cannot be: what stood is written again
	}
	return settled
}

// constants are leaves that always come out alike, whatever the unit and the time.
var constants = map[condition.Truth]condition.Node{
	condition.True:    {Test: "clock.before", Text: []string{"9999-12-31T23:59:59Z"}},
	condition.False:   {Test: "clock.before", Text: []string{"0001-01-02T00:00:00Z"}},
	condition.Unknown: {Test: "boolean.true", Attribute: "\x00hidden"},
}

func (v *veil) replaced(n *condition.Node, way []condition.Truth) *condition.Node {
	if n == nil {
		return nil
	}
	if n.Test != "" {
		if i := v.find(n); i >= 0 {
			constant := constants[way[i]]
			return &constant
		}
		return n
	}
	now := *n
	now.Not = v.replaced(n.Not, way)
	list := func(nodes []condition.Node) []condition.Node {
		out := make([]condition.Node, len(nodes))
		for i := range nodes {
			out[i] = *v.replaced(&nodes[i], way)
		}
		return out
	}
	if n.All != nil {
		now.All = list(n.All)
	}
	if n.Any != nil {
		now.Any = list(n.Any)
	}
	return &now
}

// why says what the sample does not know.
func (v *veil) why() []words.Said {
	about := map[string]sample.Derivation{}
	for _, h := range v.leaves {
		switch {
		case h.leaf.Part != nil:
			for _, name := range h.leaf.Part.By {
				about[name] = h.derive
			}
		case h.leaf.Segment != "":
			if s := v.after.Source.Segment(h.leaf.Segment); s != nil {
				about[s.Attribute()] = h.derive
			}
		default:
			about[h.leaf.Attribute] = h.derive
		}
	}
	for _, name := range v.drawn {
		if _, is := about[name]; !is {
			about[name] = sample.Nothing
		}
	}
	var said []words.Said
	for _, name := range slices.Sorted(maps.Keys(about)) {
		holds := "is personal, and the sample does not hold it"
		switch about[name] {
		case sample.Presence:
			holds = "is personal, and the sample holds only whether it is there"
		case sample.Domain:
			holds = "is personal, and the sample holds only what stands from the @ on"
		case sample.Resolved:
			holds = "is found out by processes once a rule asks for it, and the sample does not hold it"
		}
		said = append(said, words.Say("%s %s", words.Names(nil).Attribute(name), holds))
	}
	return said
}
