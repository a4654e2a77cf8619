package draft

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/inuse"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/provider"
)

// linkLocal is where inside addresses come from if no profile says so: half of
// the link-local space, clear of its first and last /24 (RFC 3927 section 2.1).
var linkLocal = provider.Inside{
	Within:   []netip.Prefix{netip.MustParsePrefix("169.254.128.0/17")},
	Bits:     30,
	Reserved: []netip.Prefix{netip.MustParsePrefix("169.254.255.0/24")},
}

// InsideRanges proposes n inside ranges that both ends take and that clash with
// nothing in taken. Either rule may be nil.
func InsideRanges(a, b *provider.Inside, taken []netip.Prefix, n int) ([]netip.Prefix, error) {
	rule, err := insideRule(a, b)
	if err != nil {
		return nil, err
	}
	used := slices.Concat(taken, rule.Reserved)
	var out []netip.Prefix
	for range n {
		p, ok := prefix.Carve(rule.Within, used, int(rule.Bits))
		if !ok {
			return nil, fmt.Errorf("no /%d is free in %s for inside addresses", rule.Bits, negotiate.Joined(rule.Within))
		}
		out, used = append(out, p), append(used, p)
	}
	return out, nil
}

// insideRule is what two ends' rules for inside ranges come to.
func insideRule(a, b *provider.Inside) (provider.Inside, error) {
	rule := linkLocal
	for n, own := range []*provider.Inside{a, b} {
		switch {
		case own == nil || len(own.Within) == 0:
		case n == 1 && a != nil && len(a.Within) > 0:
			rule = provider.Inside{Within: prefix.Intersect(rule.Within, own.Within), Bits: max(rule.Bits, own.Bits), Reserved: slices.Concat(rule.Reserved, own.Reserved)}
		default:
			rule = provider.Inside{Within: own.Within, Bits: own.Bits, Reserved: slices.Concat(linkLocal.Reserved, own.Reserved)}
		}
	}
	if len(rule.Within) == 0 {
		return rule, fmt.Errorf("the two ends take inside addresses from different spaces")
	}
	return rule, nil
}

// Private ASNs of four bytes (RFC 6996): nobody has chosen one of them by hand, as
// people do those of two.
const (
	firstPrivateASN = 4200000000
	lastPrivateASN  = 4294967294
)

// NextASN proposes an ASN that nobody in the design has, that no profile gives
// out by default, and that is in none of also.
func NextASN(d *design.Design, also ...uint32) (uint32, error) {
	used := usedASNs(d)
	for _, n := range also {
		used[n] = true
	}
	return freeASN(used, firstPrivateASN)
}

// usedASNs are those that somebody in the design has, and those that profiles give out by
// default.
func usedASNs(d *design.Design) map[uint32]bool {
	out := map[uint32]bool{}
	for n, by := range inuse.ASNs(d) {
		out[n] = len(by) > 0
	}
	for _, p := range d.Profiles() {
		for _, v := range p.Profile.VPN {
			out[v.DefaultASN] = true
		}
		if p.Profile.Circuit != nil {
			out[p.Profile.Circuit.DefaultASN] = true
		}
	}
	return out
}

// freeASN is the first private one from a number on that is not used.
func freeASN(used map[uint32]bool, from uint32) (uint32, error) {
	for n := from; n < lastPrivateASN; n++ {
		if !used[n] {
			return n, nil
		}
	}
	return 0, fmt.Errorf("all private ASNs from %d to %d are used", firstPrivateASN, lastPrivateASN)
}
