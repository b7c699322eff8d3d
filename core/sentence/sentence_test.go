package sentence

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
)

// reader rebuilds a flag from its sentence. Of what the words leave out it is given only
// how shares are drawn: their salts and buckets, in order.
type reader struct {
	t      *testing.T
	rest   string
	shares []*flag.Shares
}

func (r *reader) fail(want string) {
	r.t.Helper()
	r.t.Fatalf("want %s at %q", want, r.rest)
}

func (r *reader) take(prefix string) bool {
	rest, ok := strings.CutPrefix(r.rest, prefix)
	if ok {
		r.rest = rest
	}
	return ok
}

func (r *reader) must(prefix string) {
	r.t.Helper()
	if !r.take(prefix) {
		r.fail(prefix)
	}
}

// until reads up to one of the characters.
func (r *reader) until(stops string) string {
	end := strings.IndexAny(r.rest, stops)
	if end < 0 {
		end = len(r.rest)
	}
	word := r.rest[:end]
	r.rest = r.rest[end:]
	return word
}

func (r *reader) variant() string {
	r.must("`")
	name := r.until("`")
	r.must("`")
	return name
}

func (r *reader) quoted() string {
	raw, err := strconv.QuotedPrefix(r.rest)
	if err != nil {
		r.fail("a quoted string")
	}
	r.rest = r.rest[len(raw):]
	s, _ := strconv.Unquote(raw)
	return s
}

func (r *reader) list(one func() string) (all []string) {
	for {
		all = append(all, one())
		if !r.take(", ") {
			return all
		}
	}
}

func (r *reader) word() string { return r.until(" ,;:()") }

// time reads a word that may hold colons, but does not end with one.
func (r *reader) time() string {
	word := r.until(" ,;()")
	if trimmed, ended := strings.CutSuffix(word, ":"); ended {
		r.rest = ":" + r.rest
		return trimmed
	}
	return word
}

func (r *reader) number() float64 {
	f, err := strconv.ParseFloat(r.word(), 64)
	if err != nil {
		r.fail("a number")
	}
	return f
}

func (r *reader) attribute() string {
	switch {
	case r.take("attribute "):
		return r.quoted()
	case r.take("the key"):
		return condition.KeyAttribute
	case r.take("site "):
		r.rest = " " + r.rest
		return "site.id"
	}
	return r.word()
}

// of reads of what shares are drawn: "sites (else by key)".
func (r *reader) of() (by []string) {
	switch {
	case r.take("units by "):
		by = append(by, r.attribute())
	case r.take("units"):
		by = append(by, condition.KeyAttribute)
	case r.take("sites"):
		by = append(by, "site.id")
	default:
		r.fail("what shares are of")
	}
	for r.take(" (else by ") || r.take(", else by ") {
		if r.take("key") {
			by = append(by, condition.KeyAttribute)
		} else {
			by = append(by, r.either())
		}
	}
	if len(by) > 1 {
		r.must(")")
	}
	return by
}

// either reads an attribute at the end of a piece.
func (r *reader) either() string {
	if r.take("site)") {
		r.rest = ")" + r.rest
		return "site.id"
	}
	return r.attribute()
}

func (r *reader) condition() *condition.Node {
	first := *r.part()
	for _, join := range []string{" and ", " or "} {
		parts := []condition.Node{first}
		for r.take(join) {
			parts = append(parts, *r.part())
		}
		if len(parts) == 1 {
			continue
		}
		if join == " and " {
			return &condition.Node{All: parts}
		}
		return &condition.Node{Any: parts}
	}
	return &first
}

func (r *reader) part() *condition.Node {
	switch {
	case r.take("not ("):
		n := r.condition()
		r.must(")")
		return &condition.Node{Not: n}
	case r.take("not "):
		return &condition.Node{Not: r.part()}
	case r.take("("):
		n := r.condition()
		r.must(")")
		return n
	case r.take("in segment "):
		return &condition.Node{Test: "segment", Segment: r.word()}
	case r.take("it is not "):
		return &condition.Node{Not: r.clock()}
	case r.take("it is "):
		return r.clock()
	case r.take("among "):
		share, err := bucket.ParsePercent(r.until("%") + "%")
		if err != nil {
			r.t.Fatal(err)
		}
		r.must("% of ")
		p := &condition.Within{Share: share, By: r.of(), Hash: 1, Salt: "p1"} // the words leave salts out
		return &condition.Node{Test: "part", Part: p}
	case r.take("flag "):
		n := &condition.Node{Test: "flag.gives", Flag: r.word()}
		r.must(" gives ")
		n.Text = append(n.Text, r.variant())
		for strings.HasPrefix(r.rest, " or `") {
			r.must(" or ")
			n.Text = append(n.Text, r.variant())
		}
		return n
	}
	return r.comparison()
}

func (r *reader) clock() *condition.Node {
	switch {
	case r.take("before "):
		return &condition.Node{Test: "clock.before", Text: []string{r.time()}}
	case r.take("at or after "):
		return &condition.Node{Test: "clock.at-or-after", Text: []string{r.time()}}
	case r.take("between "):
		from := r.time()
		r.must(" and ")
		return &condition.Node{Test: "clock.between", Text: []string{from, r.time()}}
	}
	w := &condition.Weekly{}
	if r.take("any day") {
		w.Days = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}
	} else {
		day := func() string { return strings.ToLower(r.word()[:3]) }
		w.Days = r.list(day)
		if r.take(" or ") {
			w.Days = append(w.Days, day())
		}
	}
	r.must(" from ")
	w.From = r.time()
	r.must(" to ")
	w.To = r.time()
	r.take(" the next day")
	r.must(" in ")
	w.Zone = r.word()
	return &condition.Node{Test: "clock.weekly", Weekly: w}
}

func (r *reader) comparison() *condition.Node {
	n := &condition.Node{Attribute: r.attribute()}
	r.must(" ")
	for said, holds := range map[string]string{"is not ": "is ", "does not begin ": "begins ",
		"does not end ": "ends ", "does not contain ": "contains ", "does not match ": "matches "} {
		if r.take(said) {
			r.rest = holds + r.rest
			return &condition.Node{Not: r.compared(n)}
		}
	}
	return r.compared(n)
}

// compared reads on behind the attribute.
func (r *reader) compared(n *condition.Node) *condition.Node {
	texts := func(test string) { n.Test, n.Text = test, r.list(r.quoted) }
	numbers := func(test string) { n.Test, n.Numbers = test, []float64{r.number()} }
	switch {
	case r.take("is one of "):
		if strings.HasPrefix(r.rest, `"`) {
			texts("string.one-of")
			break
		}
		n.Test = "number.one-of"
		for more := true; more; more = r.take(", ") {
			n.Numbers = append(n.Numbers, r.number())
		}
	case r.take("begins with "):
		texts("string.begins")
	case r.take("ends with "):
		texts("string.ends")
	case r.take("contains "):
		texts("string.contains")
	case r.take("matches "):
		texts("string.matches")
	case r.take("= "):
		numbers("number.equals")
	case r.take("≠ "):
		numbers("number.differs")
	case r.take("< "):
		numbers("number.less")
	case r.take("≤ "):
		numbers("number.at-most")
	case r.take("> "):
		numbers("number.more")
	case r.take("≥ "):
		numbers("number.at-least")
	case r.take("is true"):
		n.Test = "boolean.true"
	case r.take("is false"):
		n.Test = "boolean.false"
	case r.take("is present"):
		n.Test = "present"
	case r.take("is absent"):
		n.Test = "absent"
	case r.take("is version "):
		test := "version.equals"
		for sign, name := range map[string]string{"< ": "less", "≤ ": "at-most", "> ": "more", "≥ ": "at-least"} {
			if r.take(sign) {
				test = "version." + name
				break
			}
		}
		n.Test, n.Text = test, []string{r.word()}
		n.Loose = r.take(" (4.2 and v4.2.0 too)")
	case r.take("is before "):
		n.Test, n.Text = "time.before", []string{r.time()}
	case r.take("is at or after "):
		n.Test, n.Text = "time.at-or-after", []string{r.time()}
	case r.take("is between "):
		first := r.time()
		r.must(" and ")
		second := r.time()
		if _, isTime := condition.ParseTime(first); isTime {
			n.Test, n.Text = "time.between", []string{first, second}
			break
		}
		a, _ := strconv.ParseFloat(first, 64)
		b, _ := strconv.ParseFloat(second, 64)
		n.Test, n.Numbers = "number.between", []float64{a, b}
	case r.take("is an address in "):
		n.Test, n.Text = "address.in", r.list(r.time)
	case r.take("has any of "):
		texts("list.any")
	case r.take("has all of "):
		texts("list.all")
	case r.take("has none of "):
		texts("list.none")
	case r.take("is "):
		n.Test, n.Text = "string.equals", []string{r.quoted()}
	default:
		r.fail("a comparison")
	}
	n.IgnoreCase = r.take(" (ignoring case)")
	return n
}

// gives reads what those get who are told, up to the end of the piece.
func (r *reader) gives(who string) flag.Gives {
	if r.take(who + " get ") {
		return flag.Gives{Variant: r.variant()}
	}
	if len(r.shares) == 0 {
		r.fail("no more shares")
	}
	known := r.shares[0]
	r.shares = r.shares[1:]
	s := &flag.Shares{Salt: known.Salt, Hash: known.Hash}
	left := uint32(bucket.Buckets)
	for i := 0; ; i++ {
		share, err := bucket.ParsePercent(r.until("%") + "%")
		if err != nil {
			r.t.Fatal(err)
		}
		r.must("%")
		if i == 0 {
			r.must(" of ")
			s.By = r.of()
		}
		r.must(" get ")
		p := flag.Part{Share: share, Variant: r.variant()}
		for _, k := range known.Parts { // where the buckets lie is not said
			if k.Variant == p.Variant && !k.GoesOn {
				p.Ranges = k.Ranges
			}
		}
		left -= share
		s.Parts = append(s.Parts, p)
		if !r.take(", ") {
			break
		}
	}
	if left > 0 {
		rest := flag.Part{Share: left, GoesOn: true}
		for _, k := range known.Parts {
			if k.GoesOn {
				rest.Ranges = k.Ranges
			}
		}
		s.Parts = append(s.Parts, rest)
	}
	return flag.Gives{Shares: s}
}

func (r *reader) rule() (rule flag.Rule) {
	switch {
	case r.take("unit "):
		rule.When = &condition.Node{Test: "string.one-of", Attribute: condition.KeyAttribute,
			Text: []string{r.quoted()}}
		r.must(" gets ")
		rule.Gives.Variant = r.variant()
		return rule
	case r.take("units "):
		rule.When = &condition.Node{Test: "string.one-of", Attribute: condition.KeyAttribute, Text: r.list(r.quoted)}
		r.must(" get ")
		rule.Gives.Variant = r.variant()
		return rule
	case r.take("all in segment "):
		rule.When = &condition.Node{Test: condition.SegmentTest, Segment: r.word()}
		r.must(" get ")
		rule.Gives.Variant = r.variant()
		return rule
	case r.take("where "):
		rule.When = r.condition()
		switch {
		case r.take(" (also if that is unknown)"):
			rule.OnUnknown = flag.Apply
		case r.take(" (not if that is unknown)"):
			rule.OnUnknown = flag.Skip
		}
		r.must(": ")
	}
	rule.Gives = r.gives("all")
	return rule
}

// read rebuilds the document that a sentence tells.
func read(t *testing.T, said string, like *flag.Document) *flag.Document {
	r := &reader{t: t, rest: strings.ToLower(said[:1]) + said[1:]}
	d := &flag.Document{Key: like.Key, Type: like.Type, Variants: like.Variants, Lever: flag.On, Resting: like.Resting}
	for i := range like.Rules {
		if s := like.Rules[i].Gives.Shares; s != nil && !like.Rules[i].Parked {
			r.shares = append(r.shares, s)
		}
	}
	if like.End.Shares != nil {
		r.shares = append(r.shares, like.End.Shares)
	}
	if r.take("off: all get ") {
		d.Lever, d.Resting = flag.Off, r.variant()
		d.End.Variant = d.Resting
		return d
	}
	if r.take("only where ") {
		for more := true; more; more = r.take(" and ") {
			n := flag.Need{Flag: r.word()}
			r.must(" gives ")
			n.Variant = r.variant()
			d.Needs = append(d.Needs, n)
		}
		r.must(" (elsewhere ")
		d.Resting = r.variant()
		r.must("): ")
	}
	for last := false; !last; {
		switch {
		case r.take("all others get "):
			d.End.Variant, last = r.variant(), true
		case r.take("of all others, "):
			d.End, last = r.gives("nobody"), true
		case len(r.shares) == 0 && !strings.Contains(r.rest, "; all others"):
			d.End, last = r.gives("all"), true
		case len(r.shares) == 1 && like.End.Shares != nil && !strings.Contains(r.rest, "; of all others, "):
			d.End, last = r.gives("nobody"), true
		default:
			d.Rules = append(d.Rules, r.rule())
			r.must("; ")
		}
	}
	if d.End.Shares != nil {
		r.must("; those without ")
		for more := true; more; more = r.take(" or ") {
			if !r.take("a key") && !r.take("a site") {
				r.attribute()
			}
		}
		r.must(" get ")
		d.Resting = r.variant()
	}
	for i := range d.Rules {
		d.Rules[i].ID, d.Rules[i].Name = fmt.Sprint(i), fmt.Sprint(i)
	}
	r.must(".")
	if r.rest != "" {
		r.fail("the end")
	}
	return d
}

func pick[T any](rng *rand.Rand, from ...T) T { return from[rng.IntN(len(from))] }

func randomNode(rng *rand.Rand, depth int) *condition.Node {
	if depth > 0 && rng.IntN(2) == 0 {
		nodes := []condition.Node{*randomNode(rng, depth-1), *randomNode(rng, depth-1)}
		return pick(rng, &condition.Node{All: nodes}, &condition.Node{Any: nodes}, &condition.Node{Not: &nodes[0]})
	}
	names := []string{"role", "site.id", "firmware", "crew_size", "badge", "languages", "network", "joined", "x plan",
		"it", "all", condition.KeyAttribute}
	times := []string{"2026-11-23T10:00:00+01:00", "2027-03-01T06:00:00Z"}
	n := &condition.Node{Attribute: pick(rng, names...)}
	text := func(test string, most int) {
		n.Test, n.IgnoreCase = test, strings.HasPrefix(test, "string") && rng.IntN(4) == 0
		for range 1 + rng.IntN(most) {
			n.Text = append(n.Text, pick(rng, "courier", "site-1", "a, b", "x; all others get `on`.", "\"", ": ",
				"4.2.0", " and "))
		}
	}
	switch rng.IntN(14) {
	case 0:
		n.Test = pick(rng, "present", "absent", "boolean.true", "boolean.false")
	case 1:
		text("string.equals", 1)
	case 2:
		text(pick(rng, "string.one-of", "string.begins", "string.ends", "string.contains"), 3)
	case 3:
		n.Test, n.Text = "string.matches", []string{pick(rng, "^site", "[0-9]$")}
	case 4:
		n.Test, n.Numbers = pick(rng, "number.equals", "number.differs", "number.less", "number.at-most",
			"number.more", "number.at-least"), []float64{pick(rng, 1, -2.5, 7.0)}
	case 5:
		n.Test, n.Numbers = pick(rng, "number.between", "number.one-of"), []float64{1, 7}
	case 6:
		n.Test, n.Text, n.Loose = "version."+pick(rng, "equals", "less", "at-most", "more", "at-least"),
			[]string{pick(rng, "4.2.0", "4.9.9-rc.1")}, rng.IntN(2) == 0
	case 7:
		n.Test, n.Text = pick(rng, "time.before", "time.at-or-after"), []string{pick(rng, times...)}
	case 8:
		n.Test, n.Text = "time.between", times
	case 9:
		n.Test, n.Text = "address.in", []string{"10.20.0.0/16", "fd00::/8"}
	case 10:
		text(pick(rng, "list.any", "list.all", "list.none"), 2)
	case 11:
		n.Attribute, n.Test, n.Segment = "", "segment", "pilot-sites"
	case 12:
		n.Attribute, n.Test, n.Part = "", "part", &condition.Within{By: []string{pick(rng, names...), "targetingKey"},
			Share: rng.Uint32N(1_000_001), Salt: "p1", Hash: 1}
	case 13:
		n.Attribute = ""
		switch rng.IntN(4) {
		case 0:
			n.Test, n.Flag, n.Text = "flag.gives", "base", []string{"a", "b"}[:1+rng.IntN(2)]
		case 1:
			n.Test, n.Weekly = "clock.weekly", &condition.Weekly{Days: []string{"mon", "tue"}[:1+rng.IntN(2)],
				From: "22:00", To: pick(rng, "06:00", "24:00"), Zone: "UTC"}
		case 2:
			n.Test, n.Text = pick(rng, "clock.before", "clock.at-or-after"), []string{pick(rng, times...)}
		case 3:
			n.Test, n.Text = "clock.between", times
		}
	}
	return n
}

func randomGives(rng *rand.Rand, end bool) flag.Gives {
	if rng.IntN(2) == 0 {
		return flag.Gives{Variant: pick(rng, "a", "b", "c")}
	}
	first, second := rng.Uint32N(400_000), rng.Uint32N(400_000)
	s := &flag.Shares{By: []string{pick(rng, "site.id", "x plan", condition.KeyAttribute)},
		Salt: fmt.Sprint("s", rng.IntN(9)), Hash: 1,
		Parts: []flag.Part{{Variant: "a", Share: first}, {Variant: "b", Share: second},
			{Variant: "c", Share: bucket.Buckets - first - second}}}
	if !end && rng.IntN(2) == 0 {
		s.Parts[2] = flag.Part{GoesOn: true, Share: s.Parts[2].Share}
	}
	if rng.IntN(3) == 0 {
		s.By = append(s.By, "role")
	}
	if err := s.Arrange(nil, "c"); err != nil {
		panic(err)
	}
	return flag.Gives{Shares: s}
}

var variants = map[string]json.RawMessage{"a": json.RawMessage(`"A"`), "b": json.RawMessage(`"B"`),
	"c": json.RawMessage(`"C"`)}

func randomRule(rng *rand.Rand, id int) flag.Rule {
	r := flag.Rule{ID: fmt.Sprint(id), Name: fmt.Sprint("rule ", id), Gives: randomGives(rng, false),
		OnUnknown: pick(rng, "", "", flag.Apply, flag.Skip)}
	if rng.IntN(8) > 0 {
		r.When = randomNode(rng, 2)
	}
	return r
}

func randomDocument(rng *rand.Rand) *flag.Document {
	d := &flag.Document{Key: "f", Type: flag.String, Lever: flag.On, Resting: "c", Variants: variants}
	for i := range rng.IntN(4) {
		d.Rules = append(d.Rules, randomRule(rng, i))
		d.Rules[i].Parked = rng.IntN(8) == 0
	}
	d.End = randomGives(rng, true)
	if rng.IntN(4) == 0 {
		d.Needs = []flag.Need{{Flag: "base", Variant: pick(rng, "a", "b")}}
	}
	if rng.IntN(12) == 0 {
		d.Lever = flag.Off
	}
	return d
}

func compile(t *testing.T, d *flag.Document) *decide.Ruleset {
	t.Helper()
	base := &flag.Document{Key: "base", Type: flag.String, Lever: flag.On, Resting: "c", Variants: variants,
		End: flag.Gives{Variant: "a"},
		Rules: []flag.Rule{{ID: "1", Name: "1", When: &condition.Node{Test: "string.begins",
			Attribute: condition.KeyAttribute, Text: []string{"r"}}, Gives: flag.Gives{Variant: "b"}}}}
	rs, err := decide.Compile(&flag.Ruleset{Epoch: 1, Revision: 1, Flags: map[string]json.RawMessage{},
		Segments: map[string]json.RawMessage{}},
		func(string) func(int64) int { return func(int64) int { return 0 } }).
		With([]*flag.Document{base, d},
			[]*flag.Segment{{Key: "pilot-sites", When: &condition.Node{Test: "string.begins", Attribute: "site.id",
				Text: []string{"site"}}}})
	if err != nil {
		t.Fatal(err)
	}
	return rs
}

func randomUnit(rng *rand.Rand) *condition.Context {
	var as []condition.Attribute
	for _, name := range []string{"role", "site.id", "firmware", "crew_size", "badge", "languages", "network",
		"joined", "x plan", "it", "all"} {
		v := pick(rng, condition.Value{}, condition.Value{}, condition.TextValue(pick(rng, "courier", "site-1",
			"4.2.0", "v4.2", "10.20.1.1", "2027-01-01T00:00:00Z", "a, b", "Site-1")),
			condition.NumberValue(pick(rng, 1, 7, -2.5)), condition.BooleanValue(rng.IntN(2) == 0),
			condition.ListValue([]string{"courier", "\""}))
		as = append(as, condition.Attribute{Name: condition.Intern(name), Value: v})
	}
	return condition.NewContext(pick(rng, "r1", "site-1", "courier", "x", ""), as...)
}

// The sentence is complete: who reads nothing but the words decides as the flag does.
func TestTheSentenceIsComplete(t *testing.T) {
	rng := rand.New(rand.NewPCG(21, 22))
	units := 0
	for i := range 2_000 {
		names := words.Names(nil)
		if i%2 == 0 { // half of them with the catalogue's words
			names = words.Names{"site.id": {One: "site", Many: "sites"}}
		}
		d := randomDocument(rng)
		said := Of(d, false, names).String()
		again := read(t, said, d)
		a, b := compile(t, d), compile(t, again)
		for range 6 {
			units++
			c, now := randomUnit(rng), 1_795_000_000_000+rng.Int64N(9_000_000_000)
			x, y := a.Flag("f").Decide(a, c, now), b.Flag("f").Decide(b, c, now)
			if p, q := a.Flag("f").Variant(x.Variant).Name, b.Flag("f").Variant(y.Variant).Name; p != q {
				raw, _ := json.Marshal(d)
				t.Fatalf("%s\nthe flag gives %s, the words %s\n%s", said, p, q, raw)
			}
		}
	}
	if units < 10_000 {
		t.Errorf("%d units", units)
	}
}

// Changing any rule changes the sentence.
func TestAnyChangeIsSaid(t *testing.T) {
	rng := rand.New(rand.NewPCG(23, 24))
	changed := 0
	for range 20_000 {
		d := randomDocument(rng)
		if len(d.Rules) == 0 || d.Lever == flag.Off {
			continue
		}
		now := *d
		now.Rules = slices.Clone(d.Rules)
		i := rng.IntN(len(now.Rules))
		r := &now.Rules[i]
		switch rng.IntN(4) {
		case 0:
			r.When = randomNode(rng, 2)
		case 1:
			r.Gives = randomGives(rng, false)
		case 2:
			r.OnUnknown = pick(rng, "", flag.Apply, flag.Skip)
		case 3:
			now.Rules = slices.Delete(now.Rules, i, i+1)
		}
		if said := Of(d, false, nil).String(); said == Of(&now, false, nil).String() && !reflect.DeepEqual(meant(d),
			meant(&now)) {
			a, _ := json.Marshal(meant(d))
			b, _ := json.Marshal(meant(&now))
			t.Fatalf("%s\nis said of\n%s\nand of\n%s", said, a, b)
		} else if said != Of(&now, false, nil).String() {
			changed++
		}
	}
	if changed < 10_000 {
		t.Errorf("only %d sentences changed", changed)
	}
}

// meant is what a document decides by, as far as words can say it.
func meant(d *flag.Document) []any {
	var out []any
	for _, r := range d.Rules {
		if r.Parked {
			continue
		}
		when := any(nil)
		if r.When != nil {
			when = *r.When.Canonical()
		}
		if n := r.When; n != nil && n.Test == "string.equals" && n.Attribute == condition.KeyAttribute &&
			!n.IgnoreCase {
			when = condition.Node{Test: "string.one-of", Attribute: n.Attribute, Text: n.Text}
		}
		parts := []any{r.Gives.Variant}
		if s := r.Gives.Shares; s != nil {
			parts = append(parts, s.By)
			for _, p := range s.Parts {
				parts = append(parts, p.Variant, p.GoesOn, p.Share)
			}
		}
		out = append(out, when, r.When != nil && r.AppliesOnUnknown(d.Resting), parts)
	}
	return out
}
