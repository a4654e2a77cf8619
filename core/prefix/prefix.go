// Package prefix is the algebra of address ranges: which prefixes overlap,
// what is free between them, and how host bits carry over from one prefix to
// another. Everything works for IPv4 and IPv6 alike; the two never mix.
//
// A prefix is a [netip.Prefix] in canonical form: no host bits set and no
// IPv4-mapped IPv6 address. [Parse] makes one, or says what is wrong.
package prefix

import (
	"cmp"
	"fmt"
	"math/bits"
	"net/netip"
	"slices"
	"strings"
)

// Error says why a text is not a canonical prefix.
type Error struct {
	Text string // what was read
	Why  string // what is wrong with it
	Want string // what would be right; empty if nothing sensible can be said
}

// mostShown is how much of what was read an error repeats; no prefix is as long.
const mostShown = 80

func (e *Error) Error() string {
	if e.Want == "" {
		return e.Says()
	}
	return e.Says() + "; " + e.Want
}

// Says is what was read, as far as it is shown, and what is wrong with it.
func (e *Error) Says() string {
	text := e.Text
	if len(text) > mostShown {
		text = strings.ToValidUTF8(text[:mostShown], "") + "…"
	}
	return fmt.Sprintf("%q %s", text, e.Why)
}

// Parse reads a prefix such as 10.214.0.0/22 or 2001:db8::/48. Set host bits,
// zones and IPv4-mapped addresses are errors of type [*Error] that name the
// prefix that was probably meant.
func Parse(text string) (netip.Prefix, error) {
	t := strings.TrimSpace(text)
	if t == "" {
		return netip.Prefix{}, &Error{Text: text, Why: "is empty", Want: "write a prefix such as 10.214.0.0/22"}
	}
	if !strings.Contains(t, "/") {
		if a, err := netip.ParseAddr(t); err == nil {
			return netip.Prefix{}, &Error{
				Text: text, Why: "has no prefix length",
				Want: fmt.Sprintf("for the single address write %s/%d", a, a.BitLen()),
			}
		}
		return netip.Prefix{}, &Error{
			Text: text, Why: "is not a prefix", Want: "write a prefix such as 10.214.0.0/22 or 2001:db8::/48",
		}
	}
	p, err := netip.ParsePrefix(t)
	if err != nil {
		return netip.Prefix{}, &Error{
			Text: text, Why: "is not a prefix", Want: "write a prefix such as 10.214.0.0/22 or 2001:db8::/48",
		}
	}
	if p.Addr().Is4In6() {
		return netip.Prefix{}, &Error{Text: text, Why: "is an IPv4-mapped IPv6 prefix", Want: "write it as IPv4"}
	}
	if m := p.Masked(); m != p {
		return netip.Prefix{}, &Error{
			Text: text, Why: "has host bits set", Want: fmt.Sprintf("the /%d that holds it is %s", p.Bits(), m),
		}
	}
	return p, nil
}

// ParseAsked reads a prefix or address that somebody asks about: an address is
// itself alone, host bits are put aside.
func ParseAsked(text string) (netip.Prefix, error) {
	text = strings.TrimSpace(text)
	if a, err := netip.ParseAddr(text); err == nil && a.Zone() == "" {
		a = a.Unmap()
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	p, err := netip.ParsePrefix(text)
	if err != nil || p.Addr().Is4In6() {
		return netip.Prefix{}, &Error{
			Text: text, Why: "is no prefix or address", Want: "write one such as 10.215.0.0/23 or 10.215.0.15",
		}
	}
	return p.Masked(), nil
}

// Compare orders prefixes by family (IPv4 first), then address, then length,
// so that a prefix always comes after every other prefix that contains it.
func Compare(a, b netip.Prefix) int {
	if c := cmp.Compare(a.Addr().BitLen(), b.Addr().BitLen()); c != 0 {
		return c
	}
	if c := a.Addr().Compare(b.Addr()); c != 0 {
		return c
	}
	return cmp.Compare(a.Bits(), b.Bits())
}

// Contains reports whether every address of inner is in outer.
func Contains(outer, inner netip.Prefix) bool {
	return outer.Bits() <= inner.Bits() && outer.Contains(inner.Addr())
}

// Relation tells how one prefix lies to another.
type Relation string

// The relations of a to b. Two prefixes can not overlap in any other way.
const (
	Disjoint Relation = "disjoint"
	Equal    Relation = "equal"
	Holds    Relation = "contains" // a contains b
	Within   Relation = "within"   // a lies inside b
)

// Relate tells how a lies to b.
func Relate(a, b netip.Prefix) Relation {
	switch {
	case a == b:
		return Equal
	case Contains(a, b):
		return Holds
	case Contains(b, a):
		return Within
	}
	return Disjoint
}

// Halves splits p into its two halves, one bit longer. ok is false for a
// single address.
func Halves(p netip.Prefix) (low, high netip.Prefix, ok bool) {
	if p.Bits() < 0 || p.IsSingleIP() {
		return p, p, false
	}
	bits := p.Bits() + 1
	return netip.PrefixFrom(p.Addr(), bits), netip.PrefixFrom(withBit(p.Addr(), p.Bits()), bits), true
}

// withBit returns a with its bit number n, counted from the left, set.
func withBit(a netip.Addr, n int) netip.Addr {
	if a.Is4() {
		b := a.As4()
		b[n/8] |= 0x80 >> (n % 8)
		return netip.AddrFrom4(b)
	}
	b := a.As16()
	b[n/8] |= 0x80 >> (n % 8)
	return netip.AddrFrom16(b)
}

// Last returns the highest address in p.
func Last(p netip.Prefix) netip.Addr {
	a := p.Masked().Addr()
	b := a.AsSlice()
	for n := p.Bits(); n < len(b)*8; n++ {
		b[n/8] |= 0x80 >> (n % 8)
	}
	last, _ := netip.AddrFromSlice(b)
	return last
}

// FirstHost returns the lowest address that a host may bear in p: the second
// of an IPv4 prefix up to /30 and of an IPv6 prefix up to /126 (the first is
// the network, RFC 1122, or the subnet routers' anycast address, RFC 4291
// section 2.6.1), else the first.
func FirstHost(p netip.Prefix) netip.Addr {
	if p.Addr().BitLen()-p.Bits() < 2 {
		return p.Addr()
	}
	return p.Addr().Next()
}

// LastHost is the last address of a prefix that a host may have.
func LastHost(p netip.Prefix) netip.Addr {
	if last := Last(p); IsHost(p, last) {
		return last
	}
	return Last(p).Prev()
}

// Shared is how many leading bits two addresses of one family have in common; 0 for
// those of two families.
func Shared(a, b netip.Addr) int {
	if a.BitLen() != b.BitLen() {
		return 0
	}
	x, y := a.AsSlice(), b.AsSlice()
	for n := range x {
		if diff := x[n] ^ y[n]; diff != 0 {
			return 8*n + bits.LeadingZeros8(diff)
		}
	}
	return a.BitLen()
}

// IsHost reports whether a host may bear address a in p: for IPv4 not the
// network or broadcast address, except in a /31 (RFC 3021) or /32; for IPv6
// not the subnet routers' anycast address.
func IsHost(p netip.Prefix, a netip.Addr) bool {
	if !p.Contains(a) {
		return false
	}
	if p.Addr().BitLen()-p.Bits() < 2 {
		return true
	}
	return a != p.Addr() && (!a.Is4() || a != Last(p))
}

// Translate carries the host bits of a from prefix from over to prefix to, as
// one-to-one mapping does. from and to must be of one family and length, and a
// inside from; otherwise the zero address is returned.
func Translate(a netip.Addr, from, to netip.Prefix) netip.Addr {
	if !from.Contains(a) || from.Bits() != to.Bits() || from.Addr().BitLen() != to.Addr().BitLen() {
		return netip.Addr{}
	}
	host, base, mask := a.AsSlice(), to.Addr().AsSlice(), from.Bits()
	for n := range host {
		keep := byte(0xff) // the host's bits in this byte
		if left := mask - n*8; left >= 8 {
			keep = 0
		} else if left > 0 {
			keep = 0xff >> left
		}
		host[n] = base[n]&^keep | host[n]&keep
	}
	out, _ := netip.AddrFromSlice(host)
	return out
}

// TranslatePrefix carries a part of from over to the same part of to. The zero
// prefix is returned if part is not inside from or the two differ in length.
func TranslatePrefix(part, from, to netip.Prefix) netip.Prefix {
	if !Contains(from, part) {
		return netip.Prefix{}
	}
	a := Translate(part.Addr(), from, to)
	if !a.IsValid() {
		return netip.Prefix{}
	}
	return netip.PrefixFrom(a, part.Bits())
}

// Has reports whether any of some ranges holds an address.
func Has(ranges []netip.Prefix, a netip.Addr) bool {
	for _, p := range ranges {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

// OfFamily are those of some ranges that are of a family.
func OfFamily(ranges []netip.Prefix, f Family) []netip.Prefix {
	return slices.DeleteFunc(slices.Clone(ranges), func(p netip.Prefix) bool { return !f.Has(p.Addr()) })
}

// Size is the number of host addresses of a range, as far as it can be counted.
func Size(p netip.Prefix) uint64 {
	free := p.Addr().BitLen() - p.Bits()
	switch {
	case free > 32:
		return 1 << 32
	case p.Addr().Is4() && free > 1:
		return 1<<free - 2
	}
	return 1 << free
}
