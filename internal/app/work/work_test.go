package work

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// desk keeps leases in memory.
type desk struct {
	mu     sync.Mutex
	holder map[string]string
	until  map[string]time.Time
	fence  map[string]int64
	asked  int
}

func newDesk() *desk {
	return &desk{holder: map[string]string{}, until: map[string]time.Time{}, fence: map[string]int64{}}
}

func (d *desk) Lease(_ context.Context, name, holder string, life time.Duration) (int64, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.asked++
	if d.holder[name] != holder {
		if time.Now().Before(d.until[name]) {
			return 0, nil
		}
		d.holder[name] = holder
		d.fence[name]++
	}
	d.until[name] = time.Now().Add(life)
	return d.fence[name], nil
}

func (d *desk) times() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.asked
}

// take gives a lease to somebody else.
func (d *desk) take(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.holder[name], d.until[name] = "another", time.Now().Add(time.Hour)
	d.fence[name]++
}

func alone(j Job) func() []Job { return func() []Job { return []Job{j} } }

// begun runs jobs in a bubble of time of their own, and gives what was logged at the end.
func begun(t *testing.T, d Leases, jobs func() []Job, after func(w *Worker, stop func())) string {
	t.Helper()
	var said bytes.Buffer
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(context.Background())
		w := New(slog.New(slog.NewTextHandler(&said, nil)), d, "one")
		w.Start(ctx, jobs()...)
		synctest.Wait()
		after(w, func() { cancel(); w.Wait() })
		cancel()
		w.Wait()
	})
	return said.String()
}

func TestJobsComeAgainAndAgain(t *testing.T) {
	var at []time.Time
	begun(t, nil, alone(Job{Name: "sign", Says: "sign", Every: time.Minute, Do: func(context.Context, *Turn) error {
		at = append(at, time.Now())
		time.Sleep(10 * time.Second)
		return nil
	}}), func(w *Worker, stop func()) {
		pass(10 * time.Minute)
		if s := w.States(); len(s) != 1 || s[0].Turns < 7 || s[0].Last.IsZero() || s[0].Took != 10 ||
			s[0].Next.IsZero() || s[0].Error != "" {
			t.Errorf("%+v", s)
		}
	})
	even := true
	for i := 1; i < len(at); i++ {
		if gap := at[i].Sub(at[i-1]); gap < 64*time.Second || gap > 76*time.Second {
			t.Errorf("a turn came after %v", gap)
		} else if i > 1 && gap != at[1].Sub(at[0]) {
			even = false
		}
	}
	if even {
		t.Error("turns come like clockwork, on all processes at once")
	}
}

func TestTroubleIsSaidOnceAndWaitsGrow(t *testing.T) {
	var at []time.Time
	said := begun(t, nil, alone(Job{Name: "thin", Says: "thin old counts", Every: time.Second,
		Longest: 20 * time.Second, Do: func(context.Context, *Turn) error {
			at = append(at, time.Now())
			switch n := len(at); {
			case n == 3:
				panic("no chain")
			case n < 9:
				return errors.New("the records are away")
			}
			return nil
		}}), func(w *Worker, stop func()) {
		pass(time.Minute)
		if s := w.States()[0]; s.Error == "" || s.Since.IsZero() || s.Failed != s.Turns {
			t.Errorf("%+v", s)
		}
		pass(3 * time.Minute)
		if s := w.States()[0]; s.Error != "" || !s.Since.IsZero() || s.Failed != 8 {
			t.Errorf("%+v", s)
		}
	})
	for i, want := range []time.Duration{1, 2, 4, 8, 16, 20, 20, 20} {
		if gap := at[i+1].Sub(at[i]); gap < want*900*time.Millisecond || gap > want*1100*time.Millisecond {
			t.Errorf("wait %d: %v", i, gap)
		}
	}
	if strings.Count(said, "could not thin old counts") != 3 || strings.Count(said,
		"works again: thin old counts") != 1 || strings.Count(said, "no chain") > 1 {
		t.Errorf("%s", said)
	}
}

func TestOneOfSeveralProcesses(t *testing.T) {
	d := newDesk()
	var one, two atomic.Int64
	var fences []int64
	job := func(turns *atomic.Int64) Job {
		return Job{Name: "deliver", Says: "record deliveries", Every: time.Second, Lease: 10 * time.Second,
			Do: func(_ context.Context, t *Turn) error {
				turns.Add(1)
				fences = append(fences, t.Fence)
				return nil
			}}
	}
	begun(t, d, alone(job(&one)), func(w *Worker, stop func()) {
		pass(1500 * time.Millisecond)
		ctx, cancel := context.WithCancel(context.Background())
		other := New(slog.New(slog.DiscardHandler), d, "two")
		other.Start(ctx, job(&two))
		pass(time.Minute)
		if two.Load() != 0 || one.Load() < 50 || other.States()[0].Mine || !w.States()[0].Mine ||
			!w.States()[0].Alone {
			t.Errorf("%d and %d turns", one.Load(), two.Load())
		}
		stop()
		pass(time.Minute)
		if two.Load() < 40 {
			t.Errorf("nobody goes on: %d turns", two.Load())
		}
		cancel()
		other.Wait()
	})
	if fences[0] != 1 || fences[len(fences)-1] != 2 {
		t.Errorf("fences from %d to %d", fences[0], fences[len(fences)-1])
	}
}

// A long turn keeps its lease; where another process has it, the turn ends at once.
func TestALeaseIsHeldAndLost(t *testing.T) {
	d := newDesk()
	var ended atomic.Int64
	said := begun(t, d, alone(Job{Name: "thin", Says: "thin", Every: time.Second, Lease: 10 * time.Second,
		Do: func(ctx context.Context, t *Turn) error {
			select {
			case <-ctx.Done():
				ended.Add(1)
				return ctx.Err()
			case <-time.After(time.Hour):
				return nil
			}
		}}), func(w *Worker, stop func()) {
		pass(10 * time.Minute)
		if ended.Load() != 0 || d.times() < 100 {
			t.Fatalf("%d, asked %d times", ended.Load(), d.times())
		}
		d.take("thin")
		pass(5 * time.Second)
		if ended.Load() != 1 {
			t.Errorf("the turn goes on without its lease")
		}
	})
	if !strings.Contains(said, "its lease was lost") {
		t.Error(said)
	}
}

func TestPortionsAndProgress(t *testing.T) {
	var left atomic.Int64
	left.Store(5)
	var took time.Duration
	begun(t, nil, alone(Job{Name: "clean", Says: "clean", Every: time.Hour, First: true, Do: func(_ context.Context,
		t *Turn) error {
		now := left.Add(-1)
		if now > 0 {
			t.Again()
		}
		t.Did(5-now, 5)
		return nil
	}}), func(w *Worker, stop func()) {
		began := time.Now()
		for left.Load() > 0 {
			pass(time.Millisecond)
		}
		took = time.Since(began)
		if s := w.States()[0]; s.Done != 5 || s.Of != 5 || s.Turns != 5 {
			t.Errorf("%+v", s)
		}
	})
	if took > time.Second {
		t.Errorf("five portions took %v", took)
	}
}

func TestWokenAndPaused(t *testing.T) {
	var wake chan struct{} // of the bubble
	var turns atomic.Int64
	begun(t, nil, func() []Job {
		wake = make(chan struct{}, 1)
		return []Job{{Name: "write", Says: "write reports", Wake: wake, Pause: time.Second, AtEnd: time.Second,
			Do: func(context.Context, *Turn) error { turns.Add(1); return nil }}}
	}, func(w *Worker, stop func()) {
		pass(time.Hour)
		if turns.Load() != 0 {
			t.Errorf("%d turns that nobody asked for", turns.Load())
		}
		for range 100 {
			select {
			case wake <- struct{}{}:
			default:
			}
			pass(100 * time.Millisecond)
		}
		if n := turns.Load(); n < 8 || n > 12 {
			t.Errorf("%d turns in ten seconds", n)
		}
		before := turns.Load()
		stop()
		if n := turns.Load(); n != before+1 {
			t.Errorf("%d turns at the end", n-before)
		}
	})
}

// A turn has its limit, also the last one.
func TestTurnsEnd(t *testing.T) {
	var took []time.Duration
	hang := func(ctx context.Context, _ *Turn) error {
		began := time.Now()
		<-ctx.Done()
		took = append(took, time.Since(began))
		return ctx.Err()
	}
	begun(t, nil, alone(Job{Name: "hang", Says: "hang", First: true, Every: time.Hour, Limit: 5 * time.Second,
		AtEnd: 3 * time.Second, Do: hang}), func(w *Worker, stop func()) {
		time.Sleep(10 * time.Second)
		stop()
	})
	if len(took) != 2 || took[0] != 5*time.Second || took[1] != 3*time.Second {
		t.Errorf("%v", took)
	}
}

// pass lets time pass and all that it wakes settle.
func pass(d time.Duration) {
	time.Sleep(d)
	synctest.Wait()
}
