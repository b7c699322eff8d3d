package greenlever

import (
	"context"
	"errors"
	"net/http"
	"time"
)

// elsewhere goes to the next address, and tells whether there is one before the round begins anew.
func (c *Client) elsewhere(err error) bool {
	at := c.address.Load()
	if errors.Is(err, errHome) {
		c.address.Store(0)
		return true
	}
	next := (at + 1) % int32(len(c.addresses))
	c.address.Store(next)
	if state, _ := c.watch(); next != 0 && state.Connected { // while all are away it is said once
		c.log.Warn("greenlever: not connected, another address is tried", "from", c.addresses[at], "to",
			c.addresses[next], "error", err)
	}
	return next != 0
}

// errHome ends the way to another address than the first.
var errHome = errors.New("the first address can be reached again")

// lookHome asks now and then whether the first address decides again, and then ends the way to
// another one. Until it does nothing is given up for it: a stop still arrives.
func (c *Client) lookHome(ctx context.Context, home func()) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(c.options.homeward):
		}
		if c.isReady(ctx, c.addresses[0]) {
			home()
			return
		}
	}
}

func (c *Client) isReady(ctx context.Context, address string) bool {
	ctx, cancel := context.WithTimeout(ctx, readyWithin)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"/readyz", nil)
	if err != nil {
		return false
	}
	res, err := c.options.HTTP.Do(req)
	if err != nil {
		return false
	}
	return res.Body.Close() == nil && res.StatusCode == http.StatusOK
}
