package intake

import (
	"sync"
	"time"

	"greenlever.example/core/sample"
)

// Audience estimates who gets answers from here: browsers with a stream open, and units
// that asked lately.
type Audience struct {
	mu      sync.Mutex
	streams map[int64]int64
	lately  [2]map[asker]bool // in this window and the one before
	window  int64
	tellers map[string]int // reports of pages this minute, by address
	minute  int64
}

// Reports of pages that one address may send in a minute, and how many addresses are told apart.
const (
	reportsPerMinute = 600
	maxTellers       = 100_000
)

// MayTell tells whether one more report of a page is taken from an address.
func (b *Audience) MayTell(address string, now time.Time) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if m := now.Unix() / 60; m != b.minute || len(b.tellers) > maxTellers {
		b.minute, b.tellers = m, map[string]int{}
	}
	b.tellers[address]++
	return b.tellers[address] <= reportsPerMinute
}

type asker struct {
	environment int64
	unit        uint64
}

const (
	window    = 5 * 60_000 // milliseconds
	maxAskers = 100_000
)

// Asked notes that all answers were asked for, for a unit.
func (b *Audience) Asked(environment int64, unit string, now int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.turn(now)
	if m := b.lately[0]; len(m) < maxAskers {
		m[asker{environment, sample.Hash(0, unit)}] = true
	}
}

func (b *Audience) turn(now int64) {
	switch w := now / window; {
	case b.lately[0] == nil || w > b.window+1:
		b.lately, b.window = [2]map[asker]bool{{}, {}}, w
	case w == b.window+1:
		b.lately, b.window = [2]map[asker]bool{{}, b.lately[0]}, w
	}
}

// Stream counts a stream that was opened, or, with -1, that ended.
func (b *Audience) Stream(environment, n int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.streams == nil {
		b.streams = map[int64]int64{}
	}
	b.streams[environment] += n
}

// In counts browsers with a stream open here, and units that asked for all answers in
// the last five to ten minutes.
func (b *Audience) In(environment int64, now time.Time) (streams, pollers int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.turn(now.UnixMilli())
	units := map[uint64]bool{}
	for _, m := range b.lately {
		for who := range m {
			if who.environment == environment {
				units[who.unit] = true
			}
		}
	}
	return b.streams[environment], int64(len(units))
}
