// Package settled tells whether a flag still decides anything, so that it can be retired: by what was really given,
// not
// by what its rules say.
//
//	r := settled.Look(settled.Subject{Flag: d, In: ins, ...})
//	if r.Ready { ... }
package settled

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
)

// Spans are for how long a flag must be quiet.
type Spans struct {
	Settled time.Duration // for which one variant was given to all
	Unasked time.Duration // for which no process asked, where places are left or none were looked for
}

// Usual are the spans where nobody says others.
var Usual = Spans{Settled: 30 * 24 * time.Hour, Unasked: 14 * 24 * time.Hour}

// Subject is what is looked at.
type Subject struct {
	Flag    *app.Definition
	In      []In
	Places  []app.CodePlace // where code asks for it, by the newest scans
	Scanned bool            // code was looked at
	Now     int64
	Spans   Spans
}

// In is a flag in one environment.
type In struct {
	Environment string
	Document    *flag.Document
	Given       map[string]uint64 // how often each variant was given in the span; empty: the fallback
	Asked       int64             // when code asked last; 0: never
	Release     bool              // one runs
	Stopped     bool
}

// Readiness is whether a flag can be retired, and what is in the way.
type Readiness struct {
	Ready    bool            `json:"ready"`
	InTheWay []words.Said    `json:"inTheWay"`
	In       []Standing      `json:"in"`
	Places   []app.CodePlace `json:"places"`
	Scanned  bool            `json:"scanned"`         // whether code was looked at
	Asked    int64           `json:"asked,omitempty"` // when a process asked last, in any environment
	Span     string          `json:"span"`            // for which one variant must have been given to all, such as 30 days
	Idle     string          `json:"idle"`            // for which no process may have asked, where places are left
}

// Standing is how settled a flag is in an environment.
type Standing struct {
	Environment string   `json:"environment"`
	Settled     bool     `json:"settled"`
	Variant     string   `json:"variant,omitempty"` // that all got; empty where nobody asked, or several were given
	Given       []string `json:"given,omitempty"`   // the variants that were given, where these are several
	Asked       int64    `json:"asked,omitempty"`
	// Could are the rules that could still give another variant.
	Could []string `json:"could,omitempty"`
}

// Look looks.
func Look(s Subject) *Readiness {
	r := &Readiness{InTheWay: []words.Said{}, In: []Standing{}, Places: append([]app.CodePlace{}, s.Places...),
		Scanned: s.Scanned, Span: spell(s.Spans.Settled), Idle: spell(s.Spans.Unasked)}
	way := func(format string, args ...any) { r.InTheWay = append(r.InTheWay, words.Say(format, args...)) }
	young := s.Flag.Created > s.Now-s.Spans.Settled.Milliseconds()
	if young {
		way("it was made less than %s ago", words.Plain(r.Span))
	}
	for i := range s.In {
		in := &s.In[i]
		one := standing(in)
		r.Asked = max(r.Asked, in.Asked)
		r.In = append(r.In, one)
		env := words.Key(in.Environment)
		switch {
		case in.Release:
			way("a release of it runs in %s", env)
		case in.Stopped:
			way("a stop of it stands in %s: lift it, or turn it off", env)
		case len(one.Given) > 1:
			var given []words.Token
			for _, v := range one.Given {
				given = append(given, variant(v))
			}
			way("in %s several variants were given in the last %s: %s", env,
				words.Plain(r.Span), words.List(given))
		}
	}
	idle := r.Asked < s.Now-s.Spans.Unasked.Milliseconds()
	switch {
	case idle: // whatever stands in the code, nothing runs it
	case !s.Scanned:
		way("code asked for it within the last %s, and no repository was looked at: `places scan` does",
			words.Plain(r.Idle))
	case len(s.Places) > 0:
		way("code asks for it in %s, such as %s", words.Counted(len(s.Places), "place", "places"),
			words.Plain(fmt.Sprintf("%s:%d", s.Places[0].File, s.Places[0].Line)))
	}
	r.Ready = len(r.InTheWay) == 0
	return r
}

// spell says a span of time in one unit.
func spell(d time.Duration) string {
	if d < 48*time.Hour {
		return strings.TrimSuffix(strings.TrimSuffix(d.String(), "0s"), "0m")
	}
	return words.Counted(int(d/(24*time.Hour)), "day", "days").String()
}

func variant(name string) words.Token {
	if name == "" {
		return words.Name("the fallback")
	}
	return words.Variant(name)
}

func standing(in *In) Standing {
	out := Standing{Environment: in.Environment, Asked: in.Asked}
	for _, name := range slices.Sorted(maps.Keys(in.Given)) {
		if in.Given[name] > 0 {
			out.Given = append(out.Given, name)
		}
	}
	out.Settled = len(out.Given) < 2 && !in.Release && !in.Stopped
	if len(out.Given) == 1 {
		out.Variant, out.Given = out.Given[0], nil
	}
	if in.Document == nil {
		return out
	}
	if out.Variant == "" || in.Document.Lever == flag.Off {
		return out // nobody asked, or all get the resting variant
	}
	for i := range in.Document.Rules {
		rule := &in.Document.Rules[i]
		if rule.Parked {
			continue
		}
		if !rule.Gives.OnlyGives(out.Variant) {
			out.Could = append(out.Could, rule.Name)
		}
		if rule.When == nil && (rule.Gives.Shares == nil || rule.Gives.OnlyGives(out.Variant)) {
			return out // nobody comes further
		}
	}
	if !in.Document.End.OnlyGives(out.Variant) {
		out.Could = append(out.Could, "the end")
	}
	return out
}
