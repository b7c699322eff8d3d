package manage

import (
	"context"
	"crypto/rand"
	"slices"
	"sync"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

var _ = listed(
	op[none, audit.Report]("GET", "/verify", "Verify the access chain, a portion at a time",
		(*call).verify).takes("cursor").installation(),
	op[none, audit.Report]("GET", atProject+"/verify", "Verify the project's chains and its environments', a "+
		"portion at a time", (*call).verify).takes("cursor").needs(app.Read),
)

// A verification of long chains goes on over several requests, each with a portion of the
// work; what it holds in memory between them is bounded.
const (
	portionTime      = 2 * time.Second
	verificationLife = 5 * time.Minute
	maxVerifications = 8
)

// verifications are those under way, by their cursor.
type verifications struct {
	mu  sync.Mutex
	all map[string]*verification
}

// verification is one that is under way, chain by chain.
type verification struct {
	mu     sync.Mutex
	by     string
	used   time.Time
	heads  []audit.Head
	after  int64            // of the first chain, the last row that was read
	beside audit.Comparison // of the first chain, once its rows were read
	tries  int              // to compare its records while it goes on
	checks *audit.Verifier
}

var errNoVerification = app.Faultf(app.NotFound, "there is no such verification on this node: it took too long, or "+
	"began on another one; begin again without a cursor")

func (v *verifications) take(cursor, by string) (*verification, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	one := v.all[cursor]
	if one == nil || one.by != by {
		return nil, errNoVerification
	}
	delete(v.all, cursor)
	return one, nil
}

// put keeps a verification until it is asked for again, and gives its cursor.
func (v *verifications) put(one *verification) string {
	v.mu.Lock()
	defer v.mu.Unlock()
	one.used = time.Now()
	if v.all == nil {
		v.all = map[string]*verification{}
	}
	oldest := ""
	for cursor, o := range v.all {
		if time.Since(o.used) > verificationLife {
			delete(v.all, cursor)
		} else if oldest == "" || o.used.Before(v.all[oldest].used) {
			oldest = cursor
		}
	}
	if len(v.all) >= maxVerifications {
		delete(v.all, oldest)
	}
	cursor := rand.Text()
	v.all[cursor] = one
	return cursor
}

func (c *call) verify(*none) (any, error) {
	one, err := c.verification()
	if err != nil {
		return nil, err
	}
	one.mu.Lock()
	defer one.mu.Unlock()
	end := time.Now().Add(portionTime)
	for len(one.heads) > 0 && time.Now().Before(end) {
		if err := one.step(c.ctx, c.api.Records); err != nil {
			return nil, err
		}
	}
	if len(one.heads) == 0 {
		return one.checks.Done(), nil
	}
	so := one.checks.SoFar()
	so.Cursor = c.api.verifying.put(one)
	return so, nil
}

// verification begins a verification, or finds the one that the cursor names.
func (c *call) verification() (*verification, error) {
	if cursor := c.QueryParam("cursor"); cursor != "" {
		return c.api.verifying.take(cursor, c.actor.ID)
	}
	heads, err := c.chains()
	if err != nil {
		return nil, err
	}
	keys, err := c.api.Records.SigningKeys(c.ctx)
	if err != nil {
		return nil, err
	}
	kept, err := c.api.Heads()
	if err != nil {
		return nil, err
	}
	checks := audit.NewVerifier(nil, keys)
	checks.Forgets(c.api.Forgets)
	for _, h := range heads {
		signed, err := c.api.Records.SignedHeads(c.ctx, h.Chain)
		if err != nil {
			return nil, err
		}
		for _, s := range append(signed, kept...) {
			if s.Chain == h.Chain {
				checks.Held(s)
			}
		}
	}
	// Read again: what was signed meanwhile must not look like a tail that was cut.
	if heads, err = c.chains(); err != nil {
		return nil, err
	}
	for _, h := range heads {
		checks.Expect(h)
	}
	return &verification{by: c.actor.ID, heads: heads, checks: checks}, nil
}

// verifyRows is how many rows a step reads.
const verifyRows = 2_000

// compareTries is how often records are compared anew because their chain went on.
const compareTries = 10

// step reads some rows of the first chain, then a page of the records beside it, and at its end
// holds those against it.
func (v *verification) step(ctx context.Context, records PastReader) (err error) {
	h := v.heads[0]
	switch {
	case v.after < h.Sequence:
		to := min(v.after+verifyRows, h.Sequence)
		err = records.Rows(ctx, h.Chain, v.after, to, func(r *audit.Row) error { v.checks.Row(r); return nil })
		if err == nil {
			v.after = to
		}
		return err
	case v.beside == nil:
		v.beside, err = records.Comparing(ctx, h)
		return err
	}
	if done, err := v.beside.Next(ctx); err != nil || !done {
		return err
	}
	moved, err := v.beside.Hold(ctx, v.checks)
	if err != nil {
		return err
	}
	v.beside = nil
	if moved != nil && v.tries < compareTries {
		v.tries++
		v.heads = slices.Clone(v.heads)
		v.heads[0] = *moved
		return nil
	}
	if moved != nil {
		v.checks.Moved(h.Chain)
	}
	v.heads, v.after, v.tries = slices.Clone(v.heads[1:]), 0, 0
	return nil
}
