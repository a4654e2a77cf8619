package handover

import (
	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/prefix"
)

// neverAsked is what no cloud's filter asks: what stays within a host, and how hosts find each other (RFC 4861).
const neverAsked = "icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert, nd-router-solicit, nd-router-advert } accept"

// StandFilter renders what stands for filters of a cloud at a hook of the kernel: those of which each allows what it
// allows are given together. where says, for each family, which packets they are asked about; empty: about all.
func StandFilter(name string, list []*filter.Filter, direction, hook string, where [2]string) string {
	verdict := map[string]string{design.Allow: "accept", design.Refuse: "drop"}
	p := &page{}
	for _, family := range prefix.Families {
		r := ruleset{page: p, of: family, family: [2]string{"ip", "ip6"}[family]}
		r.block("table "+r.family+" "+name, func() {
			r.block("chain rules", func() {
				if !list[0].Manner.Stateless {
					r.line("ct state established,related accept")
					r.line("ct state invalid drop")
				}
				for _, refuses := range []bool{true, false} {
					for _, f := range list {
						for _, x := range f.Rules(direction) {
							if f.Manner.Any && x.Refuses == refuses || !f.Manner.Any && !refuses {
								for _, l := range r.filterRule(x) {
									r.line("%s", l)
								}
							}
						}
					}
				}
				r.line("%s", verdict[list[0].Default(direction)])
			})
			r.block("chain at", func() {
				r.line("type filter hook %s priority 5; policy accept;", hook)
				if hook != "forward" {
					r.line(`%s "lo" accept`, map[string]string{"input": "iifname", "output": "oifname"}[hook])
				}
				if family == prefix.IPv6 {
					r.line(neverAsked)
				}
				r.line("%s jump rules", where[family])
			})
		})
	}
	return p.String()
}
