// Package feed brings revisions to those who follow an environment.
//
// Its nouns are a [Hub], which reads the revision log in order, a [Place], which is one
// environment as it stands, and a [Reader], which starts at a revision and receives what
// comes after. The smallest use:
//
//	place, err := hub.Place(ctx, environment)
//	reader := place.Read(epoch, revision)
//	frame, err := reader.Next(ctx)
//
// A revision is encoded once and shared by all readers. A reader that is too slow to be
// served from memory is told to fetch a snapshot; it never delays a writer or another reader.
package feed

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/guard"
	"greenlever.example/greenlever/internal/app/work"
	"greenlever.example/greenlever/internal/zones"
)

// Records are what the hub reads.
type Records interface {
	// Followed lists the environments that somebody has followed since a time, in Unix milliseconds.
	Followed(ctx context.Context, since int64) ([]int64, error)
	// Heads says where some environments stand, by id.
	Heads(ctx context.Context, environments []int64) (map[int64]Head, error)
	// Revisions lists what came after a revision; flag.ErrGap where that is not kept.
	// or where the revision is another one than the digest names.
	Revisions(ctx context.Context, environment, after int64, digest string, limit int) ([]*flag.Event, error)
	// Ruleset reads an environment, and names what in it cannot be read.
	Ruleset(ctx context.Context, environment int64) (*flag.Ruleset, []app.Aside, error)
	List(ctx context.Context, environment int64, digest string) (flag.Hashes, error)
}

// Head is where an environment stands. Behind tells that followers have had more than its
// records know: they were restored from a backup, and a new epoch is needed.
type Head struct {
	Epoch, Revision int64
	Digest          string
	Behind          bool
}

// every is how often the revision log is looked at without being told to: another process
// may have written to it.
const every = 150 * time.Millisecond

// Limits of what is kept in memory of each environment's past.
const (
	keptFrames = 4_096
	keptBytes  = 16 << 20
	atOnce     = 500
)

// Hub follows the revision log of the environments that somebody follows, so that it can go on
// deciding when the records cannot be reached. Those that nobody does cost nothing.
type Hub struct {
	records Records
	log     *slog.Logger
	nudge   chan struct{}
	mu      sync.RWMutex
	places  map[int64]*Place
	failed  atomic.Pointer[string]
	looked  atomic.Int64 // when the log was last read, in Unix milliseconds; 0: never
	once    singleflight.Group

	// Lost is called where the records have lost what this process decides by: they were
	// restored under it. Nil in an outpost.
	Lost func(ctx context.Context, environment int64, had flag.Position)
	// Held gives a ruleset that was read with the emergency orders that wait to be recorded. Nil: there are none.
	Held func(rs *flag.Ruleset) *flag.Ruleset
}

// NewHub makes a hub; [Hub.Job] keeps it going.
func NewHub(records Records, log *slog.Logger) *Hub {
	return &Hub{records: records, log: log, nudge: make(chan struct{}, 1), places: map[int64]*Place{}}
}

// Nudge makes the hub look at the log now.
func (h *Hub) Nudge() {
	select {
	case h.nudge <- struct{}{}:
	default:
	}
}

// How long an environment stays in place that nobody follows any more: here, and anywhere.
const (
	asideAfter    = time.Hour
	followedSince = 24 * time.Hour
	gatherEvery   = 30 * time.Second
)

// Jobs follow the log, and find out whose.
func (h *Hub) Jobs() []work.Job {
	return []work.Job{h.job(), {Name: "followed", Says: "find the environments that somebody follows",
		Every: gatherEvery,
		Do:    func(ctx context.Context, _ *work.Turn) error { return h.Gather(ctx) }}}
}

// Gather puts in place what somebody follows, and lets go of what nobody has asked for in a while.
func (h *Hub) Gather(ctx context.Context) error {
	now := time.Now()
	ids, err := h.records.Followed(ctx, now.Add(-followedSince).UnixMilli())
	if err != nil {
		return err
	}
	followed := make(map[int64]bool, len(ids))
	for _, id := range ids {
		followed[id] = true
		if _, e := h.Place(ctx, id); e != nil {
			err = errors.Join(err, fmt.Errorf("environment %d: %w", id, e))
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for id, p := range h.places {
		if !followed[id] && now.UnixMilli()-p.asked.Load() > asideAfter.Milliseconds() {
			delete(h.places, id)
		}
	}
	return err
}

func (h *Hub) job() work.Job {
	return work.Job{Name: "feed", Says: "follow the revision log", Every: every, Wake: h.nudge, Quiet: true,
		Do: func(ctx context.Context, _ *work.Turn) error {
			err := h.Look(ctx)
			h.note(err)
			return err
		}}
}

// note logs when the log of revisions cannot be read any more, and when it can again.
func (h *Hub) note(err error) {
	said := ""
	if err != nil && !errors.Is(err, context.Canceled) {
		said = err.Error()
	}
	if before := h.failed.Swap(&said); before == nil || (*before == "") != (said == "") {
		if said != "" {
			h.log.Error("the revision log cannot be read; decisions go on with what is known", "error", said)
		} else if before != nil {
			h.log.Info("the revision log can be read again")
		}
	}
}

// Look reads what is new in the log.
func (h *Hub) Look(ctx context.Context) error {
	places := h.Places()
	heads, err := h.records.Heads(ctx, slices.Sorted(maps.Keys(places)))
	if err != nil {
		return err
	}
	h.looked.Store(time.Now().UnixMilli())
	for id, head := range heads {
		p := places[id]
		if p == nil {
			continue
		}
		var e error
		guard.Do(h.log, "follow the revision log", func() { e = p.catchUp(ctx, head) })
		if e != nil {
			e = fmt.Errorf("environment %d: %w", id, e)
		}
		err = errors.Join(err, e)
		if e == nil && p.lost(head) && h.Lost != nil {
			h.Lost(ctx, id, p.Rules().Source.Position())
		}
	}
	return err
}

// Step is a revision that was committed, and the digest of the one before it; where that is not
// known it is empty, and the log is read.
type Step struct {
	*flag.Event
	After string
}

// Follow brings environments up to what was committed a moment ago. One that is not in place is
// read as it is then, once somebody asks.
func (h *Hub) Follow(ctx context.Context, steps map[int64][]Step) (err error) {
	places := h.Places()
	for id, all := range steps {
		p := places[id]
		if p == nil {
			continue
		}
		var e error
		guard.Do(h.log, "follow the revision log", func() { e = p.follow(ctx, all) })
		err = errors.Join(err, e)
	}
	return err
}

// Place gives an environment, reading it the first time.
func (h *Hub) Place(ctx context.Context, environment int64) (*Place, error) {
	h.mu.RLock()
	p := h.places[environment]
	h.mu.RUnlock()
	if p != nil {
		p.ask()
		return p, nil
	}
	got := h.once.DoChan(strconv.FormatInt(environment, 10), func() (any, error) {
		// Whoever asks may go away; the others still want it.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), placeTime)
		defer cancel()
		rs, aside, err := h.records.Ruleset(ctx, environment)
		if err != nil {
			return nil, err
		}
		return h.Put(environment, rs, aside), nil
	})
	select {
	case r := <-got:
		if r.Err != nil {
			return nil, r.Err
		}
		return r.Val.(*Place), nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// placeTime bounds how long the first look at an environment takes.
const placeTime = 20 * time.Second

// Put puts an environment in place, unless it is there already.
func (h *Hub) Put(environment int64, rs *flag.Ruleset, aside []app.Aside) *Place {
	if h.Held != nil { // asked without a lock of ours: who holds orders may ask for the places
		rs = h.Held(rs)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if p := h.places[environment]; p != nil {
		return p
	}
	p := &Place{id: environment, records: h.records, log: h.log, changed: make(chan struct{})}
	p.rules.Store(decide.Compile(rs, zones.Find))
	p.putAside(aside)
	p.ask()
	h.places[environment] = p
	return p
}

// Stale is for how long the log could not be read: 0 while it can.
func (h *Hub) Stale() time.Duration {
	if at := h.looked.Load(); at > 0 {
		return max(0, time.Since(time.UnixMilli(at))-staleAfter)
	}
	return 0
}

// staleAfter is how old the last look may be.
const staleAfter = 2 * time.Second

// Ordered finds the environment in place that an emergency order is for. Who cannot sign learns nothing of what there
// is.
func (h *Hub) Ordered(text string) (*Place, error) {
	keyed := false
	for _, p := range h.Places() {
		e := p.Rules().Source.Emergency
		if e == nil {
			continue
		}
		o, err := flag.OrderBy(text, e.Key)
		if err != nil {
			return nil, app.Faultf(app.Forbidden, "%s", err) // an installation has one key
		}
		if keyed = true; o.Of == e.Of {
			return p, nil
		}
	}
	if !keyed {
		return nil, app.Faultf(app.Conflict, "%s, or nobody asks this process for anything", flag.ErrNoKey)
	}
	return nil, app.Faultf(app.NotFound, "nobody asks this process for the environment of this "+
		"order: it has no ruleset "+
		"of that")
}

// Places lists what is in place, by environment.
func (h *Hub) Places() map[int64]*Place {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return maps.Clone(h.places)
}
