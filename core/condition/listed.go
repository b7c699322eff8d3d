package condition

import (
	"encoding/binary"
	"math/bits"
)

// Listed is a list of units that a segment takes or keeps out.
type Listed interface {
	Has(key string) bool
	Words() string // such as "3 listed units", for explanations
}

// ListedIn is the condition of a segment with lists: out beats in, in beats the condition.
// Where the attribute that the lists name is absent, membership is unknown.
func ListedIn(attribute string, in, out Listed, when *Node) *Node {
	outer := Node{Not: &Node{Test: listedTest, Attribute: attribute, listed: out}}
	inner := Node{Any: []Node{{Test: listedTest, Attribute: attribute, listed: in}, *when}}
	return &Node{All: []Node{outer, inner}}
}

// SipHash is SipHash-2-4 (Aumasson, Bernstein 2012) of the bytes of s under a key.
func SipHash(key [16]byte, s string) uint64 {
	k0, k1 := binary.LittleEndian.Uint64(key[:8]), binary.LittleEndian.Uint64(key[8:])
	v0, v1 := k0^0x736f6d6570736575, k1^0x646f72616e646f6d
	v2, v3 := k0^0x6c7967656e657261, k1^0x7465646279746573
	round := func() {
		v0 += v1
		v1 = bits.RotateLeft64(v1, 13) ^ v0
		v0 = bits.RotateLeft64(v0, 32)
		v2 += v3
		v3 = bits.RotateLeft64(v3, 16) ^ v2
		v0 += v3
		v3 = bits.RotateLeft64(v3, 21) ^ v0
		v2 += v1
		v1 = bits.RotateLeft64(v1, 17) ^ v2
		v2 = bits.RotateLeft64(v2, 32)
	}
	last := uint64(len(s)) << 56
	for len(s) >= 8 {
		m := uint64(s[0]) | uint64(s[1])<<8 | uint64(s[2])<<16 | uint64(s[3])<<24 | uint64(s[4])<<32 | uint64(
			s[5])<<40 | uint64(s[6])<<48 | uint64(s[7])<<56
		v3 ^= m
		round()
		round()
		v0 ^= m
		s = s[8:]
	}
	for i := range len(s) {
		last |= uint64(s[i]) << (8 * i)
	}
	v3 ^= last
	round()
	round()
	v0 ^= last
	v2 ^= 0xff
	round()
	round()
	round()
	round()
	return v0 ^ v1 ^ v2 ^ v3
}
