package finding

import (
	"fmt"
	"net/netip"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/walk"
)

// names finds names that lead to another host than is meant: where two places hold one range, the address alone
// does not say whose it is, and those who ask in one of them come to their own.
func (c *collector) names(o *design.Object) {
	z := o.Body.(*design.Names)
	for n, r := range z.Records {
		e := c.design.Get(r.Host)
		if e == nil || e.Kind != design.KindEndpoint {
			continue
		}
		for _, party := range z.For {
			c.leadsAstray(o, n, r, e, party)
		}
	}
}

// leadsAstray tells of one party whose hosts come elsewhere by a name.
func (c *collector) leadsAstray(o *design.Object, n int, r design.NameRecord, host *design.Object, party design.ID) {
	for _, place := range c.design.Inside(party, design.HostPlaces...) {
		from, err := walk.HostOf(c.design, place.ID, prefix.FamilyOf(r.Address))
		if err != nil || from.Endpoint == host.ID {
			continue
		}
		flow := walk.Flow{From: from, To: r.Address, Meant: host.ID, Service: design.Service{Proto: "icmp"}}
		p, _ := walk.Opened(c.tables, flow, netip.Prefix{}, netip.Prefix{})
		if p.Works || p.Stop.Code != walk.OnLinkElsewhere {
			continue
		}
		f := c.add(
			"name-leads-elsewhere", Risk, o.ID, nil, "%s.%s is %s, which leads from %s to another than %s: "+
				"%s", r.Name, o.Name,
			r.Address, c.design.Title(place.ID), c.design.Title(host.Parent)+" "+host.Name, p.Stop.Why,
		)
		f.Subjects = append(f.Subjects, host.ID)
		f.Line = fmt.Sprintf("records[%d]", n)
		if seen := walk.SeenAs(c.tables, place.ID, host.Parent, firstOf(host, r.Address)).Address; seen != r.Address {
			f.Evidence = append(f.Evidence, "from there it is called "+seen.String())
		}
		return
	}
}

// firstOf is the address of a host that is of the family of another one.
func firstOf(host *design.Object, like netip.Addr) netip.Addr {
	for _, a := range host.Body.(*design.Endpoint).Addresses {
		if a.Is4() == like.Is4() {
			return a
		}
	}
	return like
}
