package draft

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/allocation"
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

// linkLocal6 is where inside addresses of IPv6 come from: a range of RFC 4193, of which each tunnel has four addresses.
var linkLocal6 = provider.Inside{Within: []netip.Prefix{netip.MustParsePrefix("fd9c:61d5:8e30::/48")}, Bits: 126}

// TakeInside6 takes a free inside range of IPv6.
func TakeInside6(books *allocation.Books) (netip.Prefix, error) {
	return TakeInside(books, &linkLocal6, nil)
}

// insideRule is what two ends' rules for inside ranges come to.
func insideRule(a, b *provider.Inside) (provider.Inside, error) {
	rule := linkLocal
	for n, own := range []*provider.Inside{a, b} {
		switch {
		case own == nil || len(own.Within) == 0:
		case n == 1 && a != nil && len(a.Within) > 0:
			rule = provider.Inside{
				Within: prefix.Intersect(rule.Within, own.Within), Bits: max(rule.Bits, own.Bits),
				Reserved: slices.Concat(rule.Reserved, own.Reserved),
			}
		default:
			rule = provider.Inside{
				Within: own.Within, Bits: own.Bits, Reserved: slices.Concat(linkLocal.Reserved, own.Reserved),
			}
		}
	}
	if len(rule.Within) == 0 {
		return rule, fmt.Errorf("the two ends take inside addresses from different spaces")
	}
	return rule, nil
}

// TakeInside takes a free inside range that both ends take. Either rule may be nil.
func TakeInside(books *allocation.Books, a, b *provider.Inside) (netip.Prefix, error) {
	rule, err := insideRule(a, b)
	if err != nil {
		return netip.Prefix{}, err
	}
	for _, within := range prefix.Free(rule.Within, rule.Reserved) {
		if within.Bits() > int(rule.Bits) {
			continue
		}
		if p, ok := books.Inside().FirstFree(within, netip.PrefixFrom(within.Addr(), int(rule.Bits))); ok {
			books.TakeRange(p)
			return p, nil
		}
	}
	return netip.Prefix{}, fmt.Errorf(
		"no /%d is free in %s for inside addresses", rule.Bits, negotiate.Joined(rule.Within),
	)
}
