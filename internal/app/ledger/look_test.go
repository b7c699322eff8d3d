package ledger

import (
	"context"
	"fmt"
	"testing"
	"time"

	"greenlever.example/core/bucket"
	"greenlever.example/core/evidence"
	"greenlever.example/core/stage"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// one is records with one release that is under way.
type one struct {
	Records
	release app.Release
}

func (o one) RunningIn(context.Context, int64) ([]app.Release, error) {
	return []app.Release{o.release}, nil
}

func (o one) OpenRun(_ context.Context, r *app.EvidenceRun) (*app.EvidenceRun, error) {
	r.ID = 7
	return r, nil
}

const nowMillis = 1_795_000_000_000

func looking(t *testing.T) (*Service, *app.Release, map[evidence.Arm]string) {
	t.Helper()
	m := evidence.Metric{Key: "door-open-failed", Title: "Failed", Kind: evidence.Rate, Better: evidence.Lower,
		By: "targetingKey", Window: 60_000, Grace: 20_000}
	rel := app.Release{ID: "01a22b10-5f94-7e50-9760-d3c319c3fcf6", Environment: 1, Flag: "one-touch-open"}
	rel.State = stage.Begin(stage.Plan{From: "off", To: "on", By: []string{"targetingKey"}, Salt: "s",
		Watches: []evidence.Watch{{Metric: m, OnHarm: evidence.RollBack}}, BreakDown: []string{"firmware"},
		Stages: []stage.Stage{{Name: "8 %", Share: 80_000}, {Name: "30 %", Share: 300_000}}}, "a", 0, 1)
	rel.State.At = 0
	setup, units := rel.State.Setup(), map[evidence.Arm]string{}
	for i := 0; len(units) < 3; i++ {
		unit := fmt.Sprint("recipient-", i)
		arm, _ := setup.Place(bucket.Of(unit, bucket.Seed("s")), 0)
		units[arm] = unit
	}
	return &Service{Records: one{release: rel}, Now: func() time.Time { return time.UnixMilli(nowMillis) },
			Metrics: func(context.Context, int64) ([]evidence.Metric, error) { return []evidence.Metric{m}, nil }},
		&rel,
		units
}

// What a report says is believed as far as it can be: the side of a unit comes from its bucket, times and values are
// what they can be, and what is of no run, no metric and no side makes no row.
func TestALiarIsNotBelieved(t *testing.T) {
	s, rel, units := looking(t)
	rule := rel.State.Plan.Group(rel.ID, 0, 1)[0].ID
	exposure := func(unit string) wire.ExposureLine {
		return wire.ExposureLine{Flag: rel.Flag, Rule: rule, Run: 1, Unit: unit, At: nowMillis,
			With: []string{"4.2.0"}}
	}
	event := func(unit string) wire.EventLine {
		return wire.EventLine{Metric: "door-open-failed", Units: map[string]string{"targetingKey": unit}, Value: 1,
			At: nowMillis}
	}
	for name, c := range map[string]struct {
		alter  func(e *wire.ExposureLine, v *wire.EventLine)
		unit   evidence.Arm
		units  int // that get news
		missed string
	}{
		"as it should be": {func(*wire.ExposureLine, *wire.EventLine) {}, evidence.New, 1, ""},
		"on no side":      {func(*wire.ExposureLine, *wire.EventLine) {}, evidence.NoArm, 0, "on no side"},
		"a run that is over": {func(e *wire.ExposureLine, v *wire.EventLine) { e.Run = 2; v.Metric = "x" },
			evidence.New, 0, ""},
		"another's rule": {func(e *wire.ExposureLine, v *wire.EventLine) { e.Rule = "r1-s"; v.Metric = "x" },
			evidence.New, 0, ""},
		"a stage from nowhere": {func(e *wire.ExposureLine, v *wire.EventLine) { e.Stage = 9; v.Metric = "x" },
			evidence.New, 0, "on no side"},
		"from the future": {func(e *wire.ExposureLine, v *wire.EventLine) { e.At += 3_600_000; v.Metric = "x" },
			evidence.New, 0,
			"from the future"},
		"too old": {func(e *wire.ExposureLine, v *wire.EventLine) { e.At = 5; v.Metric = "x" }, evidence.New, 0,
			"too old"},
		"not a value": {func(e *wire.ExposureLine, v *wire.EventLine) { e.Run = 2; v.Value = .5 }, evidence.New, 0,
			"not a value"},
		"without a unit": {func(e *wire.ExposureLine, v *wire.EventLine) { e.Run = 2; v.Units = nil }, evidence.New, 0,
			"without a unit"},
	} {
		e, v := exposure(units[c.unit]), event(units[c.unit])
		c.alter(&e, &v)
		got, err := s.Look(context.Background(), 1, &wire.Report{Exposures: []wire.ExposureLine{e},
			Events: []wire.EventLine{v}, Measures: []wire.MeasureLine{{Metric: "nowhere", Count: 1}}}, "test")
		if err != nil {
			t.Fatal(err)
		}
		if len(got.Units) != c.units || c.missed != "" && got.Missed[7][c.missed] == 0 || len(got.Measures) != 0 {
			t.Errorf("%s: %+v", name, got)
		}
		if c.units == 1 {
			n := got.Units[0]
			if n.Exposures[0].Arm != evidence.New || n.Events[0].ID == 0 || n.Exposures[0].With[0] != "4.2.0" ||
				!n.Bad {
				t.Errorf("%s: %+v", name, n)
			}
		}
	}
	// Who says that a unit of the old side has the new variant is not asked.
	got, err := s.Look(context.Background(), 1,
		&wire.Report{Exposures: []wire.ExposureLine{exposure(units[evidence.Old])}},
		"test")
	if err != nil || got.Units[0].Exposures[0].Arm != evidence.Old {
		t.Errorf("%+v %v", got, err)
	}
}

// Texts that no name can be, and values that cannot be summed up, are cut from a report.
func TestReportsAreCut(t *testing.T) {
	r := &wire.Report{Exposures: []wire.ExposureLine{{Flag: "a", Rule: "r"}, {Flag: "", Rule: "r"},
		{Flag: "a", Rule: "r",
			With: []string{"1", "2", "3", "4"}}, {Flag: "a", Rule: "r", With: []string{"a\x00"}}},
		Events:   []wire.EventLine{{Metric: "m", Value: 1}, {Metric: "m", Value: 1e300}, {Metric: ""}},
		Measures: []wire.MeasureLine{{Metric: "m"}, {Metric: "mé"}, {Metric: "m", Sum: 1e300}}}
	if cut := Check(r); cut != 7 || len(r.Exposures) != 1 || len(r.Events) != 1 || len(r.Measures) != 1 {
		t.Errorf("%d are cut: %+v", cut, r)
	}
}
