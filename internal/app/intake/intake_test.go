package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"runtime"
	"sync"
	"testing"
	"time"

	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/work"
)

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

// table takes reports; one of an instance "poison" it cannot take, one of "panic" nobody could.
type table struct {
	mu      sync.Mutex
	batches []int
	had     map[string]bool
	gate    chan struct{} // nil: open
	away    bool
}

func (r *table) TakeReports(_ context.Context, _ int64, all []app.Incoming, _ int64) ([]bool, error) {
	if r.gate != nil {
		<-r.gate
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.batches = append(r.batches, len(all))
	if r.away {
		return nil, app.Faultf(app.Unavailable, "the records are away")
	}
	for _, one := range all {
		switch one.Report.Instance {
		case "poison":
			return nil, errors.New("cannot be written")
		case "panic":
			panic("nobody thought of that")
		}
	}
	taken := make([]bool, len(all))
	for i, one := range all {
		id := fmt.Sprint(one.Report.Instance, "/", one.Report.Sequence)
		taken[i] = !r.had[id]
		r.had[id] = true
	}
	return taken, nil
}

func begin(t *testing.T, r *table) *Intake {
	t.Helper()
	r.had = map[string]bool{}
	in := New(r, time.Now, quiet)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	w := work.New(in.Log, nil, "")
	w.Start(ctx, in.Job())
	go func() { defer close(done); w.Wait() }()
	t.Cleanup(func() { cancel(); <-done })
	return in
}

func report(instance string, sequence int64) app.Incoming {
	return app.Incoming{Report: &wire.Report{Status: wire.Status{Instance: instance, Sequence: sequence}}}
}

// Many reports are few transactions, and one that cannot be written hurts no other.
func TestBatches(t *testing.T) {
	r := &table{gate: make(chan struct{})}
	in := begin(t, r)
	var group sync.WaitGroup
	errs := make([]error, 1_001)
	for i := range errs {
		name := fmt.Sprint("i", i)
		if i == 700 {
			name = "poison"
		}
		group.Go(func() {
			var taken bool
			if taken, errs[i] = in.Take(context.Background(), 1, report(name, 1), 10); errs[i] == nil && !taken {
				errs[i] = errors.New("not taken")
			}
		})
	}
	for in.waits() < len(errs) { // all of them wait
		runtime.Gosched()
	}
	close(r.gate)
	group.Wait()
	for i, err := range errs {
		if (err != nil) != (i == 700) {
			t.Errorf("%d: %v", i, err)
		}
	}
	whole := 0
	for _, n := range r.batches {
		if n > 1 {
			whole++
		}
	}
	if whole > 5 {
		t.Errorf("%d transactions for more than one report", whole)
	}
	if taken, err := in.Take(context.Background(), 1, report("i1", 1), 10); taken || err != nil {
		t.Errorf("the same report again: %v %v", taken, err)
	}
	if n := in.waits(); n != 0 || in.bytes != 0 {
		t.Errorf("%d reports of %d bytes wait for ever", n, in.bytes)
	}
}

// A panic is nobody's end: who waits is told to come again, those of other environments too, and no room
// stays taken.
func TestPanicLeavesNobodyWaiting(t *testing.T) {
	r := &table{gate: make(chan struct{})}
	in := begin(t, r)
	var group sync.WaitGroup
	for environment := range int64(3) {
		group.Go(func() {
			var f *app.Fault
			_, err := in.Take(context.Background(), environment, report("panic", 1), 10)
			if !errors.As(err, &f) || f.Kind != app.Unavailable {
				t.Errorf("environment %d: %v", environment, err)
			}
		})
	}
	for in.waits() < 3 {
		runtime.Gosched()
	}
	close(r.gate)
	group.Wait()
	if taken, err := in.Take(context.Background(), 1, report("i1", 1), 10); !taken || err != nil {
		t.Errorf("a report after it: %v %v", taken, err)
	}
	if n := in.waits(); n != 0 || in.bytes != 0 {
		t.Errorf("%d reports of %d bytes wait for ever", n, in.bytes)
	}
}

// waits counts the reports that are not answered.
func (in *Intake) waits() int {
	in.mu.Lock()
	defer in.mu.Unlock()
	return in.count
}

// Past the bound reporters are told to come again, and nothing waits longer than its sender.
func TestFull(t *testing.T) {
	r := &table{}
	in := New(r, time.Now, quiet) // and nobody writes
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	var f *app.Fault
	if _, err := in.Take(ctx, 1, report("i", 1), maxBytes-10); !errors.Is(err, context.Canceled) {
		t.Errorf("a sender that left: %v", err)
	}
	if _, err := in.Take(ctx, 1, report("i", 2), 11); !errors.As(err, &f) || f.Kind != app.TooMany {
		t.Errorf("past the bytes: %v", err)
	}
	in.bytes, in.count = 0, maxWaiting
	if _, err := in.Take(ctx, 1, report("i", 3), 1); !errors.As(err, &f) || f.Kind != app.TooMany {
		t.Errorf("past the number: %v", err)
	}
}

// While the records are away a batch is refused as one, not tried report by report.
func TestRecordsAway(t *testing.T) {
	r := &table{away: true}
	in := begin(t, r)
	var f *app.Fault
	if _, err := in.Take(context.Background(), 1, report("i", 1), 1); !errors.As(err, &f) ||
		f.Kind != app.Unavailable {
		t.Errorf("%v", err)
	}
}
