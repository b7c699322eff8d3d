package greenlever

import (
	"context"
	"os"
	"time"

	"greenlever.example/core/wire"
)

// maxApplied bounds what is kept until the next report.
const maxApplied = 1_000

func (c *Client) note(epoch, revision int64, digest string) {
	if len(c.applied) >= maxApplied {
		c.applied = c.applied[1:]
	}
	c.applied = append(c.applied, wire.Applied{Epoch: epoch, Revision: revision,
		At: time.Now().UnixMilli() + c.skew.Load(), Digest: digest})
}

// heard notes that the service was heard of, through an outpost where at is not zero: Unix
// milliseconds by the service's clock.
func (c *Client) heard(at int64) {
	now := time.Now()
	c.mu.Lock()
	defer c.mu.Unlock()
	if at == 0 {
		c.link.Contact = now
	} else if contact := time.UnixMilli(at - c.skew.Load()); contact.After(c.link.Contact) {
		c.link.Contact = contact
	}
	c.restLocked(now)
}

// silenceEvery is how often a client looks how long it has heard nothing.
const silenceEvery = 5 * time.Second

// watchSilence lets flags rest that allow no longer silence, and keeps the time of the last
// contact with the copy on disk.
func (c *Client) watchSilence(ctx context.Context) {
	tick := time.NewTicker(silenceEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		c.rest(time.Now())
		if state, _ := c.watch(); state.Connected && c.disk.path != "" {
			_ = os.Chtimes(c.disk.path, state.Contact, state.Contact) // not there yet: it is written with its time
		}
	}
}

// rest has flags give their resting variants that allow no longer silence than there is.
func (c *Client) rest(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.restLocked(now)
}

func (c *Client) restLocked(now time.Time) {
	s := c.state.Load()
	silent := 0
	for _, minutes := range s.base.Rests() {
		if now.Sub(c.link.Contact) >= time.Duration(minutes)*time.Minute {
			silent = minutes
		}
	}
	if silent == c.link.Silent {
		return
	}
	next := *s
	next.rules = s.base.Silent(silent)
	next.handles = lookUpHandles(next.rules)
	c.state.Store(&next)
	c.link.Silent = silent
	if silent > 0 {
		c.log.Warn("greenlever: the service was not heard of for so long that some flags rest", "minutes", silent)
	} else {
		c.log.Info("greenlever: the service was heard of, and flags that rested are decided again")
	}
	c.tell()
}
