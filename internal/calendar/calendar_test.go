package calendar

import (
	"bytes"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-ical"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app"
)

func at(text string) int64 {
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		panic(err)
	}
	return t.UnixMilli()
}

// week30 is a project on the last Monday of November.
func week30() *View {
	ends := &condition.Node{Test: "clock.before", Text: []string{"2026-12-24T12:00:00Z"}}
	doors := &flag.Document{Key: "doors", Lever: flag.On, Resting: "off", End: flag.Gives{Variant: "off"},
		Rules: []flag.Rule{{ID: "r1", Name: "Advent", When: ends, Gives: flag.Gives{Variant: "on"}},
			{ID: "r2", Name: "Parked", Parked: true, When: ends, Gives: flag.Gives{Variant: "on"}}}}
	release := func(id, key string, by string, state stage.State) app.Release {
		state.Plan.By, state.Plan.Stages = []string{by}, []stage.Stage{{Name: "8 %", Share: 80_000,
			Least: stage.Span(86_400_000)}, {Name: "30 %", Share: 300_000}}
		return app.Release{ID: id, Environment: 1, Flag: key, Made: at("2026-11-29T08:00:00Z"), State: state}
	}
	under := stage.State{Is: stage.Underway, From: at("2026-11-30T08:00:00Z")}
	withdrawn := release("w", "lights", "site.id", stage.State{At: -1, Is: stage.Withdrawn})
	withdrawn.Ended = at("2026-11-29T09:00:00Z")
	return &View{Now: at("2026-11-30T12:00:00Z"),
		Places: []Place{{Flags: []*flag.Document{doors}, Environment: app.Environment{ID: 1, Key: "production",
			Freezes: app.Freezes{{ID: "f1", Reason: "the holidays", From: at("2026-12-21T00:00:00Z"), To: at("2027-01-04T00:00:00Z")},
				{ID: "f2", Reason: "Fridays", Made: at("2026-11-01T00:00:00Z"), Weekly: &condition.Weekly{Days: []string{"fri"}, From: "12:00",
					To: "24:00", Zone: "Europe/Oslo"}},
				{ID: "f3", Reason: "taken away", From: at("2026-12-01T00:00:00Z"), To: at("2026-12-02T00:00:00Z"), Gone: at("2026-11-28T00:00:00Z")},
				{ID: "f4", Reason: "long gone", From: at("2026-12-01T00:00:00Z"), To: at("2026-12-02T00:00:00Z"), Gone: at("2026-11-20T00:00:00Z")}}}}},
		Definitions: []app.Definition{{Key: "doors", GoneBy: "2026-12-15"}, {Key: "lasting", GoneBy: "stays"}},
		Releases:    []app.Release{release("a", "one", "site.id", under), release("b", "two", "site.id", under), release("c", "three", "targetingKey", under), withdrawn},
		Proposals: []app.Proposal{{ID: "p", Title: "the shutters", State: app.ProposalOpen, At: at("2026-12-07T07:00:00Z")},
			{ID: "q", Title: "by hand", State: app.ProposalOpen}, {ID: "x", Title: "no more", State: app.ProposalWithdrawn,
				At: at("2026-12-08T07:00:00Z"), Ended: at("2026-11-29T00:00:00Z")}}}
}

func TestOf(t *testing.T) {
	items := Of(week30(), at("2026-11-23T00:00:00Z"), at("2027-01-11T00:00:00Z"))
	by := map[string]Item{}
	for _, i := range items {
		if _, twice := by[i.ID]; twice {
			t.Errorf("two are %s", i.ID)
		}
		by[i.ID] = i
	}
	if f := by["freeze-f1"]; f.From != at("2026-12-21T00:00:00Z") || f.Title != "production is frozen: the holidays" {
		t.Errorf("%+v", f)
	}
	weekly := 0
	for _, i := range items {
		if strings.HasPrefix(i.ID, "freeze-f2-") {
			weekly++
			if from := time.UnixMilli(i.From).UTC(); from.Hour() != 11 || i.To-i.From != 12*3_600_000 {
				t.Errorf("a Friday from %s for %d ms", from, i.To-i.From)
			}
		}
	}
	if weekly != 7 || !by["freeze-f3"].Cancelled || by["freeze-f4"].ID != "" {
		t.Errorf("%d Fridays, %+v, %+v", weekly, by["freeze-f3"], by["freeze-f4"])
	}
	clocks := slices.DeleteFunc(slices.Clone(items), func(i Item) bool { return i.Kind != Clock })
	if len(clocks) != 1 || !clocks[0].TakesAway || clocks[0].Title != "rule Advent of doors ends" {
		t.Errorf("%+v", clocks)
	}
	if a, c := by["release-a"], by["release-c"]; !slices.Equal(a.Beside, []string{"two"}) || len(c.Beside) != 0 || !a.Open {
		t.Errorf("%+v %+v", a, c)
	}
	if s := by["stage-a-1"]; s.From != at("2026-12-01T08:00:00Z") {
		t.Errorf("%+v", s)
	}
	if !by["release-w"].Cancelled || !by["proposal-x"].Cancelled || by["proposal-q"].ID != "" ||
		by["proposal-p"].From != at("2026-12-07T07:00:00Z") {
		t.Errorf("%+v", by)
	}
	if g := by["gone-by-doors"]; !g.AllDay || !g.TakesAway || !strings.HasSuffix(g.Title, "is on in production") {
		t.Errorf("%+v", g)
	}
}

// What is written is read by a decoder of others as it is, and its lines fit RFC 5545.
func TestWrite(t *testing.T) {
	v := week30()
	items := Of(v, at("2026-11-23T00:00:00Z"), at("2027-01-11T00:00:00Z"))
	for _, some := range [][]Item{items, nil} {
		var b bytes.Buffer
		if err := Write(&b, "Pinecrest, Lockers; and more", time.UnixMilli(v.Now), some); err != nil {
			t.Fatal(err)
		}
		for _, line := range strings.SplitAfter(b.String(), "\r\n") {
			if len(line) > 77 || line != "" && !strings.HasSuffix(line, "\r\n") {
				t.Errorf("a line of %d bytes: %q", len(line), line)
			}
		}
		c, err := ical.NewDecoder(&b).Decode()
		if err != nil {
			t.Fatal(err)
		}
		events := c.Events()
		if len(events) != len(some) {
			t.Fatalf("%d events of %d", len(events), len(some))
		}
		for i, e := range events {
			uid, _ := e.Props.Text(ical.PropUID)
			summary, _ := e.Props.Text(ical.PropSummary)
			start, err := e.DateTimeStart(time.UTC)
			end, _ := e.DateTimeEnd(time.UTC)
			status, _ := e.Status()
			item := &some[i]
			if err != nil || uid != item.ID+"@greenlever" || !strings.HasPrefix(summary, item.Title) ||
				start.UnixMilli() != item.From/1000*1000 || item.To > item.From && end.UnixMilli() != item.To/1000*1000 ||
				(status == ical.EventCancelled) != item.Cancelled {
				t.Errorf("%+v was read as %s %q %s %s %v", item, uid, summary, start, end, status)
			}
		}
	}
}
