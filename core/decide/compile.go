package decide

import (
	"encoding/json"
	"maps"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
)

// Ruleset is an environment at a revision, compiled.
type Ruleset struct {
	Source *flag.Ruleset
	flags  map[string]*Flag
	slots  int32
	free   []Slots // to use again, see [Ruleset.Reusing]; never changed in place
	zones  condition.Zones
}

// SlotBlock is the size of the blocks that no flag's slots straddle.
const SlotBlock = 1024

// Slots is one more than the highest slot in use. Every flag owns a run of slots from its
// Slot on, one for each of its cells. A flag keeps its run from revision to revision while
// its cells stay the same, and no run is used again for anything else unless the caller hands it
// back, so that a caller can count in a flat array.
func (rs *Ruleset) Slots() int32 { return rs.slots }

// Slots are a run of them.
type Slots struct{ At, Count int32 }

// Reusing is the ruleset after whose next changes runs may be used again in which nobody counts any
// more.
func (rs *Ruleset) Reusing(runs []Slots) *Ruleset {
	next := *rs
	next.free = append(slices.Clone(rs.free), runs...)
	slices.SortFunc(next.free, func(a, b Slots) int { return int(a.At - b.At) })
	joined := next.free[:0]
	for _, r := range next.free {
		if n := len(joined); n > 0 && joined[n-1].At+joined[n-1].Count == r.At && r.At%SlotBlock != 0 {
			joined[n-1].Count += r.Count
		} else {
			joined = append(joined, r)
		}
	}
	next.free = joined
	return &next
}

// place gives the flag its run of slots, the one that it had if that still fits.
func (rs *Ruleset) place(f, before *Flag) {
	if before != nil && f.ends == before.ends && slices.Equal(f.Cells(), before.Cells()) {
		f.Slot = before.Slot
		return
	}
	need := int32(f.ends)
	for i, r := range rs.free {
		if r.Count >= need {
			f.Slot, rs.free = r.At, slices.Clone(rs.free)
			rs.free[i] = (Slots{r.At + need, r.Count - need})
			if r.Count == need {
				rs.free = slices.Delete(rs.free, i, i+1)
			}
			return
		}
	}
	if rs.slots%SlotBlock+need > SlotBlock {
		rs.slots += SlotBlock - rs.slots%SlotBlock
	}
	f.Slot = rs.slots
	rs.slots += need
}

// After compiles a ruleset, keeping the slots of the one before it, which may be nil.
func After(before *Ruleset, source *flag.Ruleset, zones condition.Zones) *Ruleset {
	rs := &Ruleset{Source: source, zones: zones, flags: make(map[string]*Flag, len(source.Flags))}
	if before != nil {
		rs.slots, rs.free = before.slots, before.free
	}
	for _, f := range compileAll(source, zones) {
		var old *Flag
		if before != nil {
			old = before.flags[f.Key]
		}
		rs.place(f, old)
		rs.flags[f.Key] = f
	}
	return rs
}

// atOnce is how many flags a processor compiles before it takes more: few rulesets are worth
// a second one.
const atOnce = 64

// compileAll compiles every flag, on all processors: a start waits for it.
func compileAll(source *flag.Ruleset, zones condition.Zones) []*Flag {
	stops := stopsByFlag(source)
	keys := slices.Collect(maps.Keys(source.Flags))
	out := make([]*Flag, len(keys))
	var taken atomic.Int64
	work := func() {
		for {
			end := int(taken.Add(atOnce))
			for i := end - atOnce; i < min(end, len(keys)); i++ {
				out[i] = compileFlag(source, keys[i], stops[keys[i]], zones)
			}
			if end >= len(keys) {
				return
			}
		}
	}
	var others sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0)-1, len(keys)/atOnce) {
		others.Go(work)
	}
	work()
	others.Wait()
	return out
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
// Without zones, windows of the week are unknown.
func Compile(source *flag.Ruleset, zones condition.Zones) *Ruleset { return After(nil, source, zones) }

// With compiles the ruleset with other documents in place of those of the same key: what
// it would be after an edit. Long lists that they name must be among those at hand.
func (rs *Ruleset) With(flags []*flag.Document, segments []*flag.Segment) (*Ruleset, error) {
	e := &flag.Event{Epoch: rs.Source.Epoch, Revision: rs.Source.Revision + 1, At: rs.Source.At}
	for _, d := range flags {
		raw, err := json.Marshal(d)
		if err != nil {
			return nil, err
		}
		e.Flags = append(e.Flags, raw)
	}
	for _, s := range segments {
		raw, err := json.Marshal(s)
		if err != nil {
			return nil, err
		}
		e.Segments = append(e.Segments, raw)
	}
	return rs.Next(e)
}

// Next applies an event and compiles only what it touches. It returns the errors of
// [flag.Ruleset.Apply] and leaves this ruleset as it is. Long lists that the event's
// segments name must be at hand already, see [Ruleset.Holding].
func (rs *Ruleset) Next(e *flag.Event) (*Ruleset, error) {
	source, err := rs.Source.Apply(e)
	if err != nil {
		return nil, err
	}
	return rs.next(e, source), nil
}

// Holding is the ruleset with more long lists at hand. Segments that name them already are
// not compiled again.
func (rs *Ruleset) Holding(lists map[string]flag.Hashes) *Ruleset {
	held, source := *rs, *rs.Source
	source.Hashes = maps.Clone(source.Hashes)
	if source.Hashes == nil {
		source.Hashes = map[string]flag.Hashes{}
	}
	maps.Copy(source.Hashes, lists)
	held.Source = &source
	return &held
}

// Under is the ruleset by another state of the same documents: with emergency orders taken, or stops let go.
func (rs *Ruleset) Under(source *flag.Ruleset) *Ruleset { return rs.next(&flag.Event{}, source) }

func (rs *Ruleset) next(e *flag.Event, source *flag.Ruleset) *Ruleset {
	next := &Ruleset{Source: source, flags: rs.flags, slots: rs.slots, free: rs.free, zones: rs.zones}
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
		f := compileFlag(source, key, stops[key], rs.zones)
		next.place(f, rs.flags[key])
		next.flags[key] = f
	}
	return next
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
	before, after := rs.Source.Standing(), next.Standing()
	for _, stops := range [][]flag.Stop{before, after} {
		for _, s := range stops {
			if !slices.ContainsFunc(before, sameStop(s)) || !slices.ContainsFunc(after, sameStop(s)) {
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
	for _, s := range source.Standing() {
		for _, key := range s.Flags {
			out[key] = append(out[key], s.ID)
		}
	}
	return out
}

func broken(key string) *Flag {
	return &Flag{Key: key, doc: &document{}, isSame: true, fixed: Outcome{-1, -1, Error, Broken, 0}, ends: 1}
}

func kindOf(t flag.Type) Kind { return Kind(slices.Index(flag.Types(), t) + 1) }

func compileFlag(source *flag.Ruleset, key string, stops []string, zones condition.Zones) *Flag {
	doc := source.Flag(key)
	if doc == nil || !slices.Contains(flag.Types(), doc.Type) {
		return broken(key)
	}
	f := &Flag{Key: key, Type: doc.Type, Kind: kindOf(doc.Type), Visible: doc.Visible,
		doc: &document{raw: source.Flags[key]}, stops: stops,
		lever: doc.Lever, tooOld: doc.TooOld(), rests: int32(doc.RestAfter), variants: make([]Variant, 0,
			len(doc.Variants))}
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
	if f.resting = f.index(doc.Resting); f.resting < 0 || len(f.variants) > flag.MaxVariants ||
		len(doc.Rules) > flag.MaxRules {
		return broken(key)
	}
	for _, n := range doc.Needs {
		f.needs = append(f.needs, need{n.Flag, n.Variant})
	}
	for _, by := range doc.Draws() {
		if by != condition.KeyAttribute {
			f.Draws = append(f.Draws, condition.Intern(by))
		}
	}
	f.Drawn = len(f.Draws) > 0
	f.compileRules(doc, source, zones)
	f.watch(doc)
	clock, flags := f.code.Asks()
	f.Clock = clock || flags || len(f.needs) > 0
	f.asked = f.code.Flags()
	for _, n := range f.needs {
		f.asked = append(f.asked, n.flag)
	}
	f.layCells()
	f.settle()
	return f
}

// watch notes which rules are watched.
func (f *Flag) watch(doc *flag.Document) {
	for i := range doc.Rules {
		r := &doc.Rules[i]
		if r.Evidence == nil {
			continue
		}
		if f.watched == nil {
			f.watched, f.Watched = make([]*Watched, len(doc.Rules)), true
		}
		w := &Watched{Rule: r.ID, Run: r.Evidence.Run, Stage: r.Evidence.Stage, shares: r.Gives.Shares != nil,
			Seed: sample.Hash(uint64(r.Evidence.Run), r.ID)}
		for _, by := range r.Evidence.By {
			w.By = append(w.By, condition.Intern(by))
		}
		for _, with := range r.Evidence.With {
			w.With = append(w.With, condition.Intern(with))
		}
		f.watched[i] = w
	}
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
		f.isSame, f.fixed = true, Outcome{f.resting, -1, Disabled, Stopped, f.restingCell()}
	case f.lever != flag.On:
		f.isSame, f.fixed = true, Outcome{f.resting, -1, Disabled, NoNote, f.restingCell()}
	case f.tooOld:
		f.isSame, f.fixed = true, Outcome{f.resting, -1, Default, TooOld, f.doubtCell()}
	case f.plain && end.shares == nil && !end.tooOld:
		f.isSame, f.fixed = true, Outcome{end.variant, -1, Static, NoNote, end.variant}
	}
}

func (f *Flag) compileRules(doc *flag.Document, source *flag.Ruleset, zones condition.Zones) {
	conditions := flag.SegmentConditions(source.Segment, source.List)
	segments := func(key string) *condition.Node {
		if !slices.Contains(f.segments, key) {
			f.segments = append(f.segments, key)
		}
		return conditions(key)
	}
	n := len(doc.Rules)
	f.plain, f.rules = len(f.needs) == 0, make([]string, n)
	if s := doc.End.Shares; s != nil && len(s.By) > 0 {
		f.missing = s.By[0]
	}
	f.gives = make([]gives, n+1)
	f.start = make([]int32, n+1)
	labels := make([]condition.Label, n+1)
	for i := range labels {
		labels[i] = f.code.Label()
	}
	var err error
	for i := range doc.Rules {
		r := &doc.Rules[i]
		f.rules[i], f.plain = r.ID, f.plain && r.Parked
		f.gives[i] = f.compileGives(r.Gives)
		f.code.Mark(labels[i])
		switch applies := f.code.Exit(i); {
		case r.Parked:
			f.code.Always(labels[i+1])
		case len(r.Requires) > 0:
			f.gives[i] = gives{tooOld: true}
			f.code.Always(applies)
		case err == nil:
			err = f.code.Add(r.When, condition.Around{Segments: segments, Zones: zones},
				r.AppliesOnUnknown(doc.Resting), applies, labels[i+1])
		}
	}
	f.gives[n] = f.compileGives(doc.End)
	f.code.Mark(labels[n])
	f.code.Always(f.code.Exit(n))
	f.code.Seal()
	for i := range labels {
		f.start[i] = f.code.At(labels[i])
	}
	f.code.Done()
	if err != nil { // the rules are too large to run: nobody is let in
		f.code, f.start[0], f.gives[n], f.tooLarge = condition.Code{}, -1, gives{tooOld: true}, true
	}
	f.first = f.start[0]
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
	c := &shares{seed: bucket.Seed(s.Salt), byKey: len(s.By) == 1 && s.By[0] == condition.KeyAttribute}
	for _, by := range s.By {
		c.by = append(c.by, condition.Intern(by))
	}
	type piece struct {
		from, to uint32
		owner    int16
	}
	var pieces []piece
	for _, p := range s.Parts {
		owner := goesOn
		if !p.GoesOn {
			if owner = f.index(p.Variant); owner < 0 {
				return gives{tooOld: true}
			}
		}
		for _, r := range p.Ranges {
			pieces = append(pieces, piece{r[0], r[1], owner})
		}
	}
	slices.SortFunc(pieces, func(a, b piece) int { return int(int64(a.from) - int64(b.from)) })
	next := uint32(0)
	for _, p := range pieces {
		if p.from > next {
			c.runs = append(c.runs, run{p.from, nobody})
		}
		if p.to > next {
			c.runs = append(c.runs, run{p.to, p.owner})
			next = p.to
		}
	}
	return gives{shares: c}
}

// probe is the key of the flag that [Ruleset.Taking] makes; no flag can have it.
const probe = "~probe"

// Taking compiles a condition by itself and gives a function that tells whether it takes a unit,
// at a time in Unix milliseconds; unknown says whether it takes those of whom that is not known.
// Asking it of many units is faster by far than matching the condition. A nil condition takes everybody.
func (rs *Ruleset) Taking(when *condition.Node, unknown bool) (func(c *condition.Context, now int64) bool, error) {
	onUnknown := flag.Skip
	if unknown {
		onUnknown = flag.Apply
	}
	d := &flag.Document{Key: probe, Type: flag.Boolean, Lever: flag.On, Resting: "off",
		End:      flag.Gives{Variant: "off"},
		Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")},
		Rules: []flag.Rule{{ID: "1", Name: "probe", When: when, OnUnknown: onUnknown,
			Gives: flag.Gives{Variant: "on"}}}}
	with, err := rs.With([]*flag.Document{d}, nil)
	if err != nil {
		return nil, err
	}
	f := with.Flag(probe)
	return func(c *condition.Context, now int64) bool { return f.Truth(f.Decide(with, c, now).Variant) }, nil
}
