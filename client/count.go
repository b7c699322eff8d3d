package greenlever

import (
	"slices"
	"sync"
	"sync/atomic"
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
	slots  []slotName
	misses map[missed]*miss
	total  map[counted]uint64
}

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

// grow makes room for a ruleset's slots and learns what they count.
func (c *counts) grow(rs *decide.Ruleset) []*block {
	c.mu.Lock()
	defer c.mu.Unlock()
	for len(c.blocks)*decide.SlotBlock < int(rs.Slots()) {
		c.blocks = append(c.blocks, new(block))
	}
	if len(c.slots) >= int(rs.Slots()) {
		return c.blocks[:len(c.blocks):len(c.blocks)] // every run of slots is known already
	}
	c.slots = slices.Grow(c.slots, int(rs.Slots())-len(c.slots))[:rs.Slots()]
	for f := range rs.Flags {
		if at := int(f.Slot); c.slots[at].flag == "" {
			for i, cell := range f.Cells() {
				c.slots[at+i] = slotName{f.Key, cell}
			}
		}
	}
	return c.blocks[:len(c.blocks):len(c.blocks)]
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
	if c.total == nil {
		c.total = map[counted]uint64{}
	}
	for i, name := range c.slots {
		if name.flag == "" {
			continue
		}
		b := c.blocks[i/decide.SlotBlock]
		for s := range b {
			if cell := &b[s][i%decide.SlotBlock]; cell.Load() > 0 {
				c.total[counted{name, revision}] += uint64(cell.Swap(0))
			}
		}
	}
}
