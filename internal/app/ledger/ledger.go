// Package ledger brings what clients report to the releases that watch it: it finds out of which evidence run an
// exposure or an event is, and on which side its unit is, and has runs take what is due.
//
// Its noun is a [Service]. On the way in, [Service.Look] says what a report means to the runs that go, before it is
// written; each second [Service.Turn] has a run take what has closed, and says what it found.
package ledger

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"greenlever.example/core/bucket"
	"greenlever.example/core/evidence"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/intake"
)

// Records keep evidence runs and their ledgers.
type Records interface {
	RunningIn(ctx context.Context, environment int64) ([]app.Release, error)
	OpenRun(ctx context.Context, r *app.EvidenceRun) (*app.EvidenceRun, error)
	EvidenceRun(ctx context.Context, release string, run int) (*app.EvidenceRun, error)
	OpenRuns(ctx context.Context) ([]app.EvidenceRun, error)
	EndRun(ctx context.Context, id, at int64) error
	LookAtRun(ctx context.Context, id int64, look func(run *app.EvidenceRun, due app.Due) (*evidence.State,
		*app.EvidencePoint, error)) error
	Marked(ctx context.Context, now int64) (int64, error)
	Heard(ctx context.Context, environment int64, metric string) (minute int64, err error)
}

// Service knows the evidence runs that go.
type Service struct {
	Records Records
	Now     func() time.Time
	// Metrics are those of an environment's project.
	Metrics func(ctx context.Context, environment int64) ([]evidence.Metric, error)

	// Batches are measurements that did not come with a report.
	Batches intake.Gather[app.Batch]

	here   here
	lately atomic.Int64 // when something last arrived here for a release, in Unix seconds

	once    sync.Once
	reading chan struct{} // held by who reads the runs anew

	mu     sync.Mutex
	places map[int64]*place      // by environment
	looked map[string]*lookedRun // by release
}

// place are the runs of an environment, as they were read at a time.
type place struct {
	at   time.Time
	runs []*going

	asked   time.Time // for the metrics
	metrics map[string]bool
}

// metricsFresh is how old what is known of an environment's metrics may be.
const metricsFresh = 5 * time.Second

// metrics are the keys of those that there are in an environment.
func (s *Service) metrics(ctx context.Context, environment int64) (map[string]bool, error) {
	s.mu.Lock()
	p := s.places[environment]
	if p != nil && time.Since(p.asked) < metricsFresh {
		defer s.mu.Unlock()
		return p.metrics, nil
	}
	s.mu.Unlock()
	all, err := s.Metrics(ctx, environment)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for i := range all {
		out[all[i].Key] = true
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if p := s.places[environment]; p != nil {
		p.asked, p.metrics = time.Now(), out
	}
	return out, nil
}

// going is an evidence run that goes.
type going struct {
	id      int64
	secret  []byte
	release *app.Release
	setup   evidence.Setup
	seed    uint32
}

// fresh is how old what is known of the runs may be. One that is not known is looked for at once, but not often.
const (
	fresh = time.Second
	again = 200 * time.Millisecond
)

// Limits of what is believed of times.
const (
	oldest = 24 * 60 * 60_000 // milliseconds
	skew   = int64(evidence.Skew)
)

// runs gives the runs of an environment, no older than some time. While somebody reads them anew, those who need not
// wait go by what was known: records that do not answer shall not gather callers here.
func (s *Service) runs(ctx context.Context, environment int64, old time.Duration, wait bool) ([]*going, error) {
	known := func() (*place, bool) {
		s.mu.Lock()
		defer s.mu.Unlock()
		p := s.places[environment]
		return p, p != nil && time.Since(p.at) < old
	}
	p, is := known()
	if is {
		return p.runs, nil
	}
	s.once.Do(func() { s.reading = make(chan struct{}, 1) })
	select {
	case s.reading <- struct{}{}:
	default:
		if p != nil && !wait {
			return p.runs, nil
		}
		select {
		case s.reading <- struct{}{}:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	defer func() { <-s.reading }()
	if p, is = known(); is { // somebody else has read them
		return p.runs, nil
	}
	releases, err := s.Records.RunningIn(ctx, environment)
	if err != nil {
		return nil, err
	}
	next := &place{at: time.Now()}
	for i := range releases {
		rel := &releases[i]
		if len(rel.State.Plan.Watches) == 0 || rel.State.At < 0 {
			continue
		}
		r, err := s.open(ctx, p, rel)
		if err != nil {
			return nil, err
		}
		next.runs = append(next.runs, r)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.places == nil {
		s.places = map[int64]*place{}
	}
	if now := s.places[environment]; now != nil {
		next.asked, next.metrics = now.asked, now.metrics
	}
	s.places[environment] = next
	return next.runs, nil
}

// open finds the present run of a release, or begins it.
func (s *Service) open(ctx context.Context, before *place, rel *app.Release) (*going, error) {
	out := &going{release: rel, setup: rel.State.Setup(), seed: bucket.Seed(rel.State.Plan.Salt)}
	if before != nil {
		for _, r := range before.runs {
			if r.release.ID == rel.ID && r.release.State.Run == rel.State.Run {
				out.id, out.secret = r.id, r.secret
				return out, nil
			}
		}
	}
	in := &app.EvidenceRun{Release: rel.ID, Run: rel.State.Run, Environment: rel.Environment,
		Began:  rel.State.RunBegan,
		Secret: make([]byte, 16)}
	_, _ = rand.Read(in.Secret) // it does not fail
	row, err := s.Records.OpenRun(ctx, in)
	if err != nil {
		return nil, err
	}
	out.id, out.secret = row.ID, row.Secret
	return out, nil
}

// unit is the keyed hash of a unit: nobody can tell from the ledger who is in it.
func (r *going) unit(key string) uint64 {
	sum := sha256.Sum256(append(slices.Clip(r.secret), key...))
	return binary.LittleEndian.Uint64(sum[:])
}

// unitOf finds the unit that a release's shares are drawn by among those that an event is of.
func (r *going) unitOf(units map[string]string) (string, bool) {
	for _, by := range r.release.State.Plan.By {
		if key, is := units[by]; is {
			return key, key != ""
		}
	}
	return "", false
}
