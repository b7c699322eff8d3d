// Package clock is the time that all processes of the service share: the database's clock,
// carried on by this process' own steady one. A jump of this machine's clock does not show
// in it, and a jump of the database's is noticed.
//
//	c := clock.New(st.Now)
//	err := c.Sync(ctx)
//	c.Now()
package clock

import (
	"context"
	"sync"
	"time"
)

// Clock is a shared time. Before it is set it is this machine's own.
type Clock struct {
	read func(ctx context.Context) (int64, error)

	mu    sync.Mutex
	base  time.Time // of the database
	set   time.Time // when that was, with this process' steady clock
	moved time.Time // when the database's clock last jumped
}

// New makes a clock that reads the database's, in Unix milliseconds.
func New(read func(ctx context.Context) (int64, error)) *Clock { return &Clock{read: read} }

// jump is by how much the two clocks may run apart between two readings.
const jump = 2 * time.Second

// Sync reads the database's clock.
func (c *Clock) Sync(ctx context.Context) error {
	before := time.Now()
	ms, err := c.read(ctx)
	if err != nil {
		return err
	}
	after := time.Now()
	read := time.UnixMilli(ms).Add(after.Sub(before) / 2)
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.set.IsZero() && read.Sub(c.base.Add(after.Sub(c.set))).Abs() > jump+after.Sub(before) {
		c.moved = after
	}
	c.base, c.set = read, after
	return nil
}

// Now is the shared time.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.set.IsZero() {
		return time.Now()
	}
	return c.base.Add(time.Since(c.set))
}

// Settled tells whether the database's clock has not jumped for so long.
func (c *Clock) Settled(long time.Duration) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.moved.IsZero() || time.Since(c.moved) > long
}
