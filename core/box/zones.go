package box

import (
	"net/netip"
	"slices"

	"dravin/core/design"
)

// Zone is a domain in which hosts of a party ask for names.
type Zone struct {
	Name    string // such as gardens.example
	Records []Record
	Forward []netip.Addr // who is asked for names that are not written there
}

// Record is a name in a zone with its address: A of RFC 1035, AAAA of RFC 3596.
type Record struct {
	Name    string
	Address netip.Addr
	Meant   string // who is, in words; empty where the design does not say
}

func zones(d *design.Design, party design.ID) []Zone {
	var out []Zone
	for o, b := range design.Each[design.Names](d.Of(design.KindNames)) {
		if !slices.Contains(b.For, party) {
			continue
		}
		z := Zone{Name: o.Name, Forward: b.Forward}
		for _, r := range b.Records {
			x := Record{Name: r.Name, Address: r.Address}
			if d.Get(r.Host) != nil {
				x.Meant = d.Title(r.Host)
			}
			z.Records = append(z.Records, x)
		}
		out = append(out, z)
	}
	return out
}
