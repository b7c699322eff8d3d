// Package intake gathers what clients report and writes it in batches, so that thousands of
// instances that all report at once, as they do after each revision, are a few transactions
// and nothing that a change or a stop waits for.
//
// Its noun is an [Intake]. A report is answered once it is in the records:
//
//	taken, err := in.Take(ctx, environment, app.Incoming{Report: r, Key: key.ID})
//
// What waits is bounded; past that, reporters are told to come again, and do, with the same
// report.
package intake

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/work"
)

// Records take reports of one environment in one transaction, and tell of each whether it was new.
type Records interface {
	TakeReports(ctx context.Context, environment int64, all []app.Incoming, now int64) ([]bool, error)
}

// Bounds of what waits, and of one transaction.
const (
	maxWaiting = 20_000
	maxBytes   = 256 << 20
	batchOf    = 500
	atEnd      = 10 * time.Second
	pause      = 50 * time.Millisecond // between batches, in which more reports come together
	writeTime  = 20 * time.Second
)

// Intake gathers reports.
type Intake struct {
	Records Records
	// Sampled takes what new reports say of units, all of one environment together.
	Sampled func(ctx context.Context, environment int64, all []*wire.Report) error
	Now     func() time.Time
	Log     *slog.Logger

	mu      sync.Mutex
	waiting map[int64][]*waiting // by environment
	count   int
	bytes   int
	wake    chan struct{}
}

// waiting is a report whose sender waits for the answer.
type waiting struct {
	app.Incoming
	size int
	done chan result
}

type result struct {
	taken bool
	err   error
}

// New makes an intake; [Intake.Job] keeps it going.
func New(records Records, now func() time.Time, log *slog.Logger) *Intake {
	return &Intake{Records: records, Now: now, Log: log, waiting: map[int64][]*waiting{}, wake: make(chan struct{}, 1)}
}

var errFull = app.Faultf(app.TooMany, "too many reports wait to be written: send this one again in a moment")

// Take hands a report over, of so many bytes, and waits until it is in the records. It tells
// whether the report was new.
func (in *Intake) Take(ctx context.Context, environment int64, r app.Incoming, size int) (bool, error) {
	w := &waiting{r, size, make(chan result, 1)}
	in.mu.Lock()
	if in.count >= maxWaiting || in.bytes+size > maxBytes {
		in.mu.Unlock()
		return false, errFull
	}
	in.count++
	in.bytes += size
	in.waiting[environment] = append(in.waiting[environment], w)
	in.mu.Unlock()
	select {
	case in.wake <- struct{}{}:
	default:
	}
	select {
	case r := <-w.done:
		return r.taken, r.err
	case <-ctx.Done():
		return false, ctx.Err() // it may still be taken; the same report again is taken once
	}
}

// Job writes what waits, and at the end what is left.
func (in *Intake) Job() work.Job {
	return work.Job{Name: "reports", Says: "write reports", Wake: in.wake, Pause: pause, AtEnd: atEnd,
		Do: func(ctx context.Context, _ *work.Turn) error {
			in.write(context.WithoutCancel(ctx)) // a batch is written whole
			return nil
		}}
}

// write writes everything that waits.
func (in *Intake) write(ctx context.Context) {
	in.mu.Lock()
	all := in.waiting
	in.waiting = map[int64][]*waiting{}
	in.mu.Unlock()
	for environment, batch := range all {
		for len(batch) > 0 {
			some := batch[:min(batchOf, len(batch))]
			batch = batch[len(some):]
			in.writeBatch(ctx, environment, some)
			in.mu.Lock()
			in.count -= len(some)
			for _, w := range some {
				in.bytes -= w.size
			}
			in.mu.Unlock()
		}
	}
}

func (in *Intake) writeBatch(ctx context.Context, environment int64, batch []*waiting) {
	answered := 0
	defer func() { // a panic is somebody else's to catch; nobody waits for it
		for _, w := range batch[answered:] {
			w.done <- result{err: app.Faultf(app.Unavailable, "the report could not be taken: send it again")}
		}
	}()
	answer := func(r result) {
		batch[answered].done <- r
		answered++
	}
	taken, err := in.take(ctx, environment, batch)
	var f *app.Fault
	if err != nil && len(batch) > 1 && !(errors.As(err, &f) && f.Kind == app.Unavailable) {
		// One of them cannot be written: the others shall not suffer for it.
		for i := range batch {
			taken, err := in.take(ctx, environment, batch[i:i+1])
			answer(result{err == nil && taken[0], err})
		}
		return
	}
	for i := range batch {
		answer(result{err == nil && taken[i], err})
	}
}

func (in *Intake) take(ctx context.Context, environment int64, batch []*waiting) ([]bool, error) {
	ctx, cancel := context.WithTimeout(ctx, writeTime)
	defer cancel()
	all := make([]app.Incoming, len(batch))
	for i, w := range batch {
		all[i] = w.Incoming
	}
	taken, err := in.Records.TakeReports(ctx, environment, all, in.Now().UnixMilli())
	if err != nil || in.Sampled == nil {
		return taken, err
	}
	var fresh []*wire.Report
	for i, is := range taken {
		if is {
			fresh = append(fresh, all[i].Report)
		}
	}
	if err := in.Sampled(ctx, environment, fresh); err != nil {
		// a sample: the next report brings more
		in.Log.Warn("what clients saw of units could not be kept", "error", err)
	}
	return taken, nil
}
