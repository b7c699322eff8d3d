// Package work does what goes on behind requests: jobs, each done again and again, on every process
// or on one of them at a time.
//
// Its nouns are a [Job], one [Turn] of it, and the [Worker] that has them done. The smallest use:
//
//	w := work.New(log, records, node)
//	w.Start(ctx, work.Job{Name: "sign", Says: "sign the audit's heads", Every: time.Minute, Do: sign})
//	...
//	w.Wait() // after ctx has ended
//
// A turn that fails is tried again, after longer and longer waits where the job says so; a trouble
// that lasts is logged once, and so is its end. What a job is at and how it went is in
// [Worker.States].
package work

import (
	"context"
	"errors"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"greenlever.example/greenlever/internal/app/guard"
)

// Job is something that is done again and again.
type Job struct {
	Name  string        // in one word, such as "sign": of its lease, in metrics and lists
	Says  string        // as a log says it after "could not": "sign the audit's heads"
	Every time.Duration // from the end of one turn to the next, give or take a tenth; 0: only when woken
	Wake  <-chan struct{}
	Pause time.Duration // least time from the end of a turn to the next, however often it is woken

	Lease   time.Duration // where the job is for one process at a time: how long it is that one's; at least 3 s
	Limit   time.Duration // of one turn, if there is one
	Longest time.Duration // between turns while they fail, each wait twice the last; 0: Every
	First   bool          // a turn at once, without waiting for the first Every
	AtEnd   time.Duration // one more turn when the worker stops, of so long at most; 0: none
	Quiet   bool          // the job logs its troubles itself

	Do func(ctx context.Context, t *Turn) error
}

// Turn is one time that a job is done.
type Turn struct {
	Fence int64 // of the lease, to be checked inside transactions; 0 without one
	again bool
	tell  func(done, of int64)
}

// Again says that there is more to do: the next turn comes at once. So jobs work in portions,
// between which they can be stopped.
func (t *Turn) Again() { t.again = true }

// Did tells how far a long job has come.
func (t *Turn) Did(done, of int64) { t.tell(done, of) }

// Leases give one of several processes the right to do what must be done once. The fence grows with
// each holder and is 0 for who does not have it.
type Leases interface {
	Lease(ctx context.Context, name, holder string, life time.Duration) (fence int64, err error)
}

// State is how a job is doing here.
type State struct {
	Name   string    `json:"name"`
	Says   string    `json:"says"`
	Alone  bool      `json:"alone"`          // it is for one process at a time
	Mine   bool      `json:"mine,omitempty"` // and this one has it
	Under  bool      `json:"underWay"`
	Turns  int64     `json:"turns"`
	Failed int64     `json:"failed"`
	Last   time.Time `json:"last,omitzero"` // when a turn ended well; zero: never
	Took   float64   `json:"took"`          // seconds of the last turn
	Next   time.Time `json:"next,omitzero"` // zero: when it is woken
	Error  string    `json:"error,omitempty"`
	Since  time.Time `json:"since,omitzero"` // when turns began to fail
	Done   int64     `json:"done,omitempty"`
	Of     int64     `json:"of,omitempty"`
}

// Worker has jobs done.
type Worker struct {
	log    *slog.Logger
	leases Leases
	holder string

	mu     sync.Mutex
	states map[string]*State
	done   sync.WaitGroup
}

// New makes a worker. Leases may be nil where no job needs one; holder names this process in them.
func New(log *slog.Logger, leases Leases, holder string) *Worker {
	return &Worker{log: log, leases: leases, holder: holder, states: map[string]*State{}}
}

// Start begins jobs, which go on until the context ends.
func (w *Worker) Start(ctx context.Context, jobs ...Job) {
	for _, j := range jobs {
		w.mu.Lock()
		w.states[j.Name] = &State{Name: j.Name, Says: j.Says, Alone: j.Lease > 0}
		w.mu.Unlock()
		w.done.Add(1)
		guard.Go(w.log, j.Says, func() {
			defer w.done.Done()
			w.keep(ctx, &j)
		})
	}
}

// Wait waits until all jobs have ended.
func (w *Worker) Wait() { w.done.Wait() }

// States lists how the jobs are doing, by name.
func (w *Worker) States() []State {
	w.mu.Lock()
	defer w.mu.Unlock()
	all := make([]State, 0, len(w.states))
	for _, s := range w.states {
		all = append(all, *s)
	}
	slices.SortFunc(all, func(a, b State) int { return strings.Compare(a.Name, b.Name) })
	return all
}

func (w *Worker) note(j *Job, set func(*State)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	set(w.states[j.Name])
}

// keep does a job until the context ends.
func (w *Worker) keep(ctx context.Context, j *Job) {
	again, failing := j.First, 0
	for pause := time.Duration(0); w.wait(ctx, j, again, failing, pause); pause = j.Pause {
		var err error
		again, err = w.turn(ctx, j)
		if ctx.Err() != nil {
			break
		}
		w.said(j, err)
		failing++
		if err == nil {
			failing = 0
		}
	}
	if j.AtEnd > 0 {
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), j.AtEnd)
		defer cancel()
		_, err := w.turn(last, j)
		w.said(j, err)
	}
}

// after is the wait after so many turns in a row have failed.
func (j *Job) after(failing int) time.Duration {
	wait := max(j.Every, j.Pause, 100*time.Millisecond)
	for range failing - 1 {
		if wait *= 2; wait >= j.Longest {
			return max(j.Every, j.Longest)
		}
	}
	return wait
}

// wait waits for the next turn, at least as long as the pause; false once the context has ended.
func (w *Worker) wait(ctx context.Context, j *Job, again bool, failing int, pause time.Duration) bool {
	wait := j.Every
	if failing > 0 {
		wait = j.after(failing)
	} else if again {
		return ctx.Err() == nil
	}
	wait += time.Duration((rand.Float64() - 0.5) * 0.2 * float64(wait)) // so that many processes do not come at once
	var timer <-chan time.Time
	next := time.Time{}
	if wait > 0 {
		timer, next = time.After(wait), time.Now().Add(wait)
	}
	w.note(j, func(s *State) { s.Next = next })
	if pause > 0 {
		select {
		case <-ctx.Done():
			return false
		case <-time.After(pause):
		}
	}
	select {
	case <-ctx.Done():
		return false
	case <-timer:
	case <-j.Wake:
	}
	return ctx.Err() == nil
}

var errPanicked = errors.New("it panicked")

// errLost ends a turn whose lease has gone to another process.
var errLost = errors.New("its lease was lost")

// turn does a job once, if it is this process's to do.
func (w *Worker) turn(ctx context.Context, j *Job) (again bool, err error) {
	t := &Turn{tell: func(done, of int64) { w.note(j, func(s *State) { s.Done, s.Of = done, of }) }}
	if j.Limit > 0 {
		limited, cancel := context.WithTimeout(ctx, j.Limit)
		defer cancel()
		ctx = limited
	}
	if j.Lease > 0 {
		if t.Fence, err = w.leases.Lease(ctx, j.Name, w.holder, j.Lease); err != nil || t.Fence == 0 {
			w.note(j, func(s *State) {
				s.Mine = false
				if err != nil {
					s.Turns++
				}
			})
			return false, err
		}
		held, end := w.hold(ctx, j)
		defer end()
		ctx = held
	}
	began := time.Now()
	w.note(j, func(s *State) { s.Under, s.Mine, s.Done, s.Of = true, t.Fence > 0, 0, 0 })
	if !guard.Do(w.log, j.Says, func() { err = j.Do(ctx, t) }) {
		err = errPanicked
	}
	if cause := context.Cause(ctx); err != nil && errors.Is(cause, errLost) {
		err = errLost
	}
	w.note(j, func(s *State) {
		s.Under, s.Took = false, time.Since(began).Seconds()
		s.Turns++
		if err == nil {
			s.Last = time.Now()
		}
	})
	return t.again, err
}

// hold renews a job's lease while a turn is under way; who loses it is stopped.
func (w *Worker) hold(ctx context.Context, j *Job) (context.Context, func()) {
	held, lose := context.WithCancelCause(ctx)
	renewing := guard.Go(w.log, "hold the lease of "+j.Name, func() {
		for {
			select {
			case <-held.Done():
				return
			case <-time.After(max(j.Lease/3, time.Second)):
			}
			if fence, err := w.leases.Lease(held, j.Name, w.holder, j.Lease); err == nil && fence == 0 {
				lose(errLost)
			}
		}
	})
	return held, func() { lose(nil); <-renewing }
}

// said logs what goes wrong when it begins, changes and ends, and keeps it for the list.
func (w *Worker) said(j *Job, err error) {
	var before string
	now := ""
	w.note(j, func(s *State) {
		before = s.Error
		if err != nil {
			now = err.Error()
			s.Failed++
			if before == "" {
				s.Since = time.Now()
			}
		} else {
			s.Since = time.Time{}
		}
		s.Error = now
	})
	switch {
	case j.Quiet || now == before:
	case now != "":
		w.log.Error("could not "+j.Says, "error", now)
	default:
		w.log.Info("works again: " + j.Says)
	}
}
