package prefix

import "net/netip"

// Special is a range that a standard sets aside.
type Special struct {
	Prefix netip.Prefix
	Name   string
	RFC    string
	// Usable tells whether an organisation may number its own networks from it.
	Usable bool
}

func special(p, name, rfc string, usable bool) Special {
	return Special{netip.MustParsePrefix(p), name, rfc, usable}
}

// Specials are the special-purpose ranges of RFC 6890 and its registries, and
// multicast.
var Specials = []Special{
	special("0.0.0.0/8", "this network", "RFC 791", false),
	special("10.0.0.0/8", "private use", "RFC 1918", true),
	special("100.64.0.0/10", "shared address space", "RFC 6598", true),
	special("127.0.0.0/8", "loopback", "RFC 1122", false),
	special("169.254.0.0/16", "link-local", "RFC 3927", false),
	special("172.16.0.0/12", "private use", "RFC 1918", true),
	special("192.0.0.0/24", "protocol assignments", "RFC 6890", false),
	special("192.0.2.0/24", "documentation", "RFC 5737", false),
	special("192.88.99.0/24", "former 6to4 relays", "RFC 7526", false),
	special("192.168.0.0/16", "private use", "RFC 1918", true),
	special("198.18.0.0/15", "benchmarking", "RFC 2544", false),
	special("198.51.100.0/24", "documentation", "RFC 5737", false),
	special("203.0.113.0/24", "documentation", "RFC 5737", false),
	special("224.0.0.0/4", "multicast", "RFC 5771", false),
	special("240.0.0.0/4", "reserved", "RFC 1112", false),
	special("::/128", "unspecified", "RFC 4291", false),
	special("::1/128", "loopback", "RFC 4291", false),
	special("::ffff:0:0/96", "IPv4-mapped", "RFC 4291", false),
	special("64:ff9b::/96", "translation", "RFC 6052", false),
	special("100::/64", "discard", "RFC 6666", false),
	special("2001::/23", "protocol assignments", "RFC 2928", false),
	special("2001:db8::/32", "documentation", "RFC 3849", false),
	special("2002::/16", "6to4", "RFC 3056", false),
	special("fc00::/7", "unique local", "RFC 4193", true),
	special("fe80::/10", "link-local", "RFC 4291", false),
	special("ff00::/8", "multicast", "RFC 4291", false),
}

// Reserved returns the special range that p overlaps and may not be numbered
// from, if there is one.
func Reserved(p netip.Prefix) (Special, bool) {
	for _, s := range Specials {
		if !s.Usable && s.Prefix.Overlaps(p) && p.Bits() > 0 {
			return s, true
		}
	}
	return Special{}, false
}

// Internet reports whether an address is routed on the internet: it is in no special
// range. Documentation ranges count, as they stand for public addresses in examples
// (RFC 5737 and 3849).
func Internet(a netip.Addr) bool {
	for _, s := range Specials {
		if s.Prefix.Contains(a) && s.Name != "documentation" {
			return false
		}
	}
	return a.IsValid()
}
