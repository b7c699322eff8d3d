// Package delivery says which process decides by which revision: how a revision spread, who
// waits for it, and who fell silent without it.
//
// Its nouns are [Of], which computes one revision's delivery from what instances reported,
// and a [Service], which puts each delivery into the records and the audit once it is over.
// The smallest use:
//
//	d := delivery.Of(revision, instances, applied, now)
//	fmt.Println(d.Reached, "of", d.Expected)
package delivery

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/work"
)

// Of computes how a revision spread. Expected are the instances that were alive when it was
// committed: started, heard of lately, and not gone. One that left since, without the
// revision, is expected no more; one that fell silent still is, by name. newest is the last
// revision that the records know: a higher one is of a history that they lost.
func Of(epoch, revision, newest, at int64, instances []app.Instance, applied map[string][]wire.Applied,
	now int64) app.Delivery {
	d := app.Delivery{Epoch: epoch, Revision: revision, At: at, Half: -1, Most: -1, All: -1, Waiting: []app.Instance{},
		Lost: []app.Instance{}}
	var took []int64
	expected(epoch, revision, newest, at, instances, applied, func(i *app.Instance, reached int64) {
		d.Expected++
		switch {
		case reached >= 0:
			took = append(took, max(0, reached-at))
		case i.Lost(now):
			d.Lost = append(d.Lost, *i)
		default:
			d.Waiting = append(d.Waiting, *i)
		}
	})
	d.Reached = len(took)
	slices.Sort(took)
	after := func(percent int) int64 {
		n := (d.Expected*percent + 99) / 100
		if n == 0 || n > len(took) {
			return -1
		}
		return took[n-1]
	}
	d.Half, d.Most, d.All = after(50), after(99), after(100)
	return d
}

// Wave is who took a revision when, in that order; those without it come last.
func Wave(epoch, revision, newest, at int64, instances []app.Instance, applied map[string][]wire.Applied,
	now int64) (wave []app.Took) {
	expected(epoch, revision, newest, at, instances, applied, func(i *app.Instance, reached int64) {
		one := app.Took{ID: i.ID, Application: i.Application, Version: i.Version, Kind: i.Kind, Via: i.Via, After: -1,
			Lost: reached < 0 && i.Lost(now)}
		if reached >= 0 {
			one.After = max(0, reached-at)
		}
		wave = append(wave, one)
	})
	slices.SortFunc(wave, func(a, b app.Took) int {
		if (a.After < 0) != (b.After < 0) {
			return cmp.Compare(b.After, a.After)
		}
		return cmp.Or(cmp.Compare(a.After, b.After), cmp.Compare(a.Application, b.Application),
			cmp.Compare(a.ID, b.ID))
	})
	return wave
}

// expected goes over the instances that are expected to have a revision, with when each began to decide by it; -1: it
// has not.
func expected(epoch, revision, newest, at int64, instances []app.Instance, applied map[string][]wire.Applied,
	take func(i *app.Instance, reached int64)) {
	for n := range instances {
		i := &instances[n]
		if i.Kind == wire.ANode || i.Started > at || i.Seen < at-app.SilentAfter || i.Left && i.LeftAt <= at {
			continue
		}
		reached := int64(-1)
		for _, a := range applied[i.ID] {
			if a.Epoch == epoch && a.Revision >= revision && a.Revision <= newest && (reached < 0 || a.At < reached) {
				reached = a.At
			}
		}
		if reached < 0 && i.Epoch == epoch && i.Revision >= revision && !i.Other {
			reached = i.Seen // what it applied on the way is not known any more
		}
		if reached >= 0 || !i.Left {
			take(i, reached)
		}
	}
}

// Records are what this package reads.
type Records interface {
	AllEnvironments(ctx context.Context) ([]app.Environment, int64, error)
	Instances(ctx context.Context, environment, since int64) ([]app.Instance, error)
	Applied(ctx context.Context, environment, epoch, from int64) (map[string][]wire.Applied, error)
	CommitTimes(ctx context.Context, environment, from int64, limit int) (map[int64]int64, error)
	DeliveredUpTo(ctx context.Context, environment, epoch int64) (int64, error)
	Stops(ctx context.Context, environment int64, lifted int) ([]app.StopRecord, error)
	// Rehearsed lists which revisions from one on are those of drills.
	Rehearsed(ctx context.Context, environment, from int64) ([]int64, error)
}

// Tx is the transaction that puts deliveries into the records.
type Tx interface {
	Fence(name string, fence int64) (bool, error)
	AddDeliveries(environment int64, all []app.Delivery) (bool, error)
	Append(chain string, e audit.Entry, personal []string) (string, error)
}

// Service keeps deliveries.
type Service struct {
	Records Records
	Write   func(ctx context.Context, fn func(Tx) error) error
	Now     func() time.Time
	// Settled tells whether the clocks have run evenly for long enough to say who is silent.
	// Nil: they have.
	Settled func() bool
}

const (
	lease = "delivery"
	// patience is how long a revision's delivery is waited for before it is put into the
	// records as it is.
	patience = int64(5 * time.Minute / time.Millisecond)
	atOnce   = 500
	// remembered is how long instances that left count, which no wait exceeds.
	remembered = 2 * patience
	// mostWave is how many processes a wave names, and lateLifted among how many lifted stops revisions are sought.
	mostWave   = 2_000
	lateLifted = 100
)

// Newest computes the delivery of an environment's newest revision.
func (s *Service) Newest(ctx context.Context, environment, epoch, revision int64) (*app.Delivery, error) {
	all, err := s.between(ctx, environment, epoch, revision, revision, 1, nil)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// At computes how a revision spread; nil where the records do not know it any more. newest is the
// revision that stands.
func (s *Service) At(ctx context.Context, environment, epoch, revision, newest int64) (*app.Delivery, error) {
	all, err := s.between(ctx, environment, epoch, revision, newest, 1, nil)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// Wave is At with who took the revision when.
func (s *Service) Wave(ctx context.Context, environment, epoch, revision, newest int64) (*app.Delivery, error) {
	all, err := s.between(ctx, environment, epoch, revision, newest, 1, []int64{revision})
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// between computes how revisions spread; of those in waves also who took them when.
func (s *Service) between(ctx context.Context, environment, epoch, from, newest int64, limit int,
	waves []int64) ([]app.Delivery, error) {
	now := s.Now().UnixMilli()
	times, err := s.Records.CommitTimes(ctx, environment, from, limit)
	if err != nil || len(times) == 0 {
		return nil, err
	}
	instances, err := s.Records.Instances(ctx, environment, now-remembered)
	if err != nil {
		return nil, err
	}
	applied, err := s.Records.Applied(ctx, environment, epoch, from)
	if err != nil {
		return nil, err
	}
	var out []app.Delivery
	for revision := from; ; revision++ {
		at, ok := times[revision]
		if !ok {
			return out, nil
		}
		d := Of(epoch, revision, newest, at, instances, applied, now)
		if slices.Contains(waves, revision) {
			d.Wave = Wave(epoch, revision, newest, at, instances, applied, now)
			d.Wave = d.Wave[:min(len(d.Wave), mostWave)]
		}
		out = append(out, d)
	}
}

// over tells whether nothing more is waited for.
func over(d *app.Delivery, now int64) bool {
	return d.Reached == d.Expected && d.Expected > 0 || now-d.At > patience || d.Expected == 0 &&
		now-d.At > app.SilentAfter ||
		len(d.Waiting) == 0 && len(d.Lost) > 0
}

// Job puts the deliveries that are over into the records and the audit. One process does it at a
// time; what it leaves undone the next one does.
func (s *Service) Job() work.Job {
	return work.Job{Name: lease, Says: "record deliveries", Every: time.Second, Lease: 10 * time.Second,
		Do: func(ctx context.Context, t *work.Turn) error { return s.Record(ctx, t.Fence) }}
}

// Record does that once, for who has the lease.
func (s *Service) Record(ctx context.Context, fence int64) error {
	if s.Settled != nil && !s.Settled() {
		return nil // after a jump everybody looks silent, or nobody
	}
	envs, epoch, err := s.Records.AllEnvironments(ctx)
	if err != nil {
		return err
	}
	for i := range envs {
		if e := s.record(ctx, &envs[i], epoch, fence); e != nil { // one environment's trouble is not the others'
			err = errors.Join(err, e)
		}
	}
	return err
}

func (s *Service) record(ctx context.Context, env *app.Environment, epoch, fence int64) error {
	from, err := s.Records.DeliveredUpTo(ctx, env.ID, epoch)
	if err != nil || from >= env.Revision {
		return err
	}
	waves, err := s.stopped(ctx, env.ID, from+1)
	if err != nil {
		return err
	}
	all, err := s.between(ctx, env.ID, epoch, from+1, env.Revision, atOnce, waves)
	if err != nil {
		return err
	}
	now := s.Now().UnixMilli()
	for i := range all {
		if !over(&all[i], now) {
			all = all[:i]
			break
		}
	}
	if len(all) == 0 {
		return nil
	}
	return s.Write(ctx, func(tx Tx) error {
		if mine, err := tx.Fence(lease, fence); err != nil || !mine {
			return err
		}
		if first, err := tx.AddDeliveries(env.ID, all); err != nil || !first {
			return err
		}
		said := Words(all)
		if len(said) == 0 {
			return nil
		}
		last := all[len(all)-1].Revision
		_, err := tx.Append(audit.EnvironmentChain(env.ID), audit.Entry{At: now, Actor: app.Actor{Kind: "service",
			Through: "delivery"}, Action: "revision.delivered",
			Project: env.ProjectID, Environment: env.ID, Revision: last, Difference: said}, nil)
		return err
	})
}

// stopped are the revisions of stops, lifts and drills, of which it is kept who took them when.
func (s *Service) stopped(ctx context.Context, environment, from int64) (revisions []int64, err error) {
	if revisions, err = s.Records.Rehearsed(ctx, environment, from); err != nil {
		return nil, err
	}
	all, err := s.Records.Stops(ctx, environment, lateLifted)
	for i := range all {
		revisions = append(revisions, all[i].Revision)
		if all[i].LiftedAt > 0 {
			revisions = append(revisions, all[i].LiftedRevision)
		}
	}
	return revisions, err
}

// Words says how revisions spread, a line each, and who is without them. Those that nobody
// was there for are left out.
func Words(all []app.Delivery) (lines []string) {
	for i := range all {
		d := &all[i]
		if d.Expected == 0 {
			continue
		}
		line := fmt.Sprintf("revision %d: %d of %d instances", d.Revision, d.Reached, d.Expected)
		for _, t := range []struct {
			what  string
			after int64
		}{{"half", d.Half}, {"99 %", d.Most}, {"all", d.All}} {
			if t.after >= 0 {
				line += fmt.Sprintf(", %s after %d ms", t.what, t.after)
			}
		}
		lines = append(lines, line)
		for _, w := range d.Waiting {
			lines = append(lines, fmt.Sprintf("revision %d: %s waits with revision %d", d.Revision, Name(&w),
				w.Revision))
		}
		for _, l := range d.Lost {
			lines = append(lines, fmt.Sprintf("revision %d: %s is lost with revision %d and may still decide the "+
				"old way", d.Revision, Name(&l), l.Revision))
		}
	}
	return lines
}

// Name names an instance for people.
func Name(i *app.Instance) string {
	name := i.Application
	if i.Version != "" {
		name += " " + i.Version
	}
	return name + " " + i.ID[:min(8, len(i.ID))]
}
