// Package population keeps the sample of units on which edits are tried, and what is seen
// of their attributes.
//
// Its nouns are a [Service], and what it has [Known] of an environment: how it is sampled
// and what its project declares. The smallest use:
//
//	units, err := s.Units(ctx, environment, "targetingKey")
//	shift.Between(before, after, "night-batching", units, now)
package population

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"greenlever.example/core/sample"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/guard"
)

// Records are what this package reads and writes.
type Records interface {
	Sampling(ctx context.Context, environment int64) (*app.Sampling, error)
	AttributesOf(ctx context.Context, environment int64) ([]app.Attribute, error)
	Covers(ctx context.Context, environment int64) (map[string]sample.Cover, error)
	MergeUnits(ctx context.Context, environment int64, attribute string, rows []app.UnitRow, now, keep int64) error
	Population(ctx context.Context, environment int64, attribute string) ([]app.UnitRow, sample.Cover, error)
	AddSeen(ctx context.Context, environment, now int64, contexts uint64, seen []sample.Seen) error
	SeenAttributes(ctx context.Context, environment, since int64) (map[string]*sample.Seen, uint64, error)
}

// fresh is for how long what was read is used again: an edit is tried many times while it
// is being made.
const fresh = 2 * time.Second

// seenFor is over how long what was seen of attributes is summed up.
const seenFor = 7 * 24 * time.Hour

// Service keeps populations.
type Service struct {
	Records Records
	Now     func() time.Time
	Log     *slog.Logger

	mu      sync.Mutex
	changes uint64 // told by Forget: what was begun to be read before the last one is old when it arrives
	known   map[int64]*kept
	units   map[unitsOf]*lately
	seen    map[int64]*seen
	samples map[int64]*own
}

// Known is how an environment is sampled and what its project declares.
type Known struct {
	Sampling   app.Sampling
	Attributes []app.Attribute
	Personal   map[string]sample.Derivation
	ServerOnly map[string]bool
	Covers     map[string]sample.Cover
}

// Names tells how sentences say the attributes.
func (k *Known) Names() words.Names {
	names := words.Names{}
	for _, a := range k.Attributes {
		if a.One != "" {
			names[a.Name] = words.Attribute{One: a.One, Many: a.Many}
		}
	}
	return names
}

// Names tells how sentences say the attributes of an environment; by their own names where the
// records cannot be read.
func (s *Service) Names(ctx context.Context, environment int64) words.Names {
	k, err := s.Fresh(ctx, environment)
	if err != nil {
		return nil
	}
	return k.Names()
}

// kept is what is known of an environment, and how old that is.
type kept struct {
	*Known
	at      time.Time
	stale   bool // something was changed: read before it is used
	reading bool
}

// Known gives what is known of an environment. It waits for the records the first time only:
// after that it may be two seconds old, and older while they cannot be reached.
func (s *Service) Known(ctx context.Context, environment int64) (*Known, error) {
	s.mu.Lock()
	k := s.known[environment]
	if k == nil {
		s.mu.Unlock()
		return s.read(ctx, environment)
	}
	if (k.stale || time.Since(k.at) >= fresh) && !k.reading {
		k.reading = true
		guard.Go(s.Log, "read how units are sampled", func() { s.refresh(context.WithoutCancel(ctx), environment, k) })
	}
	s.mu.Unlock()
	return k.Known, nil
}

// Fresh is Known for who changes things: what was changed a moment ago is in it.
func (s *Service) Fresh(ctx context.Context, environment int64) (*Known, error) {
	s.mu.Lock()
	k := s.known[environment]
	current := k != nil && !k.stale
	s.mu.Unlock()
	if current {
		return s.Known(ctx, environment)
	}
	next, err := s.read(ctx, environment)
	if err != nil && k != nil { // better old than nothing: personal attributes stay personal
		return k.Known, nil
	}
	return next, err
}

func (s *Service) refresh(ctx context.Context, environment int64, k *kept) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	_, err := s.read(ctx, environment)
	s.mu.Lock()
	defer s.mu.Unlock()
	k.reading = false
	if err != nil {
		k.at = time.Now() // asked again after a while
	}
}

// Put takes over what was known before, until it can be read.
func (s *Service) Put(environment int64, k *Known) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known = map[int64]*kept{}
	}
	if s.known[environment] == nil {
		s.known[environment] = &kept{Known: k}
	}
}

// changed is how often something was changed so far.
func (s *Service) changed() uint64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.changes
}

func (s *Service) read(ctx context.Context, environment int64) (*Known, error) {
	begun := s.changed()
	sampling, err := s.Records.Sampling(ctx, environment)
	if err != nil {
		return nil, err
	}
	k := &Known{Sampling: *sampling, Personal: map[string]sample.Derivation{}, ServerOnly: map[string]bool{}}
	if k.Attributes, err = s.Records.AttributesOf(ctx, environment); err != nil {
		return nil, err
	}
	if k.Covers, err = s.Records.Covers(ctx, environment); err != nil {
		return nil, err
	}
	for _, a := range k.Attributes {
		if a.Personal {
			k.Personal[a.Name] = a.Derive
		}
		if a.ServerOnly {
			k.ServerOnly[a.Name] = true
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known = map[int64]*kept{}
	}
	// Of two that read at once, the one that began after the change is kept.
	if was := s.known[environment]; was == nil || was.stale || begun == s.changes {
		s.known[environment] = &kept{Known: k, at: time.Now(), stale: begun != s.changes}
	}
	return k, nil
}

// Forget has everything read anew before it is used, after a change.
func (s *Service) Forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.changes++
	for _, k := range s.known {
		k.stale = true
	}
	s.units, s.seen = nil, nil
}

// looked is how many decisions there are for each whose attributes are accounted for.
const looked = 16
