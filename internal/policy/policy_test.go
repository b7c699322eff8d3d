package policy

import (
	"errors"
	"strings"
	"testing"
	"time"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
)

// good is a change that no policy of the library bites: a step of 22 points on a Tuesday morning, signed.
func good() *Facts {
	off := &Document{Lever: "off", Resting: "off"}
	return &Facts{Before: &Document{Lever: "on", Resting: "off"}, After: &Document{Lever: "on", Resting: "off"},
		Difference: Difference{Step: 22}, Flag: Flag{Key: "night-batching", Description: "Batches at night",
			Owners: []string{"rounds"}, GoneBy: "2027-03-31", Tags: []string{"billing"}, Visible: true},
		Environment: Environment{Key: "production"}, Change: Change{Noun: "flag", Reason: "the pilot sites are content"},
		Signed: []Person{{ID: "a", Teams: []string{"accounts"}}}, Now: time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC),
		Shift: func() (*Shift, error) { return nil, ErrUnknown },
		Elsewhere: func() (map[string]*Document, error) {
			return map[string]*Document{"staging": {Lever: "on"}, "development": off}, nil
		}}
}

// Each policy of the library bites what it is for, and nothing else.
func TestLibrary(t *testing.T) {
	bad := map[string][]func(*Facts){
		"names": {func(f *Facts) { f.Flag.Key = "x" }, func(f *Facts) { f.Flag.Key = "a-b-c-d-e-f-g" },
			func(f *Facts) { f.Flag.Key = "one_touch" }},
		"owned-and-dated": {func(f *Facts) { f.Flag.Owners = nil }, func(f *Facts) { f.Flag.GoneBy = "stays" }},
		"staging-first": {func(f *Facts) {
			f.Elsewhere = func() (map[string]*Document, error) {
				return map[string]*Document{"staging": {Lever: "off"}}, nil
			}
		}},
		"small-steps":        {func(f *Facts) { f.Difference.Step = 40.1 }},
		"another-team-signs": {func(f *Facts) { f.Signed = nil }, func(f *Facts) { f.Signed[0].Teams = []string{"doors"} }},
		"no-friday-afternoons": {
			func(f *Facts) { f.Now = time.Date(2026, 12, 4, 11, 0, 0, 0, time.UTC) }, // noon in Oslo
			func(f *Facts) { f.Now = time.Date(2026, 12, 4, 22, 59, 0, 0, time.UTC) }},
		"say-why":       {func(f *Facts) { f.Change.Reason = "" }, func(f *Facts) { f.Change.Reason = "   x      " }},
		"one-hand":      {func(f *Facts) { f.Flag.Releasing = true }},
		"past-its-date": {func(f *Facts) { f.Flag.GoneBy = "2026-11-30" }},
		"described":     {func(f *Facts) { f.Flag.Description = " " }},
	}
	fine := map[string][]func(*Facts){
		"owned-and-dated":      {func(f *Facts) { f.Flag.GoneBy, f.Flag.Tags = "stays", []string{"lasting"} }},
		"staging-first":        {func(f *Facts) { f.Elsewhere = func() (map[string]*Document, error) { return nil, nil } }},
		"small-steps":          {func(f *Facts) { f.Difference.Step = 40 }},
		"no-friday-afternoons": {func(f *Facts) { f.Now = time.Date(2026, 12, 4, 10, 59, 0, 0, time.UTC) }, func(f *Facts) { f.Now, f.Difference.Step = time.Date(2026, 12, 4, 15, 0, 0, 0, time.UTC), 0 }},
		"past-its-date":        {func(f *Facts) { f.Flag.GoneBy = "stays" }},
		"described":            {func(f *Facts) { f.Flag.Description, f.Flag.Visible = "", false }},
	}
	all := Library()
	if len(all) != 10 {
		t.Errorf("there are %d", len(all))
	}
	for _, p := range all {
		program, err := Compile(p.When)
		if err != nil {
			t.Errorf("%s: %v", p.Key, err)
			continue
		}
		if p.Title == "" || p.Reason == "" || p.Mend == "" || len(bad[p.Key]) == 0 {
			t.Errorf("%s says too little, or is not tried", p.Key)
		}
		is := func(want bool, edits ...func(*Facts)) {
			t.Helper()
			for i, edit := range edits {
				f := good()
				edit(f)
				if bites, err := program.Bites(NewInput(f)); err != nil || bites != want {
					t.Errorf("%s %d: bites %t, %v", p.Key, i, bites, err)
				}
			}
		}
		is(false, func(*Facts) {})
		is(true, bad[p.Key]...)
		is(false, fine[p.Key]...)
	}
}

// What is wrong with an expression is said with its place, and what cannot be judged is no answer.
func TestWrongExpressions(t *testing.T) {
	for text, says := range map[string]string{
		"": "say when", "difference.steps > 4.0": "line 1, column 11: undefined field 'steps'", "1 + 1": "gives int",
		"true &&\n flagg.key == 'a'": "line 2, column 2: undeclared reference to 'flagg'",
		"difference.step > ":         "column", strings.Repeat("true && ", 600) + "true": "at most 4000 bytes",
		"now > timestamp(now)": "",
	} {
		_, err := Compile(text)
		if says == "" && err != nil || says != "" && (err == nil || !strings.Contains(err.Error(), says)) {
			t.Errorf("%.40q: %v, not %s", text, err, says)
		}
	}
	for text, says := range map[string]string{
		"shift.moved > 10": "not known any more", "elsewhere['moon'].lever == 'on'": "no such key",
		"timestamp(flag.goneBy) < now": "",
		"[1,2,3,4,5,6,7,8,9,10].map(a, [1,2,3,4,5,6,7,8,9,10].map(b, [1,2,3,4,5,6,7,8,9,10].map(c, [1,2,3,4,5,6,7,8,9,10].map(d, [1,2,3,4,5,6,7,8,9,10].map(e, a+b+c+d+e))))).size() > 2": "cost",
	} {
		p, err := Compile(text)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		if bites, err := p.Bites(NewInput(good())); err == nil || bites || !strings.Contains(err.Error(), says) {
			t.Errorf("%.40s: %t, %v, not %s", text, bites, err, says)
		}
	}
	f := good()
	f.Shift = func() (*Shift, error) { return &Shift{Moved: 11, Units: 600}, nil }
	p, err := Compile("shift.moved > 10 && size(before.rules) == 0 && !('x' in elsewhere)")
	if err != nil || !p.Shift || !p.Elsewhere {
		t.Fatal(err)
	}
	if bites, err := p.Bites(NewInput(f)); !bites || err != nil {
		t.Error(bites, err)
	}
	if _, err := p.Bites(NewInput(good())); !errors.Is(err, ErrUnknown) {
		t.Error(err)
	}
}

// A step is what everybody gets more of, in percentage points, where the lever is on.
func TestStep(t *testing.T) {
	shares := func(on uint32) flag.Gives {
		return flag.Gives{Shares: &flag.Shares{Parts: []flag.Part{{Variant: "on", Share: on}, {Variant: "off",
			Share: bucket.Buckets - on}}}}
	}
	doc := func(lever flag.Lever, end flag.Gives, rules ...flag.Rule) *flag.Document {
		return &flag.Document{Lever: lever, Resting: "off", End: end, Rules: rules}
	}
	on, off := flag.Gives{Variant: "on"}, flag.Gives{Variant: "off"}
	staff := flag.Rule{ID: "s", When: &condition.Node{Test: "present", Attribute: "staff"}, Gives: on}
	for name, c := range map[string]struct {
		before, after *flag.Document
		step          float64
	}{
		"more":           {doc(flag.On, shares(80_000)), doc(flag.On, shares(300_000)), 22},
		"less":           {doc(flag.On, shares(300_000)), doc(flag.On, shares(80_000)), 0},
		"the lever":      {doc(flag.Off, shares(300_000)), doc(flag.On, shares(300_000)), 30},
		"off again":      {doc(flag.On, on), doc(flag.Off, on), 0},
		"all":            {doc(flag.On, off), doc(flag.On, on), 100},
		"new, and off":   {nil, doc(flag.Off, on), 0},
		"an audience":    {doc(flag.On, off), doc(flag.On, off, staff), 0},
		"a rule for all": {doc(flag.On, off), doc(flag.On, off, flag.Rule{ID: "r", Gives: shares(500_000)}), 50},
		"a parked rule":  {doc(flag.On, off), doc(flag.On, off, flag.Rule{ID: "r", Parked: true, Gives: on}), 0},
	} {
		if got := Step(c.before, c.after); got != c.step {
			t.Errorf("%s: %v, not %v", name, got, c.step)
		}
	}
	r, step := Planned(&stage.Plan{Stages: []stage.Stage{{Who: staff.When}, {Share: 80_000, SignOff: []string{"keeper"}},
		{Share: 500_000}, {Share: bucket.Buckets}}})
	if step != 50 || r.Stages != 4 || r.SignOff != 1 || len(r.Shares) != 3 {
		t.Errorf("%v %+v", step, r)
	}
	if d := Documented(doc(flag.On, shares(80_000), staff)); d.Rules[0].When != "has(staff)" && d.Rules[0].When == "" ||
		d.End.Shares[0].Percent != 8 {
		t.Errorf("%+v", d)
	}
}
