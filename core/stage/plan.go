// Package stage is a release: a plan that takes a flag from one variant to another in stages, what
// such a release puts into a flag's rules, and the machine that goes through it.
//
// Its nouns are a [Plan], a [State], an [Event] and the [Effects] of taking it. It knows no clock
// and writes nothing: who calls it does what comes out.
//
//	next, effects, err := stage.Step(state, stage.Event{Do: stage.Look, Facts: &facts}, now)
//	if effects.Serve { doc.Rules = stage.Put(doc.Rules, id, next.Group(id), next.Plan.Above) }
package stage

import (
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/core/span"
)

// Plan is what a release intends.
type Plan struct {
	From string `json:"from"` // variant
	To   string `json:"to"`
	// Beside are further variants that are new: each gets an equal part of every share, and is compared with the old
	// one for itself. Who finishes the release says which of them all get.
	Beside []string `json:"beside,omitempty"`
	By     []string `json:"by"` // what shares are drawn by; the first attribute present counts
	// of the shares; a successor keeps it, so that the same units come first
	Salt  string          `json:"salt"`
	Where *condition.Node `json:"where,omitempty"` // that all stages share; nil: everybody
	// Above is the id of the rule that the group stands above; empty: below all rules.
	Above  string  `json:"above,omitempty"`
	Stages []Stage `json:"stages"`
	First  int     `json:"first,omitempty"` // the stage to begin with; those before it are in it
	// Begin is when it begins, in Unix milliseconds; 0: at once.
	Begin int64 `json:"begin,omitempty"`
	// Hours are those in which it goes to a next stage by itself; nil: any.
	Hours    *condition.Weekly `json:"hours,omitempty"`
	Delivery Delivery          `json:"delivery"`
	// OldArm keeps a part of those who stay with the old variant to compare with. With watches one is kept in any
	// case.
	OldArm bool `json:"oldArm,omitempty"`
	// Watches are what it looks at while it goes, as their metrics stood at the start.
	Watches []evidence.Watch `json:"watches,omitempty"`
	// BreakDown are attributes by which what the watches find is broken down, in numbers alone.
	BreakDown []string `json:"breakDown,omitempty"`
	// Alpha is the chance of a false harm, and of a false clear; 0: [evidence.Alpha].
	Alpha float64 `json:"alpha,omitempty"`
	// Arms are how wide the old arm is at each stage that has begun, whatever was planned since.
	Arms []uint32 `json:"arms,omitempty"`
}

// Stage is one step of a plan: an audience, or a share of all.
type Stage struct {
	Name  string          `json:"name"`
	Who   *condition.Node `json:"who,omitempty"`   // an audience; nil: a share
	Share uint32          `json:"share,omitempty"` // parts per million, in all
	Least Span            `json:"least,omitempty"` // how long it stays at least
	// how many units that have the new variant must have been seen in it; where it has watches, how many of each side
	// must have closed
	Units int64 `json:"units,omitempty"`
	// Until is what its watches must have found before it goes on.
	Until Until `json:"until,omitempty"`
	// Longest is how long it may take, and Late what comes after that.
	Longest Span `json:"longest,omitempty"`
	Late    Then `json:"late,omitempty"`
	// SignOff are the roles of which one must sign before it goes on; none: it goes on by itself.
	SignOff  []string `json:"signOff,omitempty"`
	Declined Then     `json:"declined,omitempty"` // what comes of a sign-off that is declined: hold or roll back
}

// Until is what the watches of a stage must have found.
type Until string

// What they can have to find. No harm is usual.
const (
	NoHarm     Until = ""
	UntilClear Until = "clear"
)

// Then is what a release does where it cannot go on.
type Then string

// What it can do.
const (
	ThenHold Then = "hold"
	ThenAsk  Then = "ask"
	ThenBack Then = "roll-back"
)

// News are the variants that are new.
func (p *Plan) News() []string { return append([]string{p.To}, p.Beside...) }

// IsNew tells whether a variant is one of the new ones.
func (p *Plan) IsNew(variant string) bool { return slices.Contains(p.News(), variant) }

// Look has the plan's watches look at each of its new variants.
func (p *Plan) Look() { p.Watches = evidence.Each(p.Watches, p.News()) }

// Delivery is how far a stage must have arrived before its time begins to count.
type Delivery struct {
	Percent int  `json:"percent,omitempty"` // of the processes; 0: all
	Wait    Span `json:"wait,omitempty"`    // for so long; 0: [DeliveryWait]. Then it holds
}

// DeliveryWait is how long is waited for a delivery where a plan does not say.
const DeliveryWait Span = 10 * 60_000

// percent is how many of a hundred processes must have it.
func (d Delivery) percent() int {
	if d.Percent == 0 {
		return 100
	}
	return d.Percent
}

func (d Delivery) wait() Span {
	if d.Wait == 0 {
		return DeliveryWait
	}
	return d.Wait
}

// Span is a length of time in milliseconds.
type Span = span.Span

// Limits of a plan.
const (
	MaxStages = 30
	maxRoles  = 10
	maxBeside = 9

	leastAlpha, mostAlpha = .001, .2
)

// Check lists everything that keeps a plan from being started and that it shows by itself.
func (p *Plan) Check() (found []flag.Problem) {
	add := func(place, format string, args ...any) {
		found = append(found, flag.Problem{Place: place, Mend: fmt.Sprintf(format, args...)})
	}
	if p.To == "" {
		add("to", "names the variant that is new")
	}
	if p.From == p.To {
		add("to", "is the variant that it goes from: name another one")
	}
	if len(p.Beside) > maxBeside {
		add("beside", "takes at most %d variants", maxBeside)
	}
	for i, v := range p.Beside {
		if v == p.From || slices.Index(p.News(), v) <= i {
			add(fmt.Sprintf("beside[%d]", i), "names a variant that stands there already: name another one")
		}
	}
	for i := range p.Stages {
		if len(p.Beside) > 0 && p.Stages[i].Who != nil {
			add(fmt.Sprintf("stages[%d].who", i), "must be left out: an audience gets one variant, and here are "+
				"several that are new")
		}
	}
	if len(p.By) == 0 || len(p.By) > flag.MaxBy {
		add("by", "names 1 to %d attributes, such as %s", flag.MaxBy, condition.KeyAttribute)
	}
	for i, by := range p.By {
		if mend := condition.CheckAttribute(by); mend != "" {
			add(fmt.Sprintf("by[%d]", i), "%s", mend)
		}
	}
	if p.Where != nil {
		p.Where.Check("where", func(place, mend string) { add(place, "%s", mend) })
	}
	if p.Delivery.Percent < 0 || p.Delivery.Percent > 100 {
		add("delivery.percent", "must be 1 to 100, or be left out for all")
	}
	if p.Hours != nil {
		(&condition.Node{Test: condition.WeeklyTest, Weekly: p.Hours}).Check("hours", func(place, mend string) {
			add(place, "%s", mend)
		})
	}
	found = append(found, evidence.CheckWatches("watches", p.Watches)...)
	if len(p.BreakDown) > evidence.MaxParts {
		add("breakDown", "takes at most %d attributes", evidence.MaxParts)
	}
	for i, name := range p.BreakDown {
		if mend := condition.CheckAttribute(name); mend != "" {
			add(fmt.Sprintf("breakDown[%d]", i), "%s", mend)
		}
	}
	if p.Alpha != 0 && !(p.Alpha >= leastAlpha && p.Alpha <= mostAlpha) {
		add("alpha", "must be %g to %g", leastAlpha, mostAlpha)
	}
	if n := len(p.Stages); n == 0 || n > MaxStages {
		add("stages", "has %d stages, takes 1 to %d", n, MaxStages)
		return found
	}
	if p.First < 0 || p.First >= len(p.Stages) {
		add("first", "is none of the stages, of which the first is 0")
	}
	return append(append(found, CheckStages("stages", p.Stages)...), p.checkWatched()...)
}

// checkWatched lists what keeps watches from seeing what they should.
func (p *Plan) checkWatched() (found []flag.Problem) {
	shared, closing := false, Span(0)
	for i := range p.Watches {
		closing = max(closing, p.Watches[i].Metric.Closing())
	}
	arms := OldArms(p.Stages, p.Arms...)
	for i := range p.Stages {
		s := &p.Stages[i]
		add := func(below, format string, args ...any) {
			found = append(found, flag.Problem{Place: fmt.Sprintf("stages[%d]%s", i, below),
				Mend: fmt.Sprintf(format, args...)})
		}
		compares := s.Share > 0 && arms[i] > 0
		switch s.Until {
		case NoHarm:
		case UntilClear:
			if len(p.Watches) == 0 {
				add(".until", "is for releases with watches: add one, or leave it out")
			} else if !compares {
				add(".until", "must be left out, since the stage has nothing to compare with")
			}
		default:
			add(".until", "must be clear, or be left out for no harm")
		}
		if len(p.Watches) == 0 {
			continue
		}
		if s.Who != nil && shared {
			add("", "is an audience after a share: its units would leave their side; put audiences before shares")
		}
		if shared = shared || s.Share > 0; compares && s.Least <= closing {
			add(".least", "must be more than the %s after which the outcome of a unit is known", closing)
		}
		if n := len(p.Arms); n > 0 && i >= n && s.Share < bucket.Buckets && s.Share > bucket.Buckets-p.Arms[n-1] {
			add(".share", "would take a part of those who are kept to compare with: use up to %s, or 100 %%",
				bucket.Percent(bucket.Buckets-p.Arms[len(p.Arms)-1]))
		}
	}
	return found
}

// CheckStages lists what is wrong with stages, such as those of a ladder.
func CheckStages(at string, stages []Stage) (found []flag.Problem) {
	reached, names := uint32(0), map[string]bool{}
	for i := range stages {
		place := fmt.Sprintf("%s[%d]", at, i)
		add := func(below, format string, args ...any) {
			found = append(found, flag.Problem{Place: place + below, Mend: fmt.Sprintf(format, args...)})
		}
		s := &stages[i]
		if n := len(strings.TrimSpace(s.Name)); n == 0 || n > 100 || !clean(s.Name) {
			add(".name", "must be 1 to 100 bytes of plain text, such as staff or 8 %%")
		}
		if names[s.Name] {
			add(".name", "stands twice: each stage has its own name")
		}
		names[s.Name] = true
		switch {
		case (s.Who == nil) == (s.Share == 0):
			add("", `takes either "who", an audience, or "share", a part of all`)
		case s.Who != nil:
			s.Who.Check(place+".who", func(place, mend string) {
				found = append(found, flag.Problem{Place: place, Mend: mend})
			})
		case s.Share > bucket.Buckets:
			add(".share", "is over 100 %% (1000000)")
		case s.Share <= reached:
			add(".share", "must be more than the %s before it: a release takes from nobody", bucket.Percent(reached))
		default:
			reached = s.Share
		}
		if s.Units < 0 {
			add(".units", "must not be negative")
		}
		if s.Longest > 0 && s.Longest <= s.Least {
			add(".longest", "must be more than the %s that the stage takes at least", s.Least)
		}
		switch s.Late {
		case "", ThenHold, ThenAsk, ThenBack:
		default:
			add(".late", "must be hold, ask or roll-back")
		}
		if s.Late != "" && s.Longest == 0 {
			add(".late", `says what comes after "longest", which is not given`)
		}
		switch s.Declined {
		case "", ThenHold, ThenBack:
		default:
			add(".declined", "must be hold or roll-back")
		}
		if len(s.SignOff) > maxRoles {
			add(".signOff", "takes at most %d roles", maxRoles)
		}
	}
	return found
}

func clean(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f || r == 0xfffd })
}

// then is what a stage does after its longest time.
func (s *Stage) then() Then {
	if s.Late == "" {
		return ThenHold
	}
	return s.Late
}

// Reaches is the share that the plan has reached at a stage, 0 while it has only audiences.
func (p *Plan) Reaches(at int) (share uint32) {
	for i := 0; i <= at && i < len(p.Stages); i++ {
		share = max(share, p.Stages[i].Share)
	}
	return share
}
