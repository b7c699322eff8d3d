package greenlever

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
)

// log keeps what is to be reported for releases that are watched: units that a watched rule answered for the first
// time, events of metrics, and what was measured in all.
type evidenceLog struct {
	noted atomic.Pointer[noted]

	mu        sync.Mutex
	exposures []wire.ExposureLine
	events    []wire.EventLine
	measures  map[measure]*wire.MeasureLine
	lost      wire.Lost
	ids       uint64 // of events

	measuring atomic.Bool // something was measured in a scope: from then on they note what they are asked for
}

type measure struct{ metric, flag, variant string }

// Bounds of what waits for the next report, and of one report.
const (
	maxExposures     = 50_000
	maxEvents        = 50_000
	maxMeasures      = 5_000
	maxEvidenceLines = 5_000
	maxEvidenceBytes = 4 << 20         // of one report: half of what the service takes
	reportEvidence   = 2 * time.Second // after which what waits is reported
)

// noted are the units that were told of already. Looking one up takes no lock; where its line is full, another unit
// makes room, and is told of again should it come again: the service counts it once.
type noted struct {
	lines [notedLines][8]atomic.Uint64
}

const notedLines = 16_384

// first tells whether a unit was not noted yet, and notes it.
func (n *noted) first(h uint64) bool {
	h = max(h, 1)
	line := &n.lines[h%notedLines]
	for i := range line {
		switch at := line[i].Load(); {
		case at == h:
			return false
		case at == 0 && line[i].CompareAndSwap(0, h):
			return true
		case at == 0 && line[i].Load() == h: // somebody else was quicker
			return false
		}
	}
	line[h>>32%8].Store(h)
	return true
}

// expose notes the unit of a decision on a flag that is watched.
func (c *Client) expose(f *decide.Flag, o decide.Outcome, unit *condition.Context) {
	w := f.Watching(o)
	if w == nil {
		return
	}
	key, is := w.Unit(unit)
	if !is || len(key) > decide.MaxUnit {
		return
	}
	n := c.evidence.noted.Load()
	for n == nil {
		c.evidence.noted.CompareAndSwap(nil, new(noted))
		n = c.evidence.noted.Load()
	}
	if n.first(sample.Hash(w.Seed, key)) {
		c.evidence.exposed(wire.ExposureLine{Flag: f.Key, Rule: w.Rule, Run: w.Run, Stage: w.Stage,
			Unit: strings.Clone(key), At: time.Now().UnixMilli() + c.skew.Load(), With: w.Attributes(unit)})
	}
}

func (l *evidenceLog) exposed(line wire.ExposureLine) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.exposures) >= maxExposures {
		l.lost.Exposures++
		return
	}
	l.exposures = append(l.exposures, line)
}

// Expose tells that a unit sees what a flag gave it, where the answer came in another way than from this client: from
// [Client.AnswerAll], or with a page that was made by [Client.ForPage]. All other calls tell by themselves.
func (c *Client) Expose(key string, unit Context) {
	s := c.state.Load()
	if f := s.rules.Flag(key); f != nil && f.Watched {
		c.expose(f, f.Decide(s.rules, &unit.unit, c.now(f)), &unit.unit)
	}
}

// Record notes a value of a metric for a unit, such as how long a door took to open. It never fails and waits for
// nothing; a metric that there is not is told by the service.
func (c *Client) Record(_ context.Context, metric string, unit Context, value float64) {
	c.record(metric, &unit, value, nil)
}

// Happened notes for a unit whether what a rate counts happened. Both are worth telling: that it did not happen shows
// that somebody looks.
func (c *Client) Happened(ctx context.Context, metric string, unit Context, did bool) {
	c.Record(ctx, metric, unit, number(did))
}

func number(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// Record notes a value of a metric for the scope's unit. What its flags had given goes with it.
func (s *Scope) Record(metric string, value float64) {
	if s != nil {
		s.client.evidence.measuring.Store(true)
		s.client.record(metric, &s.unit, value, s)
	}
}

// Happened notes for the scope's unit whether what a rate counts happened.
func (s *Scope) Happened(metric string, did bool) { s.Record(metric, number(did)) }

func (c *Client) record(metric string, unit *Context, value float64, scope *Scope) {
	units := decide.Units(&unit.unit, c.state.Load().watches)
	metric = strings.Clone(metric)
	var given []measure
	if scope != nil {
		scope.given(func(flag, variant string) { given = append(given, measure{flag: flag, variant: variant}) })
	}
	l := &c.evidence
	l.mu.Lock()
	defer l.mu.Unlock()
	l.measured(measure{metric: metric}, value)
	for _, at := range given {
		at.metric = metric
		l.measured(at, value)
	}
	if len(units) == 0 {
		return
	}
	if len(l.events) >= maxEvents {
		l.lost.Events++
		return
	}
	l.ids++
	l.events = append(l.events, wire.EventLine{Metric: metric, Units: units, Value: value,
		At: time.Now().UnixMilli() + c.skew.Load(), ID: c.instance + "-" + strconv.FormatUint(l.ids, 36)})
}

func (l *evidenceLog) measured(at measure, value float64) {
	m := l.measures[at]
	if m == nil {
		if l.measures == nil {
			l.measures = map[measure]*wire.MeasureLine{}
		}
		if len(l.measures) >= maxMeasures {
			return
		}
		m = &wire.MeasureLine{Metric: at.metric, Flag: at.flag, Variant: at.variant}
		l.measures[at] = m
	}
	m.Add(value)
}

// waits tells whether something of units waits to be reported.
func (l *evidenceLog) waits() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.exposures)+len(l.events) > 0
}

// take moves what waits into a report; the rest goes with the next.
func (l *evidenceLog) take(r *wire.Report) {
	l.mu.Lock()
	defer l.mu.Unlock()
	n, m, size := 0, 0, 0
	for ; n < min(len(l.exposures), maxEvidenceLines) && size < maxEvidenceBytes; n++ {
		size += l.exposures[n].Size()
	}
	for ; m < min(len(l.events), maxEvidenceLines) && size < maxEvidenceBytes; m++ {
		size += l.events[m].Size()
	}
	r.Exposures, r.Events = slices.Clone(l.exposures[:n]), slices.Clone(l.events[:m])
	l.exposures, l.events = slices.Delete(l.exposures, 0, n), slices.Delete(l.events, 0, m)
	for _, one := range l.measures {
		r.Measures = append(r.Measures, *one)
	}
	l.measures = nil
	slices.SortFunc(r.Measures, func(a, b wire.MeasureLine) int {
		return cmp.Or(cmp.Compare(a.Metric, b.Metric), cmp.Compare(a.Flag, b.Flag), cmp.Compare(a.Variant, b.Variant))
	})
	if l.lost != (wire.Lost{}) {
		lost := l.lost
		r.Lost, l.lost = &lost, wire.Lost{}
	}
}

// asked are the flags that were asked for in a scope, as far as there is room.
type asked struct {
	n   atomic.Int32
	all [16]atomic.Pointer[askedFlag]
}

// askedFlag is a flag of a ruleset.
type askedFlag struct {
	of   *state
	flag *decide.Flag
}

// note notes a flag.
func (a *asked) note(s *state, f *decide.Flag) {
	if f == nil {
		return
	}
	for i := range min(int(a.n.Load()), len(a.all)) {
		if one := a.all[i].Load(); one != nil && one.flag == f {
			return
		}
	}
	if i := int(a.n.Add(1)) - 1; i < len(a.all) {
		a.all[i].Store(&askedFlag{s, f})
	}
}

// given are the variants that a scope's flags gave: they are decided again, which comes to the same.
func (s *Scope) given(each func(flag, variant string)) {
	for i := range min(int(s.asked.n.Load()), len(s.asked.all)) {
		one := s.asked.all[i].Load()
		if one == nil {
			continue
		}
		o := one.flag.Decide(one.of.rules, &s.unit.unit, s.client.nowFor(one.flag, s.made))
		if v := one.flag.Variant(o.Variant); v != nil {
			each(one.flag.Key, v.Name)
		}
	}
}
