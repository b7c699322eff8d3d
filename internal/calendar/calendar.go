// Package calendar lays what begins, ends, is due, frozen, gone by or running on one line of time.
//
// Its nouns are a [View], which is what is known of a project, and an [Item] of the line:
//
//	items := calendar.Of(&calendar.View{...}, from, to)
//	err := calendar.Write(w, "Pinecrest Lockers", items)   // as iCalendar (RFC 5545)
package calendar

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/zones"
)

// Kind is what an item is.
type Kind string

// The kinds.
const (
	Freeze   Kind = "freeze"
	Release  Kind = "release"
	Stage    Kind = "stage"
	Proposal Kind = "proposal"
	Clock    Kind = "clock"   // a condition begins or ends to hold
	GoneBy   Kind = "gone-by" // a date
)

// Item is something at a time, or between two.
type Item struct {
	ID          string `json:"id"` // stays while it is the same thing
	Kind        Kind   `json:"kind"`
	From        int64  `json:"from"`             // Unix milliseconds
	To          int64  `json:"to,omitempty"`     // 0: an instant
	Open        bool   `json:"open,omitempty"`   // it goes on, nobody knows until when: To is now
	AllDay      bool   `json:"allDay,omitempty"` // a date, in UTC
	Environment string `json:"environment,omitempty"`
	Flag        string `json:"flag,omitempty"`
	Of          string `json:"of,omitempty"` // id of the release, proposal or freeze
	Title       string `json:"title"`
	// TakesAway tells that what is given to somebody now is taken away then.
	TakesAway bool `json:"takesAway,omitempty"`
	// Beside are the releases that work on the same units at the same time.
	Beside    []string `json:"beside,omitempty"`
	Cancelled bool     `json:"cancelled,omitempty"` // within the last week
	Changed   int64    `json:"changed"`
}

// Place is an environment with what stands in it.
type Place struct {
	Environment app.Environment
	Flags       []*flag.Document
	Segments    []*flag.Segment
}

// View is what is known of a project.
type View struct {
	Now         int64
	Places      []Place
	Definitions []app.Definition
	Releases    []app.Release // that run, or are over since a week at most
	Proposals   []app.Proposal
}

// week is for how long what was cancelled is shown as such.
const week = int64(7 * 24 * time.Hour / time.Millisecond)

// Ahead is how far windows of the week are laid out, in milliseconds: 180 days.
const Ahead = int64(180 * 24 * time.Hour / time.Millisecond)

// Of lists what is within a span of time, in order.
func Of(v *View, from, to int64) []Item {
	out := []Item{}
	add := func(i Item) {
		if i.From < to && max(i.From, i.To) >= from {
			out = append(out, i)
		}
	}
	for i := range v.Places {
		p := &v.Places[i]
		for j := range p.Environment.Freezes {
			v.freeze(&p.Environment, &p.Environment.Freezes[j], from, to, add)
		}
		for _, d := range p.Flags {
			clocks(p, d, v, add)
		}
		for _, s := range p.Segments {
			s.When.Leaves(func(l *condition.Node) {
				for n, e := range edges(l) {
					add(Item{ID: fmt.Sprintf("clock-%s-%s-%d-%d", p.Environment.Key, s.Key, n, e.at), Kind: Clock,
						From:        e.at,
						Environment: p.Environment.Key, Title: "segment " + s.Key + " " + e.says})
				}
			})
		}
	}
	for i := range v.Releases {
		v.release(&v.Releases[i], add)
	}
	for i := range v.Proposals {
		v.proposal(&v.Proposals[i], add)
	}
	for i := range v.Definitions {
		v.gone(&v.Definitions[i], add)
	}
	slices.SortStableFunc(out, func(a, b Item) int {
		return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.ID, b.ID))
	})
	return out
}

func (v *View) freeze(e *app.Environment, f *app.Freeze, from, to int64, add func(Item)) {
	item := Item{ID: "freeze-" + f.ID, Kind: Freeze, From: f.From, To: f.To, Environment: e.Key, Of: f.ID,
		Title: e.Key + " is frozen: " + f.Reason, Changed: f.Made}
	if f.Gone != 0 {
		if v.Now-f.Gone > week {
			return
		}
		item.Cancelled, item.Changed = true, f.Gone
	}
	if f.Weekly == nil {
		add(item)
		return
	}
	end := min(to, v.Now+Ahead)
	for at := max(from, f.Made); at < end; {
		holds, until, ok := f.Weekly.Window(at, zones.Find)
		if !ok || until <= at {
			return
		}
		if holds {
			one := item
			one.From, one.To = begun(f.Weekly, at), until
			one.ID = fmt.Sprintf("%s-%d", item.ID, one.From)
			add(one)
		}
		at = until
	}
}

// begun is when the window that holds at an instant began: what is looked at first may lie within one.
func begun(w *condition.Weekly, at int64) int64 {
	const minute = 60_000
	at -= at % minute
	for range 8 * 24 * 60 {
		if holds, _, ok := w.Window(at-minute, zones.Find); !ok || !holds {
			return at
		}
		at -= minute
	}
	return at
}

// edge is when a condition that looks at the clock changes its mind.
type edge struct {
	at     int64
	says   string
	begins bool
}

func edges(l *condition.Node) (out []edge) {
	kinds := map[string][]edge{"clock.before": {{says: "ends"}}, "clock.at-or-after": {{says: "begins", begins: true}},
		"clock.between": {{says: "begins", begins: true}, {says: "ends"}}}[l.Test]
	for i, e := range kinds {
		if i >= len(l.Text) {
			break
		}
		t, err := time.Parse(time.RFC3339, l.Text[i])
		if err != nil {
			continue
		}
		e.at = t.UnixMilli()
		out = append(out, e)
	}
	return out
}

// clocks are the edges of a flag's rules. An end takes a live thing away where the rule gives something else than the
// resting variant while the lever is on.
func clocks(p *Place, d *flag.Document, v *View, add func(Item)) {
	for i := range d.Rules {
		r := &d.Rules[i]
		if r.Parked {
			continue
		}
		n := 0
		r.When.Leaves(func(l *condition.Node) {
			for _, e := range edges(l) {
				live := d.Lever == flag.On && (r.Gives.Shares != nil || r.Gives.Variant != d.Resting)
				add(Item{ID: fmt.Sprintf("clock-%s-%s-%s-%d", p.Environment.Key, d.Key, r.ID, n), Kind: Clock,
					From:        e.at,
					Environment: p.Environment.Key, Flag: d.Key, TakesAway: live && !e.begins && e.at > v.Now,
					Title: fmt.Sprintf("rule %s of %s %s", r.Name, d.Key, e.says)})
				n++
			}
		})
	}
}

func (v *View) key(environment int64) string {
	for i := range v.Places {
		if v.Places[i].Environment.ID == environment {
			return v.Places[i].Environment.Key
		}
	}
	return ""
}

// span is when a release goes on, as far as that is known.
func (v *View) span(r *app.Release) (from, to int64) {
	from, to = r.Made, r.Ended
	if r.State.Plan.Begin > from {
		from = r.State.Plan.Begin
	}
	if to == 0 {
		to = max(v.Now, from)
	}
	return from, to
}

func (v *View) release(r *app.Release, add func(Item)) {
	environment := v.key(r.Environment)
	if environment == "" {
		return
	}
	from, to := v.span(r)
	item := Item{ID: "release-" + r.ID, Kind: Release, From: from, To: to, Open: r.Ended == 0,
		Environment: environment,
		Flag:        r.Flag, Of: r.ID, Title: "release of " + r.Flag + " in " + environment, Changed: r.State.Since}
	if r.Ended != 0 && r.State.At < 0 { // it never began
		if v.Now-r.Ended > week {
			return
		}
		item.Cancelled, item.Changed, item.To = true, r.Ended, from
	}
	if r.Ended == 0 {
		for i := range v.Releases {
			o := &v.Releases[i]
			begins, ends := v.span(o)
			if o.ID != r.ID && o.Ended == 0 && o.Environment == r.Environment && begins <= to && from <= ends &&
				slices.ContainsFunc(o.State.Plan.By, func(by string) bool {
					return slices.Contains(r.State.Plan.By,
						by)
				}) {
				item.Beside = append(item.Beside, o.Flag)
			}
		}
	}
	add(item)
	if next, at := v.next(r); next != nil {
		add(Item{ID: fmt.Sprintf("stage-%s-%d", r.ID, r.State.At+1), Kind: Stage, From: at, Environment: environment,
			Flag: r.Flag, Of: r.ID, Title: fmt.Sprintf("stage %s of %s in %s may begin", next.Name, r.Flag,
				environment),
			Changed: r.State.Since})
	}
}

// next is the stage that a release goes to at a known time: where it waits for nothing but time.
func (v *View) next(r *app.Release) (*stage.Stage, int64) {
	s := &r.State
	if r.Ended != 0 || s.Is != stage.Underway || s.At < 0 || s.At+1 >= len(s.Plan.Stages) || s.From == 0 {
		return nil, 0
	}
	now := &s.Plan.Stages[s.At]
	if now.Least == 0 || now.Units > 0 || now.Until != "" || len(now.SignOff) > 0 {
		return nil, 0
	}
	return &s.Plan.Stages[s.At+1], max(s.From+int64(now.Least)-s.Counted, v.Now)
}

func (v *View) proposal(p *app.Proposal, add func(Item)) {
	if p.At == 0 {
		return
	}
	item := Item{ID: "proposal-" + p.ID, Kind: Proposal, From: p.At, Of: p.ID, Title: "proposed: " + p.Title,
		Changed: p.Made}
	for _, s := range p.Signatures {
		item.Changed = max(item.Changed, s.At)
	}
	switch p.State {
	case app.ProposalDone:
		item.From, item.Changed = p.Ended, p.Ended
		item.Title = "made: " + p.Title
	case app.ProposalWithdrawn, app.ProposalExpired:
		if v.Now-p.Ended > week {
			return
		}
		item.Cancelled, item.Changed = true, p.Ended
	}
	add(item)
}

func (v *View) gone(d *app.Definition, add func(Item)) {
	day, err := time.Parse("2006-01-02", d.GoneBy)
	if err != nil {
		return // it stays
	}
	item := Item{ID: "gone-by-" + d.Key, Kind: GoneBy, From: day.UnixMilli(), AllDay: true, Flag: d.Key,
		Title: d.Key + " should be gone", Changed: d.Created}
	var live []string
	for i := range v.Places {
		for _, doc := range v.Places[i].Flags {
			if doc.Key == d.Key && doc.Lever == flag.On {
				live = append(live, v.Places[i].Environment.Key)
			}
		}
	}
	if len(live) > 0 {
		item.Title += ", and is on in " + strings.Join(live, ", ")
		item.TakesAway = true
	}
	add(item)
}
