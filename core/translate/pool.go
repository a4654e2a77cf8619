package translate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/prefix"
)

// private are the ranges that mapped ranges are carved from when the design
// reserves none (RFC 1918, RFC 4193).
var private = []netip.Prefix{
	netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"),
	netip.MustParsePrefix("192.168.0.0/16"),
	netip.MustParsePrefix("fd00::/8"),
}

// pool gives out what is free in every table. One plan takes its IPv4 ranges from
// one block, which can be summarised and has as much room again.
type pool struct {
	allowed []netip.Prefix
	used    []netip.Prefix // that somebody holds
	named   []netip.Prefix // that somebody names: taken only where nothing else is left
	why     string
	block   netip.Prefix // invalid while nothing was set apart
	next    netip.Addr
}

// newPool prepares to give ranges out of the allowed ones, or else of what the
// design reserves for mapping, or else of the private ranges.
func newPool(d *design.Design, allowed []netip.Prefix) *pool {
	p := &pool{
		allowed: allowed, used: allocation.ForMapping(d), named: allocation.ForNaming(
			d,
		), why: "free in what was allowed",
	}
	if len(allowed) > 0 {
		return p
	}
	var names []string
	for o, body := range design.Each[design.Reservation](d.Of(design.KindReservation)) {
		if b := body; b.Use == design.UseMapping {
			p.allowed, names = append(p.allowed, b.Prefix), append(names, o.Name+" "+b.Prefix.String())
		}
	}
	p.why = "free in " + strings.Join(names, " and ")
	for _, f := range prefix.Families {
		if len(prefix.OfFamily(p.allowed, f)) == 0 {
			p.allowed = append(p.allowed, prefix.OfFamily(private, f)...)
		}
	}
	if len(names) == 0 {
		p.why = "free among the private ranges (none is reserved for mapping)"
	}
	return p
}

// fresh is the same pool with nothing given out.
func (p *pool) fresh() *pool {
	return &pool{allowed: p.allowed, used: slices.Clip(p.used), named: p.named, why: p.why}
}

// setApart takes one block for all the IPv4 ranges that a plan will need, with
// room for as many again. Where none is so large, ranges are taken singly.
func (p *pool) setApart(lengths []int) {
	var need uint64
	longest := 32
	for _, bits := range lengths {
		need += 1 << (32 - bits)
		longest = min(longest, bits)
	}
	bits := 32
	for bits > 0 && uint64(1)<<(32-bits) < 2*need {
		bits--
	}
	if block, ok := p.carve(ipv4(p.allowed), min(bits, longest)); ok && len(lengths) > 1 {
		p.block, p.next = block, block.Addr()
	}
}

func (p *pool) holds(r netip.Prefix) bool { return p.block.IsValid() && prefix.Contains(p.block, r) }

// ipv4 are those of some ranges that are of IPv4, of which alone a plan is short.
func ipv4(ranges []netip.Prefix) []netip.Prefix { return prefix.OfFamily(ranges, prefix.IPv4) }

// carve finds a range that nobody holds, rather one that nobody names either.
func (p *pool) carve(within []netip.Prefix, bits int) (netip.Prefix, bool) {
	if r, ok := prefix.Carve(within, slices.Concat(p.used, p.named), bits); ok {
		return r, true
	}
	return prefix.Carve(within, p.used, bits)
}

// take gives out a range of a length.
func (p *pool) take(f prefix.Family, bits int) (netip.Prefix, error) {
	if f == prefix.IPv4 && p.block.IsValid() {
		if r, ok := prefix.Carve([]netip.Prefix{p.block}, p.used, bits); ok {
			p.used = append(p.used, r)
			return r, nil
		}
	}
	r, ok := p.carve(prefix.OfFamily(p.allowed, f), bits)
	if ok && f == prefix.IPv4 && bits == 32 && r.Addr().As4()[3] == 0 { // some boxes take it for a network's
		p.used = append(p.used, r)
		return p.take(f, bits)
	}
	if !ok {
		return r, fmt.Errorf("no free /%d is left; reserve a larger range for mapping", bits)
	}
	p.used = append(p.used, r)
	return r, nil
}

// Carve finds a free range to map into: inside the ranges reserved for mapping
// if there are any, else inside the private ranges, and clear of everything
// that any party holds, routes or names.
func Carve(d *design.Design, f prefix.Family, bits int) (r netip.Prefix, why string, ok bool) {
	p := newPool(d, nil)
	r, err := p.take(f, bits)
	return r, p.why, err == nil
}
