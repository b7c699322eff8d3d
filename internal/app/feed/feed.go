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
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/zones"
)

// Records are what the hub reads.
type Records interface {
	// Heads says where every environment stands, by id.
	Heads(ctx context.Context) (map[int64]Head, error)
	// Revisions lists what came after a revision; flag.ErrGap where that is not kept.
	Revisions(ctx context.Context, environment, after int64, limit int) ([]*flag.Event, error)
	Ruleset(ctx context.Context, environment int64) (*flag.Ruleset, error)
	List(ctx context.Context, digest string) (flag.Hashes, error)
}

// Head is where an environment stands.
type Head struct{ Epoch, Revision int64 }

// every is how often the revision log is looked at without being told to: another process
// may have written to it.
const every = 150 * time.Millisecond

// Limits of what is kept in memory of each environment's past.
const (
	keptFrames = 4_096
	keptBytes  = 16 << 20
	atOnce     = 500
)

// Hub follows the revision log of all environments, so that it can go on deciding when the
// records cannot be reached.
type Hub struct {
	records Records
	log     *slog.Logger
	nudge   chan struct{}
	mu      sync.RWMutex
	places  map[int64]*Place
	failed  atomic.Pointer[string]
}

// NewHub makes a hub; [Hub.Run] keeps it going.
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

// Run follows the log until the context ends.
func (h *Hub) Run(ctx context.Context) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-h.nudge:
		}
		h.note(h.Look(ctx))
	}
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
	heads, err := h.records.Heads(ctx)
	if err != nil {
		return err
	}
	for id, head := range heads {
		p, e := h.Place(ctx, id)
		if e == nil {
			e = p.catchUp(ctx, head.Epoch, head.Revision)
		}
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
		return p, nil
	}
	rs, err := h.records.Ruleset(ctx, environment)
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if p := h.places[environment]; p != nil {
		return p, nil
	}
	p = &Place{id: environment, records: h.records, changed: make(chan struct{})}
	p.rules.Store(decide.Compile(rs, zones.Find))
	h.places[environment] = p
	return p, nil
}

// Frame is one piece of a feed, ready to be sent.
type Frame struct {
	Epoch, Revision int64
	Bytes           []byte // a server-sent event
}

// Place is one environment as it stands.
type Place struct {
	id      int64
	records Records
	rules   atomic.Pointer[decide.Ruleset]

	working sync.Mutex // one catches up at a time

	mu      sync.Mutex
	moved   int64   // the last revision by which a decision may have changed
	seen    int64   // the last one by which one of a visible flag may have
	silent  *silent // for an outpost without contact
	frames  []Frame // the newest revisions, ascending and without gaps
	bytes   int
	changed chan struct{}
	packed  *Packed
}

// Packed is a snapshot as it is sent.
type Packed struct {
	ETag string
	Gzip []byte
	Size int // of the JSON before it was packed
}

// Rules is the ruleset that stands.
func (p *Place) Rules() *decide.Ruleset { return p.rules.Load() }

// silent is the ruleset as it is after minutes without contact.
type silent struct {
	of      *decide.Ruleset
	minutes int
	rules   *decide.Ruleset
}

// Deciding is the ruleset to decide by after so many minutes without contact to the
// service; that is 0 in the service itself.
func (p *Place) Deciding(minutes int) *decide.Ruleset {
	rules := p.Rules()
	if minutes <= 0 {
		return rules
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if s := p.silent; s == nil || s.of != rules || s.minutes != minutes {
		p.silent = &silent{rules, minutes, rules.Silent(minutes)}
	}
	return p.silent.rules
}

// Moved is the last revision by which a decision may have changed: on any flag, or on one
// that browsers may see.
func (p *Place) Moved(visible bool) int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	if visible {
		return p.seen
	}
	return p.moved
}

// Changed gives a channel that is closed at the next revision.
func (p *Place) Changed() <-chan struct{} {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.changed
}

func (p *Place) catchUp(ctx context.Context, epoch, revision int64) error {
	p.working.Lock()
	defer p.working.Unlock()
	for {
		have := p.Rules().Source
		if epoch != have.Epoch || revision < have.Revision {
			return p.reload(ctx, epoch)
		}
		if revision <= have.Revision {
			return nil
		}
		events, err := p.records.Revisions(ctx, p.id, have.Revision, atOnce)
		if errors.Is(err, flag.ErrGap) {
			return p.reload(ctx, epoch)
		}
		if err != nil {
			return err
		}
		if len(events) == 0 {
			return fmt.Errorf("environment %d stands at revision %d, but the log ends at %d", p.id, revision, have.Revision)
		}
		for _, e := range events {
			rules, err := p.holding(ctx, e)
			if err != nil {
				return err
			}
			next, err := rules.Next(e)
			if err != nil {
				return p.reload(ctx, epoch)
			}
			raw, err := json.Marshal(e)
			if err != nil {
				return err
			}
			p.advance(next, &Frame{e.Epoch, e.Revision, event("revision", fmt.Sprintf("%d.%d", e.Epoch, e.Revision), raw)})
		}
	}
}

// holding is the ruleset that stands, with the long lists at hand that an event names.
func (p *Place) holding(ctx context.Context, e *flag.Event) (*decide.Ruleset, error) {
	rules := p.Rules()
	lists := map[string]flag.Hashes{}
	for _, digest := range e.Digests() {
		if rules.Source.List(digest) == nil {
			h, err := p.records.List(ctx, digest)
			if err != nil {
				return nil, err
			}
			lists[digest] = h
		}
	}
	if len(lists) == 0 {
		return rules, nil
	}
	return rules.Holding(lists), nil
}

// reload reads the whole environment anew: a new epoch began, or the records were
// restored under a running service. In one epoch it never goes back.
func (p *Place) reload(ctx context.Context, epoch int64) error {
	rs, err := p.records.Ruleset(ctx, p.id)
	if err != nil {
		return err
	}
	if have := p.Rules().Source; epoch == have.Epoch && rs.Revision < have.Revision {
		return nil
	}
	p.advance(decide.Compile(rs, zones.Find), nil)
	return nil
}

// advance puts a ruleset in place and wakes the readers. Without a frame the past is forgotten.
func (p *Place) advance(rs *decide.Ruleset, f *Frame) {
	p.mu.Lock()
	defer p.mu.Unlock()
	before := p.rules.Load()
	p.rules.Store(rs)
	p.packed = nil
	if f == nil || rs.Moved(before, func(*decide.Flag) bool { return true }) {
		p.moved = rs.Source.Revision
	}
	if f == nil || rs.Moved(before, func(f *decide.Flag) bool { return f.Visible }) {
		p.seen = rs.Source.Revision
	}
	if f == nil {
		p.frames, p.bytes = nil, 0
	} else {
		p.frames, p.bytes = append(p.frames, *f), p.bytes+len(f.Bytes)
		for len(p.frames) > keptFrames || p.bytes > keptBytes && len(p.frames) > 1 {
			p.bytes -= len(p.frames[0].Bytes)
			p.frames = p.frames[1:]
		}
	}
	close(p.changed)
	p.changed = make(chan struct{})
}

// Snapshot gives the ruleset packed; it is made once per revision.
func (p *Place) Snapshot() (*Packed, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.packed != nil {
		return p.packed, nil
	}
	src := p.Rules().Source
	raw, err := json.Marshal(src.Snapshot())
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if _, err := z.Write(raw); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	p.packed = &Packed{ETag: fmt.Sprintf(`"%d.%d"`, src.Epoch, src.Revision), Gzip: b.Bytes(), Size: len(raw)}
	return p.packed, nil
}

// Beat gives a frame that says that the feed lives, what time it is, what stands, over how
// long to come back after this process ends, and, from an outpost, when it last heard of the
// service.
func (p *Place) Beat(now time.Time, spread time.Duration, contact int64) Frame {
	src := p.Rules().Source
	data := fmt.Appendf(nil, `{"now":%d,"epoch":%d,"revision":%d,"spread":%d`, now.UnixMilli(), src.Epoch, src.Revision, spread.Milliseconds())
	if contact > 0 {
		data = fmt.Appendf(data, `,"contact":%d`, contact)
	}
	return Frame{src.Epoch, src.Revision, event("beat", "", append(data, '}'))}
}

// event writes a server-sent event; JSON has no line breaks, so one data line will do.
func event(name, id string, data []byte) []byte {
	var b bytes.Buffer
	b.WriteString("event: " + name + "\n")
	if id != "" {
		b.WriteString("id: " + id + "\n")
	}
	b.WriteString("data: ")
	b.Write(data)
	b.WriteString("\n\n")
	return b.Bytes()
}

// Reader receives what comes after a revision.
type Reader struct {
	place           *Place
	epoch, revision int64
}

// Read starts a reader behind a revision of an epoch; zeros stand for knowing nothing.
func (p *Place) Read(epoch, revision int64) *Reader {
	return &Reader{place: p, epoch: epoch, revision: revision}
}

// Next gives the next frames, waiting for one where there is none yet. Frames that cannot
// be had from memory any more are replaced by one that says to fetch a snapshot.
func (r *Reader) Next(ctx context.Context) ([]Frame, error) {
	for {
		frames, changed := r.ready()
		if len(frames) > 0 {
			last := frames[len(frames)-1]
			r.epoch, r.revision = last.Epoch, last.Revision
			return frames, nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func (r *Reader) ready() ([]Frame, <-chan struct{}) {
	p := r.place
	p.mu.Lock()
	defer p.mu.Unlock()
	have := p.rules.Load().Source
	if r.epoch == have.Epoch && r.revision >= have.Revision || r.epoch > have.Epoch {
		return nil, p.changed
	}
	if r.epoch == have.Epoch && len(p.frames) > 0 && p.frames[0].Revision <= r.revision+1 && p.frames[0].Epoch == r.epoch {
		return p.frames[r.revision+1-p.frames[0].Revision:], p.changed
	}
	raw := fmt.Appendf(nil, `{"epoch":%d,"revision":%d}`, have.Epoch, have.Revision)
	return []Frame{{have.Epoch, have.Revision, event("snapshot", fmt.Sprintf("%d.%d", have.Epoch, have.Revision), raw)}}, p.changed
}
