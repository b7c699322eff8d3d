package greenlever

import (
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

// count adds one to a slot.
func (s *state) count(slot int32) {
	s.blocks[slot/decide.SlotBlock][shard()][slot%decide.SlotBlock].Add(1)
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
	misses map[string]uint64 // decisions on flags that the ruleset does not have
	total  map[slotName]uint64
}

// slotName says what a slot counts. An empty variant counts errors.
type slotName struct{ flag, variant string }

// maxMisses bounds the names of unknown flags that are kept apart.
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
	for len(c.slots) < int(rs.Slots()) {
		c.slots = append(c.slots, slotName{})
	}
	for f := range rs.Flags {
		if at := int(f.Slot); c.slots[at].flag == "" {
			for i, v := range f.Variants() {
				c.slots[at+i] = slotName{f.Key, v.Name}
			}
			c.slots[at+len(f.Variants())] = slotName{f.Key, ""}
		}
	}
	return c.blocks[:len(c.blocks):len(c.blocks)]
}

func (c *counts) unknown(key string, ready bool) {
	if !ready {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.misses == nil {
		c.misses = map[string]uint64{}
	}
	if _, ok := c.misses[key]; ok || len(c.misses) < maxMisses {
		c.misses[key]++
	}
}

// take empties the counters and gives what they held since the last time.
func (c *counts) take() (used map[slotName]uint64, misses map[string]uint64) {
	c.drain()
	c.mu.Lock()
	defer c.mu.Unlock()
	used, misses = c.total, c.misses
	c.total, c.misses = nil, nil
	return used, misses
}

// drain moves the small counters into large ones; it must run more often than a small
// counter can pass 2^32.
func (c *counts) drain() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.total == nil {
		c.total = map[slotName]uint64{}
	}
	for i, name := range c.slots {
		if name.flag == "" {
			continue
		}
		b := c.blocks[i/decide.SlotBlock]
		for s := range b {
			if cell := &b[s][i%decide.SlotBlock]; cell.Load() > 0 {
				c.total[name] += uint64(cell.Swap(0))
			}
		}
	}
}
