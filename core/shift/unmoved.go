package shift

import (
	"bytes"
	"cmp"
	"encoding/json"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
)

// tried is on how many units the reasons are looked for.
const tried = 2_000

// nobodyMoves says why an edit moves nobody, whoever there is; nil where that depends on the units.
func nobodyMoves(a, b *side, now int64) []words.Said {
	if a.flag == nil || b.flag == nil {
		return one("the flag is new, so nobody had anything of it before")
	}
	old, doc := a.flag.Document(), b.flag.Document()
	switch {
	case sameAround(a, b):
		return one("nothing that decides is changed")
	case len(b.flag.Stops()) > 0 && len(a.flag.Stops()) > 0 && sameRest(old, doc):
		return one("the flag is stopped, so all keep the resting variant until the stop is lifted")
	case doc.Lever != flag.On && old.Lever != flag.On && sameRest(old, doc):
		return one("the flag is off, so all keep the resting variant")
	case alike(a, b):
		return []words.Said{words.Say("all get %s before and after it", words.Variant(b.variant(b.slot(nil, now))))}
	}
	return nil
}

// unmoved says why an edit moves nobody that was seen.
func unmoved(a, b *side, p Population, now int64, v *veil) (said []words.Said) {
	switch {
	case len(p.Units) == 0:
		return one("nobody was seen in this environment yet, so nobody can be counted")
	case v != nil: // what is looked at below may be hidden
		return one("everybody who was seen gets the same as before")
	}
	old, doc := a.flag.Document(), b.flag.Document()
	units := p.Units[:min(len(p.Units), tried)]
	if unmet := needsUnmet(b, units, now); unmet != nil {
		return []words.Said{unmet}
	}
	for i := range doc.Rules {
		r := &doc.Rules[i]
		if before := ruleByID(old, r.ID); before != nil && same(before, r) {
			continue
		}
		said = append(said, words.Say("%s %s", words.Rule(r.Name), ruleUnmoved(b, i, units, now)))
	}
	for i := range old.Rules {
		if r := &old.Rules[i]; ruleByID(doc, r.ID) == nil {
			said = append(said, words.Say("%s gave nobody who was seen anything else than they get without it",
				words.Rule(r.Name)))
		}
	}
	if len(said) == 0 {
		said = one("everybody who was seen gets the same as before")
	}
	return said
}

// sameAround tells whether a flag, all that it asks for and their segments decide alike.
func sameAround(a, b *side) bool {
	flags, segments := closure(a.rules, a.flag.Key)
	flagsNow, segmentsNow := closure(b.rules, b.flag.Key)
	if len(flags) != len(flagsNow) || !same(segments, segmentsNow) {
		return false
	}
	for i := range flags {
		x, y := a.rules.Flag(flags[i].Key), b.rules.Flag(flagsNow[i].Key)
		if flags[i].Key != flagsNow[i].Key || (len(x.Stops()) > 0) != (len(y.Stops()) > 0) || !same(decisive(flags[i]),
			decisive(flagsNow[i])) {
			return false
		}
	}
	return true
}

// alike tells of flags that give all units one variant and value, the same before and after.
func alike(a, b *side) bool {
	if !a.flag.Same() || !b.flag.Same() {
		return false
	}
	x, y := a.slot(nil, 0), b.slot(nil, 0)
	return a.variant(x) != "" && a.variant(x) == b.variant(y) && bytes.Equal(a.value(x), b.value(y))
}

// sameRest tells whether both rest at the same variant and value.
func sameRest(old, now *flag.Document) bool {
	return old.Resting == now.Resting && same(old.Variants[old.Resting], now.Variants[now.Resting])
}

func one(text string) []words.Said { return []words.Said{words.Plain(text)} }

func ruleByID(d *flag.Document, id string) *flag.Rule {
	for i := range d.Rules {
		if d.Rules[i].ID == id {
			return &d.Rules[i]
		}
	}
	return nil
}

func same(a, b any) bool {
	x, err1 := json.Marshal(a)
	y, err2 := json.Marshal(b)
	return err1 == nil && err2 == nil && bytes.Equal(x, y)
}

// decisive is a document without what bears on no decision: the names of rules, and rules
// that are parked.
func decisive(d *flag.Document) *flag.Document {
	c := *d
	c.Rules = nil
	for _, r := range d.Rules {
		if !r.Parked {
			r.Name = ""
			c.Rules = append(c.Rules, r)
		}
	}
	return &c
}

func needsUnmet(b *side, units []*condition.Context, now int64) words.Said {
	for _, c := range units {
		if o := b.flag.Decide(b.rules, c, now); o.Note != decide.NeedUnmet {
			return nil
		}
	}
	x := b.flag.Explain(b.rules, units[0], now)
	return words.Say("for nobody who was seen its needs are met: %s", x.Because)
}

// ruleUnmoved says why a rule moves nobody.
func ruleUnmoved(b *side, i int, units []*condition.Context, now int64) words.Said {
	doc := b.flag.Document()
	r := &doc.Rules[i]
	if r.Parked {
		return words.Say("is parked")
	}
	matches, unknown, reached := 0, 0, 0
	before := map[int]int{} // rules above that take its units
	match := matcher(b.rules, r.When)
	for _, c := range units {
		is := match(c, now)
		if is == condition.Unknown {
			unknown++
		}
		if is != condition.True && !(is == condition.Unknown && r.AppliesOnUnknown(doc.Resting)) {
			continue
		}
		matches++
		if o := b.flag.Decide(b.rules, c, now); o.Rule >= 0 && int(o.Rule) < i {
			before[int(o.Rule)]++
		} else {
			reached++
		}
	}
	switch {
	case matches == 0:
		if at, ok := later(b, r, units, now); ok {
			return words.Say("starts later: at %s", words.Time(at))
		}
		if unknown > len(units)/2 {
			return words.Say("matches nobody who was seen: for %s of %s units its condition is unknown%s", unknown,
				len(units), missing(b, r, units, now))
		}
		return words.Say("matches nobody who was seen")
	case reached == 0:
		most := -1
		for rule, n := range before {
			if most < 0 || n > before[most] || n == before[most] && rule < most {
				most = rule
			}
		}
		return words.Say("is shadowed: %s above it takes its units first", words.Rule(doc.Rules[most].Name))
	}
	return words.Say("gives its units what they get already")
}

// missing names the attribute that makes the condition unknown for the first unit.
func missing(b *side, r *flag.Rule, units []*condition.Context, now int64) words.Said {
	for _, c := range units {
		var note words.Said
		var look func(x condition.Explained)
		look = func(x condition.Explained) {
			if len(note) == 0 && len(x.Parts) == 0 && x.Truth == condition.Unknown {
				note = x.Note
			}
			for _, p := range x.Parts {
				look(p)
			}
		}
		if x := r.When.Explain(c, b.rules.Around(c, now)); x.Truth == condition.Unknown {
			if look(x); len(note) > 0 {
				return words.Say(" (%s)", note)
			}
		}
	}
	return nil
}

// later looks for the next instant of the rule's clock at which it matches somebody.
func later(b *side, r *flag.Rule, units []*condition.Context, now int64) (string, bool) {
	type instant struct {
		ms   int64
		text string
	}
	var at []instant
	r.When.Leaves(func(l *condition.Node) {
		if l.Test == "clock.at-or-after" || l.Test == "clock.between" {
			if ms, ok := condition.ParseTime(l.Text[0]); ok && ms > now {
				at = append(at, instant{ms, l.Text[0]})
			}
		}
	})
	slices.SortFunc(at, func(x, y instant) int { return cmp.Compare(x.ms, y.ms) })
	match := matcher(b.rules, r.When)
	for _, t := range at {
		for _, c := range units {
			if match(c, t.ms) == condition.True {
				return t.text, true
			}
		}
	}
	return "", false
}

// matcher compiles a condition for many units.
func matcher(rs *decide.Ruleset, when *condition.Node) func(c *condition.Context, now int64) condition.Truth {
	surely, err1 := rs.Taking(when, false)
	maybe, err2 := rs.Taking(when, true)
	if err1 != nil || err2 != nil { // it does not compile by itself
		return func(c *condition.Context, now int64) condition.Truth { return when.Match(c, rs.Around(c, now)) }
	}
	return func(c *condition.Context, now int64) condition.Truth {
		switch {
		case surely(c, now):
			return condition.True
		case maybe(c, now):
			return condition.Unknown
		}
		return condition.False
	}
}
