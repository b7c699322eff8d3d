// Package radar finds where decisions do not do what somebody thinks they do: processes that
// decide by something old, flags that code asks for in vain, flags that nobody asks for, and
// a unit that makes most of the calls.
//
//	r := radar.Look(subject)
//	fmt.Println(r.Unknown[0].Nearest)
package radar

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// Subject is what is looked at.
type Subject struct {
	Now             int64
	Epoch, Revision int64 // that stand
	Definitions     []app.Definition
	Retired         []string // keys of flags that were
	Asked           []app.Asked
	Instances       []app.Instance
	Aside           []app.Aside
	Overdue         []lint.Finding // what time has gone by
}

// Suspect is what was found of one instance.
type Suspect struct {
	app.Instance
	Says string `json:"says"`
}

// Unknown is a flag that code asks for and that is not defined.
type Unknown struct {
	app.Asked
	Nearest   string          `json:"nearest,omitempty"` // a defined flag whose key is much like it
	Suggested *app.Definition `json:"suggested"`         // with the type and the fallback that the code used
	Retired   bool            `json:"retired,omitempty"` // there was such a flag; its key is never used again
}

// Unasked is a flag that is defined and that nobody asks for.
type Unasked struct {
	Flag  string `json:"flag"`
	Title string `json:"title"`
	Last  int64  `json:"last,omitempty"` // when it was last asked for; 0: never
}

// Radar is what was found.
type Radar struct {
	// who decides by disk, file, fallback, or by an old revision, or with a wrong clock
	Old      []Suspect      `json:"old"`
	Busy     []Suspect      `json:"busy"` // whose calls are mostly for one unit
	Unknown  []Unknown      `json:"unknown"`
	Mistyped []app.Asked    `json:"mistyped"` // asked for as another type than they have
	Unasked  []Unasked      `json:"unasked"`
	Overdue  []lint.Finding `json:"overdue"` // flags past their date, and windows that are over
	Aside    []app.Aside    `json:"aside"`   // what cannot be read and is left out
}

// How long things stay interesting.
const (
	lately  = int64(24 * time.Hour / time.Millisecond)
	unasked = 7 * lately
	skewed  = 1_000 // milliseconds
	settled = 5_000 // milliseconds that an instance has for the newest revision
)

// Look looks.
func Look(s Subject) Radar {
	r := Radar{Old: []Suspect{}, Busy: []Suspect{}, Unknown: []Unknown{}, Mistyped: []app.Asked{},
		Unasked: []Unasked{}, Overdue: append([]lint.Finding{}, s.Overdue...), Aside: append([]app.Aside{},
			s.Aside...)}
	for _, i := range s.Instances {
		if i.Left {
			continue
		}
		if says := old(&i, s); says != "" {
			r.Old = append(r.Old, Suspect{i, says})
		}
		if i.BusyUnit != "" {
			r.Busy = append(r.Busy,
				Suspect{i, fmt.Sprintf("asks for one unit most of the time: %s, at least %d of %d calls looked at; "+
					"is the key written into the code?", i.BusyUnit, i.BusyCalls, i.BusyOf)})
		}
	}
	defined := map[string]*app.Definition{}
	for i := range s.Definitions {
		defined[s.Definitions[i].Key] = &s.Definitions[i]
	}
	last := map[string]int64{}
	for _, a := range s.Asked {
		last[a.Flag] = a.Last
		switch d := defined[a.Flag]; {
		case slices.Contains(s.Retired, a.Flag):
			if a.Last > s.Now-unasked {
				r.Unknown = append(r.Unknown, Unknown{Asked: a, Retired: true})
			}
		case d == nil && a.Last > s.Now-unasked:
			r.Unknown = append(r.Unknown, Unknown{Asked: a,
				Nearest: lint.Nearest(a.Flag, maps.Keys(defined)), Suggested: Suggest(a, s.Now)})
		case d != nil && a.Mistyped > s.Now-lately:
			r.Mistyped = append(r.Mistyped, a)
		}
	}
	for _, d := range s.Definitions {
		if at := last[d.Key]; at < s.Now-unasked && d.Created < s.Now-lately {
			r.Unasked = append(r.Unasked, Unasked{d.Key, d.Title, at})
		}
	}
	return r
}

// old says all that is wrong with an instance; empty where nothing is.
func old(i *app.Instance, s Subject) string {
	var says []string
	add := func(is bool, what string) {
		if is {
			says = append(says, what)
		}
	}
	lost := i.Lost(s.Now)
	add(lost, "is silent: it may still decide by the revision that it had")
	add(i.Source == "disk", "decides by the copy on its disk")
	add(i.Source == "file", "decides by the file that came with it")
	add(i.Source == "fallback", "has no ruleset: its callers get their fallbacks")
	behind := i.Epoch != s.Epoch || i.Revision < s.Revision && i.Seen > s.Now-settled && i.Kind != wire.ANode
	add(behind && len(says) == 0, "has not applied the newest revision")
	add(len(i.TooOld) > 0, "is too old for "+strings.Join(i.TooOld, ", ")+", and gives the resting variant")
	add(max(i.SkewMillis, -i.SkewMillis) > skewed, "has a clock that is wrong; it corrects what it decides by")
	return strings.Join(says, "; ")
}

// Suggest gives the definition that a flag should have that code asks for: its type, with
// the fallback that the code gave as what everybody gets.
func Suggest(a app.Asked, now int64) *app.Definition {
	if flag.CheckKey(a.Flag) != "" {
		return nil
	}
	d := &app.Definition{Key: a.Flag, Type: flag.Type(a.Type), Recipe: app.StepByStep,
		GoneBy: time.UnixMilli(now).UTC().AddDate(0, 3, 0).Format(time.DateOnly), Owners: []string{}, Tags: []string{}}
	fallback := json.RawMessage(a.Fallback)
	if !slices.Contains(flag.Types(), d.Type) || flag.CheckValue(d.Type, fallback) != "" {
		d.Type, fallback = flag.Boolean, json.RawMessage("false")
	}
	if d.Type == flag.Boolean {
		d.Variants = []app.Variant{{Name: "off", Value: json.RawMessage("false")},
			{Name: "on", Value: json.RawMessage("true")}}
		if d.Resting = "off"; string(fallback) == "true" {
			d.Resting = "on"
		}
		return d
	}
	empty := map[flag.Type]string{flag.String: `""`, flag.Number: "0", flag.Object: "{}"}[d.Type]
	d.Variants, d.Resting = []app.Variant{{Name: "fallback", Value: fallback},
		{Name: "other", Value: json.RawMessage(empty)}}, "fallback"
	return d
}
