package condition

import (
	"encoding/binary"
	"net/netip"
	"slices"
)

// blocks are address blocks as ascending ranges that do not touch.
type blocks []addressRange

type addressRange struct{ first, last netip.Addr }

// parseBlock reads an address block in CIDR notation (RFC 4632, RFC 4291); an address
// alone is the block of it. IPv6 addresses that stand for IPv4 ones count as those.
func parseBlock(s string) (addressRange, bool) {
	if a, err := netip.ParseAddr(s); err == nil && a.Zone() == "" {
		return addressRange{a.Unmap(), a.Unmap()}, true
	}
	p, err := netip.ParsePrefix(s)
	if err != nil {
		return addressRange{}, false
	}
	p = p.Masked()
	if p.Addr().Is4In6() && p.Bits() >= 96 {
		p = netip.PrefixFrom(p.Addr().Unmap(), p.Bits()-96)
	}
	last := p.Addr().AsSlice()
	for i := p.Bits(); i < len(last)*8; i++ {
		last[i/8] |= 1 << (7 - i%8)
	}
	end, _ := netip.AddrFromSlice(last)
	return addressRange{p.Addr(), end}, true
}

func parseBlocks(text []string) (blocks, bool) {
	out := make(blocks, 0, len(text))
	for _, s := range text {
		r, ok := parseBlock(s)
		if !ok {
			return nil, false
		}
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b addressRange) int { return a.first.Compare(b.first) })
	merged := out[:0]
	for _, r := range out {
		if n := len(merged); n > 0 && r.first.Compare(merged[n-1].last) <= 0 {
			if r.last.Compare(merged[n-1].last) > 0 {
				merged[n-1].last = r.last
			}
			continue
		}
		merged = append(merged, r)
	}
	return merged, true
}

// has tells whether an address lies in one of the blocks. Families do not mix: an IPv4
// address sorts before every IPv6 one.
func (b blocks) has(a netip.Addr) bool {
	low, high := 0, len(b)
	for low < high {
		mid := (low + high) / 2
		if b[mid].last.Compare(a) < 0 {
			low = mid + 1
		} else {
			high = mid
		}
	}
	return low < len(b) && b[low].first.Compare(a) <= 0
}

// blocks4 are the IPv4 blocks among blocks, for the quick way.
type blocks4 []range4

type range4 struct{ first, last uint32 }

func (b blocks) v4() blocks4 {
	var out blocks4
	for _, r := range b {
		if r.first.Is4() {
			first, last := r.first.As4(), r.last.As4()
			out = append(out, range4{binary.BigEndian.Uint32(first[:]), binary.BigEndian.Uint32(last[:])})
		}
	}
	return out
}

func (b blocks4) has(a uint32) bool {
	low, high := 0, len(b)
	for low < high {
		mid := (low + high) / 2
		if b[mid].last < a {
			low = mid + 1
		} else {
			high = mid
		}
	}
	return low < len(b) && b[low].first <= a
}

// parseIPv4 reads a dotted address as netip does: four numbers to 255 without leading
// zeros. Not ok leaves the text to netip.
func parseIPv4(s string) (a uint32, ok bool) {
	dots, digits, number := 0, 0, uint32(0)
	for i := range len(s) {
		switch c := s[i]; {
		case c >= '0' && c <= '9':
			if digits > 0 && number == 0 {
				return 0, false
			}
			if number = number*10 + uint32(c-'0'); number > 255 {
				return 0, false
			}
			digits++
		case c == '.' && digits > 0 && dots < 3:
			a, number, digits = a<<8|number, 0, 0
			dots++
		default:
			return 0, false
		}
	}
	return a<<8 | number, dots == 3 && digits > 0
}

// likeIPv6 tells whether a text can be an IPv6 address at all (RFC 4291, 2.2; RFC 4007, 11 for the
// zone behind a %).
func likeIPv6(s string) bool {
	colon := false
	for i := range len(s) {
		switch c := s[i]; {
		case c == ':':
			colon = true
		case c == '%':
			return colon
		case i > 45, !(c == '.' || '0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'f'):
			return false
		}
	}
	return colon
}
