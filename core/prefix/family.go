package prefix

import "net/netip"

// Family is an address family. Its value is an index into what there is one of for each.
type Family uint8

// The families.
const (
	IPv4 Family = 0
	IPv6 Family = 1
)

// Families are both, in order.
var Families = [2]Family{IPv4, IPv6}

// FamilyOf is the family of an address that is not mapped.
func FamilyOf(a netip.Addr) Family {
	if a.Is4() {
		return IPv4
	}
	return IPv6
}

// String is its name, such as "IPv4".
func (f Family) String() string { return [2]string{"IPv4", "IPv6"}[f] }

// Code is its name in designs and to routing daemons, such as "ipv4".
func (f Family) Code() string { return [2]string{"ipv4", "ipv6"}[f] }

// Everything is the range of all addresses of the family.
func (f Family) Everything() netip.Prefix {
	return [2]netip.Prefix{
		netip.PrefixFrom(netip.IPv4Unspecified(), 0), netip.PrefixFrom(netip.IPv6Unspecified(), 0),
	}[f]
}

// Has reports whether an address is of the family.
func (f Family) Has(a netip.Addr) bool { return FamilyOf(a) == f }
