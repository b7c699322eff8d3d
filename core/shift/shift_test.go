package shift

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/core/words"
)

const now = 1_796_083_200_000

func boolean(key string, change func(*flag.Document)) *flag.Document {
	d := &flag.Document{Key: key, Type: flag.Boolean, Lever: flag.On, Resting: "off", End: flag.Gives{Variant: "off"},
		Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")}}
	if change != nil {
		change(d)
	}
	return d
}

func share(t testing.TB, by string, ppm uint32, old *flag.Shares) *flag.Shares {
	t.Helper()
	s := &flag.Shares{By: []string{by}, Salt: "a1", Hash: 1, Parts: []flag.Part{{Variant: "on", Share: ppm},
		{Variant: "off", Share: bucket.Buckets - ppm}}}
	if err := s.Arrange(old, "off"); err != nil {
		t.Fatal(err)
	}
	return s
}

func rules(t testing.TB, docs ...*flag.Document) *decide.Ruleset {
	t.Helper()
	s := &flag.Snapshot{Format: flag.Format, Epoch: 1, Revision: 1}
	for _, d := range docs {
		raw, err := json.Marshal(d)
		if err != nil {
			t.Fatal(err)
		}
		s.Flags = append(s.Flags, raw)
	}
	source, err := flag.NewRuleset(s)
	if err != nil {
		t.Fatal(err)
	}
	return decide.Compile(source, nil)
}

func unit(i int) *condition.Context {
	text := func(name, v string) condition.Attribute {
		return condition.Attribute{Name: condition.Intern(name), Value: condition.TextValue(v)}
	}
	as := []condition.Attribute{text("site.id", fmt.Sprint("site-", i%600)),
		text("site.region", []string{"north", "east", "south"}[i%3])}
	if i%5 > 0 {
		as = append(as, text("firmware", []string{"4.1.0", "4.2.0"}[i%2]))
	}
	return condition.NewContext(fmt.Sprint("recipient-", i), as...)
}

func everybody(n int) Population {
	p := Population{Part: 1}
	for i := range n {
		p.Units = append(p.Units, unit(i))
	}
	return p
}

func when(t testing.TB, raw string) *condition.Node {
	t.Helper()
	n := &condition.Node{}
	if err := json.Unmarshal([]byte(raw), n); err != nil {
		t.Fatal(err)
	}
	return n
}

func TestGrowingAShareMovesWhoWasBetween(t *testing.T) {
	a := rules(t, boolean("f", func(d *flag.Document) {
		d.End = flag.Gives{Shares: share(t, "targetingKey", 80_000, nil)}
	}))
	b := rules(t, boolean("f", func(d *flag.Document) {
		d.End = flag.Gives{Shares: share(t, "targetingKey", 300_000, nil)}
	}))
	p := everybody(30_000)
	s := Between(a, b, "f", p, now)
	want := 0
	for _, c := range p.Units {
		if at := bucket.Of(c.Key(), bucket.Seed("a1")); at >= 80_000 && at < 300_000 {
			want++
		}
	}
	if s.Moved.Counted != want || s.Moved.Units != int64(want) || s.Moved.Low != s.Moved.High || len(s.Moves) != 1 {
		t.Fatalf("moved %+v in %d moves, want %d", s.Moved, len(s.Moves), want)
	}
	if m := s.Moves[0]; m.From != "off" || m.To != "on" || m.By != AtEnd || m.Then != AtEnd ||
		len(m.Examples) != maxExamples {
		t.Errorf("%+v", m)
	}
	if s.Before["on"].Counted+want != s.After["on"].Counted || s.After["on"].Counted+s.After["off"].Counted != 30_000 {
		t.Errorf("before %+v, after %+v", s.Before, s.After)
	}
	for _, key := range s.Moves[0].Examples {
		if at := bucket.Of(key, bucket.Seed("a1")); at < 80_000 || at >= 300_000 {
			t.Errorf("example %s does not move", key)
		}
	}
}

func TestBranchesCountWhoIsOnThem(t *testing.T) {
	doc := boolean("f", func(d *flag.Document) {
		d.Rules = []flag.Rule{
			{ID: "staff", Name: "Staff",
				When:  when(t, `{"test":"string.begins","attribute":"targetingKey","text":["recipient-1"]}`),
				Gives: flag.Gives{Variant: "on"}},
			{ID: "north", Name: "North",
				When:  when(t, `{"test":"string.equals","attribute":"site.region","text":["north"]}`),
				Gives: flag.Gives{Shares: share(t, "site.id", 80_000, nil)}},
		}
	})
	s := Between(rules(t, boolean("f", nil)), rules(t, doc), "f", everybody(3_000), now)
	sum := 0
	for _, b := range s.Branches {
		sum += b.After.Counted
		parts := 0
		for _, g := range b.Gives {
			parts += g.Counted
		}
		if parts != b.After.Counted {
			t.Errorf("%s: %d units, %d by variant", b.Place, b.After.Counted, parts)
		}
	}
	if sum != 3_000 || s.Branches[0].Place != "staff" || s.Branches[0].After.Counted != 1_111 ||
		s.Branches[0].Before.Counted != 0 {
		t.Errorf("%+v", s.Branches)
	}
}

// An edit that moves nobody says why.
func TestBecause(t *testing.T) {
	north := when(t, `{"test":"string.equals","attribute":"site.region","text":["north"]}`)
	rule := func(r flag.Rule) func(*flag.Document) {
		if r.Gives.Variant == "" {
			r.Gives.Variant = "on"
		}
		r.ID, r.Name = "r", "New"
		return func(d *flag.Document) { d.Rules = append(d.Rules, r) }
	}
	above := func(d *flag.Document) {
		d.Rules = []flag.Rule{{ID: "n", Name: "North", When: north, Gives: flag.Gives{Variant: "on"}}}
	}
	for name, c := range map[string]struct {
		before, edit func(*flag.Document)
		want         string
	}{
		"off":    {func(d *flag.Document) { d.Lever = flag.Off }, rule(flag.Rule{}), "the flag is off"},
		"parked": {nil, rule(flag.Rule{Parked: true}), "nothing that decides is changed"},
		"renamed": {above, func(d *flag.Document) { d.Rules = slices.Clone(d.Rules); d.Rules[0].Name = "Nord" },
			"nothing that decides is changed"},
		"shadowed": {above, rule(flag.Rule{When: north, Gives: flag.Gives{Variant: "off"}}),
			`is shadowed: rule "North" above it`},
		"nobody": {nil,
			rule(flag.Rule{When: when(t, `{"test":"string.equals","attribute":"site.region","text":["Nord"]}`)}),
			"matches nobody who was seen"},
		"unknown": {nil,
			rule(flag.Rule{When: when(t, `{"test":"number.more","attribute":"crew_size","numbers":[1]}`)}),
			"its condition is unknown (crew_size is absent)"},
		"later": {nil,
			rule(flag.Rule{When: when(t, `{"test":"clock.at-or-after","text":["2027-03-01T06:00:00Z"]}`)}),
			"starts later: at 2027-03-01T06:00:00Z"},
		"already": {nil, rule(flag.Rule{When: north, Gives: flag.Gives{Variant: "off"}}),
			"gives its units what they get already"},
		"needs": {nil, func(d *flag.Document) {
			d.Needs = []flag.Need{{Flag: "other", Variant: "on"}}
			d.End.Variant = "on"
		}, "for nobody who was seen its needs are met"},
	} {
		other := boolean("other", nil)
		before := boolean("f", c.before)
		after := boolean("f", c.before)
		c.edit(after)
		s := Between(rules(t, before, other), rules(t, after, other), "f", everybody(900), now)
		if s.Moved.Counted != 0 || !strings.Contains(strings.Join(words.Texts(s.Because), "; "), c.want) {
			t.Errorf("%s: moved %d because %q, want %q", name, s.Moved.Counted, s.Because, c.want)
		}
	}
	s := Between(rules(t, boolean("f", nil)), rules(t, boolean("f", rule(flag.Rule{}))), "f", Population{Part: 1}, now)
	if s.Says.String() != "nobody was seen here yet, so nothing can be counted" || s.Certain {
		t.Errorf("nobody seen: %s", s.Says)
	}
}

func TestSweep(t *testing.T) {
	off := boolean("f", func(d *flag.Document) { d.Lever, d.End.Variant = flag.Off, "on" })
	on := boolean("f", func(d *flag.Document) { d.End.Variant = "on" })
	some := boolean("f", func(d *flag.Document) { d.End = flag.Gives{Shares: share(t, "targetingKey", 990_000, nil)} })
	for _, p := range []Population{everybody(500), {Part: 1}} {
		if !Between(rules(t, off), rules(t, on), "f", p, now).Sweep {
			t.Errorf("off to everyone among %d is no sweep", len(p.Units))
		}
		if Between(rules(t, off), rules(t, some), "f", p, now).Sweep || Between(rules(t, on), rules(t, on), "f", p,
			now).Sweep || Between(rules(t, some), rules(t, on), "f", p, now).Sweep {
			t.Errorf("a step among %d is a sweep", len(p.Units))
		}
	}
}

func TestDependents(t *testing.T) {
	a := boolean("a", func(d *flag.Document) {
		d.Rules = []flag.Rule{{ID: "1", Name: "s", When: &condition.Node{Test: condition.SegmentTest,
			Segment: "outer"}, Gives: flag.Gives{Variant: "on"}}}
	})
	b := boolean("b", func(d *flag.Document) { d.Needs = []flag.Need{{Flag: "a", Variant: "on"}} })
	c := boolean("c", func(d *flag.Document) {
		d.Rules = []flag.Rule{{ID: "1", Name: "g", When: &condition.Node{Test: condition.FlagTest, Flag: "b",
			Text: []string{"on"}}, Gives: flag.Gives{Variant: "on"}}}
	})
	rs := rules(t, a, b, c, boolean("d", nil))
	next, err := rs.With(nil, []*flag.Segment{{Key: "inner"},
		{Key: "outer", When: &condition.Node{Test: condition.SegmentTest, Segment: "inner"}}})
	if err != nil {
		t.Fatal(err)
	}
	if got := Dependents(next, nil, []string{"inner"}); !slices.Equal(got, []string{"a", "b", "c"}) {
		t.Errorf("of the segment: %v", got)
	}
	if got := Dependents(next, []string{"b"}, nil); !slices.Equal(got, []string{"b", "c"}) {
		t.Errorf("of the flag: %v", got)
	}
}

// Half of the sites are nine tenths of the recipients where busy sites are drawn.
func TestDraw(t *testing.T) {
	s := share(t, "site.id", 80_000, nil)
	var sites Population
	sites.Part = 1
	want := 0
	for i := range 600 {
		sites.Units = append(sites.Units, unit(i))
		if bucket.Of(fmt.Sprint("site-", i), bucket.Seed("a1")) < 80_000 {
			want++
		}
	}
	d := Draw(s, "site.id", sites, condition.Intern("site.id"))
	if d.Units.Units != 600 || d.Parts["on"].Counted != want || d.Parts["on"].Counted+d.Parts["off"].Counted != 600 {
		t.Errorf("%+v, want %d", d, want)
	}
}

// On a skewed population, where few units make most calls, the bounds of a sample hold in
// at least 93 of 100 runs: for the number that moves, and for its share.
func TestBoundsHold(t *testing.T) {
	if testing.Short() {
		t.Skip("a hundred populations")
	}
	const size = 12_000
	all := everybody(size)
	a := rules(t, boolean("f", nil))
	b := rules(t, boolean("f", func(d *flag.Document) {
		d.Rules = []flag.Rule{{ID: "n", Name: "North",
			When:  when(t, `{"test":"string.equals","attribute":"site.region","text":["north"]}`),
			Gives: flag.Gives{Shares: share(t, "site.id", 300_000, nil)}}}
	}))
	truth := Between(a, b, "f", all, now).Moved
	rng := rand.New(rand.NewPCG(5, 6))
	held, heldShare, heldAll := 0, 0, 0
	for run := range 100 {
		units := sample.NewUnits()
		for i, c := range all.Units { // each once, in any order; a few a thousand times
			calls := 1
			if i%400 == 0 {
				calls = 1 + rng.IntN(2_000)
			}
			h := sample.Hash(uint64(run)*7919+1, c.Key())
			for range calls {
				if h < units.Limit() {
					units.Add(h, c.Key(), c, now)
				}
			}
		}
		cover := sample.WholeCover()
		cover.Use = units.Limit()
		p := Population{Part: cover.Part()}
		for _, u := range units.All() {
			if u.Hash < cover.Use {
				p.Units = append(p.Units, u.Context)
			}
		}
		s := Between(a, b, "f", p, now)
		if s.Moved.Low <= truth.Units && truth.Units <= s.Moved.High {
			held++
		}
		if s.Moved.ShareLow <= truth.Share && truth.Share <= s.Moved.ShareHigh {
			heldShare++
		}
		if s.Units.Low <= size && size <= s.Units.High {
			heldAll++
		}
		if s.Moved.High > 2*truth.Units {
			t.Fatalf("bounds %d to %d around %d say nothing", s.Moved.Low, s.Moved.High, truth.Units)
		}
	}
	t.Logf("bounds held: number %d, share %d, all units %d of 100", held, heldShare, heldAll)
	if held < 93 || heldShare < 93 || heldAll < 93 {
		t.Errorf("bounds held in %d, %d, %d of 100 runs", held, heldShare, heldAll)
	}
}

// The range by chance holds what many draws give, in about 95 of 100 cases or more.
func TestChanceRange(t *testing.T) {
	for _, c := range []struct {
		n         int
		p         float64
		low, high int
	}{{0, .5, 0, 0}, {10, 0, 0, 0}, {10, 1, 10, 10}, {5, .5, 0, 5}, {100, .5, 40, 60}, {12, .08, 0, 3}} {
		if low, high := ChanceRange(c.n, c.p); low != c.low || high != c.high {
			t.Errorf("%d at %g: %d to %d, want %d to %d", c.n, c.p, low, high, c.low, c.high)
		}
	}
	rng := rand.New(rand.NewPCG(8, 8))
	for _, p := range []float64{.01, .08, .3, .65, .97} {
		low, high := ChanceRange(40, p)
		inside := 0
		for range 5_000 {
			k := 0
			for range 40 {
				if rng.Float64() < p {
					k++
				}
			}
			if low <= k && k <= high {
				inside++
			}
		}
		if inside < 4_700 {
			t.Errorf("at %g %d to %d holds %d of 5000", p, low, high, inside)
		}
	}
}
