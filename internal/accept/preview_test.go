package accept

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/gltest"
)

// An edit that would push other flags over a limit is refused, and names them: they would give
// their resting variant to all.
func TestAnEditSwitchesOffNoOtherFlag(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	leaf := func(i int) condition.Node {
		return condition.Node{Test: "string.one-of", Attribute: fmt.Sprint("a", i), Text: []string{"x"}}
	}
	many := func(n int) *condition.Node {
		all := &condition.Node{}
		for i := range n {
			all.Any = append(all.Any, leaf(i))
		}
		return all
	}
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "crowd", "title": "Crowd", "when": many(2)},
		201, nil)
	s.Flag(t, "night-batching")
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Lever = flag.On
		for i := range 150 {
			d.Rules = append(d.Rules, flag.Rule{Name: fmt.Sprint("rule ", i),
				When:  &condition.Node{Test: condition.SegmentTest, Segment: "crowd"},
				Gives: flag.Gives{Variant: "on"}})
		}
	})
	edit := func(n int) (int, string) {
		status, answer, _, err := s.Keeper.With("If-Match", "1").Send("PUT", inProd+"/segments/crowd",
			mustJSON(t, object{"when": many(n), "reason": "more"}))
		if err != nil {
			t.Fatal(err)
		}
		return status, string(answer)
	}
	if status, answer := edit(1_900); status != 400 || !strings.Contains(answer, "flag night-batching") ||
		!strings.Contains(answer, "resting variant to all") {
		t.Errorf("%d %s", status, answer)
	}
	if status, answer := edit(20); status != 200 {
		t.Errorf("%d %s", status, answer)
	}

	// The same over needs of needs: the last link of a chain doubles what each above it takes.
	chain := func(i int) string { return fmt.Sprint("chain-", i) }
	for i := range 8 {
		s.Flag(t, chain(i))
		s.Edit(t, "production", chain(i), func(d *flag.Document) {
			d.Lever = flag.On
			if i > 1 {
				for range 2 {
					d.Rules = append(d.Rules, flag.Rule{Name: fmt.Sprint(len(d.Rules)),
						When:  &condition.Node{Test: condition.FlagTest, Flag: chain(i - 1), Text: []string{"on"}},
						Gives: flag.Gives{Variant: "on"}})
				}
			}
		})
	}
	v := s.Get(t, "production", chain(1))
	v.Document.Needs = []flag.Need{{Flag: chain(0), Variant: "on"}, {Flag: "night-batching", Variant: "on"}}
	status, answer, _, err := s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Send("PUT", inProd+"/flags/"+chain(1),
		mustJSON(t, object{"document": v.Document, "reason": "one more"}))
	if err != nil || status != 400 || !strings.Contains(string(answer), "flag chain-7") {
		t.Errorf("%v %d %s", err, status, answer)
	}
}

// Where the sample does not hold what decides, the preview says so in place of a number, and
// production wants a bound of the person's own, which the history keeps.
func TestWhatTheSampleHides(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 120)
	s.Keeper.Do(t, "PATCH", inProd, object{"askFirst": true, "reason": "from now on"}, 200, nil)
	s.Flag(t, "one-touch-open")
	v := s.Get(t, "production", "one-touch-open")
	try := func(when condition.Node) *shift.Shift {
		t.Helper()
		d := *v.Document
		d.Lever, d.Rules = flag.On, []flag.Rule{{Name: "Staff", When: &when, Gives: flag.Gives{Variant: "on"}}}
		var tried struct {
			Preview struct{ Shifts []*shift.Shift }
		}
		s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Do(t, "PUT", inProd+"/flags/one-touch-open?dryRun=true",
			object{"document": d, "reason": "staff"}, 200, &tried)
		return tried.Preview.Shifts[0]
	}
	mail := func(test string, text ...string) condition.Node {
		return condition.Node{Test: test, Attribute: "email", Text: text}
	}
	ends, pattern := try(mail("string.ends", "@pinecrest.example")),
		try(mail("string.matches", `@pinecrest\.example$`))
	if ends.Moved.Counted == 0 || ends.Moved != pattern.Moved || len(ends.Unknown) != 0 {
		t.Errorf("ends: %s\npattern: %s", ends.Says, pattern.Says)
	}
	var everybody []string
	for i := range 120 {
		everybody = append(everybody, fmt.Sprintf("recipient-%d@pinecrest.example", i))
	}
	listed := try(mail("string.one-of", everybody...))
	if !strings.HasPrefix(listed.Says.String(), "cannot be counted: email is personal") ||
		listed.Moved.High < ends.Moved.Units {
		t.Errorf("one of: %s", listed.Says)
	}
	begins := mail("string.begins", "r")
	if hidden := try(begins); !hidden.Sweep || hidden.Perhaps.Counted == 0 {
		t.Fatalf("%s, sweep %t", hidden.Says, hidden.Sweep)
	}
	d := *v.Document
	d.Lever, d.Rules = flag.On, []flag.Rule{{Name: "Staff", When: &begins, Gives: flag.Gives{Variant: "on"}}}
	put := func(more object) (int, string) {
		body := object{"document": d, "reason": "staff"}
		for k, x := range more {
			body[k] = x
		}
		status, answer, _, _ := s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Send("PUT",
			inProd+"/flags/one-touch-open", mustJSON(t, body))
		return status, string(answer)
	}
	if status, said := put(nil); status != 400 || !strings.Contains(said, "say yourself how many") ||
		!strings.Contains(said, `"place":"units"`) {
		t.Errorf("%d %s", status, said)
	}
	if status, said := put(object{"units": 30}); status != 200 || !strings.Contains(said,
		"moves at most 30 units, as its author says") {
		t.Errorf("%d %s", status, said)
	}
}

// What processes find out for themselves is in no sample: an edit that asks for it cannot be counted,
// and says so.
func TestWhatProcessesFindOut(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	s.Flag(t, "night-batching")
	s.Edit(t, "production", "night-batching", crews)
	c := open(t, s, "production", func(o *greenlever.Options) {
		o.Report = 100 * time.Millisecond
		o.Resolvers = []greenlever.Resolver{{Name: greenlever.Named("crew_size"), Find: func(context.Context,
			greenlever.Context) (greenlever.Attribute, error) {
			return greenlever.Number("crew_size", 2), nil
		}}}
	})
	gltest.Eventually(t, "the preview knows", func() bool {
		for i := range 40 {
			c.Scope(t.Context(), greenlever.Unit(fmt.Sprint("recipient-", i))).Bool("night-batching", false)
		}
		shifts := tryEdit(t, s, "production", "one-touch-open", crews).Preview.Shifts
		return len(shifts) == 1 && shifts[0].Units.Units == 40 && strings.HasPrefix(shifts[0].Says.String(),
			"cannot be counted: crew_size")
	})
	sh := tryEdit(t, s, "production", "one-touch-open", crews).Preview.Shifts[0]
	if sh.Moved.High < 40 || !strings.Contains(sh.Says.String(), "found out") {
		t.Errorf("%s: %+v", sh.Says, sh.Moved)
	}
}

// Pages that fetch all answers at once are units like any other: there is a preview, a catalogue
// and what is odd in it. Which flags their code asks for, nobody knows.
func TestWhoAsksForAllIsSampled(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Environment(t, "night", false)
	declare(t, s, "email", object{"personal": true, "derive": "domain"})
	s.Flag(t, "night-batching")
	s.Keeper.With("If-Match", "1").Do(t, "PATCH", "/projects/pinecrest/flags/night-batching",
		object{"visible": true, "reason": "for pages"}, 200, nil)
	s.Edit(t, "night", "night-batching", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "First sites", Gives: flag.Gives{Shares: &flag.Shares{By: []string{"site.id"},
			Parts: []flag.Part{{Variant: "on", Share: 80_000}, {GoesOn: true, Share: 920_000}}}}}}
	})
	page := gltest.Caller{URL: s.URL(), Header: http.Header{"Authorization": {"Bearer " + s.Browse["night"]}}}
	const night = "/projects/pinecrest/environments/night"
	gltest.Eventually(t, "the population", func() bool {
		for i := range 90 { // what is noted while the records are busy is left out
			page.Do(t, "POST", "/ofrep/v1/evaluate/flags",
				object{"context": object{"targetingKey": fmt.Sprint("visitor-", i), "site.id": fmt.Sprint("site-",
					i%30), "crew_size": "3", "email": fmt.Sprintf("v%d@pinecrest.example", i)}}, 200, nil)
		}
		var p struct {
			Samples []struct{ Units shift.Estimate }
		}
		s.Keeper.Do(t, "GET", night+"/population", nil, 200, &p)
		return len(p.Samples) == 2 && p.Samples[0].Units.Units == 90 && p.Samples[1].Units.Units == 30
	})
	var units struct {
		Items []struct{ Attributes json.RawMessage }
	}
	s.Keeper.Do(t, "POST", night+"/population/units", object{"has": "visitor-7"}, 200, &units)
	if len(units.Items) == 0 || !strings.Contains(string(units.Items[0].Attributes), `"@pinecrest.example"`) ||
		strings.Contains(string(units.Items[0].Attributes), "v7") {
		t.Errorf("%+v", units.Items)
	}
	v := s.Get(t, "night", "night-batching")
	put := s.Keeper.With("If-Match", fmt.Sprint(v.Version))
	v.Document.Rules[0].When = &condition.Node{Test: "number.at-least", Attribute: "crew_size", Numbers: []float64{2}}
	if status, said, _, _ := put.Send("PUT", night+"/flags/night-batching?dryRun=true",
		mustJSON(t, object{"document": v.Document, "reason": "x"})); status != 400 || !strings.Contains(string(said),
		"crew_size arrived as a string in") {
		t.Errorf("%d %s", status, said)
	}
	v.Document.Rules[0].When = nil
	v.Document.Rules[0].Gives = flag.Gives{Variant: "on"}
	var tried struct {
		Preview struct{ Shifts []*shift.Shift }
	}
	put.Do(t, "PUT", night+"/flags/night-batching?dryRun=true", object{"document": v.Document, "reason": "x"}, 200,
		&tried)
	if sh := tried.Preview.Shifts[0]; sh.Units.Counted != 90 || sh.Moved.Counted < 60 {
		t.Errorf("%s", sh.Says)
	}
	var view struct{ Asked *struct{ First int64 } }
	s.Keeper.Do(t, "GET", night+"/flags/night-batching", nil, 200, &view)
	if view.Asked != nil {
		t.Errorf("asked for by code: %+v", view.Asked)
	}
	page.Do(t, "POST", "/ofrep/v1/evaluate/flags/night-batching",
		object{"context": object{"targetingKey": "visitor-1"}}, 200, nil)
	gltest.Eventually(t, "a single question", func() bool {
		s.Keeper.Do(t, "GET", night+"/flags/night-batching", nil, 200, &view)
		return view.Asked != nil
	})
}

// An explanation says what it cannot know, and asks for it.
func TestWhySaysWhatItCannotKnow(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 60)
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Rules = append(d.Rules,
			flag.Rule{Name: "Staff",
				When: &condition.Node{All: []condition.Node{{Test: "string.begins", Attribute: "email",
					Text: []string{"ida"}}, {Test: "present", Attribute: "badge"}}}, Gives: flag.Gives{Variant: "on"}})
	})
	ask := func(body object) string {
		t.Helper()
		var w struct{ Unknown []words.Said }
		s.Keeper.Do(t, "POST", inProd+"/flags/night-batching/why", body, 200, &w)
		return strings.Join(words.Texts(w.Unknown), "; ")
	}
	if said := ask(object{"unit": "recipient-12"}); !strings.Contains(said,
		"email is personal: only what stands from the @ on is known") || !strings.Contains(said,
		"badge is not known of this unit") || strings.Contains(said, "site.id") {
		t.Errorf("a seen unit: %s", said)
	}
	if said := ask(object{"unit": "stranger"}); !strings.Contains(said, "site.id is not known of this unit") {
		t.Errorf("a stranger: %s", said)
	}
	if said := ask(object{"context": object{"targetingKey": "stranger"}}); said != "" {
		t.Errorf("as given: %s", said)
	}
	s.Edit(t, "production", "night-batching", func(d *flag.Document) { d.Lever = flag.Off })
	if said := ask(object{"unit": "stranger"}); said != "" {
		t.Errorf("a flag that is off: %s", said)
	}
}
