package stage

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/evidence"
	gl "greenlever.example/core/flag"
)

var update = flag.Bool("update", false, "write the stories' timelines anew")

func is(attribute, value string) *condition.Node {
	return &condition.Node{Test: "string.equals", Attribute: attribute, Text: []string{value}}
}

func ladder() []Stage {
	return []Stage{{Name: "self", Who: is(condition.KeyAttribute, "u7")}, {Name: "staff", Who: is("badge", "yes")},
		{Name: "2 %", Share: 20_000}, {Name: "8 %", Share: 80_000}, {Name: "30 %", Share: 300_000},
		{Name: "65 %", Share: 650_000}, {Name: "100 %", Share: 1_000_000}}
}

func plan() Plan {
	return Plan{From: "off", To: "on", By: []string{condition.KeyAttribute}, Salt: "pinecrest", Stages: ladder()}
}

// A story is a plan and what happens, and the timeline is what comes of it.
func TestStories(t *testing.T) {
	files, err := filepath.Glob("testdata/*.story")
	if err != nil || len(files) < 8 {
		t.Fatalf("%d stories, %v", len(files), err)
	}
	for _, path := range files {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".story"), func(t *testing.T) {
			raw, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			story, want, _ := strings.Cut(string(raw), "\n---\n")
			got := narrate(t, story)
			if *update {
				if err := os.WriteFile(path, []byte(story+"\n---\n"+got), 0o600); err != nil {
					t.Fatal(err)
				}
				return
			}
			if got != want {
				t.Errorf("the timeline is\n%s\nand was to be\n%s", got, want)
			}
		})
	}
}

// narrate reads "plan JSON" and then lines of a time and an event, and tells what comes of each.
func narrate(t *testing.T, story string) string {
	t.Helper()
	var s State
	var out strings.Builder
	start := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC).UnixMilli()
	for _, line := range strings.Split(story, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		at, rest, _ := strings.Cut(line, " ")
		if at == "plan" {
			p := plan()
			p.Stages = nil
			if err := json.Unmarshal([]byte(rest), &p); err != nil {
				t.Fatalf("%s: %v", line, err)
			}
			if problems := p.Check(); len(problems) > 0 {
				t.Fatalf("%s: %v", line, problems)
			}
			if p.Begin > 0 {
				p.Begin += start
			}
			s = Begin(p, "a", 0, start)
			continue
		}
		var after Span
		if err := after.UnmarshalText([]byte(at)); err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		do, with, _ := strings.Cut(rest, " ")
		e := Event{Do: Do(do)}
		if e.Do == Look {
			e.Facts = &Facts{}
			with = `{"facts":` + orEmpty(with) + `}`
		}
		if err := json.Unmarshal([]byte(orEmpty(with)), &e); err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		now := start + int64(after)
		next, effects, err := Step(s, e, now)
		fmt.Fprintf(&out, "%-8s %-9s ", at, do)
		if err != nil {
			fmt.Fprintf(&out, "is refused: %s\n", err)
			continue
		}
		s = next
		if effects.Tell == "" {
			fmt.Fprintf(&out, "nothing: %s\n", Says(&s, e.Facts, nil, now))
			continue
		}
		fmt.Fprintf(&out, "%s%s: %s\n", effects.Tell, map[bool]string{true: " (serves)"}[effects.Serve],
			Says(&s, e.Facts, nil, now))
	}
	return out.String()
}

func orEmpty(s string) string {
	if s == "" {
		return "{}"
	}
	return s
}

func TestOldArms(t *testing.T) {
	got := OldArms(ladder())
	want := []uint32{0, 0, 80_000, 170_000, 260_000, 350_000, 0}
	if !slices.Equal(got, want) {
		t.Errorf("old arms are %v, and were to be %v", got, want)
	}
	rng := rand.New(rand.NewPCG(3, 4))
	for range 2_000 {
		var stages []Stage
		last := uint32(0)
		for range rng.IntN(8) {
			last += 1 + rng.Uint32N(bucket.Buckets/8)
			if last >= bucket.Buckets {
				break
			}
			stages = append(stages, Stage{Share: last})
		}
		if last >= bucket.Buckets || rng.IntN(2) == 0 {
			stages = append(stages, Stage{Share: bucket.Buckets})
		}
		most := uint32(0)
		for _, s := range stages {
			if s.Share < bucket.Buckets {
				most = max(most, s.Share)
			}
		}
		before := uint32(0)
		for i, w := range OldArms(stages) {
			s := stages[i].Share
			if s == bucket.Buckets {
				if w != 0 {
					t.Fatal("100 % has an old arm")
				}
				continue
			}
			if w < before || most+w > bucket.Buckets || uint64(w) > oldPerNew*uint64(s) {
				t.Fatalf("the old arm of %v at %d is %d, before it %d", stages, i, w, before)
			}
			if w == before && bucket.Buckets-most >= uint32(len(stages)) && w < bucket.Buckets-most {
				t.Fatalf("stage %d of %v adds nobody to the old arm", i, stages)
			}
			before = w
		}
	}
}

func document() *gl.Document {
	return &gl.Document{Key: "night-batching", Type: gl.Boolean, Lever: gl.On, Resting: "off",
		End: gl.Gives{Variant: "off"},
		Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false"),
			"third": json.RawMessage("false")},
		Rules: []gl.Rule{{ID: "top", Name: "never", When: is("never", "yes"), Gives: gl.Gives{Variant: "off"},
			OnUnknown: gl.Skip},
			{ID: "below", Name: "third", When: is("third", "yes"), Gives: gl.Gives{Variant: "third"}}}}
}

func serving(d *gl.Document, s *State, id string) *gl.Document {
	out := *d
	out.Rules = Put(d.Rules, id, s.Plan.Group(id, s.At, s.Run), s.Plan.Above)
	return &out
}

func compiled(t *testing.T, d *gl.Document) (*decide.Ruleset, *decide.Flag) {
	t.Helper()
	if problems := d.Check(); len(problems) > 0 {
		t.Fatalf("the document cannot stand: %v", problems)
	}
	source, err := gl.NewRuleset(&gl.Snapshot{Format: gl.Format})
	if err != nil {
		t.Fatal(err)
	}
	rs, err := decide.Compile(source, nil).With([]*gl.Document{d}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return rs, rs.Flag(d.Key)
}

// Whoever has the new variant keeps it through all stages, those of the old arm stay with the old one
// until 100 %, and the rest is decided by what follows.
func TestGroupTakesFromNobody(t *testing.T) {
	p := plan()
	p.OldArm, p.Where = true, is("where", "here")
	var units []*condition.Context
	for i := range 4_000 {
		attributes := []condition.Attribute{}
		for j, name := range []string{"badge", "never", "third", "where"} {
			if i>>j&1 == 1 {
				attributes = append(attributes, condition.Attribute{Name: condition.Intern(name),
					Value: condition.TextValue(map[bool]string{true: "here", false: "yes"}[name == "where"])})
			}
		}
		units = append(units, condition.NewContext(fmt.Sprintf("u%d", i), attributes...))
	}
	had := map[int]bool{}
	s := State{Plan: p}
	for s.At = range p.Stages {
		s.Plan.Above = ""
		d := serving(document(), &s, "release-1")
		if d.Rules[0].ID != "top" || d.Rules[len(d.Rules)-1].Release == "" {
			t.Fatalf("the group stands elsewhere: %v", d.Rules)
		}
		s.Plan.Above = "below"
		d = serving(document(), &s, "release-1")
		rs, f := compiled(t, d)
		gave := map[string]int{}
		for i, c := range units {
			v := f.Variant(f.Decide(rs, c, 0).Variant).Name
			gave[v]++
			if had[i] && v != "on" {
				t.Fatalf("stage %d takes from unit %d", s.At, i)
			}
			had[i] = v == "on"
			here := i>>3&1 == 1
			never := i>>1&1 == 1
			switch {
			case (never || !here) && v == "on":
				t.Fatalf("unit %d has it", i)
			case s.At == 0 && v == "on" && i != 7, s.At == 6 && here && !never && v != "on":
				t.Fatalf("unit %d gets %s at stage %d: %+v", i, v, s.At, d.Rules)
			}
		}
		if s.At >= 2 && s.At < 6 { // the old arm: those who would get the third, and get the old one
			group := Owned(d.Rules, "release-1")
			parts := group[len(group)-1].Gives.Shares.Parts
			rest := map[bool]int{true: 0, false: 1}[s.At == 5] // at 65 % the two arms are everybody
			if len(parts) != 2+rest || parts[1].Variant != "off" || parts[1].Share != OldArms(p.Stages)[s.At] {
				t.Errorf("parts of stage %d are %v", s.At, parts)
			}
		}
		if s.At == 6 && gave["on"] < 900 {
			t.Errorf("at 100 %% %d units have it", gave["on"])
		}
	}
	d := serving(document(), &s, "release-1")
	if back := Take(d.Rules, "release-1"); !reflect.DeepEqual(back, document().Rules) {
		t.Errorf("a roll back leaves %v", back)
	}
}

// An older process, which knows no releases, decides the same: the mark is one more unknown field.
func TestAMarkDecidesNothing(t *testing.T) {
	s := State{Plan: plan(), At: 4}
	d := serving(document(), &s, "release-1")
	plain := *d
	plain.Rules = slices.Clone(d.Rules)
	for i := range plain.Rules {
		plain.Rules[i].Release = ""
	}
	rs, f := compiled(t, d)
	rs2, f2 := compiled(t, &plain)
	for i := range 2_000 {
		c := condition.NewContext(fmt.Sprintf("u%d", i))
		a, b := f.Decide(rs, c, 0), f2.Decide(rs2, c, 0)
		if a != b {
			t.Fatalf("unit %d gets %v with marks, %v without", i, a, b)
		}
	}
}

func TestFold(t *testing.T) {
	s := State{Plan: plan(), At: 6}
	d := document()
	d.Rules = append([]gl.Rule{{ID: "me", Name: "me", When: is("me", "yes"), Gives: gl.Gives{Variant: "off"}},
		{ID: "early", Name: "early", When: is("early", "yes"), Gives: gl.Gives{Variant: "on"}}}, d.Rules[1:]...)
	s.Plan.Above = "below"
	d = serving(d, &s, "r")
	ids := func(rules []gl.Rule) (all []string) {
		for _, r := range rules {
			all = append(all, r.ID)
		}
		return all
	}
	if got := ids(s.Plan.Unneeded(d, "r")); !slices.Equal(got, []string{"early", "below"}) {
		t.Errorf("unneeded are %v", got)
	}
	kept := s.Plan.Fold(d, "r", nil)
	if got := ids(kept.Rules); !slices.Equal(got, []string{"me", "early", "rr-f", "below"}) ||
		kept.End.Variant != "off" {
		t.Errorf("with a rule below it folds to %v, end %v", got, kept.End)
	}
	whole := s.Plan.Fold(d, "r", []string{"early", "below"})
	if got := ids(whole.Rules); !slices.Equal(got, []string{"me"}) || whole.End.Variant != "on" {
		t.Errorf("it folds to %v, end %v", got, whole.End)
	}
	s.Plan.Where = is("where", "here")
	d = serving(document(), &s, "r")
	where := s.Plan.Fold(d, "r", nil)
	if i := slices.IndexFunc(where.Rules, func(r gl.Rule) bool { return r.ID == "rr-f" }); i < 0 ||
		!where.Rules[i].When.Equal(s.Plan.Where) || where.Rules[i].Release != "" || len(s.Plan.Unneeded(d, "r")) > 0 {
		t.Errorf("with a condition it folds to %v", where.Rules)
	}
	for _, f := range []*gl.Document{kept, whole, where} {
		compiled(t, f)
	}
}

// randomEvent is any event, sensible or not.
func randomEvent(rng *rand.Rand, s *State) Event {
	e := Event{Do: Deeds()[rng.IntN(len(Deeds()))], Because: "a reason"}
	if rng.IntN(3) > 0 {
		e.Do = Look
	}
	f := &Facts{Of: 10, Arrived: rng.IntN(14), Units: rng.Int64N(200), Closed: rng.IntN(5) == 0, Around: "a",
		Stops: s.Stops}
	if rng.IntN(12) == 0 {
		f.Around = fmt.Sprint(rng.IntN(5))
	}
	if rng.IntN(12) == 0 {
		f.Blocks = []Block{{[]Why{ByStop, ByNeed, ByLever, ByRight, ByGate}[rng.IntN(5)], "something is in the way"}}
		f.Stops++
	}
	e.Facts = f
	if len(s.Plan.Watches) > 0 && rng.IntN(6) > 0 {
		f.Found = randomFound(rng, s)
	}
	switch e.Do {
	case Sign, Decline:
		e.Roles = [][]string{{"releaser"}, {"auditor"}, nil}[rng.IntN(3)]
	case Edit:
		e.Stages = slices.Clone(s.Plan.Stages)
		switch n := len(e.Stages); rng.IntN(4) {
		case 0:
			e.Stages = e.Stages[:rng.IntN(n)+1]
		case 1:
			e.Stages = append(e.Stages, Stage{Name: fmt.Sprint("s", n), Share: rng.Uint32N(bucket.Buckets + 10)})
		case 2:
			e.Stages[rng.IntN(n)].Share += rng.Uint32N(100_000)
		case 3:
			e.Stages[rng.IntN(n)].Least = Span(rng.Int64N(100_000))
		}
	case RollBack, Finish:
		if rng.IntN(20) > 0 && s.At >= 0 && !s.Is.Over() {
			e.Do = Look
		}
	}
	return e
}

// watch is a watch whose outcomes are known after 20 s.
func watch() []evidence.Watch {
	return []evidence.Watch{{OnHarm: evidence.RollBack, Metric: evidence.Metric{Key: "door-open-failed",
		Title: "Failed",
		Kind:  evidence.Rate, Better: evidence.Lower, By: condition.KeyAttribute, Window: 10_000, Grace: 10_000}}}
}

// randomFound is what watches may have found, of the present run or of another one.
func randomFound(rng *rand.Rand, s *State) *Found {
	f := &Found{Run: s.Run - rng.IntN(10)/9, Stage: s.At - rng.IntN(10)/9, Clear: rng.IntN(2) == 0, Short: "x"}
	if rng.IntN(8) == 0 {
		f.Harm = append(f.Harm, HarmDone{evidence.Reactions()[rng.IntN(3)], "door-open-failed", "it hurts"})
	}
	if rng.IntN(12) == 0 {
		f.Ratio = "the sides are not as they should be"
	}
	if rng.IntN(12) == 0 {
		f.Blind = "nobody looks"
	}
	return f
}

func randomPlan(rng *rand.Rand) Plan {
	p := plan()
	p.OldArm = rng.IntN(2) == 0
	p.Delivery = Delivery{rng.IntN(101), Span(rng.Int64N(60_000))}
	if rng.IntN(2) == 0 {
		p.Watches = watch()
	}
	for i := range p.Stages {
		s := &p.Stages[i]
		s.Least, s.Units = Span(rng.Int64N(60_000)), rng.Int64N(100)
		if rng.IntN(2) == 0 {
			s.Longest = s.Least + Span(1+rng.Int64N(60_000))
			s.Late = []Then{"", ThenHold, ThenAsk, ThenBack}[rng.IntN(4)]
		}
		if rng.IntN(3) == 0 {
			s.SignOff, s.Declined = []string{"releaser"}, []Then{"", ThenHold, ThenBack}[rng.IntN(3)]
		}
	}
	return p
}

// Random walks over all events at all states: nobody who has the new variant loses it but by a roll
// back, nothing goes on while something is in the way, what is held stays so until somebody has it go
// on, and there is a way out of everywhere.
func TestRandomWalks(t *testing.T) {
	rng := rand.New(rand.NewPCG(12, 1))
	met := map[Is]map[Do]int{}
	var units []*condition.Context
	for i := range 60 {
		units = append(units, condition.NewContext(fmt.Sprintf("u%d", i)))
	}
	steps, served := 0, 0
	for steps < 100_000 {
		s := Begin(randomPlan(rng), "a", 0, 1_000)
		now, has := int64(1_000), map[int]bool{}
		for range 400 {
			steps++
			now += rng.Int64N(40_000)
			e := randomEvent(rng, &s)
			if met[s.Is] == nil {
				met[s.Is] = map[Do]int{}
			}
			met[s.Is][e.Do]++
			next, effects, err := Step(s, e, now)
			check(t, &s, &next, &e, effects, err)
			if t.Failed() {
				return
			}
			if effects.Serve && served%20 == 0 {
				walkUnits(t, &next, units, has)
			}
			if effects.Serve {
				served++
			}
			if s = next; s.Is.Over() && rng.IntN(30) == 0 {
				break
			}
		}
		wayOut(t, s, now)
	}
	for _, is := range All() {
		for _, do := range Deeds() {
			if met[is][do] == 0 {
				t.Errorf("nothing tried %s while %s", do, is)
			}
		}
	}
}

func check(t *testing.T, s, next *State, e *Event, out Effects, err error) {
	t.Helper()
	fail := func(what string) {
		t.Errorf("%s: %s at %s (stage %d) gave %s (stage %d), %+v, %v", what, e.Do, s.Is, s.At,
			next.Is, next.At, out, err)
	}
	moved := next.At > s.At
	switch {
	case err != nil && !reflect.DeepEqual(*s, *next), out.Tell == "" && !reflect.DeepEqual(*s, *next):
		fail("it changed though nothing came of it")
	case out.Tell != "" && next.Sequence != s.Sequence+1:
		fail("the sequence did not grow by one")
	case next.At < s.At || next.At > s.At+1 && s.At >= 0:
		fail("it went over stages, or back")
	case moved && len(e.Facts.Blocks) > 0:
		fail("it went on with something in the way")
	case moved && !out.Serve, out.Serve && out.Remove, out.Fold && next.Is != Finished:
		fail("what it does outside is not what it became")
	case out.Remove && next.Is != RolledBack:
		fail("it took back without a roll back")
	case takesBack(s, e) != (next.Why == ByHarm && next.Is == RolledBack) && e.Do == Look && !s.Is.Over():
		fail("harm did not take it back, or something else did")
	case moved && e.Do == Look && s.Is == Underway && len(s.Plan.Watches) > 0 && (e.Facts.Found == nil ||
		e.Facts.Found.Run != s.Run || e.Facts.Found.Stage != s.At):
		fail("it went on though nobody knows what its watches found")
	case s.Is == Held && e.Do == Look && next.Is != Held && next.Why != ByHarm:
		fail("it went on by itself")
	case s.Is.Over() && (out.Tell != "" || next.Is != s.Is):
		fail("something came after its end")
	case next.From > 0 && next.Is != Underway && next.Is != Asking:
		fail("time counts")
	case moved && s.Is == Underway && e.Do == Look && s.Passed(next.Since) < s.Stage().Least:
		fail("it went on too early")
	}
}

// takesBack tells whether harm was found for the first time that is to take a release back.
func takesBack(s *State, e *Event) bool {
	f := e.Facts.Found
	return f != nil && s.At >= 0 && f.Run == s.Run && f.Stage == s.At && len(f.Harm) > 0 &&
		f.Harm[0].Reaction == evidence.RollBack && !slices.Contains(s.Took, string(evidence.RollBack))
}

// walkUnits decides everybody by what is served.
func walkUnits(t *testing.T, s *State, units []*condition.Context, has map[int]bool) {
	t.Helper()
	rs, f := compiled(t, serving(document(), s, "release-1"))
	for i, c := range units {
		v := f.Variant(f.Decide(rs, c, 0).Variant).Name
		if has[i] && v != "on" {
			t.Errorf("unit %d lost it at stage %d", i, s.At)
		}
		has[i] = v == "on"
	}
}

// wayOut finds some event by which a release that is not over ends.
func wayOut(t *testing.T, s State, now int64) {
	t.Helper()
	if s.Is.Over() {
		return
	}
	next, out, err := Step(s, Event{Do: RollBack}, now)
	if err != nil || !next.Is.Over() || s.At >= 0 && !out.Remove {
		t.Errorf("there is no way out of %s: %v", s.Is, err)
	}
}

// A log of events, taken again from the beginning or from any state that was kept on the way, ends in
// the same state.
// TestAnEditKeepsItsEvidence has stages that have not begun ask for something new: that is no change of what
// bears on those that have, but what others changed before the edit, or after it, is.
func TestAnEditKeepsItsEvidence(t *testing.T) {
	plan := Plan{From: "off", To: "on", By: []string{"key"}, Salt: "s", Stages: []Stage{{Name: "one", Share: 1000}}}
	for _, c := range []struct {
		name, at, after string
		runs            int
	}{{"nothing else", "a", "a, b", 0}, {"another's change before it", "c", "a, b", 1},
		{"another's change after it", "a", "c", 1}} {
		s := Begin(plan, "a", 0, 0)
		step := func(e Event) {
			t.Helper()
			next, _, err := Step(s, e, 1)
			if err != nil {
				t.Fatal(err)
			}
			s = next
		}
		step(Event{Do: Look, Facts: &Facts{Around: "a"}})
		run := s.Run
		step(Event{Do: Edit, Stages: append(slices.Clone(plan.Stages), Stage{Name: "two", Share: 5000}),
			Facts: &Facts{Around: c.at, Edited: "a, b"}})
		step(Event{Do: Look, Facts: &Facts{Of: 1, Around: c.after}})
		if got := int(s.Run - run); got != c.runs {
			t.Errorf("%s: %d new runs, want %d", c.name, got, c.runs)
		}
	}
}

func TestReplay(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	s := Begin(randomPlan(rng), "a", 0, 1_000)
	type entry struct {
		E  Event
		At int64
	}
	var log []entry
	kept := [][]byte{mustJSON(t, s)}
	for now := int64(1_000); len(log) < 200; now += rng.Int64N(20_000) {
		e := randomEvent(rng, &s)
		if e.Do == RollBack || e.Do == Finish {
			continue
		}
		next, out, err := Step(s, e, now)
		if err != nil || out.Tell == "" || next.Is.Over() {
			continue
		}
		s = next
		log, kept = append(log, entry{e, now}), append(kept, mustJSON(t, s))
	}
	want := string(kept[len(log)])
	for from := range kept {
		var again State
		if err := json.Unmarshal(kept[from], &again); err != nil {
			t.Fatal(err)
		}
		for _, one := range log[from:] {
			var e Event
			if err := json.Unmarshal(mustJSON(t, one.E), &e); err != nil {
				t.Fatal(err)
			}
			var err error
			if again, _, err = Step(again, e, one.At); err != nil {
				t.Fatal(err)
			}
		}
		if got := string(mustJSON(t, again)); got != want {
			t.Fatalf("from %d on it ends in\n%s\nand was to end in\n%s", from, got, want)
		}
	}
}

func mustJSON(t *testing.T, v any) []byte {
	t.Helper()
	raw, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

func TestPlansAreChecked(t *testing.T) {
	for what, spoil := range map[string]func(*Plan){
		"to": func(p *Plan) { p.To = "" }, "by": func(p *Plan) { p.By = nil }, "first": func(p *Plan) { p.First = 9 },
		"stages[3].share": func(p *Plan) { p.Stages[3].Share = 20_000 }, "stages[1]": func(p *Plan) {
			p.Stages[1].Share = 5
		},
		"stages[2].name":    func(p *Plan) { p.Stages[2].Name = "self" },
		"stages[2].longest": func(p *Plan) { p.Stages[2].Least, p.Stages[2].Longest = 60, 60 },
		"stages[2].late":    func(p *Plan) { p.Stages[2].Late = ThenBack }, "stages": func(p *Plan) { p.Stages = nil },
		"stages[0].who":      func(p *Plan) { p.Stages[0].Who = &condition.Node{Test: "string.equals"} },
		"delivery.percent":   func(p *Plan) { p.Delivery.Percent = 101 },
		"stages[6].share":    func(p *Plan) { p.Stages[6].Share = 1_000_001 },
		"stages[0].units":    func(p *Plan) { p.Stages[0].Units = -1 },
		"stages[5].declined": func(p *Plan) { p.Stages[5].Declined = ThenAsk },
	} {
		p := plan()
		spoil(&p)
		found := p.Check()
		if len(found) == 0 || !strings.HasPrefix(found[0].Place, what) {
			t.Errorf("%s: found %v", what, found)
		}
	}
	p := plan()
	if found := p.Check(); len(found) > 0 {
		t.Errorf("a good plan: %v", found)
	}
}
