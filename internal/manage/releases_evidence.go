package manage

import (
	"cmp"
	"slices"

	"greenlever.example/core/evidence"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// WatchedView is what the watches of a release have found, in its present evidence run and over time.
type WatchedView struct {
	*evidence.Findings
	Run   int          `json:"run"`   // its number: each one before it ended with an edit of what bears on it
	Began int64        `json:"began"` // of the run
	Says  []words.Said `json:"says"`  // of each watch
	// SaysBroken says what it means that the sides got units otherwise than the shares say; empty where they did not.
	SaysBroken words.Said `json:"saysBroken,omitempty"`
	// AlphaClear is the chance of a false clear, which each run halves.
	AlphaClear float64     `json:"alphaClear"`
	Lanes      []WatchLane `json:"lanes"` // of each watch
	// Missed is what of the reports was not counted, by cause.
	Missed map[string]int64 `json:"missed"`
}

// WatchLane is what one watch had found over time.
type WatchLane struct {
	Metric  string       `json:"metric"`
	Variant string       `json:"variant,omitempty"` // the new one that is compared, where there are several
	Points  []WatchPoint `json:"points"`
}

// WatchPoint is what a watch had found at a time. Absent numbers were not known.
type WatchPoint struct {
	At      int64            `json:"at"`
	Run     int              `json:"run"`
	Verdict evidence.Verdict `json:"verdict"`
	Ratio   *float64         `json:"ratio,omitempty"`
	Low     *float64         `json:"low,omitempty"`
	High    *float64         `json:"high,omitempty"`
	New     int64            `json:"new"` // units that had closed
	Old     int64            `json:"old"`
}

// mostPoints is how many points of a lane are shown.
const mostPoints = 300

// watched is what the watches of a release have found; nil where it has none, or has not begun.
func (c *call) watched(rel *app.Release) (*WatchedView, error) {
	if len(rel.State.Plan.Watches) == 0 || rel.State.At < 0 {
		return nil, nil
	}
	found, err := c.api.Releases.Ledger.Peek(c.ctx, rel)
	if err != nil || found == nil {
		return nil, err
	}
	setup := rel.State.Setup()
	out := &WatchedView{Findings: found, Run: rel.State.Run, Began: rel.State.RunBegan, Says: []words.Said{},
		AlphaClear: setup.AlphaClear(), Lanes: []WatchLane{}}
	units := c.api.Population.Names(c.ctx, c.e.ID).Of(rel.State.Plan.By)
	for i := range found.Watches {
		out.Says = append(out.Says, found.Watches[i].Says(units))
		out.Lanes = append(out.Lanes, WatchLane{Metric: found.Watches[i].Metric,
			Variant: found.Watches[i].Variant, Points: []WatchPoint{}})
	}
	if found.Broken {
		out.SaysBroken = found.SaysBroken(units)
	}
	points, err := c.api.Records.EvidencePoints(c.ctx, rel.ID, mostPoints)
	if err != nil {
		return nil, err
	}
	for i := range points {
		out.add(&points[i])
	}
	out.Missed, err = c.api.Records.Missed(c.ctx, rel.ID, rel.State.Run)
	return out, err
}

func (v *WatchedView) add(p *app.EvidencePoint) {
	for _, f := range p.Findings.Watches {
		at := slices.IndexFunc(v.Lanes, func(l WatchLane) bool {
			return l.Metric == f.Metric && l.Variant == f.Variant
		})
		if at < 0 {
			continue // it is watched no more
		}
		v.Lanes[at].Points = append(v.Lanes[at].Points, WatchPoint{p.At, p.Run, f.Verdict, f.Ratio, f.Low, f.High,
			f.New.Units, f.Old.Units})
	}
}

// moving are the changes that move what a flag gives.
var moving = []string{"flag.changed", "flag.stopped", "flag.lifted", "segment.changed", "release.began",
	"release.stage",
	"release.rolled-back", "release.finished"}

// beside are the changes of other flags in a release's environment while it went.
func (c *call) beside(rel *app.Release, names map[string]string) ([]OtherChange, error) {
	rows, err := c.api.Records.History(c.ctx, audit.Query{Project: c.p.ID, Environment: c.e.ID, From: rel.Made,
		To: rel.Ended, Limit: mostOthers})
	if err != nil {
		return nil, err
	}
	out := []OtherChange{}
	for i := range rows {
		e, err := rows[i].Read()
		if err != nil {
			return nil, err
		}
		if e.Subject == rel.Flag || !slices.Contains(moving, e.Action) {
			continue
		}
		out = append(out, OtherChange{At: e.At, Name: called(names, &e.Actor), Action: e.Action, Subject: e.Subject,
			Reason: e.Reason, Revision: e.Revision, Difference: readAll(e.Difference)})
	}
	slices.Reverse(out)
	return out, nil
}

var _ = listed(
	op[none, listOf[BadUnitView]]("GET", atEnvironment+"/releases/:release/bad-units", "Units to which something bad "+
		"happened while a release watched: a part of each side that is as good as drawn, with what was given and "+
		"what came of it", (*call).badUnits).needs(app.Read),
)

// BadUnitView is a unit to which something bad happened.
type BadUnitView struct {
	Unit    string `json:"unit"`
	Side    string `json:"side"`    // new or old
	Variant string `json:"variant"` // that it was given
	Stage   string `json:"stage"`   // the name of the one at which it was first exposed
	Exposed int64  `json:"exposed"` // when that was
	// Events are what happened, in order, as far as it was kept.
	Events []BadEvent `json:"events"`
}

// BadEvent is an event of such a unit.
type BadEvent struct {
	Metric string  `json:"metric"`
	At     int64   `json:"at"`
	Value  float64 `json:"value"`
	Counts bool    `json:"counts"` // it lies in the unit's window
}

// mostBadEvents is how many events of one unit are shown.
const mostBadEvents = 50

func (c *call) badUnits(*none) (any, error) {
	rel, err := c.api.Records.Release(c.ctx, c.Param("release"))
	if err != nil {
		return nil, err
	}
	if rel.Environment != c.e.ID {
		return nil, app.Faultf(app.NotFound, "there is no such release in this environment")
	}
	all, err := c.api.Records.BadUnits(c.ctx, rel.ID, rel.State.Run)
	if err != nil {
		return nil, err
	}
	p := &rel.State.Plan
	out := listOf[BadUnitView]{Items: []BadUnitView{}}
	for i := range all {
		u := &all[i]
		v := BadUnitView{Unit: u.Name, Side: "new", Variant: p.To, Exposed: u.Exposed, Events: []BadEvent{}}
		if news := p.News(); u.Way < len(news) {
			v.Variant = news[u.Way]
		}
		if u.Arm == evidence.Old {
			v.Side, v.Variant = "old", p.From
		}
		if u.Stage >= 0 && u.Stage < len(p.Stages) {
			v.Stage = p.Stages[u.Stage].Name
		}
		for w := range min(len(u.Events), len(p.Watches)) {
			m := &p.Watches[w].Metric
			if u.Arm == evidence.Old && w > 0 && p.Watches[w-1].Metric.Key == m.Key {
				continue // the same events, of another comparison
			}
			for _, e := range u.Events[w] {
				v.Events = append(v.Events, BadEvent{m.Key, e.At, e.Value, m.Counts(e, u.Exposed)})
			}
		}
		slices.SortFunc(v.Events, func(a, b BadEvent) int { return cmp.Compare(a.At, b.At) })
		v.Events = v.Events[:min(len(v.Events), mostBadEvents)]
		out.Items = append(out.Items, v)
	}
	return out, nil
}
