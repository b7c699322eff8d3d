package greenlever

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"time"
)

// report is what a client tells the service: what it has applied and what it decided.
type report struct {
	Instance    string      `json:"instance"`
	Sequence    int64       `json:"sequence"` // of this instance; each is taken once
	Application string      `json:"application"`
	Version     string      `json:"version"`
	Epoch       int64       `json:"epoch"`
	Revision    int64       `json:"revision"`
	Source      Source      `json:"source"`
	SkewMillis  int64       `json:"skewMillis"`
	From        int64       `json:"from"` // Unix milliseconds
	To          int64       `json:"to"`
	Counts      []countLine `json:"counts"`
	Unknown     []countLine `json:"unknown"` // asked for and not defined
	Leaving     bool        `json:"leaving"`
}

type countLine struct {
	Flag    string `json:"flag"`
	Variant string `json:"variant,omitempty"` // empty: an error, so the fallback was used
	Count   uint64 `json:"count"`
}

// reporter sends reports in order; one without an answer is sent again unchanged.
type reporter struct {
	c        *Client
	sequence int64
	from     time.Time
	pending  []byte
	leaving  bool // the pending report is the last one
}

func (c *Client) reportSoon() {
	select {
	case c.nudge <- struct{}{}:
	default:
	}
}

// reportForEver reports at each new revision, as soon as the service can gain by it, and
// else at the interval of the options.
func (c *Client) reportForEver(ctx context.Context) {
	r := &reporter{c: c, from: time.Now()}
	tick := time.NewTicker(c.options.Report)
	defer tick.Stop()
	drain := time.NewTicker(time.Minute)
	defer drain.Stop()
	for {
		select {
		case <-ctx.Done():
			r.last()
			return
		case <-drain.C:
			c.counts.drain()
			continue
		case <-tick.C:
		case <-c.nudge:
		}
		_ = r.send(ctx, false) // what has no answer is sent again at the next turn
		select {               // several revisions in a row share a report
		case <-ctx.Done():
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// send sends what is still without an answer, and then what is new. An error means that
// something waits for the next time.
func (r *reporter) send(ctx context.Context, leaving bool) error {
	if r.pending != nil {
		if err := r.post(ctx); err != nil {
			return err
		}
	}
	r.build(leaving)
	return r.post(ctx)
}

func (r *reporter) build(leaving bool) {
	used, misses := r.c.counts.take()
	state := r.c.State()
	r.sequence++
	r.leaving = leaving
	now := time.Now()
	body := report{Instance: r.c.instance, Sequence: r.sequence, Application: r.c.options.Application, Version: r.c.options.Version,
		Epoch: state.Epoch, Revision: state.Revision, Source: state.Source, SkewMillis: state.Skew.Milliseconds(),
		From: r.from.UnixMilli(), To: now.UnixMilli(), Leaving: leaving, Counts: []countLine{}, Unknown: []countLine{}}
	r.from = now
	for name, n := range used {
		body.Counts = append(body.Counts, countLine{name.flag, name.variant, n})
	}
	for key, n := range misses {
		body.Unknown = append(body.Unknown, countLine{Flag: key, Count: n})
	}
	byFlag := func(a, b countLine) int {
		return cmp.Or(cmp.Compare(a.Flag, b.Flag), cmp.Compare(a.Variant, b.Variant))
	}
	slices.SortFunc(body.Counts, byFlag)
	slices.SortFunc(body.Unknown, byFlag)
	r.pending, _ = json.Marshal(body) // plain values: cannot fail
}

func (r *reporter) post(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := r.c.request(ctx, http.MethodPost, "/follow/v1/report", bytes.NewReader(r.pending))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := r.c.options.HTTP.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10))
	if res.StatusCode >= 500 || res.StatusCode == http.StatusTooManyRequests {
		return fmt.Errorf("the service answers %d", res.StatusCode)
	}
	r.pending = nil // taken, or refused for good
	return nil
}

// last says goodbye with what is counted, trying again for a moment.
func (r *reporter) last() {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	for ctx.Err() == nil {
		var err error
		if r.leaving {
			err = r.post(ctx)
		} else {
			err = r.send(ctx, true)
		}
		if err == nil {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(100 * time.Millisecond):
		}
	}
}
