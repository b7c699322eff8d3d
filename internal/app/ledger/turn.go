package ledger

import (
	"context"
	"errors"
	"slices"

	"greenlever.example/core/evidence"
	"greenlever.example/greenlever/internal/app"
)

// lookedRun is what was found at the last look at a release's run, by this process.
type lookedRun struct {
	run, stage int
	taken      evidence.Positions
	found      *evidence.Findings
}

// remembered is what was found, where nothing has become due since.
func (s *Service) remembered(rel *app.Release, setup *evidence.Setup, mark int64) *evidence.Findings {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.looked[rel.ID]
	if l == nil || l.run != rel.State.Run || l.stage != rel.State.At || setup.DueToSee(mark) > l.taken.Seen {
		return nil
	}
	for i := range setup.Watches {
		if setup.Due(i, mark) > l.taken.FoldedFor(i) {
			return nil
		}
	}
	return l.found
}

// mostLooked bounds what is remembered; those that are over are forgotten with all others.
const mostLooked = 1_000

func (s *Service) remember(rel *app.Release, taken evidence.Positions, found *evidence.Findings) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.looked == nil || len(s.looked) > mostLooked {
		s.looked = map[string]*lookedRun{}
	}
	s.looked[rel.ID] = &lookedRun{rel.State.Run, rel.State.At, taken, found}
}

// Turn has the present run of a release take what is due, and gives what it found so far. nil where it has no run, or
// nothing has begun.
func (s *Service) Turn(ctx context.Context, rel *app.Release) (*evidence.Findings, error) {
	if len(rel.State.Plan.Watches) == 0 || rel.State.At < 0 {
		return nil, nil
	}
	runs, err := s.runs(ctx, rel.Environment, fresh, true)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(runs, func(r *going) bool {
		return r.release.ID == rel.ID && r.release.State.Run == rel.State.Run
	})
	if at < 0 {
		return nil, nil
	}
	setup := rel.State.Setup()
	now := s.Now().UnixMilli()
	mark, err := s.Records.Marked(ctx, now)
	if err != nil {
		return nil, err
	}
	if found := s.remembered(rel, &setup, mark); found != nil {
		return found, nil
	}
	var out *evidence.Findings
	var taken evidence.Positions
	err = s.Records.LookAtRun(ctx, runs[at].id, func(row *app.EvidenceRun, due app.Due) (*evidence.State,
		*app.EvidencePoint, error) {
		out = nil
		live, err := evidence.Resume(setup, row.State)
		if err != nil {
			return nil, nil, err
		}
		moved, err := take(live, &setup, row.State.Positions(), mark, due)
		if err != nil {
			return nil, nil, err
		}
		out = live.Look(rel.State.At, now)
		state := live.Keep()
		if taken = state.Positions(); !moved {
			return nil, nil, nil
		}
		var point *app.EvidencePoint
		last := state.LastPoint
		if found := said(&state); found != said(&row.State) || now-last >= int64(evidence.Beat) &&
			now-last >= (last-row.Began)/pointsPerAge {
			state.LastPoint = now
			point = &app.EvidencePoint{Run: row.Run, At: now, Findings: withoutParts(out)}
		}
		return &state, point, nil
	})
	if err == nil {
		s.remember(rel, taken, out)
	}
	return out, err
}

// Peek says what a release's present run has found so far, and takes nothing. nil where it has none.
func (s *Service) Peek(ctx context.Context, rel *app.Release) (*evidence.Findings, error) {
	if len(rel.State.Plan.Watches) == 0 || rel.State.At < 0 {
		return nil, nil
	}
	row, err := s.Records.EvidenceRun(ctx, rel.ID, rel.State.Run)
	var f *app.Fault
	if errors.As(err, &f) && f.Kind == app.NotFound {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	live, err := evidence.Resume(rel.State.Setup(), row.State)
	if err != nil {
		return nil, err
	}
	return live.Look(rel.State.At, s.Now().UnixMilli()), nil
}

// withoutParts is what is kept of a look to be drawn: break-downs are as many as attributes have values.
func withoutParts(f *evidence.Findings) evidence.Findings {
	out := *f
	out.Watches, out.Reacted = slices.Clone(f.Watches), nil
	for i := range out.Watches {
		out.Watches[i].Parts = nil
	}
	return out
}

// said counts what a run has found for good: each is a moment that is kept.
func said(s *evidence.State) (n int) {
	n = len(s.Reacted)
	if s.Broken > 0 {
		n++
	}
	for i := range s.Watches {
		n += len(s.Watches[i].Cleared)
	}
	return n
}

// pointsPerAge is how many points are kept in the time that a run has taken: as it grows older they stand further
// apart.
const pointsPerAge = 300

// take has a run take all that is due, each watch for itself, and tells whether anything was.
func take(live *evidence.Run, setup *evidence.Setup, at evidence.Positions, mark int64, due app.Due) (moved bool,
	err error) {
	due = once(due)
	if to := setup.DueToSee(mark); to > at.Seen {
		units, upTo, err := due(at.Seen, to)
		if err != nil {
			return false, err
		}
		live.See(upTo, units)
		moved = true
	}
	for i := range setup.Watches {
		from, to := at.FoldedFor(i), setup.Due(i, mark)
		if to <= from || to <= 0 {
			continue
		}
		units, upTo, err := due(from, to)
		if err != nil {
			return false, err
		}
		live.Fold(i, upTo, units)
		moved = true
	}
	return moved, nil
}

// once has a span that is asked for twice in a row read once. How far the units of one reach is told with them: where
// there are very many at once, that is not as far as was asked for.
func once(due app.Due) app.Due {
	var had struct {
		from, to, upTo int64
		units          []evidence.Unit
	}
	return func(from, to int64) (_ []evidence.Unit, _ int64, err error) {
		if had.from != from || had.to != to {
			if had.units, had.upTo, err = due(from, to); err != nil {
				return nil, 0, err
			}
			had.from, had.to = from, to
		}
		return had.units, had.upTo, nil
	}
}

// Sweep ends the runs whose releases are over, or have begun another one.
func (s *Service) Sweep(ctx context.Context, running []app.Release) error {
	open, err := s.Records.OpenRuns(ctx)
	if err != nil {
		return err
	}
	for i := range open {
		goes := slices.ContainsFunc(running, func(r app.Release) bool {
			return r.ID == open[i].Release && r.State.Run == open[i].Run
		})
		if !goes {
			if err := s.Records.EndRun(ctx, open[i].ID, s.Now().UnixMilli()); err != nil {
				return err
			}
		}
	}
	return nil
}

// Blind names the first metric that got no event since a stage began, although the outcomes of its first units should
// be known; empty for none.
func (s *Service) Blind(ctx context.Context, rel *app.Release) (string, error) {
	now, st := s.Now().UnixMilli(), &rel.State
	for i := range st.Plan.Watches {
		m := &st.Plan.Watches[i].Metric
		if now-st.Began < int64(m.Closing())+blindAfter {
			continue
		}
		minute, err := s.Records.Heard(ctx, rel.Environment, m.Key)
		if err != nil {
			return "", err
		}
		if minute < st.Began/60_000 {
			return m.Key, nil
		}
	}
	return "", nil
}

// blindAfter is how long is waited beyond a metric's window and grace before a watch counts as blind, in milliseconds.
const blindAfter = 60_000
