package greenlever

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/wire"
)

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

// reportApplied has it told soon that a revision is in use. Of many processes each waits a little, or their reports
// would take from the service what it needs to bring the revision to the others; the caller holds mu.
func (c *Client) reportApplied() {
	report := c.reportSoon
	if c.fleet < apart {
		report()
		return
	}
	time.AfterFunc(rand.N(min(c.fleet, time.Second)), report)
}

// apart is from which spread on, which the service asks for by how many follow it, reports wait.
const apart = 50 * time.Millisecond

// reportAfterStop has what is given after a stop told sooner than usual: whoever stopped something looks at it. Not
// all processes tell at the same moment.
func (c *Client) reportAfterStop() {
	report := c.reportSoon
	for _, after := range []time.Duration{time.Second, 3 * time.Second} {
		time.AfterFunc(time.Duration(float64(after)*(.75+rand.Float64()/2)), report)
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
	anew := time.NewTicker(renew)
	defer anew.Stop()
	evidence := time.NewTicker(min(reportEvidence, c.options.Report))
	defer evidence.Stop()
	for {
		select {
		case <-ctx.Done():
			r.last()
			return
		case <-drain.C:
			state, _ := c.watch()
			c.counts.drain(state.Revision)
			continue
		case <-anew.C:
			c.people.renew()
			continue
		case <-evidence.C:
			if !c.evidence.waits() {
				continue
			}
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
	state, applied := r.c.takeApplied()
	used, misses := r.c.counts.take(state.Revision)
	r.sequence++
	r.leaving = leaving
	now := time.Now()
	body := wire.Report{Status: wire.Status{Instance: r.c.instance, Sequence: r.sequence,
		Application: r.c.options.Application, Version: r.c.options.Version,
		Epoch: state.Epoch, Revision: state.Revision, Digest: r.c.digestOf(state), Source: string(state.Source),
		SkewMillis: state.Skew.Milliseconds(),
		Leaving:    leaving, Started: r.c.started.UnixMilli() + r.c.skew.Load(), Applied: applied},
		From: r.from.UnixMilli(), To: now.UnixMilli(), Counts: []wire.CountLine{}, Unknown: []wire.UnknownLine{}}
	r.from = now
	for what, n := range used {
		body.Counts = append(body.Counts, wire.CountLine{Flag: what.flag, Variant: what.Variant,
			Reason: what.Reason.String(), Rule: what.Rule, Revision: what.revision, Count: n})
	}
	for what, m := range misses {
		line := wire.UnknownLine{Flag: what.flag, Mistyped: m.mistyped, Count: m.count}
		if what.kind != decide.NoKind {
			line.Type = string(flag.Types()[what.kind-1])
		}
		// it may be of the caller's own type
		if raw, err := json.Marshal(m.fallback); err == nil && m.fallback != nil {
			line.Fallback = raw
		}
		body.Unknown = append(body.Unknown, line)
	}
	slices.SortFunc(body.Counts, func(a, b wire.CountLine) int {
		return cmp.Or(cmp.Compare(a.Flag, b.Flag), cmp.Compare(a.Variant, b.Variant), cmp.Compare(a.Rule, b.Rule))
	})
	slices.SortFunc(body.Unknown, func(a, b wire.UnknownLine) int {
		return cmp.Or(cmp.Compare(a.Flag, b.Flag), cmp.Compare(a.Type, b.Type))
	})
	for f := range r.c.state.Load().rules.Flags {
		if f.TooOld() && len(body.TooOld) < maxTooOld {
			body.TooOld = append(body.TooOld, f.Key)
		}
	}
	slices.Sort(body.TooOld)
	held := r.c.state.Load().base.Source
	body.Orders, body.Kept = held.OrderTexts(), held.Kept
	body.Units, body.Contexts, body.Seen, body.Busy = r.c.people.take()
	r.c.evidence.take(&body)
	r.pending, _ = json.Marshal(body) // plain values: cannot fail
	if t := r.c.options.tap; t != nil && t.Report != nil {
		r.pending = replaceMembers(r.pending, t.Report())
	}
}

// maxTooOld bounds how many flags are named that ask for too much.
const maxTooOld = 100

// takeApplied gives the state, and the revisions applied since it was last called.
func (c *Client) takeApplied() (State, []wire.Applied) {
	c.mu.Lock()
	defer c.mu.Unlock()
	done := c.applied
	c.applied = nil
	return c.link, done
}

// replaceMembers puts members into a JSON object.
func replaceMembers(object []byte, members map[string]any) []byte {
	all := map[string]json.RawMessage{}
	if json.Unmarshal(object, &all) != nil {
		return object
	}
	for name, v := range members {
		if raw, err := json.Marshal(v); err == nil {
			all[name] = raw
		}
	}
	raw, err := json.Marshal(all)
	if err != nil {
		return object
	}
	return raw
}

// reportStill is how long the service may take over a report that has arrived.
const reportStill = 10 * time.Second

func (r *reporter) post(ctx context.Context) error {
	status, raw, err := r.c.fetch(ctx, reportStill, http.MethodPost, "/follow/v1/report", r.pending, 1<<20)
	if err != nil {
		return err
	}
	if status >= 500 || status == http.StatusTooManyRequests {
		return fmt.Errorf("the service answers %d", status)
	}
	if status >= 400 {
		r.c.log.Error("greenlever: the service refuses a report, and what was counted in it is lost", "status", status,
			"bytes", len(r.pending))
	}
	r.pending = nil // taken, or refused for good
	var answer wire.Answer
	if status == http.StatusOK && json.Unmarshal(raw, &answer) == nil {
		if len(answer.Let) > 0 {
			r.c.hold(func(rs *flag.Ruleset) *flag.Ruleset { return rs.Let(answer.Let) })
			if t := r.c.options.tap; t != nil && t.Let != nil {
				t.Let(answer.Let)
			}
		}
		r.c.people.follow(answer.Sampling, r.c.draws())
	}
	return nil
}

// digestOf is the identity of the revision that a state names, if it is still the one in use.
func (c *Client) digestOf(s State) string {
	if src := c.state.Load().base.Source; src.Epoch == s.Epoch && src.Revision == s.Revision {
		return src.Digest
	}
	return ""
}

// draws lists the attributes that shares of the ruleset in use are drawn by.
func (c *Client) draws() (names []condition.Name) {
	for f := range c.state.Load().rules.Flags {
		for _, name := range f.Draws {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
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
