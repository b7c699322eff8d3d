package condition

import "math/bits"

// textSet is a set of texts that touches little memory: one slot tells almost always that
// a text is not in it, and one run of bytes that it is.
//
// Slots are open-addressed. Each holds half of a text's hash and the place of the text
// among the bytes; a slot of zero is free.
type textSet struct {
	slots []uint64 // 32 bits of hash, then one more than the place
	bytes string   // texts one behind the other, each behind its length in 4 bytes
	shift uint8    // of a hash, to the slot at which its text is looked for first
}

func newTextSet(texts []string) textSet {
	size, width := 8, 3
	for size < 2*len(texts) {
		size, width = 2*size, width+1
	}
	s := textSet{slots: make([]uint64, size), shift: uint8(64 - width)}
	var raw []byte
	seen := make(map[string]bool, len(texts))
	for _, t := range texts {
		if seen[t] {
			continue
		}
		seen[t] = true
		h := hashText(t)
		at := h >> s.shift
		for s.slots[at] != 0 {
			at = (at + 1) & uint64(size-1)
		}
		s.slots[at] = h<<32 | uint64(len(raw)+1)
		n := len(t)
		raw = append(raw, byte(n), byte(n>>8), byte(n>>16), byte(n>>24))
		raw = append(raw, t...)
	}
	s.bytes = string(raw)
	return s
}

// has tells whether a text is in the set.
func (s *textSet) has(t string) bool {
	h := hashText(t)
	mask := uint64(len(s.slots) - 1)
	for at := h >> s.shift; ; at = (at + 1) & mask {
		slot := s.slots[at]
		if slot == 0 {
			return false
		}
		if uint32(slot>>32) == uint32(h) {
			from := int(uint32(slot)) - 1
			n := int(s.bytes[from]) | int(s.bytes[from+1])<<8 | int(s.bytes[from+2])<<16 | int(s.bytes[from+3])<<24
			if n == len(t) && s.bytes[from+4:from+4+n] == t {
				return true
			}
		}
	}
}

// hashText is a hash by multiplications folded to 64 bits. Who chooses the texts of a set
// chooses the rules too, so nobody gains by texts that collide.
func hashText(t string) uint64 {
	const c0, c1 = 0xa0761d6478bd642f, 0xe7037ed1a0b428db
	h := uint64(len(t)) ^ c0
	for len(t) >= 8 {
		hi, lo := bits.Mul64(h^word(t), c1)
		h, t = hi^lo, t[8:]
	}
	var last uint64
	for i := range len(t) {
		last |= uint64(t[i]) << (8 * i)
	}
	hi, lo := bits.Mul64(h^last, c1)
	return (hi ^ lo) * c0
}

func word(s string) uint64 {
	return uint64(s[0]) | uint64(s[1])<<8 | uint64(s[2])<<16 | uint64(s[3])<<24 | uint64(s[4])<<32 | uint64(
		s[5])<<40 | uint64(s[6])<<48 | uint64(s[7])<<56
}
