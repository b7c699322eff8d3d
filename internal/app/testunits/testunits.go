// Package testunits holds the changes of test units: made-up or chosen units on which edits are tried.
package testunits

import (
	"context"
	"encoding/json"
	"fmt"
	"unicode/utf8"

	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Kinds are the changes of test units.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "test-units.put", Alone: true, Says: "Saves test units, each new or in place " +
			"of the one with " +
			"its key",
			Action: app.Define, Span: commit.Project, Queued: true}, put),
		commit.Of(commit.Kind{Name: "test-units.remove", Alone: true, Says: "Takes a test unit away",
			Action: app.Define, Span: commit.Project, Queued: true}, remove),
	}
}

// most is how many test units a project keeps.
const most = 200

// Put saves test units.
type Put struct {
	Units []app.TestUnit `json:"units"`
}

// Remove takes a test unit away.
type Remove struct {
	Unit string `json:"unit" shown:"no"`
}

func put(_ context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	var found []flag.Problem
	if len(in.Units) == 0 || len(in.Units) > most {
		found = append(found, flag.Problem{Place: "units", Mend: fmt.Sprintf("takes 1 to %d test units", most)})
	}
	names := make([]string, 0, len(in.Units))
	var records []commit.Record
	for i, u := range in.Units {
		found = append(found, check(fmt.Sprintf("units[%d]", i), &u)...)
		names = append(names, u.Unit)
		if len(u.Attributes) == 0 {
			u.Attributes = json.RawMessage("{}")
		}
		if u.Expected == nil {
			u.Expected = map[string]string{}
		}
		records = append(records, &app.TestUnitRecord{ProjectID: m.Project.ID, TestUnit: &u})
	}
	if err := app.InvalidFields(found); err != nil {
		return nil, err
	}
	return &commit.Effects{Result: map[string]int{"saved": len(in.Units)},
			In: []commit.Effect{{Project: m.Project, Records: records,
				Entries: []commit.Entry{commit.Said("test-units.saved", "", diff.Named("test units saved: ",
					names))}}}},
		nil
}

func check(place string, u *app.TestUnit) (found []flag.Problem) {
	if u.Unit == "" || len(u.Unit) > 200 || !utf8.ValidString(u.Unit) {
		found = append(found, flag.Problem{Place: place + ".unit", Mend: "must be valid UTF-8 of 1 to 200 bytes"})
	}
	if len(u.Name) > 200 || !utf8.ValidString(u.Name) {
		found = append(found, flag.Problem{Place: place + ".name", Mend: "must be valid UTF-8 of at most 200 bytes"})
	}
	if _, err := condition.ParseContext(u.Attributes); err != nil || len(u.Attributes) > 16<<10 {
		mend := "takes at most 16384 bytes"
		if err != nil {
			mend = err.Error()
		}
		found = append(found, flag.Problem{Place: place + ".attributes", Mend: mend})
	}
	if len(u.Expected) > 1_000 {
		found = append(found, flag.Problem{Place: place + ".expected", Mend: "takes at most 1000 flags"})
	}
	return found
}

func remove(_ context.Context, m *commit.Moment, in *Remove) (*commit.Effects, error) {
	gone := &app.TestUnitRecord{ProjectID: m.Project.ID, TestUnit: &app.TestUnit{Unit: in.Unit}, Gone: true}
	return &commit.Effects{Result: map[string]string{"removed": in.Unit},
		In: []commit.Effect{{Project: m.Project, Records: []commit.Record{gone},
			Entries: []commit.Entry{commit.Said("test-units.removed", "", diff.Named("test unit removed: ",
				[]string{in.Unit}))}}}}, nil
}
