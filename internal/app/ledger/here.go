package ledger

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"sync"
	"time"

	"greenlever.example/core/decide"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// here is what this process itself gave answers to, and what pages measured, until it is written.
type here struct {
	writing sync.Mutex // held by who writes

	mu    sync.Mutex
	known map[int64]map[exposed]bool // told of before, by environment
	wait  map[int64]*heard
	hour  int64
	new   map[int64]int // units in this hour
}

// heard is what came in since a time and is not written yet.
type heard struct {
	wire.Report
	since time.Time
	// source tells its events from others, by their places in it, however often it is tried to write them.
	source string
}

type exposed struct {
	rule string
	run  int
	unit string
}

// Bounds of what is kept of an environment.
const (
	mostKnown   = 200_000 // units; then they are told of again
	mostWaiting = 50_000  // lines of a kind
	// mostAnHour bounds how many units may be told of here in an hour: anybody can have a browser key, and invent
	// units.
	mostAnHour = 500_000
)

// of is what waits of an environment, while the lock is held.
func (h *here) of(environment int64) *heard {
	if h.known == nil {
		h.known, h.wait = map[int64]map[exposed]bool{}, map[int64]*heard{}
	}
	if h.wait[environment] == nil {
		h.wait[environment] = &heard{Report: wire.Report{Lost: &wire.Lost{}}, since: time.Now(), source: rand.Text()}
	}
	return h.wait[environment]
}

// oldest is since when something waits; the zero time for nothing.
func (h *here) oldest() (since time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, w := range h.wait {
		if since.IsZero() || w.since.Before(since) {
			since = w.since
		}
	}
	return since
}

// now is what waits at present, by environment, as it stays while more comes in.
func (h *here) now() map[int64]heard {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := map[int64]heard{}
	for environment, w := range h.wait {
		one, lost := *w, *w.Lost
		one.Exposures, one.Events, one.Measures = slices.Clip(w.Exposures), slices.Clip(w.Events),
			slices.Clip(w.Measures)
		one.Lost = &lost
		out[environment] = one
	}
	return out
}

// written takes away what was written. What came in since is another report then.
func (h *here) written(environment int64, done *heard, at time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	w := h.wait[environment]
	w.Exposures = slices.Clone(w.Exposures[len(done.Exposures):])
	w.Events = slices.Clone(w.Events[len(done.Events):])
	w.Measures = slices.Clone(w.Measures[len(done.Measures):])
	w.Lost.Exposures -= done.Lost.Exposures
	w.Lost.Events -= done.Lost.Events
	if w.since, w.source = at, rand.Text(); len(w.Exposures)+len(w.Events)+len(w.Measures) == 0 &&
		*w.Lost == (wire.Lost{}) {
		delete(h.wait, environment)
	}
}

// Expose notes a unit that this process gave an answer by a watched rule. It is written soon.
func (s *Service) Expose(environment int64, line wire.ExposureLine) {
	h := &s.here
	h.mu.Lock()
	defer h.mu.Unlock()
	at := exposed{line.Rule, line.Run, line.Unit}
	if h.known[environment][at] || len(line.Unit) > decide.MaxUnit {
		return
	}
	r := h.of(environment)
	if hour := s.Now().Unix() / 3_600; hour != h.hour || h.new == nil {
		h.hour, h.new = hour, map[int64]int{}
	}
	if h.new[environment]++; h.new[environment] > mostAnHour || len(r.Exposures) >= mostWaiting {
		r.Lost.Exposures++
		return
	}
	if h.known[environment] == nil || len(h.known[environment]) >= mostKnown {
		h.known[environment] = map[exposed]bool{}
	}
	h.known[environment][at] = true
	r.Exposures = append(r.Exposures, line)
}

// Measure notes what a page measured. It is written soon.
func (s *Service) Measure(environment int64, r *wire.Report) {
	h := &s.here
	h.mu.Lock()
	defer h.mu.Unlock()
	to := h.of(environment)
	n := min(len(r.Events), mostWaiting-len(to.Events))
	to.Events = append(to.Events, r.Events[:n]...)
	to.Lost.Events += uint64(len(r.Events) - n)
	to.Measures = append(to.Measures, r.Measures[:min(len(r.Measures), mostWaiting-len(to.Measures))]...)
}

// Flush writes what was noted here. What cannot be written now stays; what never could be is counted as lost, so that
// it holds up nothing.
func (s *Service) Flush(ctx context.Context) error {
	var failed error
	if !s.here.writing.TryLock() {
		return errors.New("what came in here is being written")
	}
	defer s.here.writing.Unlock()
	at := time.Now()
	for environment, w := range s.here.now() {
		brought, err := s.Look(ctx, environment, &w.Report, w.source)
		if err == nil && brought != nil {
			_, err = s.Batches.Write(ctx, environment, []app.Batch{{Evidence: brought}})
		}
		failed = errors.Join(failed, err)
		var f *app.Fault
		switch {
		case err == nil:
			s.here.written(environment, &w, at)
		case ctx.Err() == nil && !(errors.As(err, &f) && f.Kind == app.Unavailable):
			s.here.written(environment, &w, at)
			s.here.lost(environment, &w)
		}
	}
	return failed
}

// lost counts as lost what came in and could not be written.
func (h *here) lost(environment int64, w *heard) {
	h.mu.Lock()
	defer h.mu.Unlock()
	lost := h.of(environment).Lost
	lost.Exposures += w.Lost.Exposures + uint64(len(w.Exposures))
	lost.Events += w.Lost.Events + uint64(len(w.Events))
}
