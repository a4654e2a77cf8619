package prefix

import (
	"encoding/binary"
	"net/netip"
)

// TranslateNeutral carries an address from one prefix of IPv6 over to another of
// equal length so that checksums over it stay the same (RFC 6296 sections 3.1 to
// 3.5): one 16-bit word of the rest is adjusted by the difference of the prefixes,
// the subnet's for a /48 or shorter, else the first of the interface identifier
// that is not 0xffff. The zero Addr is returned if a is not in from, the lengths
// differ or are longer than /112, or there is no such word.
func TranslateNeutral(a netip.Addr, from, to netip.Prefix) netip.Addr {
	if !from.Contains(a) || !a.Is6() || !to.Addr().Is6() || from.Bits() != to.Bits() || from.Bits() > 112 {
		return netip.Addr{}
	}
	moved := Translate(a, from, to).As16()
	old := a.As16()
	n := 3 // the word of bits 48 to 63
	if from.Bits() > 48 {
		for n = max(4, (from.Bits()+15)/16); n < 8 && binary.BigEndian.Uint16(old[2*n:]) == 0xffff; n++ {
		}
	}
	word := func(b []byte, k int) uint16 { return binary.BigEndian.Uint16(b[2*k:]) }
	if n == 8 || word(old[:], n) == 0xffff {
		return netip.Addr{} // RFC 6296 section 3.5: such an address is not mapped
	}
	now := word(old[:], n)
	for k := range 8 { // what the other words have lost is added, in one's complement
		if k != n {
			now = onesAdd(now, onesAdd(word(old[:], k), ^word(moved[:], k)))
		}
	}
	if now == 0xffff {
		now = 0
	}
	binary.BigEndian.PutUint16(moved[2*n:], now)
	return netip.AddrFrom16(moved)
}

func onesAdd(a, b uint16) uint16 {
	sum := uint32(a) + uint32(b)
	return uint16(sum) + uint16(sum>>16)
}
