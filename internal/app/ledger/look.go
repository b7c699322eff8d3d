package ledger

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"math"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/bucket"
	"greenlever.example/core/decide"
	"greenlever.example/core/evidence"
	"greenlever.example/core/stage"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// Look says what a report brings for the evidence runs of its environment and for metrics; nil for nothing. source
// tells the report's events from those of others, where they do not say.
func (s *Service) Look(ctx context.Context, environment int64, r *wire.Report, source string) (*app.Evidence, error) {
	if len(r.Exposures)+len(r.Events)+len(r.Measures) == 0 && (r.Lost == nil || *r.Lost == wire.Lost{}) {
		return nil, nil
	}
	s.lately.Store(time.Now().Unix())
	runs, err := s.runs(ctx, environment, fresh, false)
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(r.Exposures, func(l wire.ExposureLine) bool { return find(runs, &l) == nil }) {
		if runs, err = s.runs(ctx, environment, again, true); err != nil { // it may have begun just now
			return nil, err
		}
	}
	l := look{now: s.Now().UnixMilli(), source: source, units: map[unitOf]*app.UnitNews{},
		out: &app.Evidence{Missed: map[int64]map[string]int64{}}}
	for _, run := range runs {
		if r.Lost != nil { // of which run, nobody knows
			l.missed(run, "lost exposures", int64(min(r.Lost.Exposures, maxLost)))
			l.missed(run, "lost events", int64(min(r.Lost.Events, maxLost)))
		}
	}
	for i := range r.Exposures {
		l.exposure(runs, &r.Exposures[i])
	}
	watches := map[string][]watching{}
	for _, run := range runs {
		for i := range run.setup.Watches {
			key := run.setup.Watches[i].Metric.Key
			watches[key] = append(watches[key], watching{run, i})
		}
	}
	for i := range r.Events {
		for _, w := range watches[r.Events[i].Metric] {
			l.event(w.going, w.watch, &r.Events[i], i)
		}
	}
	for _, u := range l.units {
		l.out.Units = append(l.out.Units, *u)
	}
	metrics, err := s.metrics(ctx, environment)
	if err != nil {
		return nil, err
	}
	for _, m := range r.Measures {
		if !metrics[m.Metric] { // whoever may name metrics makes no rows by it
			continue
		}
		if m.Application == "" && m.Version == "" {
			m.Application, m.Version = r.Application, r.Version
		}
		l.out.Measures = append(l.out.Measures, m)
	}
	return l.out, nil
}

// watching is one of the watches of a run.
type watching struct {
	*going
	watch int
}

// Lately tells whether something arrived here for a release in the last minutes.
func (s *Service) Lately() bool { return time.Now().Unix()-s.lately.Load() < 120 }

// Oldest tells for how long the oldest waits of what is not written yet: batches, and what came in here.
func (s *Service) Oldest() (time.Duration, bool) {
	waits, is := s.Batches.Oldest()
	if since := s.here.oldest(); !since.IsZero() {
		waits, is = max(waits, time.Since(since)), true
	}
	return waits, is
}

type unitOf struct {
	run  int64
	unit uint64
}

// look is a report while it is looked at.
type look struct {
	now    int64
	source string
	units  map[unitOf]*app.UnitNews
	out    *app.Evidence
}

func (l *look) miss(r *going, what string) { l.missed(r, what, 1) }

func (l *look) missed(r *going, what string, n int64) {
	if n == 0 {
		return
	}
	if l.out.Missed[r.id] == nil {
		l.out.Missed[r.id] = map[string]int64{}
	}
	l.out.Missed[r.id][what] += n
}

func (l *look) news(r *going, key string) *app.UnitNews {
	at := unitOf{r.id, r.unit(key)}
	n := l.units[at]
	if n == nil {
		n = &app.UnitNews{Run: r.id, Unit: at.unit, Watches: r.setup.Watches, Name: key}
		n.Side, _ = r.setup.Place(bucket.Of(key, r.seed), r.release.State.At)
		l.units[at] = n
	}
	return n
}

// find finds the run that an exposure is of; nil for none, as where another one has begun since.
func find(runs []*going, l *wire.ExposureLine) *going {
	for _, r := range runs {
		if r.release.Flag == l.Flag && r.release.State.Run == l.Run && stage.Owns(r.release.ID, l.Rule) {
			return r
		}
	}
	return nil
}

// timely tells whether a time can be believed, and counts it if not.
func (l *look) timely(r *going, at int64) bool {
	switch {
	case at > l.now+skew:
		l.miss(r, "from the future")
	case at < l.now-oldest:
		l.miss(r, "too old")
	default:
		return true
	}
	return false
}

func (l *look) exposure(runs []*going, line *wire.ExposureLine) {
	r := find(runs, line)
	if r == nil || !l.timely(r, line.At) {
		return
	}
	e := evidence.Exposure{At: line.At, Arm: evidence.Alone, Stage: line.Stage, Cohort: line.Stage}
	if stage.ByShare(line.Rule) {
		// Which side it is on, the bucket says, and nobody else.
		at := bucket.Of(line.Unit, r.seed)
		e.Arm, e.Cohort = r.setup.Place(at, line.Stage)
		if e.Arm == evidence.New || e.Arm == evidence.Alone {
			e.Way = r.setup.Way(at)
		}
	} else if line.Stage < 0 || line.Stage >= len(r.setup.Widths) {
		e.Arm = evidence.NoArm
	}
	if e.Arm == evidence.NoArm || line.Unit == "" {
		l.miss(r, "on no side")
		return
	}
	if e.With = line.With; len(e.With) > len(r.setup.Parts) {
		e.With = nil
	}
	n := l.news(r, line.Unit)
	n.Exposures, n.Known = append(n.Exposures, e), false
}

// event takes an event for a watch of a run. The units of its audiences lie in no side, and whether one is exposed the
// ledger alone knows.
func (l *look) event(r *going, watch int, line *wire.EventLine, place int) {
	m := &r.setup.Watches[watch].Metric
	key, is := r.unitOf(line.Units)
	if !is {
		l.miss(r, "without a unit")
		return
	}
	at := bucket.Of(key, r.seed)
	within := r.setup.Reaches(at, r.release.State.At)
	if !within && (m.Limit == nil || !r.audiences()) || !r.setup.Concerns(watch, at) {
		return
	}
	if m.Takes(line.Value) != "" {
		l.miss(r, "not a value")
		return
	}
	if !l.timely(r, line.At) {
		return
	}
	n, had := l.units[unitOf{r.id, r.unit(key)}], true
	if n == nil {
		n, had = l.news(r, key), false
	}
	if !had {
		n.Known = !within
	}
	n.Bad = n.Bad || m.Kind == evidence.Rate && m.Lower() && line.Value > 0
	n.Events = append(n.Events, app.WatchEvent{Watch: watch, Event: evidence.Event{At: line.At, Value: line.Value,
		ID: l.id(line, place)}})
}

// audiences tells whether a stage that began was an audience.
func (r *going) audiences() bool {
	for i := 0; i <= r.release.State.At && i < len(r.setup.Widths); i++ {
		if r.setup.Widths[i].New == 0 {
			return true
		}
	}
	return false
}

// id tells an event from others.
func (l *look) id(line *wire.EventLine, place int) uint64 {
	h := sha256.New()
	if line.ID != "" {
		h.Write([]byte(line.Metric + "\x00" + line.ID))
	} else {
		h.Write([]byte(l.source))
		_ = binary.Write(h, binary.LittleEndian, int64(place))
	}
	return max(1, binary.LittleEndian.Uint64(h.Sum(nil)))
}

// whole tells whether a number is one that can be summed up.
func whole(v float64) bool { return math.Abs(v) <= evidence.MaxValue }

// Check cuts what a report brings to what can be, and gives how much was cut.
func Check(r *wire.Report) (cut int) {
	before := len(r.Exposures) + len(r.Events) + len(r.Measures)
	r.Exposures = slices.DeleteFunc(r.Exposures, func(l wire.ExposureLine) bool {
		return app.CheckText(l.Flag, 1, 100) != "" || app.CheckText(l.Rule, 1, 64) != "" ||
			len(l.Unit) > decide.MaxUnit || len(l.With) > evidence.MaxParts ||
			slices.ContainsFunc(l.With, func(v string) bool { return app.CheckText(v, 0, decide.MaxWith) != "" })
	})
	r.Events = slices.DeleteFunc(r.Events, func(l wire.EventLine) bool {
		long := len(l.Units) > maxUnits
		for by, key := range l.Units {
			long = long || len(by) > decide.MaxUnit || len(key) > decide.MaxUnit
		}
		return long || app.CheckText(l.Metric, 1, 100) != "" || len(l.ID) > maxID || !whole(l.Value)
	})
	r.Measures = slices.DeleteFunc(r.Measures, func(l wire.MeasureLine) bool {
		return app.CheckText(l.Metric, 1, 100) != "" || app.CheckText(l.Flag, 0, 100) != "" ||
			app.CheckText(l.Variant, 0, 64) != "" || app.CheckText(l.Application, 0, 100) != "" ||
			app.CheckText(l.Version, 0, 100) != "" || !whole(l.Sum) || strings.ContainsFunc(l.Metric+l.Flag, notASCII)
	})
	return before - len(r.Exposures) - len(r.Events) - len(r.Measures)
}

func notASCII(r rune) bool { return r > 126 }

const (
	maxLost  = 1_000_000_000
	maxID    = 1_000 // bytes
	maxUnits = 100   // of an event: one for each attribute that shares of watched releases are drawn by
)
