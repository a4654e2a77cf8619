package draft

import (
	"fmt"
	"net/netip"
	"slices"

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
			return nil, noneInside(rule)
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

// takeInside takes a free inside range that both ends take.
func takeInside(b *inuse.Books, rules [2]*provider.Inside) (netip.Prefix, error) {
	rule, err := insideRule(rules[0], rules[1])
	if err != nil {
		return netip.Prefix{}, err
	}
	for _, within := range prefix.Free(rule.Within, rule.Reserved) {
		if p, ok := b.Inside().FirstFree(within, netip.PrefixFrom(within.Addr(), int(rule.Bits))); ok && within.Bits() <= int(rule.Bits) {
			b.TakeRange(p)
			return p, nil
		}
	}
	return netip.Prefix{}, noneInside(rule)
}

func noneInside(rule provider.Inside) error {
	return fmt.Errorf("no /%d is free in %s for inside addresses", rule.Bits, negotiate.Joined(rule.Within))
}
