package handover

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"dravin/core/design"
	"dravin/core/route"
)

// nftables renders the ruleset of a gateway: a table of our own for each
// family, replaced as a whole, so that loading it again changes nothing and
// other rules stay.
func nftables(t *route.Tables, g *design.Object, ends []*end) string {
	p := &page{}
	p.line("#!/usr/sbin/nft -f")
	p.head("Address translation at " + t.Design.Title(g.ID))
	for _, family := range []string{"ip", "ip6"} {
		p.line("table %s dravin {}", family)
		p.line("delete table %s dravin", family)
		p.block("table "+family+" dravin", func() { family46(p, t, g, ends, family) })
		p.line("")
	}
	return p.String()
}

func family46(p *page, t *route.Tables, g *design.Object, ends []*end, family string) {
	v4 := family == "ip"
	chain := func(name, hook, kind, priority string, rules func()) {
		p.block("chain "+name, func() {
			p.line("type %s hook %s priority %s; policy accept;", kind, hook, priority)
			rules()
		})
	}
	each := func(rule func(m *design.Mapping, e *end)) {
		for _, m := range t.Point(g.ID).Mappings {
			for _, e := range ends {
				if e.link.ID == m.Link && m.Real.Addr().Is4() == v4 {
					p.comment("%s is %s toward %s", m.Real, m.Mapped, e.link.Name)
					rule(m, e)
				}
			}
		}
	}
	chain("arriving", "prerouting", "nat", "dstnat", func() {
		each(func(m *design.Mapping, e *end) {
			p.line("%s%s daddr %s dnat %s prefix to %s daddr map { %s : %s }", toward(e, family, "iifname", "saddr"), family, m.Mapped, family, family, m.Mapped, m.Real)
		})
	})
	chain("leaving", "postrouting", "nat", "srcnat", func() {
		each(func(m *design.Mapping, e *end) {
			p.line("%s%s saddr %s snat %s prefix to %s saddr map { %s : %s }", toward(e, family, "oifname", "daddr"), family, m.Real, family, family, m.Real, m.Mapped)
		})
	})
	chain("passing", "forward", "filter", "filter", func() {
		p.comment("encapsulation takes room: let both ends know the largest segment that fits")
		p.line("tcp flags & (syn | rst) == syn tcp option maxseg size set rt mtu")
	})
}

// toward is the condition under which a packet belongs to a link: its
// interfaces if routes decide, else the far ranges of its selectors.
func toward(e *end, family, device, address string) string {
	if e.routed() {
		var names []string
		for _, d := range e.devices() {
			names = append(names, strconv.Quote(d))
		}
		return device + " { " + strings.Join(names, ", ") + " } "
	}
	remote := slices.DeleteFunc(slices.Clone(e.near.Remote), func(p netip.Prefix) bool { return p.Addr().Is4() != (family == "ip") })
	return family + " " + address + " { " + words(remote) + " } "
}
