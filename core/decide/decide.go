// Package decide gives the answer of a flag for a unit: by a ruleset, a targeting key and
// attributes, and nothing else. The service, clients, previews and replays of the past all
// decide with it.
//
// Its nouns are a compiled [Ruleset], a [Flag] in it, the [Outcome] of a decision and its
// [Explanation]. The smallest use:
//
//	rs := decide.Compile(source, zones)
//	f := rs.Flag("one-touch-open")
//	o := f.Decide(rs, condition.NewContext("recipient-17"), now)
//	f.Variant(o.Variant).Name // "off"
//
// Deciding takes no lock, allocates nothing and does not panic, whatever the ruleset or
// the context holds.
package decide

import (
	"encoding/json"
	"slices"
	"strings"
	"sync/atomic"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// Reason is OpenFeature's resolution reason.
type Reason uint8

// The reasons that are given. CACHED and STALE are states of a client, not reasons.
const (
	Error Reason = iota
	Static
	Default
	TargetingMatch
	Split
	Disabled
)

// String is the reason as OpenFeature writes it.
func (r Reason) String() string {
	return [...]string{"ERROR", "STATIC", "DEFAULT", "TARGETING_MATCH", "SPLIT", "DISABLED"}[r]
}

// Note says what is worth knowing of an outcome beside its reason.
type Note uint8

// The notes.
const (
	NoNote    Note = iota
	Missing        // the attribute that the end's shares are drawn by is absent
	NeedUnmet      // a need is not met
	Stopped        // a stop stands
	TooOld         // the ruleset asks for what this build does not know
	Broken         // the document cannot be read at all
	SeenAs         // the unit's session is to see it so, whatever the rules say
	Silent         // the process has had no contact for longer than the flag allows
	TooLarge       // the rules are larger than what is run, so nobody is let in
	UsedUp         // the decisions on other flags that one may take were used up before a need was judged
)

// Outcome is the result of a decision, in a few bytes. Variant and Rule are indexes, -1
// where there is none; Variant is -1 exactly where the reason is Error. Cell is the way in
// which it ended, among [Flag.Cells].
type Outcome struct {
	Variant int16
	Rule    int16
	Reason  Reason
	Note    Note
	Cell    int16
}

// Variant is one of a flag's values.
type Variant struct {
	Name    string
	Raw     json.RawMessage // the value as JSON
	Boolean bool
	Text    string
	Number  float64
}

// Kind is a flag's type as a small number.
type Kind uint8

// The kinds, in the order of flag.Types; NoKind is that of a document that cannot be read.
const (
	NoKind Kind = iota
	Boolean
	String
	Number
	Object
)

// Flag is a flag of one environment, ready to decide. What a plain decision needs stands
// first, so that it lies in one line of the processor's cache.
type Flag struct {
	fixed    Outcome // the answer, where it is the same for every unit
	isSame   bool
	tooLarge bool // the rules do not run
	Drawn    bool // by other attributes than the key: see Draws
	Watched  bool // a rule of it is watched: see [Flag.Watching]
	Kind     Kind
	Slot     int32  // a number for callers that count: see [Ruleset.Slots]
	truths   uint64 // a bit for each of the first 64 variants that is the boolean true

	variants []Variant
	resting  int16
	first    int32 // where the code starts

	Clock bool // a decision may look at the clock

	Key     string
	Type    flag.Type
	Visible bool
	Draws   []condition.Name // attributes beside the key that its shares are drawn by

	doc      *document
	lever    flag.Lever
	plain    bool     // it has neither needs nor unparked rules
	tooOld   bool     // the document asks for what this build does not know
	rests    int32    // after how many minutes of silence; 0: never
	missing  string   // the attribute that the end's shares are drawn by first
	rules    []string // their ids
	stops    []string // ids of standing stops
	segments []string // every segment that a decision may look at

	watched []*Watched // by rule; nil for those that are not

	ends  int16    // how many cells there are
	asked []string // flags that a decision may look at directly
	needs []need
	code  condition.Code
	start []int32 // of each rule, and of the end behind the last
	gives []gives // of each rule, and the end
}

// Watched is a rule of a release whose units are watched.
type Watched struct {
	Rule       string // its id
	Run, Stage int    // see flag.Evidence
	By         []condition.Name
	With       []condition.Name
	Seed       uint64 // tells its units from those of other rules and runs
	shares     bool
}

// Watching is the watched rule that an outcome came from; nil for another one, or none.
func (f *Flag) Watching(o Outcome) *Watched {
	if o.Rule < 0 || int(o.Rule) >= len(f.watched) {
		return nil
	}
	w := f.watched[o.Rule]
	if w == nil || w.shares != (o.Reason == Split) {
		return nil
	}
	return w
}

// WatchedBy lists the attributes that units of watched rules are told by, each once.
func (rs *Ruleset) WatchedBy() (all []condition.Name) {
	for f := range rs.Flags {
		for _, w := range f.watched {
			if w == nil {
				continue
			}
			for _, by := range w.By {
				if !slices.Contains(all, by) {
					all = append(all, by)
				}
			}
		}
	}
	return all
}

// MaxUnit is how many bytes the unit of an exposure or an event has at most.
const MaxUnit = 1_000

// Units are those of a context by some attributes, as events name them; nil for none.
func Units(c *condition.Context, by []condition.Name) (out map[string]string) {
	for _, name := range by {
		if unit, is := c.ShareKey(name); is && len(unit) <= MaxUnit {
			if out == nil {
				out = map[string]string{}
			}
			out[name.Value()] = strings.Clone(unit)
		}
	}
	return out
}

// Attributes are the values of a context that are told with the unit; empty for those that are absent, or are no text
// and no whole number.
func (w *Watched) Attributes(c *condition.Context) []string {
	if len(w.With) == 0 {
		return nil
	}
	out := make([]string, len(w.With))
	for i, name := range w.With {
		if text, is := c.ShareKey(name); is && len(text) <= MaxWith {
			out[i] = strings.Clone(text)
		}
	}
	return out
}

// MaxWith is how many bytes of a value are told with a unit.
const MaxWith = 100

// Unit is the unit of a context that is watched; false for none.
func (w *Watched) Unit(c *condition.Context) (string, bool) {
	for _, name := range w.By {
		if key, is := c.ShareKey(name); is {
			return key, true
		}
	}
	return "", false
}

// Truth is the boolean value of a variant of a boolean flag.
func (f *Flag) Truth(variant int16) bool {
	if variant < 64 {
		return f.truths>>uint(variant)&1 == 1
	}
	return f.variants[variant].Boolean
}

type need struct {
	flag, variant string
}

// gives is a compiled result: a variant, shares, or what this build does not understand.
type gives struct {
	variant int16
	shares  *shares
	tooOld  bool
	cell    int16 // of the rule, or the first of its shares' variants
}

type shares struct {
	seed  uint32
	byKey bool  // by the targeting key alone
	runs  []run // of buckets, ascending
	by    []condition.Name
}

// run is buckets that belong together, up to the one behind the last.
type run struct {
	end   uint32
	owner int16 // a variant, goesOn, or nobody
}

const (
	goesOn int16 = -1
	nobody int16 = -2 // buckets that a malformed document leaves out
)

// Document is what the flag was compiled from; it must not be changed. One that cannot be
// read has no variants. Deciding does not need it, so it is read when it is first asked for.
func (f *Flag) Document() *flag.Document {
	if d := f.doc.read.Load(); d != nil {
		return d
	}
	d := &flag.Document{}
	if f.Kind == NoKind || json.Unmarshal(f.doc.raw, d) != nil {
		d = &flag.Document{Key: f.Key}
	}
	f.doc.read.Store(d)
	return d
}

// document is what a flag was compiled from: read, it takes several times its size.
type document struct {
	raw  json.RawMessage
	read atomic.Pointer[flag.Document]
}

// Stops are the ids of the stops that stand on the flag.
func (f *Flag) Stops() []string { return f.stops }

// Variants are the flag's variants in order of their names.
func (f *Flag) Variants() []Variant { return f.variants }

// Variant is the variant of an outcome; nil for an error.
func (f *Flag) Variant(i int16) *Variant {
	if i < 0 || int(i) >= len(f.variants) {
		return nil
	}
	return &f.variants[i]
}

// RuleID is the id of the rule of an outcome, empty where no rule applied.
func (f *Flag) RuleID(o Outcome) string {
	if o.Rule < 0 || int(o.Rule) >= len(f.rules) {
		return ""
	}
	return f.rules[o.Rule]
}

// MissingBy names the attribute whose absence an outcome with note [Missing] is due to.
func (f *Flag) MissingBy() string { return f.missing }

// Decide gives the outcome for a unit. The ruleset must be the one that the flag is of. now
// is in Unix milliseconds, and matters only where the flag's Clock is set.
func (f *Flag) Decide(rs *Ruleset, c *condition.Context, now int64) Outcome {
	if f.isSame && !c.Sees() {
		return f.fixed
	}
	o, _ := f.walk(rs, c, now, flag.MaxNeedCost, nil)
	return o
}

// Same tells whether the flag answers alike for every unit.
func (f *Flag) Same() bool { return f.isSame }

// walk decides, and reports each step where a trace is asked for. The budget is how many
// decisions on other flags may still be taken; what is left of it comes back. A chain of
// needs that exhausts it is not met.
func (f *Flag) walk(rs *Ruleset, c *condition.Context, now int64, budget int, t *trace) (Outcome, int) {
	if f.isSame && (f.fixed.Reason != Static || !c.Sees()) {
		return f.fixed, budget
	}
	for i := range f.needs {
		var met bool
		left := budget
		if met, budget = rs.meets(&f.needs[i], c, now, budget, t); !met {
			note := NeedUnmet
			if left <= 0 {
				note = UsedUp
			}
			return Outcome{f.resting, -1, Disabled, note, f.restingCell()}, budget
		}
	}
	if name, ok := c.Seen(f.Key); ok {
		if v := f.index(name); v >= 0 {
			return Outcome{v, -1, TargetingMatch, SeenAs, f.seenCell(v)}, budget
		}
	}
	if f.isSame {
		return f.fixed, budget
	}
	return f.run(rs, c, now, budget, t)
}

func (f *Flag) run(rs *Ruleset, c *condition.Context, now int64, budget int, t *trace) (Outcome, int) {
	end := len(f.gives) - 1
	for at := f.first; ; {
		i := end
		if at >= 0 {
			for i = f.code.Run(at, c, now); i < 0; i = f.code.Run(at, c, now) {
				key, wanted := f.code.Asked(i)
				var is condition.Truth
				is, budget = rs.gives(key, wanted, c, now, budget, t)
				at = f.code.Then(i, is)
			}
		}
		if t != nil && i < end {
			t.took(i)
		}
		o, goesOn := f.give(i, end, c, t)
		if !goesOn {
			return o, budget
		}
		at = f.start[i+1]
	}
}

// give is the outcome of the rule that applies, or of the end; goesOn tells that its shares
// send the unit on to the next rule.
func (f *Flag) give(i, end int, c *condition.Context, t *trace) (o Outcome, goesOn bool) {
	g := &f.gives[i]
	if g.tooOld {
		note := TooOld
		if f.tooLarge {
			note = TooLarge
		}
		return Outcome{f.resting, ruleIndex(i, end), Default, note, f.doubtCell()}, false
	}
	if g.shares == nil {
		return f.single(i, end), false
	}
	owner, drawn := g.shares.draw(c, t)
	switch {
	case owner >= 0:
		return Outcome{owner, ruleIndex(i, end), Split, NoNote, g.cell + owner}, false
	case i == end && drawn, owner == nobody:
		return Outcome{f.resting, ruleIndex(i, end), Default, TooOld, f.doubtCell()}, false
	case i == end:
		return Outcome{f.resting, -1, Default, Missing, f.doubtCell()}, false
	}
	return Outcome{}, true
}

func (f *Flag) single(i, end int) Outcome {
	g := &f.gives[i]
	switch {
	case i < end:
		return Outcome{g.variant, int16(i), TargetingMatch, NoNote, g.cell}
	case f.plain:
		return Outcome{g.variant, -1, Static, NoNote, g.variant}
	}
	return Outcome{g.variant, -1, Default, NoNote, g.variant}
}

func ruleIndex(i, end int) int16 {
	if i == end {
		return -1
	}
	return int16(i)
}

// draw gives the owner of the unit's bucket. drawn is false where no attribute to draw by
// is present; the unit then goes on.
func (s *shares) draw(c *condition.Context, t *trace) (owner int16, drawn bool) {
	if s.byKey && t == nil {
		key, ok := c.ShareKey(condition.KeyName)
		if !ok {
			return goesOn, false
		}
		return s.owner(bucket.Of(key, s.seed)), true
	}
	for _, by := range s.by {
		if key, ok := c.ShareKey(by); ok {
			b := bucket.Of(key, s.seed)
			owner := s.owner(b)
			if t != nil {
				t.drew(by.Value(), key, b)
			}
			return owner, true
		}
	}
	return goesOn, false
}

func (s *shares) owner(b uint32) int16 {
	for _, r := range s.runs {
		if b < r.end {
			return r.owner
		}
	}
	return nobody
}

// Flag finds a flag by key; nil where there is none.
func (rs *Ruleset) Flag(key string) *Flag { return rs.flags[key] }

// gives tells whether another flag gives the unit one of the variants; unknown where it
// gives none.
func (rs *Ruleset) gives(key string, wanted []string, c *condition.Context, now int64, budget int,
	t *trace) (condition.Truth, int) {
	other := rs.flags[key]
	if other == nil || budget <= 0 {
		if t != nil {
			t.answered(key, nil, budget <= 0)
		}
		return condition.Unknown, budget
	}
	o, budget := other.walk(rs, c, now, budget-1, nil)
	v := other.Variant(o.Variant)
	if t != nil {
		t.answered(key, v, false)
	}
	if v == nil {
		return condition.Unknown, budget
	}
	if slices.Contains(wanted, v.Name) {
		return condition.True, budget
	}
	return condition.False, budget
}

func (rs *Ruleset) meets(n *need, c *condition.Context, now int64, budget int, t *trace) (bool, int) {
	other := rs.flags[n.flag]
	if other == nil || budget <= 0 {
		if t != nil {
			t.needed(n, nil, Outcome{-1, -1, Error, NoNote, 0}, false)
		}
		return false, budget
	}
	o, budget := other.walk(rs, c, now, budget-1, nil)
	v := other.Variant(o.Variant)
	met := v != nil && v.Name == n.variant
	if t != nil {
		t.needed(n, other, o, met)
	}
	return met, budget
}
