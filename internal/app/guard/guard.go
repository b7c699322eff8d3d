// Package guard starts the goroutines of the service and of outposts. One that panics is
// logged once, counted, and, where it is a loop, begun again: nothing that somebody sent may
// end the process.
//
//	done := guard.Go(log, "end a stream", func() { ... })
//	guard.Keep(ctx, log, "read the revision log", hub.Run)
//
// No other place of the program uses the go statement; package archtest holds that.
package guard

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"
)

var panics struct {
	sync.Mutex
	count atomic.Int64
	said  map[string]bool
}

// Panics is how many panics were met since the process began.
func Panics() int64 { return panics.count.Load() }

// maxSaid bounds how many different panics are told apart.
const maxSaid = 1_000

// note counts a panic and logs it the first time.
func note(log *slog.Logger, what string, p any) {
	panics.count.Add(1)
	text := fmt.Sprint(what, ": ", p)
	panics.Lock()
	first := !panics.said[text]
	if panics.said == nil || len(panics.said) >= maxSaid {
		panics.said = map[string]bool{}
	}
	panics.said[text] = true
	panics.Unlock()
	if first {
		log.Error("a part of this program panicked and goes on; please report it", "while", what, "panic",
			fmt.Sprint(p), "stack", string(debug.Stack()))
	}
}

// Go runs fn in a goroutine. The channel is closed when it has ended, however it ended.
func Go(log *slog.Logger, what string, fn func()) <-chan struct{} {
	done := make(chan struct{})
	go func() {
		defer close(done)
		Do(log, what, fn)
	}()
	return done
}

// Do runs fn and tells whether it ended without a panic.
func Do(log *slog.Logger, what string, fn func()) (ok bool) {
	defer func() {
		if p := recover(); p != nil {
			note(log, what, p)
		}
	}()
	fn()
	return true
}

// pause is before what panicked is begun again, so that it does not spin.
const pause = 100 * time.Millisecond

// Keep runs a loop in a goroutine, again and again if it panics, until the context ends or
// it returns by itself. The channel is closed then.
func Keep(ctx context.Context, log *slog.Logger, what string, loop func(ctx context.Context)) <-chan struct{} {
	done := make(chan struct{})
	go func() {
		defer close(done)
		for !Do(log, what, func() { loop(ctx) }) {
			select {
			case <-ctx.Done():
				return
			case <-time.After(pause):
			}
		}
	}()
	return done
}
