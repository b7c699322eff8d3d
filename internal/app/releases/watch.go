package releases

import (
	"context"
	"fmt"
	"slices"

	"greenlever.example/core/bucket"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Watching is a metric that a release is to look at. What is left open is as the metric says.
type Watching struct {
	Metric    string              `json:"metric"` // its key
	Tolerance *evidence.Tolerance `json:"tolerance,omitempty"`
	Limit     *float64            `json:"limit,omitempty"`
	// Weight is its part of the chance of a false alarm, against the others'; 0: as much as each.
	Weight float64           `json:"weight,omitempty"`
	OnHarm evidence.Reaction `json:"onHarm,omitempty"` // empty: roll back
}

var reacts = map[evidence.Reaction]string{evidence.RollBack: "rolls back", evidence.Hold: "holds",
	evidence.Tell: "tells"}

// watches are those that were asked for, or else those of the metrics that belong to the flag.
func watches(t tx, m *commit.Moment, asked *[]Watching) (out []evidence.Watch, err error) {
	all, err := t.Metrics(m.Project.ID)
	if err != nil {
		return nil, err
	}
	key := m.Of
	if h, is := m.Held.(*holding); is && h.release != nil {
		key = h.release.Flag
	}
	if asked == nil {
		asked = &[]Watching{}
		for i := range all {
			if slices.Contains(all[i].Flags, key) {
				*asked = append(*asked, Watching{Metric: all[i].Key})
			}
		}
	}
	var found []flag.Problem
	for i, w := range *asked {
		at := slices.IndexFunc(all, func(o evidence.Metric) bool { return o.Key == w.Metric })
		if at < 0 {
			found = append(found, flag.Problem{Place: fmt.Sprintf("watches[%d].metric", i),
				Mend: fmt.Sprintf("there is no metric %q in this project", w.Metric)})
			continue
		}
		one := evidence.Watch{Metric: all[at], Weight: w.Weight, OnHarm: w.OnHarm}
		one.Metric.Flags = nil
		if w.Tolerance != nil {
			one.Metric.Tolerance = *w.Tolerance
		}
		if w.Limit != nil {
			one.Metric.Limit = w.Limit
		}
		if one.OnHarm == "" {
			one.OnHarm = evidence.RollBack
		}
		out = append(out, one)
	}
	return out, app.InvalidFields(found)
}

// guess fills in the level that rates are taken to have before the release has data of its own: as it was measured in
// the last day. It bears on how soon there is a verdict, and not on whether it is right.
func guess(t tx, m *commit.Moment, watches []evidence.Watch) error {
	for i := range watches {
		one := &watches[i].Metric
		if one.Kind != evidence.Rate || one.Base > 0 {
			continue
		}
		count, bad, err := t.MeasuredSince(m.Environment.ID, one.Key, m.At/60_000-1_440)
		if err != nil {
			return err
		}
		if count >= leastMeasured && bad > 0 && bad < count {
			one.Base = float64(bad) / float64(count)
		}
	}
	return nil
}

// leastMeasured is from how many events on a rate is gone by.
const leastMeasured = 100

// leastSeen is how many units of the new side it must be able to happen to, for harm to be found.
const leastSeen = 5

// watchable refuses watches that could never find anything: of units that do not leave processes, or of too few.
func (s *Service) watchable(ctx context.Context, t tx, env *app.Environment, p *stage.Plan) error {
	if len(p.Watches) == 0 {
		return nil
	}
	attributes, err := t.Attributes(env.ProjectID)
	if err != nil {
		return err
	}
	for _, a := range attributes {
		if a.Personal && slices.Contains(p.By, a.Name) {
			return app.InvalidField("watches", "cannot see units that shares by %s are drawn over, since that is "+
				"personal and leaves no process: draw the shares by another attribute, or leave out the watches",
				a.Name)
		}
	}
	for _, a := range attributes {
		if i := slices.Index(p.BreakDown, a.Name); a.Personal && i >= 0 {
			return app.InvalidField(fmt.Sprintf("breakDown[%d]", i), "is personal, and leaves no process")
		}
	}
	share := uint32(0)
	for _, w := range p.Widths() {
		if w.Compares() {
			share = max(share, w.New/uint32(len(p.News())))
		}
	}
	units, err := s.Units(ctx, env.ID, p.By[0])
	if err != nil {
		return err
	}
	all := units.Count(len(units.Units))
	if reach := all.High * int64(share) / bucket.Buckets; all.Counted > 0 && share > 0 && reach < leastSeen {
		for i := range p.Watches {
			if m := &p.Watches[i].Metric; m.Kind == evidence.Rate && m.Lower() {
				return app.InvalidField(fmt.Sprintf("watches[%d]", evidence.Asked(p.Watches, i)),
					"can never find harm: of about %d units the new side has at most %d while there is something to "+
						"compare with, and harm takes %d to which it happened", all.Units, reach, leastSeen)
			}
		}
	}
	return nil
}
