package outpost

import (
	"time"

	"greenlever.example/core/wire"
)

// passing is what clients measured for releases, on its way to the service. Each line goes on once, with the report of
// the outpost that is taken once.
type passing struct {
	exposures []wire.ExposureLine
	events    []wire.EventLine
	measures  map[wire.MeasureLine]wire.MeasureLine // by all but the sums
	lost      wire.Lost
	known     map[told]bool // by this outpost's own answers
	soon      time.Time
}

type told struct {
	rule, unit string
	run        int
}

// Bounds of what waits here.
const (
	maxExposures = 50_000
	maxEvents    = 100_000
	maxMeasures  = 20_000
	maxKnown     = 200_000
	soonAfter    = 2 * time.Second
)

// takeEvidence takes what a client's report brings for releases.
func (l *link) takeEvidence(r *wire.Report) {
	p := &l.evidence
	n, m := min(len(r.Exposures), maxExposures-len(p.exposures)), min(len(r.Events), maxEvents-len(p.events))
	p.exposures, p.events = append(p.exposures, r.Exposures[:n]...), append(p.events, r.Events[:m]...)
	p.lost.Exposures += uint64(len(r.Exposures) - n)
	p.lost.Events += uint64(len(r.Events) - m)
	if r.Lost != nil {
		p.lost.Exposures += r.Lost.Exposures
		p.lost.Events += r.Lost.Events
	}
	for _, line := range r.Measures {
		if line.Application == "" && line.Version == "" {
			line.Application, line.Version = r.Application, r.Version
		}
		p.measure(line)
	}
	if now := l.now(); len(p.exposures)+len(p.events) > 0 && now.Sub(p.soon) > soonAfter {
		p.soon = now
		l.relay.Soon()
	}
}

// measured takes what a page measured.
func (l *link) measured(r *wire.Report) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.takeEvidence(r)
}

func (p *passing) measure(line wire.MeasureLine) {
	key := line
	key.Count, key.Bad, key.Sum = 0, 0, 0
	had, is := p.measures[key]
	if !is && len(p.measures) >= maxMeasures {
		return
	}
	if p.measures == nil {
		p.measures = map[wire.MeasureLine]wire.MeasureLine{}
	}
	line.Count, line.Bad, line.Sum = line.Count+had.Count, line.Bad+had.Bad, line.Sum+had.Sum
	p.measures[key] = line
}

// expose notes a unit that the outpost itself gave an answer by a watched rule.
func (l *link) expose(line wire.ExposureLine) {
	l.mu.Lock()
	defer l.mu.Unlock()
	p, key := &l.evidence, told{line.Rule, line.Unit, line.Run}
	if p.known[key] {
		return
	}
	if len(p.exposures) >= maxExposures {
		p.lost.Exposures++
		return
	}
	if p.known == nil || len(p.known) >= maxKnown {
		p.known = map[told]bool{}
	}
	p.known[key] = true
	p.exposures = append(p.exposures, line)
}

// report moves what waits into a report, as far as there is room.
func (p *passing) report(room *room) (out wire.Report) {
	for len(p.exposures) > 0 && room.takes(p.exposures[0].Size()) {
		out.Exposures, p.exposures = append(out.Exposures, p.exposures[0]), p.exposures[1:]
	}
	for len(p.events) > 0 && room.takes(p.events[0].Size()) {
		out.Events, p.events = append(out.Events, p.events[0]), p.events[1:]
	}
	for key, line := range p.measures {
		if !room.takes(400) {
			break
		}
		delete(p.measures, key)
		out.Measures = append(out.Measures, line)
	}
	if p.lost != (wire.Lost{}) {
		lost := p.lost
		out.Lost, p.lost = &lost, wire.Lost{}
	}
	return out
}
