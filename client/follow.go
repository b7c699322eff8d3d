package greenlever

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strings"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/core/wire"
)

const (
	silence     = 40 * time.Second // a feed that says nothing for so long is dead
	firstRetry  = 100 * time.Millisecond
	longestWait = 15 * time.Second
	leastWait   = time.Second
	maxEvent    = 64 << 20
	maxSnapshot = 1 << 30
	readyWithin = 5 * time.Second
)

// follow reads the feed for as long as the client lives.
func (c *Client) follow(ctx context.Context) {
	wait := firstRetry
	for ctx.Err() == nil {
		started := time.Now()
		err := c.readFeed(ctx)
		if ctx.Err() != nil {
			return
		}
		if next := c.elsewhere(err); next { // is tried at once, before anybody waits
			continue
		}
		c.disconnected(err)
		if time.Since(started) > longestWait {
			wait = firstRetry
		}
		pause := wait/2 + rand.N(wait) // spread out, so that a returning service is not overrun
		if spread := c.takeSpread(); spread > pause {
			pause = rand.N(spread)
		}
		wait = min(wait*2, c.longest())
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
	}
}

// longest is how long a try to connect waits at most: as long as the service that was lost
// wants its followers spread, so that few come back at once and soon, and many do not
// overrun it.
func (c *Client) longest() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.fleet == 0 {
		return longestWait // it was never heard of
	}
	return max(leastWait, c.fleet)
}

// takeSpread is over how long the service that was lost wants its followers to come back.
func (c *Client) takeSpread() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	spread := c.spread
	c.spread = 0 // for the first try; further ones wait longer by themselves
	return spread
}

func (c *Client) disconnected(err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.link.LastError != err.Error() {
		c.log.Warn("greenlever: not connected, deciding goes on", "from", c.link.Source, "error", err)
	}
	c.link.Connected, c.link.LastError = false, err.Error()
	var answered *answerError
	c.link.Refused = errors.As(err, &answered) && (answered.status == http.StatusUnauthorized ||
		answered.status == http.StatusForbidden)
	c.tell()
}

func (c *Client) connected() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.link.Connected, c.link.LastError, c.link.Refused = true, "", false
	c.tell()
}

func (c *Client) request(ctx context.Context, method, path string, body io.Reader) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.addresses[c.address.Load()]+path, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+c.options.Key)
	return req, nil
}

func (c *Client) readFeed(ctx context.Context) error {
	ctx, end := context.WithCancelCause(ctx)
	cancel := func() { end(nil) }
	defer cancel()
	if c.address.Load() > 0 {
		c.aside("look for the first address", func() { c.lookHome(ctx, func() { end(errHome) }) })
	}
	req, err := c.request(ctx, http.MethodGet, "/follow/v1/feed", nil)
	if err != nil {
		return err
	}
	req.Header.Set("Accept", "text/event-stream")
	// Who lacks a list, such as one that was damaged on the disk, asks for everything.
	if s := c.state.Load(); (s.source == FromService || s.source == FromDisk) && !lacking(s.base.Source) {
		req.Header.Set("Last-Event-ID", s.base.Source.Position().String())
	}
	watchdog := time.AfterFunc(c.options.silence, cancel)
	defer watchdog.Stop()
	res, err := c.options.HTTP.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return statusError(res)
	}
	c.connected()
	err = readEvents(res.Body, func(event string, data []byte) error {
		watchdog.Stop() // what is fetched now has a watchdog of its own
		defer watchdog.Reset(c.options.silence)
		if event != "beat" { // which says itself when the service was heard of
			return c.event(ctx, event, data)
		}
		return c.readBeat(ctx, data)
	})
	if errors.Is(context.Cause(ctx), errHome) {
		return errHome
	}
	return err
}

// readEvents parses server-sent events (WHATWG HTML, "Server-sent events").
func readEvents(r io.Reader, take func(event string, data []byte) error) error {
	scan := bufio.NewScanner(r)
	scan.Buffer(make([]byte, 0, 64<<10), maxEvent)
	event, data := "", []byte(nil)
	for scan.Scan() {
		line := scan.Text()
		if line == "" {
			if data != nil {
				if err := take(event, data); err != nil {
					return err
				}
			}
			event, data = "", nil
			continue
		}
		field, value, _ := strings.Cut(line, ":")
		value = strings.TrimPrefix(value, " ")
		switch field {
		case "event":
			event = value
		case "data":
			if data != nil {
				data = append(data, '\n')
			}
			data = append(data, value...)
		}
	}
	if err := scan.Err(); err != nil {
		return err
	}
	return io.ErrUnexpectedEOF
}

func (c *Client) event(ctx context.Context, name string, data []byte) error {
	switch name {
	case "revision":
		var e flag.Event
		if err := json.Unmarshal(data, &e); err != nil {
			return fmt.Errorf("read revision: %w", err)
		}
		have := c.state.Load().base.Source
		if e.Epoch == have.Epoch && e.Revision <= have.Revision && c.state.Load().source == FromService {
			return nil
		}
		err := c.apply(ctx, &e)
		if errors.Is(err, flag.ErrGap) {
			return c.fetchSnapshot(ctx)
		}
		return err
	case "snapshot":
		return c.fetchSnapshot(ctx)
	case "order":
		var e wire.Emergency
		if err := json.Unmarshal(data, &e); err != nil {
			return fmt.Errorf("read emergency order: %w", err)
		}
		if err := c.takeOrder(e.Order); err != nil { // no reason to end the feed: whatever else stops still comes
			c.log.Error("greenlever: an emergency order is refused", "error", err)
		}
	}
	return nil // of a newer service
}

func (c *Client) readBeat(ctx context.Context, data []byte) error {
	var beat wire.Beat
	if err := json.Unmarshal(data, &beat); err != nil {
		return fmt.Errorf("read beat: %w", err)
	}
	c.strand(beat.OtherHistory)
	err := c.beat(ctx, beat.Now, flag.Position{Epoch: beat.Epoch, Revision: beat.Revision, Digest: beat.Digest})
	c.mu.Lock()
	c.spread = min(time.Duration(beat.Spread)*time.Millisecond, longestWait)
	c.fleet = max(c.spread, time.Millisecond)
	c.mu.Unlock()
	c.heard(beat.Contact)
	return err
}

// lacking tells whether a ruleset is without a list that it names.
func lacking(rs *flag.Ruleset) bool {
	_, missing := rs.Needed()
	return len(missing) > 0
}

// strand notes whether the service says that it does not know what is in use here.
func (c *Client) strand(is bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.link.Stranded == is {
		return
	}
	c.link.Stranded = is
	if is {
		c.link.LastError = "the service does not know the revision in use here: its records were restored from a " +
			"backup, and it needs `greenlever epoch new`"
		c.log.Error("greenlever: " + c.link.LastError)
	} else {
		c.link.LastError = ""
	}
	c.tell()
}

// beat corrects the clock. A beat of the revision in use also confirms a ruleset that was
// started from disk.
func (c *Client) beat(ctx context.Context, now int64, at flag.Position) error {
	c.mu.Lock()
	before := c.link.Skew
	c.link.Skew = time.Until(time.UnixMilli(now)).Round(time.Millisecond)
	c.skew.Store(c.link.Skew.Milliseconds())
	off, wasOff := c.link.Skew.Abs() > time.Second, before.Abs() > time.Second
	s := c.state.Load()
	have := s.base.Source
	c.mu.Unlock()
	if off && !wasOff {
		c.log.Warn("greenlever: this machine's clock differs from the service's", "by", c.link.Skew)
	}
	if at.Epoch == have.Epoch && at.Revision == have.Revision && s.source == FromDisk {
		if at.Digest != have.Digest && at.Digest != "" && have.Digest != "" {
			return c.fetchSnapshot(ctx)
		}
		if _, missing := have.Needed(); len(missing) > 0 {
			return c.fetchSnapshot(ctx)
		}
		c.set(have, FromService)
	} else if at.Epoch > have.Epoch || at.Epoch == have.Epoch && at.Revision > have.Revision {
		return c.fetchSnapshot(ctx)
	}
	return nil
}

// fetchSnapshot puts the service's present ruleset into use, unless it is an older one of
// the same epoch.
func (c *Client) fetchSnapshot(ctx context.Context) error {
	status, raw, err := c.fetch(ctx, c.options.silence, http.MethodGet, "/follow/v1/snapshot", nil, maxSnapshot)
	if err == nil && status != http.StatusOK {
		err = answered(status, raw)
	}
	if err != nil {
		return fmt.Errorf("fetch snapshot: %w", err)
	}
	rs, err := flag.ReadSnapshot(raw)
	if err != nil {
		return err
	}
	have := c.state.Load()
	mine := have.base.Source
	local := have.source == FromNowhere || have.source == FromFile
	if !local && (rs.Epoch < mine.Epoch || rs.Epoch == mine.Epoch && rs.Revision < mine.Revision) {
		return fmt.Errorf("the service is at %d.%d, behind %d.%d that this client has had: it was restored from a "+
			"backup and needs `greenlever epoch new`",
			rs.Epoch, rs.Revision, mine.Epoch, mine.Revision)
	}
	if err := c.holding(ctx, rs); err != nil {
		return err
	}
	c.set(rs, FromService)
	c.strand(false) // what is in use is the service's own
	return nil
}
