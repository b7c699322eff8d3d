package greenlever

import (
	"context"
	"fmt"
	"runtime/debug"
	"time"
)

// The client's goroutines are started here alone: a panic in one is logged and never ends the
// application, and a loop goes on.

// again is before a loop that panicked is begun again.
const again = 100 * time.Millisecond

// keep runs a loop in a goroutine until the context ends or it returns by itself.
func (c *Client) keep(ctx context.Context, what string, loop func(ctx context.Context)) {
	c.done.Go(func() {
		for !c.guard(what, func() { loop(ctx) }) {
			select {
			case <-ctx.Done():
				return
			case <-time.After(again):
			}
		}
	})
}

// guard runs fn and tells whether it ended without a panic. Each panic is logged once.
func (c *Client) guard(what string, fn func()) (ok bool) {
	defer func() {
		if p := recover(); p != nil {
			if _, said := c.panics.LoadOrStore(fmt.Sprint(what, p), true); !said {
				c.log.Error("greenlever: a part of the client panicked and goes on; please report it", "while", what,
					"panic", fmt.Sprint(p), "stack", string(debug.Stack()))
			}
		}
	}()
	fn()
	return true
}

// aside runs fn in a goroutine that nothing waits for.
func (c *Client) aside(what string, fn func()) {
	go c.guard(what, fn)
}
