// Package sample keeps a bounded, uniform sample of the units that decisions were made
// for, and a bounded account of the attributes that came with them.
//
// Uniform over units, not over calls: of every kind of unit (the targeting key, and each
// attribute that shares are drawn by) those are kept whose keyed hashes are smallest. A
// unit that asks a million times is in the sample as often as one that asks once. Samples
// of many processes under one seed are merged by keeping the smallest again.
//
//	h := sample.Hash(seed, key)
//	if h < units.Limit() {
//		units.Add(h, key, context, now)
//	}
//
// Sources: Bar-Yossef, Jayram, Kumar, Sivakumar, Trevisan 2002 and Beyer, Haas, Reinwald,
// Sismanis, Gemulla 2007 for the k smallest hashes; Metwally, Agrawal, El Abbadi 2005 for
// frequent values. The sampler takes no lock.
package sample

import (
	"cmp"
	"container/heap"
	"math"
	"math/bits"
	"slices"

	"greenlever.example/core/condition"
)

// K is how many units a sample holds at most.
const K = 2_000

// Hash is a keyed hash of a unit's key: multiplications folded to 64 bits, as in wyhash
// (Wang Yi, public domain). It is quick, and even in its high bits; it hides nothing.
func Hash(seed uint64, key string) uint64 {
	const c0, c1, c2 = 0xa0761d6478bd642f, 0xe7037ed1a0b428db, 0x8ebc6af09c88c6e3
	h := seed ^ c0
	n := uint64(len(key))
	for len(key) > 8 {
		h = fold(h^word(key), c1)
		key = key[8:]
	}
	var last uint64
	if len(key) == 8 {
		last = word(key)
	} else {
		for i := range len(key) {
			last |= uint64(key[i]) << (8 * i)
		}
	}
	return fold(fold(h^last, c2)^n, c1)
}

func word(s string) uint64 {
	return uint64(s[0]) | uint64(s[1])<<8 | uint64(s[2])<<16 | uint64(s[3])<<24 | uint64(s[4])<<32 | uint64(
		s[5])<<40 | uint64(s[6])<<48 | uint64(s[7])<<56
}

func fold(a, b uint64) uint64 {
	hi, lo := bits.Mul64(a, b)
	return hi ^ lo
}

// Unit is one unit of a sample.
type Unit struct {
	Hash    uint64
	Key     string
	Context *condition.Context
	Seen    int64 // Unix milliseconds
}

// Units are the units with the smallest hashes.
type Units struct {
	limit uint64 // of others: set by [Units.Bound]
	byKey map[uint64]*Unit
	order hashes
}

type hashes []uint64

func (h hashes) Len() int           { return len(h) }
func (h hashes) Less(i, j int) bool { return h[i] > h[j] } // the largest on top
func (h hashes) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *hashes) Push(x any)        { *h = append(*h, x.(uint64)) }
func (h *hashes) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// NewUnits makes an empty sample.
func NewUnits() *Units { return &Units{limit: math.MaxUint64, byKey: map[uint64]*Unit{}} }

// Bound tells the sample that units with hashes from the limit on are wanted by nobody.
func (u *Units) Bound(limit uint64) {
	u.limit = limit
	for len(u.order) > 0 && u.order[0] >= limit {
		delete(u.byKey, heap.Pop(&u.order).(uint64))
	}
}

// Limit is the hash from which on units are not kept: the sample is complete below it.
func (u *Units) Limit() uint64 {
	if len(u.order) >= K {
		return min(u.limit, u.order[0])
	}
	return u.limit
}

// Add notes a unit; fresh tells whether the sample did not hold it yet.
func (u *Units) Add(hash uint64, key string, c *condition.Context, now int64) (unit *Unit, fresh bool) {
	if unit = u.byKey[hash]; unit != nil {
		unit.Context, unit.Seen = c, now
		return unit, false
	}
	if hash >= u.Limit() {
		return nil, false
	}
	unit = &Unit{hash, key, c, now}
	u.byKey[hash] = unit
	heap.Push(&u.order, hash)
	if len(u.order) > K {
		delete(u.byKey, heap.Pop(&u.order).(uint64))
	}
	return unit, true
}

// All lists the units by hash, the smallest first.
func (u *Units) All() []*Unit {
	out := make([]*Unit, 0, len(u.byKey))
	for _, unit := range u.byKey {
		out = append(out, unit)
	}
	slices.SortFunc(out, func(a, b *Unit) int { return cmp.Compare(a.Hash, b.Hash) })
	return out
}

// Cover says below which hash a kept sample is complete.
type Cover struct {
	Collect uint64 // units below are kept
	Use     uint64 // the sample is complete below
	Since   int64  // Unix milliseconds since which units below Collect are kept
}

// WholeCover is that of a sample that leaves nobody out.
func WholeCover() Cover { return Cover{Collect: math.MaxUint64, Use: math.MaxUint64} }

// Step adapts the cover to the number of units kept below Collect. kth is the hash of the
// K-th of them, asked for only where there are too many. Where they have become few, more
// are collected; the wider part is used once all that it should hold had the time to come
// again: after keep, in milliseconds.
func (c Cover) Step(count int, kth func() uint64, now, keep int64) Cover {
	if count > K+K/4 {
		c.Collect, c.Since = kth(), now
		c.Use = min(c.Use, c.Collect)
		return c
	}
	if c.Use < c.Collect && now-c.Since >= keep {
		c.Use = c.Collect
	}
	if count < K-K/4 && c.Collect < math.MaxUint64 && c.Use == c.Collect {
		c.Since = now
		if c.Collect > math.MaxUint64/2 {
			c.Collect = math.MaxUint64
		} else {
			c.Collect *= 2
		}
	}
	return c
}

// Part is the part of all units that the sample is complete for, above 0 to 1.
func (c Cover) Part() float64 {
	if c.Use == math.MaxUint64 {
		return 1
	}
	return math.Ldexp(float64(c.Use), -64)
}
