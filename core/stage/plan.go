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
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// Plan is what a release intends.
type Plan struct {
	From string   `json:"from"` // variant
	To   string   `json:"to"`
	By   []string `json:"by"` // what shares are drawn by; the first attribute present counts
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
	// OldArm keeps a part of those who stay with the old variant to compare with.
	OldArm bool `json:"oldArm,omitempty"`
}

// Stage is one step of a plan: an audience, or a share of all.
type Stage struct {
	Name  string          `json:"name"`
	Who   *condition.Node `json:"who,omitempty"`   // an audience; nil: a share
	Share uint32          `json:"share,omitempty"` // parts per million, in all
	Least Span            `json:"least,omitempty"` // how long it stays at least
	// how many units that have the new variant must have been seen in it
	Units int64 `json:"units,omitempty"`
	// Longest is how long it may take, and Late what comes after that.
	Longest Span `json:"longest,omitempty"`
	Late    Then `json:"late,omitempty"`
	// SignOff are the roles of which one must sign before it goes on; none: it goes on by itself.
	SignOff  []string `json:"signOff,omitempty"`
	Declined Then     `json:"declined,omitempty"` // what comes of a sign-off that is declined: hold or roll back
}

// Then is what a release does where it cannot go on.
type Then string

// What it can do.
const (
	ThenHold Then = "hold"
	ThenAsk  Then = "ask"
	ThenBack Then = "roll-back"
)

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

// Span is a length of time in milliseconds, written as days, hours, minutes and seconds: 2d12h, 90s.
type Span int64

var units = []struct {
	name string
	of   Span
}{{"d", 86_400_000}, {"h", 3_600_000}, {"m", 60_000}, {"s", 1_000}, {"ms", 1}}

// String is the span as it is written.
func (s Span) String() string {
	if s <= 0 {
		return "0s"
	}
	var out strings.Builder
	for _, u := range units {
		if n := s / u.of; n > 0 {
			fmt.Fprintf(&out, "%d%s", n, u.name)
			s -= n * u.of
		}
	}
	return out.String()
}

// MarshalText writes a span.
func (s Span) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// MaxSpan is a year.
const MaxSpan = Span(366 * 86_400_000)

// UnmarshalText reads a span.
func (s *Span) UnmarshalText(raw []byte) error {
	text, sum := strings.ReplaceAll(string(raw), " ", ""), Span(0)
	rest := text
	for rest != "" {
		digits := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
		n, err := strconv.ParseInt(rest[:digits], 10, 32)
		name := rest[digits:]
		if end := strings.IndexAny(name, "0123456789"); end >= 0 {
			name = name[:end]
		}
		i := slices.IndexFunc(units, func(u struct {
			name string
			of   Span
		}) bool {
			return u.name == name
		})
		if err != nil || i < 0 {
			return fmt.Errorf("%q is no length of time: write it as 30m, 4h, 2d12h", text)
		}
		if sum += Span(n) * units[i].of; sum > MaxSpan {
			return fmt.Errorf("%q is longer than a year", text)
		}
		rest = rest[digits+len(name):]
	}
	if text == "" {
		return errors.New("is empty: write a length of time as 30m, 4h, 2d12h")
	}
	*s = sum
	return nil
}

// Words says a span to people, in its two largest units.
func (s Span) Words() string {
	if s < 1_000 {
		return "a moment"
	}
	var out []string
	for i, name := range []string{"day", "hour", "min", "s"} {
		n := s / units[i].of
		s -= n * units[i].of
		switch {
		case n == 0 && len(out) > 0:
			return out[0]
		case n == 0:
			continue
		case i < 2 && n > 1:
			name += "s"
		}
		out = append(out, fmt.Sprintf("%d %s", n, name))
		if len(out) == 2 {
			break
		}
	}
	return strings.Join(out, " ")
}

// Limits of a plan.
const (
	MaxStages = 30
	maxRoles  = 10
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
	if n := len(p.Stages); n == 0 || n > MaxStages {
		add("stages", "has %d stages, takes 1 to %d", n, MaxStages)
		return found
	}
	if p.First < 0 || p.First >= len(p.Stages) {
		add("first", "is none of the stages, of which the first is 0")
	}
	return append(found, CheckStages("stages", p.Stages)...)
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
