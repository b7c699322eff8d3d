// Package lineage finds out whether what a follower has is of the history that the records
// tell: after a backup was restored, two revisions may have one number.
//
//	switch s.Met(ctx, place, environment, position, key) { ... }
//
// A position that a service of this installation gave, and that the records do not know,
// proves that they were restored. A claim without that proof is an alarm, and blocks nothing.
package lineage

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/guard"
)

// Records are what this package reads and writes.
type Records interface {
	Genuine(ctx context.Context, environment int64, p flag.Position) (bool, error)
	DigestAt(ctx context.Context, environment, revision int64) (string, error)
	SetBehind(ctx context.Context, environment int64, p flag.Position) (behind, urgent bool, err error)
}

// Service compares positions.
type Service struct {
	Records Records
	// Look reads what is new in the revision log.
	Look func(ctx context.Context) error
	// Epoch starts a new epoch, for a cause.
	Epoch func(ctx context.Context, cause string) error
	Log   *slog.Logger

	mu     sync.Mutex
	alarms map[string]time.Time // when a key's strange position was last told of
	noted  map[int64]bool       // environments whose restore is being noted
}

// lookTime bounds how long a follower waits to be compared; past it, it is taken for one of
// this history.
const lookTime = 2 * time.Second

// Met tells whether a follower at a position is of another history than this place. What
// follows from it is done behind.
func (s *Service) Met(ctx context.Context, place *feed.Place, environment int64, at flag.Position,
	key string) (other bool) {
	standing := place.Standing(at)
	if standing == feed.Same {
		return false
	}
	look, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	if standing == feed.Ahead { // another node may have committed it a moment ago
		if err := s.Look(look); err == nil {
			standing = place.Standing(at)
		}
	}
	if standing == feed.Unknown {
		digest, err := s.Records.DigestAt(look, environment, at.Revision)
		standing = feed.Same
		if err == nil && digest != "" && digest != at.Digest {
			standing = feed.Strange
		}
	}
	if standing == feed.Same {
		return false
	}
	genuine, err := s.Records.Genuine(look, environment, at)
	if err != nil {
		return standing == feed.Strange
	}
	if !genuine {
		s.alarm(environment, at, key)
		return false
	}
	s.Restored(context.WithoutCancel(ctx), environment, at)
	return true
}

// alarmEvery is how often a key's strange positions are told of.
const alarmEvery = time.Minute

func (s *Service) alarm(environment int64, at flag.Position, key string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.alarms == nil || len(s.alarms) > 10_000 {
		s.alarms = map[string]time.Time{}
	}
	if time.Since(s.alarms[key]) < alarmEvery {
		return
	}
	s.alarms[key] = time.Now()
	s.Log.Error("somebody claims a revision that this installation never gave: if it is no very old client, revoke "+
		"the access key",
		"environment", environment, "access key", key, "claim", at.String()[:min(len(at.String()), 60)])
}

// noteTime bounds how long noting a restore may take.
const noteTime = 30 * time.Second

// Restored notes, behind, that the records have lost a position of this installation. Where a
// stop or a lift was taken since, a new epoch begins at once, for it would not arrive in this one.
func (s *Service) Restored(ctx context.Context, environment int64, at flag.Position) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.noted[environment] {
		return
	}
	if s.noted == nil {
		s.noted = map[int64]bool{}
	}
	s.noted[environment] = true
	guard.Go(s.Log, "note that the records were restored", func() {
		defer func() {
			s.mu.Lock()
			defer s.mu.Unlock()
			delete(s.noted, environment)
		}()
		ctx, cancel := context.WithTimeout(ctx, noteTime)
		defer cancel()
		behind, urgent, err := s.Records.SetBehind(ctx, environment, at)
		if behind {
			s.Log.Error("a follower has had what the records do not know: they were restored from a backup; run "+
				"`greenlever epoch new`",
				"environment", environment, "follower", at.String()[:min(len(at.String()), 40)])
		}
		if err == nil && behind && urgent {
			err = s.Epoch(ctx, "a stop after the records were restored from a backup")
		}
		var f *app.Fault
		if err != nil && !(errors.As(err, &f) && f.Kind == app.Unavailable) {
			s.Log.Error("that the records were restored could not be noted", "error", err)
		}
	})
}
