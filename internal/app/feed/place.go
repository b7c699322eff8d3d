package feed

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

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

	asked atomic.Int64 // when somebody last asked for it, in Unix milliseconds

	working sync.Mutex // one catches up at a time

	mu      sync.Mutex
	beside  [2]int64 // see Beside: of all flags, and of visible ones
	moved   int64    // the last revision by which a decision may have changed
	seen    int64    // the last one by which one of a visible flag may have
	silent  *silent  // for an outpost without contact
	frames  []Frame  // the newest revisions, ascending and without gaps
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

// ask notes that somebody asks for the place.
func (p *Place) ask() {
	if now := time.Now().UnixMilli(); now-p.asked.Load() > 1_000 {
		p.asked.Store(now)
	}
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
			p.log.Error("something cannot be read and is left out; all else goes on", "environment", p.id, "kind",
				a.Kind, "key", a.Key, "why", a.Why)
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

// Beside counts the changes without a revision by which a decision may have changed: on any flag, or on one that
// browsers may see. Emergency orders are such.
func (p *Place) Beside(visible bool) int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	if visible {
		return p.beside[1]
	}
	return p.beside[0]
}

// Hold changes what is held beside the ruleset's own stops, and tells whether that changed anything.
func (p *Place) Hold(change func(*flag.Ruleset) *flag.Ruleset) bool {
	p.working.Lock()
	defer p.working.Unlock()
	before := p.Rules()
	source := change(before.Source)
	if source == before.Source {
		return false
	}
	rules := before.Under(source)
	p.mu.Lock()
	defer p.mu.Unlock()
	if rules.Moved(before, func(*decide.Flag) bool { return true }) {
		p.beside[0]++
	}
	if rules.Moved(before, func(f *decide.Flag) bool { return f.Visible }) {
		p.beside[1]++
	}
	p.rules.Store(rules)
	p.packed = nil
	p.wake()
	return true
}

// wake wakes the readers; the caller holds mu.
func (p *Place) wake() {
	close(p.changed)
	p.changed = make(chan struct{})
}

// Changed gives a channel that is closed at the next revision.
func (p *Place) Changed() <-chan struct{} {
	p.ask()
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.changed
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
	held := held(src)
	made, err, _ := p.once.Do(src.Position().String()+held, func() (any, error) {
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
		packed := &Packed{ETag: fmt.Sprintf(`"%d.%d%s"`, src.Epoch, src.Revision, held), Gzip: b.Bytes(), Size: len(raw),
			of: src}
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

// held tells snapshots of one revision apart that hold other orders; empty where they hold none.
func held(src *flag.Ruleset) string {
	if len(src.Orders)+len(src.Kept) == 0 {
		return ""
	}
	sum := sha256.New()
	for _, o := range src.Orders {
		fmt.Fprintln(sum, o.ID)
	}
	for _, s := range src.Kept {
		fmt.Fprintln(sum, "kept", s.ID)
	}
	return fmt.Sprintf(".%x", sum.Sum(nil)[:8])
}

// Beat gives a frame that says that the feed lives, what time it is, what stands, over how
// long to come back after this process ends, and, from an outpost, when it last heard of the
// service. To a follower of another history it says so, and nothing of where this one stands.
func (p *Place) Beat(now time.Time, spread time.Duration, contact int64, other bool) Frame {
	p.ask()
	src := p.Rules().Source
	b := wire.Beat{Now: now.UnixMilli(), Spread: spread.Milliseconds(), OtherHistory: other, Contact: contact}
	if !other {
		b.Epoch, b.Revision, b.Digest = src.Epoch, src.Revision, src.Digest
	}
	data, err := json.Marshal(b)
	if err != nil {
		panic(err) // numbers and a digest
	}
	return Frame{src.Epoch, src.Revision, src.Digest, event("beat", "", data)}
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
