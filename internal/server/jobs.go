package server

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/guard"
	"greenlever.example/greenlever/internal/app/work"
	"greenlever.example/greenlever/internal/store"
)

// Times of the work that goes on behind.
const (
	signEvery   = time.Minute
	usageEvery  = 10 * time.Second
	liveEvery   = 5 * time.Second
	nodeLife    = 20 * time.Second
	forgetEvery = time.Hour
	cleanEvery  = time.Minute
	remindEvery = 5 * time.Minute
	copyEvery   = 5 * time.Second
	catchUpTime = 2 * time.Second
	exposeEvery = 500 * time.Millisecond
	markEvery   = time.Second
	markLife    = 5 * time.Second
)

// reached begins the work that needs the records.
func (s *Server) reached(run context.Context) {
	close(s.ready)
	s.jobs.Start(run, append(s.edge.Hub.Jobs(), s.emergency.Job())...)
	s.jobs.Start(run, s.edge.Keys.Job(), s.intake.Job(), s.ledger.Batches.Job(), s.api.Delivery.Job(),
		s.running.Job(), s.proposals.Job(), s.lives.Job(),
		s.sender.Job(),
		s.job("clock", "read the records' clock", liveEvery, s.clock.Sync),
		s.job("node", "say that this node lives", liveEvery, s.announce),
		s.job("sign", "sign the audit's heads", signEvery, s.signHeads),
		s.job("usage", "write counts", usageEvery, s.edge.WriteUsage),
		s.job("evidence", "say what was written for releases", markEvery, s.mark),
		s.job("exposures", "write who was given what here", exposeEvery, s.ledger.Flush),
		s.job("population", "keep the sample of units", usageEvery, s.edge.Population.Flush),
		s.job("copy", "keep a copy to decide from without records", copyEvery, s.keepCopy),
		work.Job{Name: "clean", Says: "take personal attributes out of stored units", Every: cleanEvery,
			Lease: cleanEvery, Longest: forgetEvery, Do: plainly(s.clean)},
		work.Job{Name: "drills", Says: "remind of stops that were not practised", Every: forgetEvery,
			Lease: forgetEvery / 2, Do: plainly(s.drills.Remind)},
		work.Job{Name: "remind", Says: "tell of what comes", Every: remindEvery, Lease: 2 * remindEvery,
			Do: plainly(s.reminders.Tell)},
		work.Job{Name: "thin", Says: "forget what is kept no longer", Every: forgetEvery, Lease: forgetEvery / 2,
			Do: plainly(s.forget)})
	s.until(guard.Go(s.config.Log, "wait for the work behind", s.jobs.Wait))
}

// job is one that every node does for itself.
func (s *Server) job(name, says string, every time.Duration, do func(context.Context) error) work.Job {
	return work.Job{Name: name, Says: says, Every: every, Do: plainly(do)}
}

// plainly is a job that needs nothing of its turn.
func plainly(do func(context.Context) error) func(context.Context, *work.Turn) error {
	return func(ctx context.Context, _ *work.Turn) error { return do(ctx) }
}

func (s *Server) forget(ctx context.Context) error {
	now := s.config.Now().UnixMilli()
	running, err := s.store.Running(ctx)
	if err == nil {
		err = s.ledger.Sweep(ctx, running)
	}
	return errors.Join(err, s.store.Forget(ctx, now, s.config.Keep), s.store.ThinUses(ctx, now))
}

// mark says up to when what arrived here for releases is written, while anything of the kind arrives.
func (s *Server) mark(ctx context.Context) error {
	if !s.ledger.Lately() {
		return nil
	}
	now := s.config.Now()
	at := now
	for _, oldest := range []func() (time.Duration, bool){s.intake.Oldest, s.ledger.Oldest} {
		if waits, is := oldest(); is {
			at = slices.MinFunc([]time.Time{at, now.Add(-waits)}, time.Time.Compare)
		}
	}
	return s.store.Mark(ctx, s.node, at.UnixMilli(), now.Add(markLife).UnixMilli())
}

// clean takes attributes that were declared personal out of units that were stored before.
func (s *Server) clean(ctx context.Context) error {
	var err error
	for environment := range s.edge.Hub.Places() {
		known, e := s.edge.Population.Fresh(ctx, environment)
		if e == nil && len(known.Personal) > 0 {
			e = s.store.CleanUnits(ctx, environment, known.Personal)
		}
		err = errors.Join(err, e)
	}
	return err
}

// announce tells the records that this node lives, by which revisions it decides, and how
// many browsers it has.
func (s *Server) announce(ctx context.Context) error {
	n := &app.Node{ID: s.node, Version: Version(), Started: s.started, Places: map[int64]app.NodePlace{}}
	for environment, place := range s.edge.Hub.Places() {
		src := place.Rules().Source
		at := app.NodePlace{Epoch: src.Epoch, Revision: src.Revision}
		at.Streams, at.Pollers = s.edge.Audience(environment)
		n.Places[environment] = at
	}
	return s.store.NodeLives(ctx, n, nodeLife, false)
}

// learn reads what must be known of every environment while the records cannot be reached.
func (s *Server) learn(ctx context.Context) (err error) {
	for environment := range s.edge.Hub.Places() {
		_, e := s.edge.Population.Fresh(ctx, environment)
		err = errors.Join(err, e)
	}
	return err
}

// committed brings this process up to what was just committed. Where that takes too long
// the change is answered all the same: the feed finds it by itself.
func (s *Server) committed(ctx context.Context, m commit.Moved) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), catchUpTime)
	defer cancel()
	if m.Units {
		s.edge.Population.Forget()
	}
	if m.Keys {
		s.edge.Keys.Nudge()
	}
	if m.Releases {
		s.running.Nudge()
	}
	if m.Tripwires {
		s.tripwires.Forget()
	}
	select {
	case s.sender.Wake <- struct{}{}:
	default:
	}
	if len(m.Steps) == 1 { // who edits one environment cares for it, and what is decided there is decided soon
		for id := range m.Steps {
			_, _ = s.edge.Hub.Place(ctx, id) // where that fails it is read once somebody asks
		}
	}
	look := func() error { return s.edge.Hub.Follow(ctx, m.Steps) }
	if m.All {
		look = func() error { return s.edge.Hub.Look(ctx) }
	}
	if look() != nil {
		s.edge.Hub.Nudge()
	}
}

// mayBeGone tells whether a row that the chain speaks of may have been forgotten. Nodes may
// disagree about the time by up to an hour.
func (s *Server) mayBeGone(of string, at int64) bool {
	table, _, _ := strings.Cut(of, "/")
	return store.MayBeGone(table, at, s.config.Now().Add(time.Hour).UnixMilli(), s.config.Keep)
}
