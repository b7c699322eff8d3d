// Package shift computes who would move from which variant to which if an edit were
// saved: two rulesets and a population in, moves with bounds and examples out.
//
//	s := shift.Between(before, after, "night-batching", population, now)
//	s.Moved.Units // about how many units get another variant
//
// Numbers of a population that is a sample are estimates with bounds that hold in 95 of
// 100 samples; see [Estimate].
package shift

import (
	"bytes"
	"cmp"
	"math"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/sample"
	"greenlever.example/core/words"
)

// Population is the units on which an edit is tried.
type Population struct {
	Units []*condition.Context
	Part  float64 // of all units seen, that the sample is complete for: above 0 to 1; 1 is everybody
	// Hidden names the attributes that units may have and the sample does not hold as they
	// are, with what was derived of them.
	Hidden map[string]sample.Derivation
}

// Estimate is a number of units, from those counted in the sample.
type Estimate struct {
	Counted int   `json:"counted"` // in the sample
	Units   int64 `json:"units"`   // in all, estimated
	Low     int64 `json:"low"`     // bounds that hold in 95 of 100 samples
	High    int64 `json:"high"`
	// Share of all units, 0 to 1, with bounds.
	Share     float64 `json:"share"`
	ShareLow  float64 `json:"shareLow"`
	ShareHigh float64 `json:"shareHigh"`
}

const z = 1.959964 // of the standard normal distribution, two-sided 95 %

// Count is the estimate for a number of units counted in the sample. The number in all is
// that of a Poisson count, with Byar's bounds (Breslow and Day 1987, section 2.3); the
// share has Wilson's bounds (Wilson 1927). With everybody in the population both are exact.
func (p Population) Count(n int) Estimate {
	e := Estimate{Counted: n}
	all := len(p.Units)
	if all > 0 {
		e.Share = float64(n) / float64(all)
	}
	if p.Part >= 1 {
		e.Units, e.Low, e.High, e.ShareLow, e.ShareHigh = int64(n), int64(n), int64(n), e.Share, e.Share
		return e
	}
	x := float64(n)
	low := 0.0
	if n > 0 {
		low = x * math.Pow(1-1/(9*x)-z/(3*math.Sqrt(x)), 3)
	}
	high := (x + 1) * math.Pow(1-1/(9*(x+1))+z/(3*math.Sqrt(x+1)), 3)
	e.Units, e.Low, e.High = int64(math.Round(x/p.Part)), int64(math.Floor(low/p.Part)), int64(math.Ceil(high/p.Part))
	if all > 0 {
		size, s := float64(all), e.Share
		mid, half := s+z*z/(2*size), z*math.Sqrt(s*(1-s)/size+z*z/(4*size*size))
		e.ShareLow, e.ShareHigh = max((mid-half)/(1+z*z/size), 0), min((mid+half)/(1+z*z/size), 1)
	}
	return e
}

// Place is what decided: a rule by id, or one of the others.
type Place string

// Places that are no rules.
const (
	AtEnd     Place = "end"
	AtResting Place = "resting" // off, stopped, or a need unmet
)

// Move is units that get another variant, or the same one by another rule.
type Move struct {
	From     string   `json:"from"` // variant; empty: the caller's fallback
	To       string   `json:"to"`
	By       Place    `json:"by"`              // what decides now
	Then     Place    `json:"then"`            // what would decide
	Value    bool     `json:"value,omitempty"` // the variant is the same, and its value another
	Moved    Estimate `json:"moved"`
	Examples []string `json:"examples"` // targeting keys
}

// Branch is what one place gives: a rule, the end, or the resting variant.
type Branch struct {
	Place  Place               `json:"place"`
	Before Estimate            `json:"before"`
	After  Estimate            `json:"after"`
	Gives  map[string]Estimate `json:"gives"` // after, by variant
}

// Shift is what an edit does to one flag.
type Shift struct {
	Flag     string              `json:"flag"`
	Units    Estimate            `json:"units"` // all that were looked at
	Moved    Estimate            `json:"moved"` // that get another variant
	Moves    []Move              `json:"moves"` // largest first
	Branches []Branch            `json:"branches"`
	Before   map[string]Estimate `json:"before"` // by variant
	After    map[string]Estimate `json:"after"`
	Because  []words.Said        `json:"because"` // where nobody moves: why
	// Certain tells that nobody moves whoever there is, since nothing that decides changes.
	Certain bool `json:"certain"`
	// Perhaps is how many units may move as well: the sample does not know, as Unknown says.
	Perhaps Estimate     `json:"perhaps"`
	Unknown []words.Said `json:"unknown"`
	// Says is all of it in one sentence, without its full stop.
	Says words.Said `json:"says"`
	// Sweep tells that everybody would go from the resting variant to others in one step, or
	// may do so: then Perhaps is not zero.
	Sweep bool `json:"sweep"`
}

// maxExamples is how many units are named for each move.
const maxExamples = 5

// side is one ruleset's flag, with its outcomes numbered.
type side struct {
	rules *decide.Ruleset
	flag  *decide.Flag
	width int // of a place: one more than the variants, for errors
	count []int
}

func newSide(rs *decide.Ruleset, key string) *side {
	s := &side{rules: rs, flag: rs.Flag(key), width: 1}
	places := 2
	if s.flag != nil {
		s.width = len(s.flag.Variants()) + 1
		places = len(s.flag.Document().Rules) + 2
	}
	s.count = make([]int, places*s.width)
	return s
}

// slot is the number of a decision's place and variant: the end, the resting variant, and
// then the rules.
func (s *side) slot(c *condition.Context, now int64) int {
	if s.flag == nil {
		return 0
	}
	o := s.flag.Decide(s.rules, c, now)
	place := 0
	switch {
	case o.Reason == decide.Disabled || o.Note == decide.Missing:
		place = 1
	case o.Rule >= 0:
		place = int(o.Rule) + 2
	}
	return place*s.width + int(o.Variant) + 1
}

func (s *side) place(slot int) Place {
	switch i := slot / s.width; i {
	case 0:
		return AtEnd
	case 1:
		return AtResting
	default:
		return Place(s.flag.Document().Rules[i-2].ID)
	}
}

func (s *side) variant(slot int) string {
	if i := slot%s.width - 1; i >= 0 && s.flag != nil {
		return s.flag.Variants()[i].Name
	}
	return ""
}

// value is the value that a slot gives.
func (s *side) value(slot int) []byte {
	if i := slot%s.width - 1; i >= 0 && s.flag != nil {
		return s.flag.Variants()[i].Raw
	}
	return nil
}

type cell struct {
	count    int
	examples []string
}

// Between computes what the step from one ruleset to another does to a flag. now is in
// Unix milliseconds.
func Between(before, after *decide.Ruleset, key string, p Population, now int64) *Shift {
	a, b := newSide(before, key), newSide(after, key)
	t := &tally{a: a, b: b, cells: map[[2]int]*cell{}, lastAt: [2]int{-1, -1}}
	t.sameNames = a.flag != nil && b.flag != nil && slices.EqualFunc(a.flag.Variants(), b.flag.Variants(),
		func(x, y decide.Variant) bool { return x.Name == y.Name })
	if t.sameNames {
		t.values = make([]bool, a.width)
		for i, v := range a.flag.Variants() {
			t.values[i+1] = !bytes.Equal(v.Raw, b.flag.Variants()[i].Raw)
		}
	}
	nobody := nobodyMoves(a, b, now) // then it does not matter what the sample hides
	var veil *veil
	if nobody == nil {
		veil = newVeil(before, after, key, p)
	}
	for _, c := range p.Units {
		if veil == nil {
			t.add(c, a.slot(c, now), b.slot(c, now))
			continue
		}
		t.hidden(c, veil, now)
	}
	s := &Shift{Flag: key, Units: p.Count(len(p.Units)), Moves: []Move{}, Because: []words.Said{},
		Unknown: []words.Said{}, Before: a.variants(p), After: b.variants(p)}
	for at, c := range t.cells {
		s.Moves = append(s.Moves, Move{From: a.variant(at[0]), To: b.variant(at[1]), By: a.place(at[0]),
			Then: b.place(at[1]), Value: a.variant(at[0]) == b.variant(at[1]), Moved: p.Count(c.count),
			Examples: c.examples})
	}
	slices.SortFunc(s.Moves, func(x, y Move) int {
		return cmp.Or(cmp.Compare(y.Moved.Counted, x.Moved.Counted), cmp.Compare(x.From, y.From),
			cmp.Compare(x.To, y.To), cmp.Compare(x.By, y.By), cmp.Compare(x.Then, y.Then))
	})
	s.Moved, s.Perhaps = p.Count(t.moved), p.Count(t.perhaps)
	if t.perhaps > 0 {
		s.Unknown = veil.why()
		most := p.Count(t.moved + t.perhaps)
		s.Moved.High, s.Moved.ShareHigh = most.High, most.ShareHigh
	}
	s.Branches = branches(a, b, p)
	s.Sweep = sweeps(a, b, p, t)
	switch {
	case nobody != nil:
		s.Because, s.Certain, s.Moved, s.Moves = nobody, true, Estimate{}, []Move{}
	case t.moved+t.perhaps == 0:
		s.Because = unmoved(a, b, p, now, veil)
	}
	s.Says = says(s)
	return s
}

// tally counts the moves of units.
type tally struct {
	a, b           *side
	sameNames      bool
	values         []bool // of which variants the value changes, by their place in a slot
	cells          map[[2]int]*cell
	last           *cell
	lastAt         [2]int
	moved, perhaps int
	stays          int // that surely keep the resting variant, or have another already
}

func (t *tally) moves(i, j int) bool {
	if t.sameNames {
		return i%t.a.width != j%t.b.width || t.values[i%t.a.width]
	}
	return t.a.variant(i) != t.b.variant(j) || t.a.variant(i) != "" && !bytes.Equal(t.a.value(i), t.b.value(j))
}

// leaves tells whether a unit goes from the resting variant to another.
func (t *tally) leaves(i, j int) bool {
	return t.a.flag != nil && t.b.flag != nil && t.a.variant(i) == t.a.flag.Document().Resting &&
		t.b.variant(j) != t.b.flag.Document().Resting
}

// add counts a unit whose slots are known.
func (t *tally) add(c *condition.Context, i, j int) {
	t.a.count[i]++
	t.b.count[j]++
	if !t.moves(i, j) {
		return
	}
	t.moved++
	t.example(c, i, j)
}

func (t *tally) example(c *condition.Context, i, j int) {
	if at := [2]int{i, j}; at != t.lastAt {
		t.last, t.lastAt = t.cells[at], at
		if t.last == nil {
			t.last = &cell{}
			t.cells[at] = t.last
		}
	}
	if t.last.count++; t.last.count <= maxExamples {
		t.last.examples = append(t.last.examples, c.Key())
	}
}

// hidden counts a unit of which the sample may not know all.
func (t *tally) hidden(c *condition.Context, v *veil, now int64) {
	if v.tooMany || len(v.drawn) > 0 {
		t.perhaps++
		return
	}
	const none = -1
	i, j, all, some, leaves := none, none, true, false, false
	var pair [2]int
	same := true
	for at, way := range v.ways(c) {
		sides := v.under(way)
		x, y := sides[0].slot(c, now), sides[1].slot(c, now)
		if at == 0 {
			i, j, pair = x, y, [2]int{x, y}
		}
		same = same && pair == [2]int{x, y}
		if x != i {
			i = none
		}
		if y != j {
			j = none
		}
		m := t.moves(x, y)
		all, some, leaves = all && m, some || m, leaves || t.leaves(x, y)
	}
	if i >= 0 {
		t.a.count[i]++
	}
	if j >= 0 {
		t.b.count[j]++
	}
	switch {
	case all:
		t.moved++
		if same {
			t.example(c, pair[0], pair[1])
		}
	case some:
		t.perhaps++
	}
	if !leaves {
		t.stays++
	}
}

// says is what becomes of all units, in one sentence.
func says(s *Shift) words.Said {
	all := words.About(s.Units.Units, s.Units.Low, s.Units.High)
	because := words.Join(s.Because, "; ")
	switch {
	case s.Certain:
		return words.Say("moves nobody: %s", because)
	case s.Units.Counted == 0:
		return words.Say("nobody was seen here yet, so nothing can be counted")
	case s.Perhaps.Counted > 0:
		return words.Say("cannot be counted: %s; of %s units it moves at least %s and at most %s",
			words.Join(s.Unknown, ", and "), all, words.Count(s.Moved.Low), words.Count(s.Moved.High))
	case s.Moved.Counted > 0:
		return words.Say("moves %s of %s units", words.About(s.Moved.Units, s.Moved.Low, s.Moved.High), all)
	case s.Units.Low == s.Units.High:
		return words.Say("moves none of %s units: %s", words.Counted(s.Units.Counted, "unit", "units")[0], because)
	}
	return words.Say("moves none of the %s in the sample, and at most about %s of %s: %s",
		words.Counted(s.Units.Counted, "unit", "units"), words.Count(s.Moved.High), all, because)
}

func (s *side) variants(p Population) map[string]Estimate {
	counts := map[string]int{}
	if s.flag != nil {
		for _, v := range s.flag.Variants() {
			counts[v.Name] = 0
		}
	}
	for slot, n := range s.count {
		if n > 0 {
			counts[s.variant(slot)] += n
		}
	}
	out := map[string]Estimate{}
	for v, n := range counts {
		out[v] = p.Count(n)
	}
	return out
}

// branches lists the places of both sides, those of the new one in their order first.
func branches(a, b *side, p Population) []Branch {
	var order []Place
	at := map[Place]*Branch{}
	counts := map[Place]*[2]int{}
	gives := map[Place]map[string]int{}
	visit := func(s *side, which int) {
		places := len(s.count) / s.width
		for i := range places {
			slot := ((i + 2) % places) * s.width // rules first, then end and resting
			place := s.place(slot)
			if at[place] == nil {
				at[place], counts[place], gives[place] = &Branch{Place: place}, &[2]int{}, map[string]int{}
				order = append(order, place)
			}
			for v := range s.width {
				n := s.count[slot+v]
				counts[place][which] += n
				if which == 1 && n > 0 {
					gives[place][s.variant(slot+v)] += n
				}
			}
		}
	}
	visit(b, 1)
	visit(a, 0)
	out := make([]Branch, len(order))
	for i, place := range order {
		out[i] = Branch{Place: place, Before: p.Count(counts[place][0]), After: p.Count(counts[place][1]),
			Gives: map[string]Estimate{}}
		for v, n := range gives[place] {
			out[i].Gives[v] = p.Count(n)
		}
	}
	return out
}

// sweeps tells whether everybody had the resting variant and nobody would keep it. Without
// a population the documents themselves are asked.
func sweeps(a, b *side, p Population, t *tally) bool {
	if a.flag == nil || b.flag == nil {
		return false
	}
	resting := func(s *side) int {
		name, n := s.flag.Document().Resting, 0
		for slot, c := range s.count {
			if s.variant(slot) == name {
				n += c
			}
		}
		return n
	}
	if all := len(p.Units); all > 0 {
		if t.perhaps > 0 { // of nobody it is known that it stays
			return t.stays == 0
		}
		return resting(a) == all && resting(b) == 0
	}
	d := b.flag.Document()
	var none *condition.Context
	o := b.flag.Decide(b.rules, none, 0)
	v := b.flag.Variant(o.Variant)
	was := a.flag.Same() && a.flag.Variant(a.flag.Decide(a.rules, none, 0).Variant) != nil &&
		a.flag.Variant(a.flag.Decide(a.rules, none, 0).Variant).Name == d.Resting
	return was && b.flag.Same() && v != nil && v.Name != d.Resting
}

// ChanceRange is how many of n units have something that each has with probability p, in
// the middle 95 of 100 cases: quantiles of the binomial distribution.
func ChanceRange(n int, p float64) (low, high int) {
	if n <= 0 || p <= 0 {
		return 0, 0
	}
	if p >= 1 {
		return n, n
	}
	sum, term := 0.0, math.Pow(1-p, float64(n))
	low = -1
	for k := 0; k <= n; k++ {
		sum += term
		if low < 0 && sum > .025 {
			low = k
		}
		if sum >= .975 {
			return max(low, 0), k
		}
		term *= float64(n-k) / float64(k+1) * p / (1 - p)
	}
	return max(low, 0), n
}
