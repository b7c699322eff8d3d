package decide

import (
	"encoding/json"
	"maps"
	"slices"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// Ruleset is an environment at a revision, compiled.
type Ruleset struct {
	Source *flag.Ruleset
	flags  map[string]*Flag
	slots  int32
}

// SlotBlock is the size of the blocks that no flag's slots straddle.
const SlotBlock = 1024

// Slots is one more than the highest slot in use. Every flag owns a run of slots from its
// Slot on: one for each variant in their order, and one for errors. A flag keeps its run
// from revision to revision while its variants keep their names, and no run is used again
// for anything else, so that a caller can count in a flat array that only grows.
func (rs *Ruleset) Slots() int32 { return rs.slots }

// place gives the flag its run of slots, the one that it had if that still fits.
func (rs *Ruleset) place(f, before *Flag) {
	if before != nil && slices.EqualFunc(f.variants, before.variants, func(a, b Variant) bool { return a.Name == b.Name }) {
		f.Slot = before.Slot
		return
	}
	need := int32(len(f.variants)) + 1
	if rs.slots%SlotBlock+need > SlotBlock {
		rs.slots += SlotBlock - rs.slots%SlotBlock
	}
	f.Slot = rs.slots
	rs.slots += need
}

// After compiles a ruleset, keeping the slots of the one before it, which may be nil.
func After(before *Ruleset, source *flag.Ruleset) *Ruleset {
	rs := &Ruleset{Source: source, flags: make(map[string]*Flag, len(source.Flags))}
	if before != nil {
		rs.slots = before.slots
	}
	stops := stopsByFlag(source)
	for key := range source.Flags {
		f := compileFlag(source, key, stops[key])
		var old *Flag
		if before != nil {
			old = before.flags[key]
		}
		rs.place(f, old)
		rs.flags[key] = f
	}
	return rs
}

// Flags calls yield for every flag, in no order.
func (rs *Ruleset) Flags(yield func(*Flag) bool) {
	for _, f := range rs.flags {
		if !yield(f) {
			return
		}
	}
}

// Compile prepares every flag of a ruleset. Nothing in it can make this fail: a flag that
// cannot be read answers with an error, one that asks too much gives its resting variant.
func Compile(source *flag.Ruleset) *Ruleset { return After(nil, source) }

// Next applies an event and compiles only what it touches. It returns the errors of
// [flag.Ruleset.Apply] and leaves this ruleset as it is.
func (rs *Ruleset) Next(e *flag.Event) (*Ruleset, error) {
	source, err := rs.Source.Apply(e)
	if err != nil {
		return nil, err
	}
	next := &Ruleset{Source: source, flags: rs.flags, slots: rs.slots}
	stops := stopsByFlag(source)
	touched := rs.touched(e, source)
	if len(touched) > 0 {
		next.flags = maps.Clone(rs.flags)
	}
	for _, key := range touched {
		if source.Flags[key] == nil {
			delete(next.flags, key)
			continue
		}
		f := compileFlag(source, key, stops[key])
		next.place(f, rs.flags[key])
		next.flags[key] = f
	}
	return next, nil
}

// touched lists the flags whose decisions an event can change by itself. Needs are looked
// up when deciding, so flags that need one of these are not among them.
func (rs *Ruleset) touched(e *flag.Event, next *flag.Ruleset) []string {
	keys := map[string]bool{}
	for _, raw := range e.Flags {
		var k struct{ Key string }
		if json.Unmarshal(raw, &k) == nil {
			keys[k.Key] = true
		}
	}
	segments := map[string]bool{}
	for _, raw := range e.Segments {
		var k struct{ Key string }
		if json.Unmarshal(raw, &k) == nil {
			segments[k.Key] = true
		}
	}
	if e.Gone != nil {
		for _, k := range e.Gone.Flags {
			keys[k] = true
		}
		for _, k := range e.Gone.Segments {
			segments[k] = true
		}
	}
	if len(segments) > 0 {
		for key, f := range rs.flags {
			if slices.ContainsFunc(f.segments, func(s string) bool { return segments[s] }) {
				keys[key] = true
			}
		}
	}
	for _, stops := range [][]flag.Stop{e.Stops, rs.Source.Stops} {
		for _, s := range stops {
			if !slices.ContainsFunc(rs.Source.Stops, sameStop(s)) || !slices.ContainsFunc(next.Stops, sameStop(s)) {
				for _, k := range s.Flags {
					keys[k] = true
				}
			}
		}
	}
	return slices.Collect(maps.Keys(keys))
}

func sameStop(s flag.Stop) func(flag.Stop) bool {
	return func(o flag.Stop) bool { return o.ID == s.ID }
}

func stopsByFlag(source *flag.Ruleset) map[string][]string {
	out := map[string][]string{}
	for _, s := range source.Stops {
		for _, key := range s.Flags {
			out[key] = append(out[key], s.ID)
		}
	}
	return out
}

func broken(key string) *Flag {
	return &Flag{Key: key, doc: &flag.Document{Key: key}, isSame: true, fixed: Outcome{-1, -1, Error, Broken}}
}

func kindOf(t flag.Type) Kind { return Kind(slices.Index(flag.Types(), t) + 1) }

func compileFlag(source *flag.Ruleset, key string, stops []string) *Flag {
	doc := source.Flag(key)
	if doc == nil || !slices.Contains(flag.Types(), doc.Type) {
		return broken(key)
	}
	f := &Flag{Key: key, Type: doc.Type, Kind: kindOf(doc.Type), Visible: doc.Visible, doc: doc, stops: stops}
	for _, name := range doc.VariantNames() {
		raw := doc.Variants[name]
		if flag.CheckValue(doc.Type, raw) != "" {
			return broken(key)
		}
		v := Variant{Name: name, Raw: raw}
		switch doc.Type {
		case flag.Boolean:
			if v.Boolean = string(raw) == "true"; v.Boolean && len(f.variants) < 64 {
				f.truths |= 1 << len(f.variants)
			}
		case flag.String:
			_ = json.Unmarshal(raw, &v.Text)
		case flag.Number:
			_ = json.Unmarshal(raw, &v.Number)
		}
		f.variants = append(f.variants, v)
	}
	if f.resting = f.index(doc.Resting); f.resting < 0 || len(f.variants) > flag.MaxVariants || len(doc.Rules) > flag.MaxRules {
		return broken(key)
	}
	for _, n := range doc.Needs {
		f.needs = append(f.needs, need{n.Flag, n.Variant})
	}
	f.compileRules(source)
	f.settle()
	return f
}

func (f *Flag) index(variant string) int16 {
	i, ok := slices.BinarySearchFunc(f.variants, variant, func(v Variant, name string) int {
		if v.Name < name {
			return -1
		} else if v.Name > name {
			return 1
		}
		return 0
	})
	if !ok {
		return -1
	}
	return int16(i)
}

// settle finds the flags that answer alike for every unit.
func (f *Flag) settle() {
	end := f.gives[len(f.gives)-1]
	switch {
	case len(f.stops) > 0:
		f.isSame, f.fixed = true, Outcome{f.resting, -1, Disabled, Stopped}
	case f.doc.Lever != flag.On:
		f.isSame, f.fixed = true, Outcome{f.resting, -1, Disabled, NoNote}
	case len(f.doc.Requires) > 0:
		f.isSame, f.fixed = true, Outcome{f.resting, -1, Default, TooOld}
	case f.plain() && end.shares == nil && !end.tooOld:
		f.isSame, f.fixed = true, Outcome{end.variant, -1, Static, NoNote}
	}
}

func (f *Flag) compileRules(source *flag.Ruleset) {
	segments := func(key string) *condition.Node {
		if !slices.Contains(f.segments, key) {
			f.segments = append(f.segments, key)
		}
		return flag.SegmentConditions(source.Segment)(key)
	}
	n := len(f.doc.Rules)
	f.gives = make([]gives, n+1)
	f.start = make([]int32, n+1)
	labels := make([]condition.Label, n+1)
	for i := range labels {
		labels[i] = f.code.Label()
	}
	var err error
	for i := range f.doc.Rules {
		r := &f.doc.Rules[i]
		f.gives[i] = f.compileGives(r.Gives)
		f.code.Mark(labels[i])
		switch applies := f.code.Exit(i); {
		case r.Parked:
			f.code.Always(labels[i+1])
		case len(r.Requires) > 0:
			f.gives[i] = gives{tooOld: true}
			f.code.Always(applies)
		case err == nil:
			err = f.code.Add(r.When, segments, r.AppliesOnUnknown(f.doc.Resting), applies, labels[i+1])
		}
	}
	f.gives[n] = f.compileGives(f.doc.End)
	f.code.Mark(labels[n])
	f.code.Always(f.code.Exit(n))
	f.code.Seal()
	for i := range labels {
		f.start[i] = f.code.At(labels[i])
	}
	if err != nil { // the rules are too large to run: nobody is let in
		f.code, f.start[0], f.gives[n] = condition.Code{}, -1, gives{tooOld: true}
	}
}

func (f *Flag) compileGives(g flag.Gives) gives {
	if g.Shares == nil {
		v := f.index(g.Variant)
		return gives{variant: v, tooOld: v < 0}
	}
	s := g.Shares
	if s.Hash != bucket.Scheme || len(s.By) == 0 {
		return gives{tooOld: true}
	}
	c := &shares{seed: bucket.Seed(s.Salt)}
	for _, by := range s.By {
		c.by = append(c.by, condition.Intern(by))
	}
	type run struct {
		from, to uint32
		owner    int16
	}
	var runs []run
	for _, p := range s.Parts {
		owner := goesOn
		if !p.GoesOn {
			if owner = f.index(p.Variant); owner < 0 {
				return gives{tooOld: true}
			}
		}
		for _, r := range p.Ranges {
			runs = append(runs, run{r[0], r[1], owner})
		}
	}
	slices.SortFunc(runs, func(a, b run) int { return int(int64(a.from) - int64(b.from)) })
	next := uint32(0)
	for _, r := range runs {
		if r.from > next {
			c.bounds, c.owners = append(c.bounds, r.from), append(c.owners, nobody)
		}
		if r.to > next {
			c.bounds, c.owners = append(c.bounds, r.to), append(c.owners, r.owner)
			next = r.to
		}
	}
	return gives{shares: c}
}
