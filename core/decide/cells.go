package decide

import (
	"maps"
	"slices"
)

// Cell is one way in which decisions on a flag end; usage is counted by it. An empty
// Variant is an error; an empty Rule is no rule, [LaterRules] one of very many.
type Cell struct {
	Variant string
	Rule    string // its id
	Reason  Reason
}

// LaterRules stands for rules that have no cells of their own, since the flag has very many.
const LaterRules = "later"

// A flag's cells, in order, for V variants: V of the end, one of the resting variant
// because the flag is disabled, one of it because of doubt, V of overrides, those of the
// rules, and one of errors.

func (f *Flag) restingCell() int16     { return int16(len(f.variants)) }
func (f *Flag) doubtCell() int16       { return int16(len(f.variants)) + 1 }
func (f *Flag) seenCell(v int16) int16 { return int16(len(f.variants)) + 2 + v }

// ErrorCell is the cell of decisions that gave the caller's fallback.
func (f *Flag) ErrorCell() int16 { return f.ends - 1 }

// CellCount is how many ways there are in which decisions on the flag end.
func (f *Flag) CellCount() int { return int(f.ends) }

// Cells lists the ways in which decisions on the flag end. The list is made each time.
func (f *Flag) Cells() []Cell {
	cells := make([]Cell, 0, f.ends)
	if f.Kind == NoKind {
		return append(cells, Cell{Reason: Error})
	}
	f.eachCell(func(c Cell) { cells = append(cells, c) }, func(int, int16) {})
	return cells
}

// layCells counts the cells and tells each rule its own.
func (f *Flag) layCells() {
	f.ends = 0
	f.eachCell(func(Cell) { f.ends++ }, func(rule int, cell int16) { f.gives[rule].cell = cell })
}

// eachCell goes through the cells and says which is a rule's first. They fit into one block of
// slots: rules that do not, share theirs.
func (f *Flag) eachCell(add func(Cell), begins func(rule int, cell int16)) {
	n := int16(len(f.variants))
	last := len(f.gives) - 1
	count := int16(0)
	one := func(variant int16, rule string, r Reason) {
		add(Cell{f.variants[variant].Name, rule, r})
		count++
	}
	every := func(rule string, r Reason) {
		for v := range n {
			one(v, rule, r)
		}
	}
	reason := Default
	switch {
	case f.gives[last].shares != nil:
		reason = Split
	case f.plain:
		reason = Static
	}
	every("", reason)
	one(f.resting, "", Disabled)
	one(f.resting, "", Default)
	every("", TargetingMatch)
	later := int16(-1)
	for i := range last {
		g := &f.gives[i]
		size, id, r := n, f.rules[i], Split
		if g.shares == nil {
			size, r = 1, TargetingMatch
		}
		if count+size+2*n+1 > SlotBlock {
			if later < 0 {
				later = count
				every(LaterRules, TargetingMatch)
				every(LaterRules, Split)
			}
			if g.shares == nil {
				begins(i, later+max(g.variant, 0))
			} else {
				begins(i, later+n)
			}
			continue
		}
		begins(i, count)
		if g.shares != nil {
			every(id, r)
		} else {
			one(max(g.variant, 0), id, r)
		}
	}
	add(Cell{Reason: Error})
}

// Silent is the ruleset of a process that has had no contact to the service for some
// minutes: flags that allow no more than that give their resting variants. It is the
// ruleset itself where there are none. What comes next is to be applied to the ruleset that
// it was made of.
func (rs *Ruleset) Silent(minutes int) *Ruleset {
	rest := map[string]*Flag{}
	for key, f := range rs.flags {
		if f.rests > 0 && int(f.rests) <= minutes && (!f.isSame || f.fixed.Reason == Static) {
			resting := *f
			resting.isSame, resting.fixed = true, Outcome{f.resting, -1, Disabled, Silent, f.restingCell()}
			rest[key] = &resting
		}
	}
	if len(rest) == 0 {
		return rs
	}
	next := *rs
	next.flags = maps.Clone(rs.flags)
	maps.Copy(next.flags, rest)
	return &next
}

// Rests lists after how many minutes without contact flags of the ruleset give their
// resting variants, ascending, each number once.
func (rs *Ruleset) Rests() (minutes []int) {
	for _, f := range rs.flags {
		if f.rests > 0 {
			minutes = append(minutes, int(f.rests))
		}
	}
	slices.Sort(minutes)
	return slices.Compact(minutes)
}

// NextChange is the first instant after now, in Unix milliseconds, at which the answer of
// one of the flags that pick takes may change by the clock; ok is false where none does.
func (rs *Ruleset) NextChange(now int64, pick func(*Flag) bool) (at int64, ok bool) {
	seen := map[string]bool{}
	var look func(f *Flag)
	look = func(f *Flag) {
		if f == nil || seen[f.Key] {
			return
		}
		seen[f.Key] = true
		if f.isSame && f.fixed.Reason != Static {
			return
		}
		if t, is := f.code.NextChange(now); is && (!ok || t < at) {
			at, ok = t, true
		}
		for _, key := range f.asked {
			look(rs.flags[key])
		}
	}
	for _, f := range rs.flags {
		if pick(f) {
			look(f)
		}
	}
	return at, ok
}

// Moved tells whether the answer of one of the flags that pick takes may be another one than
// by the ruleset that this one was made from.
func (rs *Ruleset) Moved(before *Ruleset, pick func(*Flag) bool) bool {
	moved := rs.movedFrom(before)
	for _, f := range rs.flags {
		if pick(f) && moved(f) {
			return true
		}
	}
	for key, f := range before.flags {
		if now := rs.flags[key]; pick(f) && (now == nil || !pick(now)) {
			return true
		}
	}
	return false
}

// MovedKeys lists the flags whose answers may be others than by the ruleset that this one was
// made from, with those that came and went, by key.
func (rs *Ruleset) MovedKeys(before *Ruleset) (keys []string) {
	moved := rs.movedFrom(before)
	for key, f := range rs.flags {
		if moved(f) {
			keys = append(keys, key)
		}
	}
	for key := range before.flags {
		if rs.flags[key] == nil {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return keys
}

// movedFrom gives a function that tells whether a flag's answers may be others than before: it,
// or one that it asks for, was compiled anew.
func (rs *Ruleset) movedFrom(before *Ruleset) func(f *Flag) bool {
	known := map[string]bool{}
	var moved func(f *Flag) bool
	moved = func(f *Flag) bool {
		if f != before.flags[f.Key] {
			return true
		}
		if is, ok := known[f.Key]; ok {
			return is
		}
		known[f.Key] = false
		known[f.Key] = slices.ContainsFunc(f.asked, func(key string) bool {
			other := rs.flags[key]
			return other != before.flags[key] || other != nil && moved(other)
		})
		return known[f.Key]
	}
	return moved
}

// TooOld tells whether the flag asks for what this build does not know.
func (f *Flag) TooOld() bool {
	return f.tooOld || slices.ContainsFunc(f.gives, func(g gives) bool { return g.tooOld })
}
