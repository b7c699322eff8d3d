package intake

import (
	"fmt"
	"slices"
	"strconv"

	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// Limits of one report.
const (
	maxBehind  = 20_000 // instances behind an outpost
	maxApplied = 1_000  // revisions
	maxTooOld  = 100    // flags
)

// Check tells what is wrong with a report, and cuts what is too long to its bounds.
func Check(r *wire.Report) (found []flag.Problem) {
	found = checkStatus("", &r.Status)
	if len(r.Behind) > maxBehind {
		found = append(found, flag.Problem{Place: "behind", Mend: "at most " + strconv.Itoa(maxBehind) + " are taken"})
		return found
	}
	for i := range r.Behind {
		found = append(found, checkStatus(fmt.Sprintf("behind[%d].", i), &r.Behind[i].Status)...)
	}
	return found
}

func checkStatus(place string, s *wire.Status) (found []flag.Problem) {
	for _, f := range []struct {
		name, value string
		least, most int
	}{{"instance", s.Instance, 1, 64}, {"application", s.Application, 0, 100}, {"version", s.Version, 0, 100},
		{"source", s.Source, 0, 20}, {"kind", string(s.Kind), 0, 20}} {
		if mend := app.CheckText(f.value, f.least, f.most); mend != "" {
			found = append(found, flag.Problem{Place: place + f.name, Mend: mend})
		}
	}
	if s.Sequence < 1 {
		found = append(found, flag.Problem{Place: place + "sequence", Mend: "counts from 1"})
	}
	if len(s.Applied) > maxApplied {
		s.Applied = s.Applied[len(s.Applied)-maxApplied:]
	}
	if b := s.Busy; b != nil && app.CheckText(b.Unit, 0, 1_000) != "" {
		s.Busy = nil
	}
	if len(s.Digest) > 64 {
		s.Digest = ""
	}
	s.TooOld = slices.DeleteFunc(s.TooOld, func(key string) bool { return app.CheckText(key, 1, 100) != "" })
	s.TooOld = s.TooOld[:min(len(s.TooOld), maxTooOld)]
	if s.Kind != wire.AnApplication && s.Kind != wire.AnOutpost { // nodes are known by their lease
		s.Kind = wire.AnApplication
	}
	return found
}

// Known leaves out what cannot be: counts of flags that do not exist, and texts that
// are longer than any name.
func Known(rules *decide.Ruleset, r *wire.Report) {
	r.Counts = slices.DeleteFunc(r.Counts, func(l wire.CountLine) bool {
		return rules.Flag(l.Flag) == nil || app.CheckText(l.Variant, 0, 64) != "" || app.CheckText(l.Rule, 0,
			64) != "" || app.CheckText(l.Reason, 0, 20) != "" ||
			app.CheckText(l.Application, 0, 100) != "" || app.CheckText(l.Version, 0, 100) != "" || l.FlagVersion != 0
	})
	r.Measures = slices.DeleteFunc(r.Measures, func(l wire.MeasureLine) bool {
		f := rules.Flag(l.Flag)
		return l.Flag != "" && (f == nil || !slices.ContainsFunc(f.Variants(), func(v decide.Variant) bool {
			return v.Name == l.Variant
		}))
	})
	r.Unknown = slices.DeleteFunc(r.Unknown, func(l wire.UnknownLine) bool {
		return app.CheckText(l.Flag, 1, 200) != "" || app.CheckText(l.Type, 0, 10) != "" || len(l.Fallback) > 4<<10 ||
			app.CheckText(l.Application, 0, 100) != ""
	})
}
