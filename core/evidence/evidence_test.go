package evidence

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"greenlever.example/core/bucket"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
)

func names(units string) words.Said { return words.Plain(units) }

// members makes closed units of both arms, of one stage and cohort.
func members(r *rand.Rand, n int, level, times float64, m *Metric) (all []Unit) {
	for i := range n {
		u := Unit{Arm: Old, Exposed: int64(i) * 100, Events: [][]Event{nil}}
		if r.IntN(4) == 0 {
			u.Arm = New
		}
		p := level
		if u.Arm == New {
			p *= times
		}
		if m.Kind != Rate {
			u.Events[0] = m.Keep(nil, Event{u.Exposed + 1, p * (1 + r.Float64()), r.Uint64()})
		} else if r.Float64() < p {
			u.Events[0] = m.Keep(nil, Event{u.Exposed + 1, 1, r.Uint64()})
		}
		all = append(all, u)
	}
	return all
}

func ceil(at int64) int64 { return at - at%int64(Beat) + int64(Beat) }

// However often one looks, however much is taken at once, and whoever goes on with it: what was found is the same,
// bit by bit.
func TestWhoLooksAndWhenChangesNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for _, m := range []Metric{rateOf(Tolerance{Relative: .1}, false), rateOf(Tolerance{Relative: .1}, true),
		valueOf(Typical), valueOf(Mean), valueOf(High)} {
		if m.Kind == Rate && !m.Common {
			limit := .2
			m.Limit = &limit
		}
		level := .1
		if m.Kind != Rate {
			level = 300
		}
		setup := Setup{Watches: []Watch{{Metric: m, OnHarm: RollBack}}, Widths: []Width{{50_000, 200_000}},
			Alpha: Alpha,
			Run:   1, Planned: 1}
		units := members(r, 3_000, level, 1.3, &m)
		end := ceil(units[len(units)-1].Exposed)
		once, err := Resume(setup, State{})
		if err != nil {
			t.Fatal(err)
		}
		once.See(end, units)
		once.Fold(0, end, units)
		want := once.Look(0, end)

		often := State{}
		for to := int64(Beat); to <= end; to += int64(Beat) * int64(1+r.IntN(4)) {
			often = looked(t, setup, often, min(to, end), units)
		}
		often = looked(t, setup, often, end, units)
		again, err := Resume(setup, often)
		if err != nil {
			t.Fatal(err)
		}
		if got := again.Look(0, end); !sameFindings(got, want) {
			t.Errorf("%s: once\n%s\noften\n%s", m.Kind, text(t, want), text(t, got))
		}
		if want.Watches[0].New.Units < 500 || want.Watches[0].LnHarm <= 0 {
			t.Errorf("%s: %s", m.Kind, text(t, want))
		}
	}
}

// sameFindings compares all but when harm was found, which is the time of a look.
func sameFindings(a, b *Findings) bool {
	return reflect.DeepEqual(a.Watches, b.Watches) && a.Broken == b.Broken && a.Seen == b.Seen && a.Closed == b.Closed
}

func text(t *testing.T, v any) string {
	t.Helper()
	raw, err := json.MarshalIndent(v, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}

// looked is a look by another process: the state goes over JSON.
func looked(t *testing.T, setup Setup, s State, to int64, units []Unit) State {
	t.Helper()
	var read State
	if err := json.Unmarshal([]byte(text(t, s)), &read); err != nil {
		t.Fatal(err)
	}
	r, err := Resume(setup, read)
	if err != nil {
		t.Fatal(err)
	}
	r.See(to, units)
	r.Fold(0, to, units)
	r.Look(0, to)
	return r.Keep()
}

// The order in which things arrive, and how often, bears on nothing.
func TestOrderOfArrivalBearsOnNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	watches := []Watch{{Metric: rateOf(Tolerance{Relative: .1}, false)}, {Metric: valueOf(Typical)}}
	for range 2_000 {
		type step func(u *Unit)
		var steps []step
		first := int64(100_000 + r.IntN(1_000))
		for range 1 + r.IntN(3) {
			e := Exposure{At: first + int64(r.IntN(20_000)), Arm: New}
			steps = append(steps, func(u *Unit) { u.Expose(e, 0) })
		}
		for range r.IntN(10) {
			i, e := r.IntN(2), Event{At: first - 20_000 + int64(r.IntN(80_000)), Value: 1, ID: r.Uint64()}
			hear := func(u *Unit) { u.Hear(watches, i, e, 0) }
			steps = append(steps, hear, hear)
		}
		outcome := func() (out []float64) {
			u := &Unit{}
			r.Shuffle(len(steps), func(i, j int) { steps[i], steps[j] = steps[j], steps[i] })
			for _, s := range steps {
				s(u)
			}
			raw := AppendEvents(nil, u.Events)
			read, err := ReadEvents(raw)
			if err != nil || !bytes.Equal(AppendEvents(nil, read), raw) {
				t.Fatalf("%v is read as %v, %v", u.Events, read, err)
			}
			for i := range watches {
				var events []Event
				if i < len(read) {
					events = read[i]
				}
				v, _ := watches[i].Metric.Outcome(events, u.Exposed)
				out = append(out, v, float64(u.Exposed))
			}
			return out
		}
		if a, b := outcome(), outcome(); !slices.Equal(a, b) {
			t.Fatalf("%v in one order, %v in another", a, b)
		}
	}
}

// What is broken, cut or longer than it says is refused, and asks for no memory.
func TestEventsAreReadWithCare(t *testing.T) {
	raw := AppendEvents(nil, [][]Event{{{1, 2, 3}}, {{4, 5, 6}, {7, 8, 9}}})
	for i := 1; i < len(raw); i++ {
		if _, err := ReadEvents(raw[:i]); err == nil {
			t.Errorf("%d bytes of %d are read", i, len(raw))
		}
	}
	if _, err := ReadEvents([]byte{255, 255, 255, 255, 255, 255, 255, 255, 1}); err == nil {
		t.Error("more watches than bytes are read")
	}
}

// Each bucket belongs to at most one arm, keeps it while stages compare, and joins it at one stage.
func TestArmsOfBuckets(t *testing.T) {
	s := &Setup{Widths: append([]Width{{}}, append(slices.Clone(three), Width{bucket.Buckets, 0})...)}
	for at := uint32(0); at < bucket.Buckets; at += 997 {
		was, joined := NoArm, -1
		for stage := range s.Widths {
			arm, cohort := s.Place(at, stage)
			switch {
			case stage == 0 && arm != NoArm, stage == 4 && arm != Alone:
				t.Fatalf("bucket %d is in arm %d at stage %d", at, arm, stage)
			case stage == 4:
			case was != NoArm && (arm != was || cohort != joined):
				t.Fatalf("bucket %d goes from arm %d of stage %d to %d of %d", at, was, joined, arm, cohort)
			case was == NoArm && arm != NoArm:
				if was, joined = arm, stage; cohort != stage {
					t.Fatalf("bucket %d joins at stage %d, not %d", at, cohort, stage)
				}
			}
		}
		if !s.Reaches(at, 4) || s.Reaches(at, 0) || s.Reaches(at, 2) != (at < 80_000 || at >= 800_000) {
			t.Fatalf("bucket %d is reached at the wrong stages", at)
		}
	}
}

// A unit that was open when the old arm went over to the new variant counts nowhere.
func TestUnitsThatChangeSidesDoNotCount(t *testing.T) {
	m := rateOf(Tolerance{Relative: .1}, false)
	setup := Setup{Watches: []Watch{{Metric: m, OnHarm: RollBack}}, Widths: []Width{{50_000, 200_000}}, Alpha: Alpha,
		Run: 1, Planned: 1,
		Converted: 500_000}
	units := members(rand.New(rand.NewPCG(3, 3)), 9_000, .1, 1, &m)
	run, err := Resume(setup, State{})
	if err != nil {
		t.Fatal(err)
	}
	run.Fold(0, ceil(900_000), units)
	n := 0
	for _, u := range units {
		if u.Exposed+int64(m.Closing()) <= setup.Converted {
			n++
		}
	}
	f := run.Look(0, 900_000).Watches[0]
	if got := f.New.Units + f.Old.Units; got > int64(n) || got < int64(n)-20 {
		t.Errorf("%d units count of %d that closed before", got, n)
	}
}

// Each reaction has a sum of its own, over the watches that ask for it or for more.
func TestReactions(t *testing.T) {
	m, worse := rateOf(Tolerance{Relative: .1}, false), rateOf(Tolerance{Relative: .1}, false)
	m.Key, worse.Key = "help-called", "door-open-failed"
	r := rand.New(rand.NewPCG(4, 4))
	for _, c := range []struct {
		first, second Reaction // of the one that is harmed, and of the other
		want          []Reaction
	}{{RollBack, Tell, []Reaction{RollBack, Tell}}, {Tell, RollBack, []Reaction{Tell}},
		{Hold, RollBack, []Reaction{Hold}}, {Hold, Hold, []Reaction{Hold}}} {
		setup := Setup{Watches: []Watch{{Metric: worse, OnHarm: c.first}, {Metric: m, OnHarm: c.second}},
			Widths: []Width{{50_000, 200_000}}, Alpha: Alpha, Run: 1, Planned: 1}
		units := members(r, 5_000, .1, 2.5, &worse)
		calm := members(r, 5_000, .1, 1, &m)
		for i := range units {
			units[i].Events = append(units[i].Events, calm[i].Events[0])
		}
		run, err := Resume(setup, State{})
		if err != nil {
			t.Fatal(err)
		}
		for i := range setup.Watches {
			run.Fold(i, ceil(500_000), units)
		}
		f := run.Look(0, 1)
		var got []Reaction
		for _, h := range f.Reacted {
			if got = append(got, h.Reaction); h.Finding.Metric != worse.Key {
				t.Errorf("harm of %s is named", h.Finding.Metric)
			}
		}
		if !slices.Equal(got, c.want) || f.Watches[0].Verdict != Harm || f.Watches[1].Verdict == Harm {
			t.Errorf("%s and %s: %v, %s", c.first, c.second, got, text(t, f.Watches))
		}
	}
}

// What a release owner reads of each situation.
func TestSentences(t *testing.T) {
	m := rateOf(Tolerance{Relative: .1}, false)
	limit := .05
	for _, c := range []struct {
		name  string
		limit *float64
		n     int
		level float64
		times float64
		alone bool
		want  string
	}{
		{"harm", nil, 6_000, .1, 2.5, false, `"Failed": 2.2 to 3.5 times as often on the new side as on the old one ` +
			`(up to 1.1 times is tolerated). This is harm. It happened to 26 % of 1470 recipients with the new variant, ` +
			`and to 9.5 % of 4530 with the old one.`},
		{"undecided", nil, 600, .1, 1, false, "No harm so far, and not yet clear. It happened to "},
		{"clear", nil, 60_000, .3, .9, false, "is tolerated). This is clear. It happened to "},
		{"the old side fails", nil, 9_000, .3, .2, false, "The new side is better: at least 69 % less"},
		{"nothing", nil, 0, .1, 1, false, "the outcome of no recipients is known yet."},
		{"alone", &limit, 300, .02, 1, true, "Nothing is kept to compare it with; it is held to at most 5 %."},
		{"over the limit", &limit, 600, .2, 1, true, "is over its limit of 5 % on the new side. This is harm. "},
		{"seldom", nil, 400, .02, 1, false, "No harm so far"},
	} {
		m.Limit = c.limit
		setup := Setup{Watches: []Watch{{Metric: m, OnHarm: RollBack}}, Widths: []Width{{50_000, 200_000}},
			Alpha: Alpha,
			Run:   1, Planned: 1}
		units := members(rand.New(rand.NewPCG(5, 5)), c.n, c.level, c.times, &m)
		for i := range units {
			if c.alone {
				units[i].Arm = Alone
			}
		}
		run, err := Resume(setup, State{})
		if err != nil {
			t.Fatal(err)
		}
		run.Fold(0, ceil(int64(c.n)*100), units)
		f := run.Look(0, 1).Watches[0]
		if got := f.Says(names("recipients")).String(); !strings.Contains(got, c.want) {
			t.Errorf("%s: %s", c.name, got)
		}
	}
	broken := Findings{Seen: Cohort{400, 1_000}, Share: 1. / 3}
	if got := broken.SaysBroken(names("recipients")).String(); !strings.Contains(got,
		"400 and 1000 recipients, of which "+
			"the new one should have 33 %") {
		t.Error(got)
	}
}

func TestMetricsAreChecked(t *testing.T) {
	half := .5
	for place, spoil := range map[string]func(*Metric){
		"key": func(m *Metric) { m.Key = "Door!" }, "title": func(m *Metric) { m.Title = "" },
		"kind": func(m *Metric) { m.Kind = "count" }, "better": func(m *Metric) { m.Better = "faster" },
		"reduce": func(m *Metric) { m.Reduce = Sum }, "window": func(m *Metric) { m.Window = 15_000 },
		"grace": func(m *Metric) { m.Grace = 0 }, "tolerance.relative": func(m *Metric) { m.Tolerance.Relative = -1 },
		"tolerance.absolute": func(m *Metric) { m.Tolerance.Absolute = 1 }, "cap": func(m *Metric) { m.Cap = 5 },
		"limit":  func(m *Metric) { m.Kind, m.Limit = Typical, &half },
		"common": func(m *Metric) { m.Kind, m.Common = Typical, true }, "base": func(m *Metric) { m.Base = 1 },
		"flags": func(m *Metric) { m.Flags = make([]string, 101) }, "by": func(m *Metric) { m.By = "" },
	} {
		m := rateOf(Tolerance{Relative: .1}, false)
		if found := m.Check(); len(found) > 0 {
			t.Fatalf("%v", found)
		}
		spoil(&m)
		if found := m.Check(); !slices.ContainsFunc(found, func(p flag.Problem) bool { return p.Place == place }) {
			t.Errorf("%s: %v", place, found)
		}
	}
	m := rateOf(Tolerance{}, false)
	m.By = "site.id"
	if m.Suits("targetingKey") == "" || m.Suits("site.id") != "" {
		t.Error("a metric that is counted by another unit suits without a way to reduce it")
	}
	two := []Watch{{Metric: m, OnHarm: "shout"}, {Metric: m, OnHarm: Tell, Weight: -1}}
	if found := CheckWatches("watches", two); len(found) != 3 {
		t.Errorf("%v", found)
	}
}

// A value that a metric cannot have is refused where it arrives.
func TestValues(t *testing.T) {
	rate, typical := rateOf(Tolerance{}, false), valueOf(Typical)
	for _, c := range []struct {
		m     *Metric
		v     float64
		taken bool
	}{{&rate, 1, true}, {&rate, 0, true}, {&rate, .5, false}, {&typical, 0, false}, {&typical, 3, true}} {
		if got := c.m.Takes(c.v) == ""; got != c.taken {
			t.Errorf("%s %g: %t", c.m.Kind, c.v, got)
		}
	}
}

// Of several new variants each is compared for itself: one that hurts is named, and what it does is not laid to
// another one. They share the chance of an error.
func TestSeveralNewVariants(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	m := rateOf(Tolerance{Relative: .1}, false)
	m.Title = "Doors"
	news := []string{"traffic-aware", "learned"}
	setup := Setup{Watches: Each([]Watch{{Metric: m, OnHarm: Tell}}, news), News: news, Alpha: Alpha, Run: 1, Planned: 1,
		Widths: []Width{{200_000, 200_000}}}
	run, err := Resume(setup, State{})
	if err != nil {
		t.Fatal(err)
	}
	var units []Unit
	for i := range 6_000 {
		at := uint32(r.IntN(400_000))
		u := Unit{Arm: New, Exposed: int64(i) * 100, Events: make([][]Event, 2)}
		if at >= 200_000 {
			u.Arm = Old
		} else {
			u.Way = setup.Way(at)
		}
		p := .05
		if u.Arm == New && news[u.Way] == "learned" {
			p = .25
		}
		if r.Float64() < p {
			for w := range u.Events {
				u.Events[w] = m.Keep(nil, Event{u.Exposed + 1, 1, uint64(i + 1)})
			}
		}
		units = append(units, u)
	}
	end := ceil(units[len(units)-1].Exposed)
	run.See(end, units)
	run.Fold(0, end, units)
	run.Fold(1, end, units)
	f := run.Look(0, end)
	if len(f.Reacted) != 1 || f.Watches[f.Reacted[0].Watch].Variant != "learned" || f.Watches[0].Verdict == Harm || f.Broken {
		t.Fatal(text(t, f))
	}
	if n := f.Watches[0].New.Units + f.Watches[1].New.Units; f.Watches[0].Old.Units != f.Watches[1].Old.Units || n != f.Seen.New {
		t.Errorf("of %d units of the new side %d are compared", f.Seen.New, n)
	}
	if said := f.Watches[1].Says(names("recipients")).String(); !strings.Contains(said, "\"Doors\" with `learned`: ") ||
		!strings.Contains(said, " recipients with `learned`, and to ") {
		t.Error(said)
	}
	if said := f.Summary(); said != "Harm found: Doors with learned." {
		t.Error(said)
	}
	if got := setup.AlphaClear(); got != Alpha/2 {
		t.Errorf("a false clear of one has a chance of %g", got)
	}
	if got := Each(setup.Watches, nil); len(got) != 1 || got[0].Variant != "" {
		t.Errorf("they were asked for as %+v", got)
	}
}
