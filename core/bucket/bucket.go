// Package bucket turns a key into a stable place among one million buckets, and divides
// those buckets among parts so that an edit moves as few of them as it must.
//
// Its nouns are the seed of a salt, the bucket of a key, a [Range] of buckets and a
// [Part] that owns ranges. The smallest use:
//
//	seed := bucket.Seed("pinecrest")
//	bucket.Of("site-1", seed) // 53002
package bucket

// Buckets is the number of buckets: shares are integers in parts per million.
const Buckets = 1_000_000

// Scheme is the number of the hash scheme that this package implements. It travels with
// every share, so that a client meets a scheme that it doesn't know as such.
const Scheme = 1

// Seed derives the hash seed of a salt: murmur3_x86_32 of its bytes with seed 0.
func Seed(salt string) uint32 { return Murmur3(salt, 0) }

// Of gives the bucket of a key, 0 to 999,999: floor(h * 1,000,000 / 2^32) with
// h = murmur3_x86_32(key, seed).
func Of(key string, seed uint32) uint32 {
	return uint32(uint64(Murmur3(key, seed)) * Buckets >> 32)
}

// Murmur3 is MurmurHash3_x86_32 (Austin Appleby, public domain) over the bytes of s.
func Murmur3(s string, seed uint32) uint32 {
	const c1, c2 = 0xcc9e2d51, 0x1b873593
	h := seed
	n := len(s)
	for len(s) >= 4 {
		k := uint32(s[0]) | uint32(s[1])<<8 | uint32(s[2])<<16 | uint32(s[3])<<24
		s = s[4:]
		k *= c1
		k = k<<15 | k>>17
		k *= c2
		h ^= k
		h = h<<13 | h>>19
		h = h*5 + 0xe6546b64
	}
	var k uint32
	switch len(s) {
	case 3:
		k = uint32(s[2])<<16 | uint32(s[1])<<8 | uint32(s[0])
	case 2:
		k = uint32(s[1])<<8 | uint32(s[0])
	case 1:
		k = uint32(s[0])
	}
	if len(s) > 0 {
		k *= c1
		k = k<<15 | k>>17
		k *= c2
		h ^= k
	}
	h ^= uint32(n)
	h ^= h >> 16
	h *= 0x85ebca6b
	h ^= h >> 13
	h *= 0xc2b2ae35
	return h ^ h>>16
}
