package intake

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/work"
)

// Bounds of what waits, and of one transaction.
const (
	maxWaiting = 20_000
	maxBytes   = 256 << 20
	batchOf    = 500
	atEnd      = 10 * time.Second
	pause      = 50 * time.Millisecond // between batches, in which more come together
	writeTime  = 20 * time.Second
)

// Gather gathers things of one kind and writes them in batches, each of one environment. Whoever hands
// one over waits until it is written. The zero value with its functions set is ready.
type Gather[T any] struct {
	Name, Says string // of the job
	// Write writes a batch in one transaction, and tells of each whether it was new.
	Write func(ctx context.Context, environment int64, batch []T) ([]bool, error)

	mu      sync.Mutex
	waiting map[int64][]*waiting[T] // by environment
	count   int
	bytes   int
	seconds map[int64]int // how many came in each second, of those that wait
	once    sync.Once
	wake    chan struct{}
}

// waiting is one whose sender waits for the answer.
type waiting[T any] struct {
	what     T
	size     int
	done     chan result
	answered bool // the writer's own
	came     int64
}

type result struct {
	taken bool
	err   error
}

var errFull = app.Faultf(app.TooMany, "too many reports wait to be written: send this one again in a moment")

func (g *Gather[T]) begin() {
	g.once.Do(func() {
		g.wake, g.waiting, g.seconds = make(chan struct{}, 1), map[int64][]*waiting[T]{}, map[int64]int{}
	})
}

// Take hands one over, of so many bytes, and waits until it is in the records. It tells whether it was
// new. The error is a Fault of kind TooMany where as much waits as may.
func (g *Gather[T]) Take(ctx context.Context, environment int64, what T, size int) (bool, error) {
	g.begin()
	w := &waiting[T]{what: what, size: size, done: make(chan result, 1), came: time.Now().Unix()}
	g.mu.Lock()
	if g.count >= maxWaiting || g.bytes+size > maxBytes {
		g.mu.Unlock()
		return false, errFull
	}
	g.count++
	g.bytes += size
	g.seconds[w.came]++
	g.waiting[environment] = append(g.waiting[environment], w)
	g.mu.Unlock()
	select {
	case g.wake <- struct{}{}:
	default:
	}
	select {
	case r := <-w.done:
		return r.taken, r.err
	case <-ctx.Done():
		return false, ctx.Err() // it may still be taken; the same again is taken once
	}
}

// Oldest tells for how long the oldest waits that was not written yet; false where none does.
func (g *Gather[T]) Oldest() (time.Duration, bool) {
	g.begin()
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.seconds) == 0 {
		return 0, false
	}
	return time.Since(time.Unix(slices.Min(slices.Collect(maps.Keys(g.seconds))), 0)), true
}

// Job writes what waits, and at the end what is left.
func (g *Gather[T]) Job() work.Job {
	g.begin()
	return work.Job{Name: g.Name, Says: g.Says, Wake: g.wake, Pause: pause, AtEnd: atEnd,
		Do: func(ctx context.Context, _ *work.Turn) error {
			g.write(context.WithoutCancel(ctx)) // a batch is written whole
			return nil
		}}
}

// write writes everything that waits.
func (g *Gather[T]) write(ctx context.Context) {
	g.mu.Lock()
	all := g.waiting
	g.waiting = map[int64][]*waiting[T]{}
	g.mu.Unlock()
	defer func() { // a panic is somebody else's to catch; nobody waits for it
		lost := result{err: app.Faultf(app.Unavailable, "the report could not be taken: send it again")}
		for _, batch := range all {
			for _, w := range batch {
				g.answer(w, lost)
			}
		}
	}()
	for environment, batch := range all {
		for some := range slices.Chunk(batch, batchOf) {
			g.writeBatch(ctx, environment, some)
		}
	}
}

// answer lets a sender go, once, after its room was given back.
func (g *Gather[T]) answer(w *waiting[T], r result) {
	if w.answered {
		return
	}
	w.answered = true
	g.mu.Lock()
	g.count--
	g.bytes -= w.size
	if g.seconds[w.came]--; g.seconds[w.came] == 0 {
		delete(g.seconds, w.came)
	}
	g.mu.Unlock()
	w.done <- r
}

func (g *Gather[T]) writeBatch(ctx context.Context, environment int64, batch []*waiting[T]) {
	taken, err := g.take(ctx, environment, batch)
	var f *app.Fault
	if err != nil && len(batch) > 1 && !(errors.As(err, &f) && f.Kind == app.Unavailable) {
		// One of them cannot be written: the others shall not suffer for it.
		for i, w := range batch {
			taken, err := g.take(ctx, environment, batch[i:i+1])
			g.answer(w, result{err == nil && taken[0], err})
		}
		return
	}
	for i, w := range batch {
		g.answer(w, result{err == nil && taken[i], err})
	}
}

func (g *Gather[T]) take(ctx context.Context, environment int64, batch []*waiting[T]) ([]bool, error) {
	ctx, cancel := context.WithTimeout(ctx, writeTime)
	defer cancel()
	all := make([]T, len(batch))
	for i, w := range batch {
		all[i] = w.what
	}
	return g.Write(ctx, environment, all)
}
