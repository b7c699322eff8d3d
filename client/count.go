package greenlever

import (
	"cmp"
	"slices"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"greenlever.example/core/decide"
)

// shards is how many copies of each counter there are, so that goroutines on different
// processors seldom write to the same cache line.
const shards = 8

// block holds the counters of one block of slots.
type block [shards][decide.SlotBlock]atomic.Uint32

// count adds one to a slot and gives what one of its counters holds now.
func (s *state) count(slot int32) uint32 {
	return s.blocks[slot/decide.SlotBlock][shard()][slot%decide.SlotBlock].Add(1)
}

// shard spreads goroutines by the address of their stacks. Any answer is right; this one
// costs no more than a multiplication.
func shard() uint32 {
	var here byte
	return uint32(uintptr(unsafe.Pointer(&here))>>11) * 0x9e3779b1 >> 29
}

// counts gathers what the counters hold and what has no counter.
type counts struct {
	mu     sync.Mutex
	blocks []*block
	runs   []cellRun // by their first slots, ascending
	misses map[missed]*miss
	total  map[counted]uint64
}

// cellRun is a run of slots, at the first one, and the flag whose cells it counts.
type cellRun struct {
	at   int32
	of   *decide.Flag
	left int64 // Unix milliseconds since which no ruleset in use has it; zero: one has
}

// quietFor is how long after its flag has left a run is used again: by then nobody decides by the
// ruleset of before, which a [Scope] may do for a while.
const quietFor = 4 * scopeLife

// slotName says what a slot counts. An empty variant counts errors.
type slotName struct {
	flag string
	decide.Cell
}

// counted is what is counted between two reports.
type counted struct {
	slotName
	revision int64
}

// missed is a flag that was asked for in vain: it is not defined, or is of another type.
type missed struct {
	flag string
	kind decide.Kind
}

type miss struct {
	count    uint64
	fallback any
	mistyped bool
}

// maxMisses bounds what is kept of flags that were asked for in vain.
const maxMisses = 1_000

// grow makes room for a ruleset's slots and learns what they count. The ruleset that comes back may
// use runs again that have been left for long enough.
func (c *counts) grow(rs *decide.Ruleset, now time.Time) (*decide.Ruleset, []*block) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for len(c.blocks)*decide.SlotBlock < int(rs.Slots()) {
		c.blocks = append(c.blocks, new(block))
	}
	had := c.runs // new ones stand behind them until they are sorted
	for f := range rs.Flags {
		if _, known := slices.BinarySearchFunc(had, f.Slot, func(r cellRun, at int32) int {
			return cmp.Compare(r.at, at)
		}); !known {
			c.runs = append(c.runs, cellRun{at: f.Slot, of: f})
		}
	}
	slices.SortFunc(c.runs, func(a, b cellRun) int { return cmp.Compare(a.at, b.at) })
	var again []decide.Slots
	c.runs = slices.DeleteFunc(c.runs, func(run cellRun) bool {
		left := run.left > 0 && now.UnixMilli()-run.left >= quietFor.Milliseconds()
		if left {
			c.drainRun(&run, rs.Source.Revision)
			again = append(again, decide.Slots{At: run.at, Count: int32(run.of.CellCount())})
		}
		return left
	})
	for i := range c.runs {
		run := &c.runs[i]
		if f := rs.Flag(run.of.Key); f != nil && f.Slot == run.at {
			run.of, run.left = f, 0
		} else if run.left == 0 {
			run.left = now.UnixMilli()
		}
	}
	if len(again) > 0 {
		rs = rs.Reusing(again)
	}
	return rs, c.blocks[:len(c.blocks):len(c.blocks)]
}

// inVain notes a flag that was asked for in vain, with the fallback that the caller gave.
func (c *counts) inVain(key string, kind decide.Kind, fallback any, mistyped, ready bool) {
	if !ready {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.misses == nil {
		c.misses = map[missed]*miss{}
	}
	m := c.misses[missed{key, kind}]
	if m == nil {
		if len(c.misses) >= maxMisses {
			return
		}
		m = &miss{fallback: fallback, mistyped: mistyped}
		c.misses[missed{key, kind}] = m
	}
	m.count++
}

// take empties the counters and gives what they held since the last time; what was not
// drained before is by the revision.
func (c *counts) take(revision int64) (used map[counted]uint64, misses map[missed]*miss) {
	c.drain(revision)
	c.mu.Lock()
	defer c.mu.Unlock()
	used, misses = c.total, c.misses
	c.total, c.misses = nil, nil
	return used, misses
}

// drain moves the small counters into large ones; it must run more often than a small
// counter can pass 2^32. What they hold was counted by the revision.
func (c *counts) drain(revision int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i := range c.runs {
		c.drainRun(&c.runs[i], revision)
	}
}

func (c *counts) drainRun(run *cellRun, revision int64) {
	if c.total == nil {
		c.total = map[counted]uint64{}
	}
	var cells []decide.Cell
	b, first := c.blocks[run.at/decide.SlotBlock], run.at%decide.SlotBlock
	for i := range int32(run.of.CellCount()) {
		for s := range b {
			cell := &b[s][first+i]
			if cell.Load() == 0 {
				continue
			}
			if cells == nil {
				cells = run.of.Cells()
			}
			c.total[counted{slotName{run.of.Key, cells[i]}, revision}] += uint64(cell.Swap(0))
		}
	}
}
