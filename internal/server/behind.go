package server

import (
	"context"
	"errors"
	"strings"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/change"
	"greenlever.example/greenlever/internal/store"
)

// Times of the work that goes on behind.
const (
	signEvery    = time.Minute
	usageEvery   = 10 * time.Second
	liveEvery    = 5 * time.Second
	nodeLife     = 20 * time.Second
	forgetEvery  = time.Hour
	deliverEvery = time.Second
	cleanEvery   = time.Minute
	copyEvery    = 5 * time.Second
	catchUpTime  = 2 * time.Second
)

// reached begins the work that needs the records.
func (s *Server) reached(run context.Context) {
	close(s.ready)
	s.keep(run, "follow the revision log", s.api.Hub.Run)
	s.keep(run, "follow the access keys", s.api.Keys.Run)
	s.keep(run, "write reports", s.intake.Run)
	s.every(run, liveEvery, "read the records' clock", s.clock.Sync)
	s.every(run, liveEvery, "say that this node lives", s.announce)
	s.every(run, signEvery, "sign the audit's heads", s.signHeads)
	s.every(run, usageEvery, "write counts", s.api.WriteUsage)
	s.every(run, usageEvery, "keep the sample of units", s.api.Population.Flush)
	s.every(run, deliverEvery, "record deliveries", s.api.Delivery.Record)
	s.every(run, cleanEvery, "take personal attributes out of stored units", s.alone("clean", cleanEvery, s.clean))
	s.every(run, forgetEvery, "forget what is kept no longer", s.alone("thin", forgetEvery/2, s.forget))
	s.every(run, copyEvery, "keep a copy to decide from without records", s.keepCopy)
}

// alone does a job only while this node has the lease for it.
func (s *Server) alone(name string, life time.Duration, do func(context.Context) error) func(context.Context) error {
	return func(ctx context.Context) error {
		fence, err := s.store.Lease(ctx, name, s.node, life)
		if err != nil || fence == 0 {
			return err
		}
		return do(ctx)
	}
}

func (s *Server) forget(ctx context.Context) error {
	now := s.config.Now().UnixMilli()
	return errors.Join(s.store.Forget(ctx, now, s.config.Keep), s.store.ThinUses(ctx, now))
}

// clean takes attributes that were declared personal out of units that were stored before.
func (s *Server) clean(ctx context.Context) error {
	var err error
	for environment := range s.api.Hub.Places() {
		known, e := s.api.Population.Fresh(ctx, environment)
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
	for environment, place := range s.api.Hub.Places() {
		src := place.Rules().Source
		at := app.NodePlace{Epoch: src.Epoch, Revision: src.Revision}
		at.Streams, at.Pollers = s.api.Audience(environment)
		n.Places[environment] = at
	}
	return s.store.NodeLives(ctx, n, nodeLife, false)
}

// learn reads what must be known of every environment while the records cannot be reached.
func (s *Server) learn(ctx context.Context) (err error) {
	for environment := range s.api.Hub.Places() {
		_, e := s.api.Population.Fresh(ctx, environment)
		err = errors.Join(err, e)
	}
	return err
}

// committed brings this process up to what was just committed. Where that takes too long
// the change is answered all the same: the feed finds it by itself.
func (s *Server) committed(ctx context.Context, m change.Moved) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), catchUpTime)
	defer cancel()
	if m.Units {
		s.api.Population.Forget()
	}
	if m.Keys {
		s.api.Keys.Nudge()
	}
	look := func() error { return s.api.Hub.Follow(ctx, m.Steps) }
	if m.All {
		look = func() error { return s.api.Hub.Look(ctx) }
	}
	if look() != nil {
		s.api.Hub.Nudge()
	}
}

// mayBeGone tells whether a row that the chain speaks of may have been forgotten. Nodes may
// disagree about the time by up to an hour.
func (s *Server) mayBeGone(of string, at int64) bool {
	table, _, _ := strings.Cut(of, "/")
	return store.MayBeGone(table, at, s.config.Now().Add(time.Hour).UnixMilli(), s.config.Keep)
}
