package web

import (
	"sync"

	"golang.org/x/time/rate"

	"greenlever.example/greenlever/internal/app"
)

// Rates bound how often somebody may do something.
type Rates struct {
	mu    sync.Mutex
	all   map[string]*rate.Limiter
	right map[string]bool // accounts and the addresses from which they signed in
}

// Know remembers that somebody was right.
func (l *Rates) Know(who string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.right == nil || len(l.right) > maxRates {
		l.right = map[string]bool{}
	}
	l.right[who] = true
}

// Known tells whether somebody was right.
func (l *Rates) Known(who string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.right[who]
}

// maxRates bounds their memory; past it all start anew, which only lets somebody through.
const maxRates = 100_000

// Allow tells whether somebody may do it once more: so often a second, and so often at once. A rate
// of 0 has no bound.
func (l *Rates) Allow(who string, perSecond, burst float64) bool {
	if perSecond <= 0 {
		return true
	}
	l.mu.Lock()
	if l.all == nil || len(l.all) > maxRates {
		l.all = map[string]*rate.Limiter{}
	}
	lim := l.all[who]
	if lim == nil {
		lim = rate.NewLimiter(rate.Limit(perSecond), max(1, int(burst)))
		l.all[who] = lim
	}
	l.mu.Unlock()
	return lim.Allow()
}

// How many emergency orders an address may bring a second, and at once, genuine or not.
const (
	ordersPerSecond = 20
	ordersAtOnce    = 100
)

// AllowOrder tells whether an address may bring one more emergency order, at whatever place they are taken.
func (s *Surface) AllowOrder(address string) error {
	if !s.orders.Allow(address, ordersPerSecond, ordersAtOnce) {
		return app.Faultf(app.TooMany, "too many orders from this address: wait a moment")
	}
	return nil
}
