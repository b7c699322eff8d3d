package feed

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/zones"
)

// lostAfter is how long the records must know less than this process before it says so: on a
// cluster, what is read may lag behind what was committed.
const lostAfter = 3 * time.Second

// lost tells whether the records have known less than is decided by here, for a while.
func (p *Place) lost(head Head) bool {
	have := p.Rules().Source
	less := head.Epoch < have.Epoch || head.Epoch == have.Epoch && (head.Revision < have.Revision ||
		head.Revision == have.Revision && differ(head.Digest, have.Digest))
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
			p.putAside(append(slices.Clone(p.Aside()), app.Aside{Kind: "list", Key: digest,
				Why: strings.TrimPrefix(err.Error(), "list "+digest+": ")}))
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
	if rs.Epoch < have.Epoch || rs.Epoch == have.Epoch && (rs.Revision < have.Revision ||
		rs.Revision == have.Revision && differ(rs.Digest, have.Digest)) {
		return nil
	}
	p.putAside(aside)
	p.advance(decide.Compile(rs.Succeed(have), zones.Find), nil)
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
	p.wake()
}
