package feed

import (
	"context"
	"encoding/json"
	"fmt"
	"math"

	"greenlever.example/core/flag"
	"greenlever.example/core/wire"
)

// Reader receives what comes after a revision.
type Reader struct {
	place           *Place
	epoch, revision int64
	orders          map[string]bool // ids of the emergency orders that were given
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
		return r.ordered(have), p.changed
	}
	if r.epoch == have.Epoch && len(p.frames) > 0 && p.frames[0].Revision <= r.revision+1 &&
		p.frames[0].Epoch == r.epoch {
		return p.frames[r.revision+1-p.frames[0].Revision:], p.changed
	}
	raw := fmt.Appendf(nil, `{"epoch":%d,"revision":%d}`, have.Epoch, have.Revision)
	return []Frame{{have.Epoch, have.Revision, have.Digest, event("snapshot", have.Position().String(), raw)}},
		p.changed
}

// ordered gives the emergency orders that were not given yet. They have no revision, and stop also whoever waits for
// a new epoch.
func (r *Reader) ordered(have *flag.Ruleset) (frames []Frame) {
	for _, o := range have.Orders {
		if r.orders[o.ID] {
			continue
		}
		if r.orders == nil {
			r.orders = map[string]bool{}
		}
		r.orders[o.ID] = true
		raw, err := json.Marshal(wire.Emergency{Order: o.Text})
		if err != nil {
			panic(err) // a text
		}
		frames = append(frames, Frame{r.epoch, r.revision, "", event("order", "", raw)})
	}
	return frames
}
