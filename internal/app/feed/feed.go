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
	"maps"
	"math"
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
	"greenlever.example/greenlever/internal/zones"
)

// Records are what the hub reads.
type Records interface {
	// Heads says where every environment stands, by id.
	Heads(ctx context.Context) (map[int64]Head, error)
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

// Hub follows the revision log of all environments, so that it can go on deciding when the
// records cannot be reached.
type Hub struct {
	records Records
	log     *slog.Logger
	nudge   chan struct{}
	mu      sync.RWMutex
	places  map[int64]*Place
	failed  atomic.Pointer[string]
	once    singleflight.Group

	// Lost is called where the records have lost what this process decides by: they were
	// restored under it. Nil in an outpost.
	Lost func(ctx context.Context, environment int64, had flag.Position)
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
			guard.Do(h.log, "follow the revision log", func() { e = p.catchUp(ctx, head) })
		}
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

// Follow brings environments up to what was committed a moment ago.
func (h *Hub) Follow(ctx context.Context, steps map[int64][]Step) (err error) {
	for id, all := range steps {
		p, e := h.Place(ctx, id)
		if e == nil {
			guard.Do(h.log, "follow the revision log", func() { e = p.follow(ctx, all) })
		}
		err = errors.Join(err, e)
	}
	return err
}

// lostAfter is how long the records must know less than this process before it says so: on a
// cluster, what is read may lag behind what was committed.
const lostAfter = 3 * time.Second

// lost tells whether the records have known less than is decided by here, for a while.
func (p *Place) lost(head Head) bool {
	have := p.Rules().Source
	less := head.Epoch < have.Epoch || head.Epoch == have.Epoch && (head.Revision < have.Revision || head.Revision == have.Revision && differ(head.Digest, have.Digest))
	p.mu.Lock()
	defer p.mu.Unlock()
	if !less || head.Behind {
		p.less = time.Time{}
		return false
	}
	if p.less.IsZero() {
		p.less = time.Now()
	}
	return time.Since(p.less) > lostAfter
}

func differ(a, b string) bool { return a != "" && b != "" && a != b }

// Place gives an environment, reading it the first time.
func (h *Hub) Place(ctx context.Context, environment int64) (*Place, error) {
	h.mu.RLock()
	p := h.places[environment]
	h.mu.RUnlock()
	if p != nil {
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
	h.mu.Lock()
	defer h.mu.Unlock()
	if p := h.places[environment]; p != nil {
		return p
	}
	p := &Place{id: environment, records: h.records, log: h.log, changed: make(chan struct{})}
	p.rules.Store(decide.Compile(rs, zones.Find))
	p.putAside(aside)
	h.places[environment] = p
	return p
}

// Places lists what is in place, by environment.
func (h *Hub) Places() map[int64]*Place {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return maps.Clone(h.places)
}

// Frame is one piece of a feed, ready to be sent.
type Frame struct {
	Epoch, Revision int64
	Digest          string // of the revision
	Bytes           []byte // a server-sent event
}

// Place is one environment as it stands.
type Place struct {
	id      int64
	records Records
	log     *slog.Logger
	aside   atomic.Pointer[[]app.Aside]
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
	tried   time.Time // when what could not be read was last tried again
	less    time.Time // since when the records know less than this
	once    singleflight.Group
	clock   [2]clockwork // next change by the clock: of all flags, and of visible ones
}

// clockwork is when a ruleset's answers next change by the clock.
type clockwork struct {
	of       *decide.Ruleset
	from, at int64 // it was looked for from a time on; at is 0 for never
}

// Aside names what cannot be read and is left out.
func (p *Place) Aside() []app.Aside {
	if a := p.aside.Load(); a != nil {
		return *a
	}
	return nil
}

func (p *Place) putAside(aside []app.Aside) {
	before := p.Aside()
	p.aside.Store(&aside)
	for _, a := range aside {
		if !slices.Contains(before, a) {
			p.log.Error("something cannot be read and is left out; all else goes on", "environment", p.id, "kind", a.Kind, "key", a.Key, "why", a.Why)
		}
	}
}

// NextChange is the first instant after a time, in Unix milliseconds, at which an answer may
// change by the clock: on any flag, or on one that browsers may see. It is looked for once,
// however many streams ask.
func (p *Place) NextChange(now int64, visible bool) (at int64, ok bool) {
	rules, i := p.Rules(), 0
	if visible {
		i = 1
	}
	p.mu.Lock()
	c := p.clock[i]
	p.mu.Unlock()
	if c.of == rules && c.from <= now && (c.at == 0 || c.at > now) {
		return c.at, c.at > 0
	}
	at, ok = rules.NextChange(now, func(f *decide.Flag) bool { return f.Visible || !visible })
	if !ok {
		at = 0
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if c := p.clock[i]; c.of != rules || c.from <= now {
		p.clock[i] = clockwork{rules, now, at}
	}
	return at, ok
}

// Packed is a snapshot as it is sent.
type Packed struct {
	ETag string
	Gzip []byte
	Size int // of the JSON before it was packed

	of *flag.Ruleset
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

func (p *Place) catchUp(ctx context.Context, head Head) error {
	p.working.Lock()
	defer p.working.Unlock()
	for {
		have := p.Rules().Source
		if head.Epoch != have.Epoch || head.Revision < have.Revision {
			return p.reload(ctx)
		}
		if head.Revision == have.Revision {
			return p.retry(ctx)
		}
		if on, err := p.read(ctx, have); err != nil || !on {
			return err
		}
	}
}

// errEnds is returned where the log has nothing behind what stands.
var errEnds = errors.New("the log of revisions ends before the revision at which the environment stands")

// follow takes over what was committed. Where it is not the next of the same history, the log
// is read.
func (p *Place) follow(ctx context.Context, steps []Step) error {
	p.working.Lock()
	defer p.working.Unlock()
	for _, e := range steps {
		for have := p.Rules().Source; have.Revision < e.Revision; have = p.Rules().Source {
			on, err := true, error(nil)
			if have.Epoch == e.Epoch && have.Revision == e.Revision-1 && have.Digest == e.After && e.After != "" {
				on, err = p.take(ctx, e.Event)
			} else {
				on, err = p.read(ctx, have)
			}
			if err != nil || !on {
				return err
			}
		}
	}
	return nil
}

// read takes over what the log has behind what stands; on tells whether to go on from there.
func (p *Place) read(ctx context.Context, have *flag.Ruleset) (on bool, err error) {
	events, err := p.records.Revisions(ctx, p.id, have.Revision, have.Digest, atOnce)
	if errors.Is(err, flag.ErrGap) {
		return false, p.reload(ctx)
	}
	if err != nil {
		return false, err
	}
	if len(events) == 0 {
		return false, fmt.Errorf("revision %d: %w", have.Revision, errEnds)
	}
	for _, e := range events {
		if on, err := p.take(ctx, e); err != nil || !on {
			return on, err
		}
	}
	return true, nil
}

// take puts the next event in place; where it does not fit, the environment is read anew.
func (p *Place) take(ctx context.Context, e *flag.Event) (on bool, err error) {
	rules, err := p.holding(ctx, e)
	if err != nil {
		return false, err
	}
	next, err := rules.Next(e)
	if err != nil {
		return false, p.reload(ctx)
	}
	raw, err := json.Marshal(e)
	if err != nil {
		return false, err
	}
	p.advance(next, &Frame{e.Epoch, e.Revision, e.Digest, event("revision", e.Position().String(), raw)})
	return true, nil
}

// retry reads an environment again of which something could not be read; it may have been
// mended.
func (p *Place) retry(ctx context.Context) error {
	p.mu.Lock()
	due := len(p.Aside()) > 0 && time.Since(p.tried) > retryEvery
	if due {
		p.tried = time.Now()
	}
	p.mu.Unlock()
	if !due {
		return nil
	}
	return p.reload(ctx)
}

// retryEvery is how often what cannot be read is tried again.
const retryEvery = 30 * time.Second

// holding is the ruleset that stands, with the long lists at hand that an event names. A list
// that cannot be read is named; who is on it is unknown, and everything else goes on.
func (p *Place) holding(ctx context.Context, e *flag.Event) (*decide.Ruleset, error) {
	rules := p.Rules()
	lists := map[string]flag.Hashes{}
	for _, digest := range e.Digests() {
		if rules.Source.List(digest) != nil {
			continue
		}
		h, err := p.records.List(ctx, p.id, digest)
		var f *app.Fault
		switch {
		case err == nil:
			lists[digest] = h
		case errors.As(err, &f) && f.Kind == app.Unavailable, ctx.Err() != nil:
			return nil, err
		default:
			p.putAside(append(slices.Clone(p.Aside()), app.Aside{Kind: "list", Key: digest, Why: err.Error()}))
		}
	}
	if len(lists) == 0 {
		return rules, nil
	}
	return rules.Holding(lists), nil
}

// reload reads the whole environment anew: a new epoch began, or the records were
// restored under a running service. In one epoch it never goes back, nor over to another history.
func (p *Place) reload(ctx context.Context) error {
	rs, aside, err := p.records.Ruleset(ctx, p.id)
	if err != nil {
		return err
	}
	have := p.Rules().Source
	if rs.Epoch < have.Epoch || rs.Epoch == have.Epoch && (rs.Revision < have.Revision || rs.Revision == have.Revision && differ(rs.Digest, have.Digest)) {
		return nil
	}
	p.putAside(aside)
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

// Snapshot gives the ruleset packed. It is made once for each revision, by whoever asks
// first, and nobody else waits for it but those who ask too.
func (p *Place) Snapshot() (*Packed, error) {
	p.mu.Lock()
	packed, src := p.packed, p.Rules().Source
	p.mu.Unlock()
	if packed != nil && packed.of == src {
		return packed, nil
	}
	made, err, _ := p.once.Do(src.Position().String(), func() (any, error) {
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
		packed := &Packed{ETag: fmt.Sprintf(`"%d.%d"`, src.Epoch, src.Revision), Gzip: b.Bytes(), Size: len(raw), of: src}
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.Rules().Source == src {
			p.packed = packed
		}
		return packed, nil
	})
	if err != nil {
		return nil, err
	}
	return made.(*Packed), nil
}

// Beat gives a frame that says that the feed lives, what time it is, what stands, over how
// long to come back after this process ends, and, from an outpost, when it last heard of the
// service. To a follower of another history it says so, and nothing of where this one stands.
func (p *Place) Beat(now time.Time, spread time.Duration, contact int64, other bool) Frame {
	src := p.Rules().Source
	data := fmt.Appendf(nil, `{"now":%d,"spread":%d`, now.UnixMilli(), spread.Milliseconds())
	if other {
		data = append(data, `,"otherHistory":true`...)
	} else {
		data = fmt.Appendf(data, `,"epoch":%d,"revision":%d`, src.Epoch, src.Revision)
		if src.Digest != "" {
			data = fmt.Appendf(data, `,"digest":%q`, src.Digest)
		}
	}
	if contact > 0 {
		data = fmt.Appendf(data, `,"contact":%d`, contact)
	}
	return Frame{src.Epoch, src.Revision, src.Digest, event("beat", "", append(data, '}'))}
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

// ReadOther starts a reader that stands in another history: it gets nothing before a new
// epoch begins.
func (p *Place) ReadOther(epoch int64) *Reader {
	return &Reader{place: p, epoch: max(epoch, p.Rules().Source.Epoch), revision: math.MaxInt64}
}

// Waits tells whether the reader still waits for a new epoch, as [Place.ReadOther] says.
func (r *Reader) Waits() bool { return r.revision == math.MaxInt64 }

// Standing tells what is known here of a position.
type Standing int

// What may be known of a position.
const (
	Same    Standing = iota // it is of this history, as far as is known
	Ahead                   // it is further than this one
	Strange                 // it is of another history
	Unknown                 // what stood there is not known here
)

// Standing compares a position with what is known in memory.
func (p *Place) Standing(at flag.Position) Standing {
	p.mu.Lock()
	defer p.mu.Unlock()
	src := p.Rules().Source
	switch {
	case at.Epoch < src.Epoch || at.Revision == 0 && at.Epoch == 0:
		return Same // it takes the newer epoch, whatever it had
	case at.Epoch > src.Epoch || at.Revision > src.Revision:
		return Ahead
	case at.Revision == src.Revision:
		return known(differ(at.Digest, src.Digest))
	case at.Digest == "":
		return Same
	}
	if n := len(p.frames); n > 0 && at.Revision >= p.frames[0].Revision {
		return known(differ(at.Digest, p.frames[at.Revision-p.frames[0].Revision].Digest))
	}
	return Unknown
}

func known(other bool) Standing {
	if other {
		return Strange
	}
	return Same
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
	return []Frame{{have.Epoch, have.Revision, have.Digest, event("snapshot", have.Position().String(), raw)}}, p.changed
}
