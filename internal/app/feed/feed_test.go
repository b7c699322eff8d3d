package feed

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/people"
)

// revisionLog is a revision log in memory.
type revisionLog struct {
	mu     sync.Mutex
	epoch  int64
	events []*flag.Event
	base   int64 // revisions before the first event
	kept   int64 // the first revision that what comes after is known of
	err    error
}

func (l *revisionLog) add(n int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for range n {
		r := l.base + int64(len(l.events)) + 1
		doc := fmt.Sprintf(
			`{"key":"a","type":"number","variants":{"x":%d,"y":0},"lever":"on","resting":"y","end":{"variant":"x"}}`,
			r)
		l.events = append(l.events, &flag.Event{Format: 1, Epoch: l.epoch, Revision: r,
			Flags: []json.RawMessage{json.RawMessage(doc)}})
	}
}

func (l *revisionLog) Followed(context.Context, int64) ([]int64, error) { return []int64{1}, nil }

func (l *revisionLog) Heads(context.Context, []int64) (map[int64]Head, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return map[int64]Head{1: {Epoch: l.epoch, Revision: l.base + int64(len(l.events))}}, l.err
}

func (l *revisionLog) Revisions(_ context.Context, _, after int64, _ string, limit int) ([]*flag.Event, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if after < l.kept {
		return nil, flag.ErrGap
	}
	some := l.events[after-l.base:]
	return some[:min(limit, len(some))], l.err
}

func (l *revisionLog) Ruleset(context.Context, int64) (*flag.Ruleset, []app.Aside, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	snap := &flag.Snapshot{Format: 1, Epoch: l.epoch, Revision: l.base + int64(len(l.events))}
	if n := len(l.events); n > 0 {
		snap.Flags = l.events[n-1].Flags
	}
	rs, err := flag.NewRuleset(snap)
	return rs, nil, errors.Join(err, l.err)
}

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

func place(t *testing.T, l *revisionLog) (*Hub, *Place) {
	t.Helper()
	h := NewHub(l, quiet)
	p, err := h.Place(context.Background(), 1)
	if err != nil {
		t.Fatal(err)
	}
	return h, p
}

func look(t *testing.T, h *Hub) {
	t.Helper()
	if err := h.Look(context.Background()); err != nil {
		t.Fatal(err)
	}
}

func read(t *testing.T, r *Reader) []Frame {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	frames, err := r.Next(ctx)
	if err != nil {
		t.Fatal(err)
	}
	return frames
}

func TestReadersGetEveryRevisionInOrder(t *testing.T) {
	l := &revisionLog{epoch: 9}
	l.add(3)
	h, p := place(t, l)
	r := p.Read(9, 3)
	l.add(1_200) // more than are read at once
	look(t, h)
	next := int64(4)
	for next <= 1_203 {
		for _, f := range read(t, r) {
			if f.Revision != next || !strings.Contains(string(f.Bytes), fmt.Sprintf("id: 9.%d\n", next)) {
				t.Fatalf("revision %d, want %d: %s", f.Revision, next, f.Bytes)
			}
			next++
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := r.Next(ctx); !errors.Is(err, context.Canceled) {
		t.Errorf("a reader with nothing to read: %v", err)
	}
	rules := p.Rules()
	f := rules.Flag("a")
	if v := f.Variant(f.Decide(rules, nil, 0).Variant); v.Number != 1_203 {
		t.Errorf("the place decides by revision %v", v.Number)
	}
}

// Who is too slow, new, or of another epoch fetches a snapshot and goes on from there.
func TestReadersThatMustFetch(t *testing.T) {
	l := &revisionLog{epoch: 9}
	l.add(2)
	h, p := place(t, l)
	slow := p.Read(9, 2)
	l.add(keptFrames + 10)
	for range 12 {
		look(t, h)
	}
	readers := map[string]*Reader{"slow": slow, "new": p.Read(0, 0), "of an older epoch": p.Read(8, keptFrames)}
	for name, r := range readers {
		frames := read(t, r)
		if len(frames) != 1 || !strings.HasPrefix(string(frames[0].Bytes), "event: snapshot\n") ||
			frames[0].Revision != keptFrames+12 {
			t.Errorf("%s: %d frames, %.60s", name, len(frames), frames[0].Bytes)
		}
	}
	l.add(1)
	look(t, h)
	for name, r := range readers {
		if again := read(t, r); !strings.HasPrefix(string(again[0].Bytes), "event: revision\n") {
			t.Errorf("%s: after the snapshot %.60s", name, again[0].Bytes)
		}
	}
}

func TestNewEpochReloads(t *testing.T) {
	l := &revisionLog{epoch: 9}
	l.add(5)
	h, p := place(t, l)
	r := p.Read(9, 5)
	l.mu.Lock()
	l.epoch, l.events = 10, nil // restored: the records know less
	l.mu.Unlock()
	look(t, h)
	if src := p.Rules().Source; src.Epoch != 10 || src.Revision != 0 {
		t.Fatalf("%d.%d", src.Epoch, src.Revision)
	}
	if frames := read(t, r); !strings.HasPrefix(string(frames[0].Bytes), "event: snapshot") || frames[0].Epoch != 10 {
		t.Errorf("%s", frames[0].Bytes)
	}
}

// In one epoch a place never goes back, and without the records it stays as it is.
func TestPlacesNeverGoBack(t *testing.T) {
	l := &revisionLog{epoch: 9}
	l.add(5)
	h, p := place(t, l)
	l.mu.Lock()
	l.events = l.events[:3]
	l.mu.Unlock()
	look(t, h)
	l.err = errors.New("gone")
	if err := h.Look(context.Background()); err == nil {
		t.Error("an error of the records is kept quiet")
	}
	if p.Rules().Source.Revision != 5 {
		t.Errorf("revision %d", p.Rules().Source.Revision)
	}
}

func TestSnapshotIsMadeOncePerRevision(t *testing.T) {
	l := &revisionLog{epoch: 9}
	l.add(1)
	h, p := place(t, l)
	a, err := p.Snapshot()
	if err != nil {
		t.Fatal(err)
	}
	if b, _ := p.Snapshot(); a != b || a.ETag != `"9.1"` {
		t.Errorf("%q", a.ETag)
	}
	l.add(1)
	look(t, h)
	if b, _ := p.Snapshot(); b.ETag != `"9.2"` {
		t.Errorf("%q", b.ETag)
	}
}

// keys is a set of access keys in memory.
type keys struct {
	mu   sync.Mutex
	live []app.AccessKey
	err  error
}

func (k *keys) LiveAccessKeys(context.Context) ([]app.AccessKey, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.live, k.err
}

func TestKeyring(t *testing.T) {
	ctx := context.Background()
	k := &keys{}
	ring := NewKeyring(k, quiet)
	if ring.Find(ctx, "gls_a") != nil {
		t.Error("a key that is not there was found")
	}
	ring.missed = time.Time{}
	k.live = []app.AccessKey{{ID: "a", Digest: people.Digest("gls_a"), Kind: app.ServiceKey}}
	a := ring.Find(ctx, "gls_a") // a miss makes it look
	if a == nil || a.ID != "a" {
		t.Fatalf("%+v", a)
	}
	k.err = errors.New("gone")
	if err := ring.Refresh(ctx); err == nil || ring.Find(ctx, "gls_a") != a {
		t.Error("without the records the keys are forgotten")
	}
	k.err, k.live = nil, nil
	if err := ring.Refresh(ctx); err != nil {
		t.Fatal(err)
	}
	select {
	case <-a.Done:
	default:
		t.Error("a revoked key is not done")
	}
	if ring.Find(ctx, "gls_a") != nil {
		t.Error("a revoked key is found")
	}
	live := &Live{}
	allowed := 0
	for range 50 {
		if live.Allow(10) {
			allowed++
		}
	}
	if allowed < 10 || allowed > 12 {
		t.Errorf("%d of 50 at 10 a second", allowed)
	}
}

func (l *revisionLog) List(context.Context, int64, string) (flag.Hashes, error) {
	return flag.Hashes{1, 2, 3}, nil
}

// Where the log does not reach back far enough the whole environment is read, as an outpost
// has it that was told the newest ruleset alone.
func TestLogsThatBeginLate(t *testing.T) {
	l := &revisionLog{epoch: 9}
	l.add(2)
	h, p := place(t, l)
	r := p.Read(9, 2)
	l.add(50)
	l.kept = 40
	look(t, h)
	if have := p.Rules().Source.Revision; have != 52 {
		t.Fatalf("at revision %d", have)
	}
	if frames := read(t, r); len(frames) != 1 || !strings.Contains(string(frames[0].Bytes), "event: snapshot") {
		t.Errorf("%d frames", len(frames))
	}
	l.add(1)
	look(t, h)
	if frames := read(t, r); len(frames) != 1 || frames[0].Revision != 53 || !strings.Contains(string(frames[0].Bytes),
		"event: revision") {
		t.Errorf("%+v", frames)
	}
}
