package design

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
)

var date = regexp.MustCompile(`^\d{4}-(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])$`)

// linkRules checks what must hold of hubs, attachments, circuits, peerings,
// sessions and requests. References are good.
func (v *validator) linkRules(o *Object) {
	switch b := o.Body.(type) {
	case *Profile:
		b.contradictions(func(field, why, want string) { v.add(o, field, why, want) })
	case *HubTable:
		for n, r := range b.Routes {
			if r.Via != "" && v.design.Get(r.Via).Parent != o.Parent {
				v.add(
					o, fmt.Sprintf("routes[%d].via", n), "is another hub's attachment",
					"name an attachment of "+v.design.Get(o.Parent).Name,
				)
			}
		}
	case *Attachment:
		v.attachment(o, b)
		if b.Pool != "" && v.design.Get(b.Pool).Parent != b.What {
			v.add(o, "source_pool", "is not a subnet of what is attached", "name a subnet of "+v.design.Title(b.What))
		}
	case *Circuit:
		if len(b.Ends) == 2 && b.Ends[0].At == b.Ends[1].At {
			v.add(o, "ends[1].at", "both ends are the same", "name the far end")
		}
		for n, e := range b.Ends {
			v.vlan(o, fmt.Sprintf("ends[%d].vlan", n), e.VLAN)
		}
		if len(b.Ends) == 2 {
			v.onCircuit(o, b.Ends[0].Inside, b.Ends[1].Inside)
		}
		if b.Expires != "" && !date.MatchString(b.Expires) {
			v.add(o, "expires", fmt.Sprintf("%q is not a date", b.Expires), "write one such as 2026-12-01")
		}
	case *Peering:
		if len(b.Halves) == 2 && b.Halves[0].Network == b.Halves[1].Network {
			v.add(o, "halves[1].network", "both halves are the same network's", "name the other network")
		}
	case *Session:
		for n, e := range b.Ends {
			if e.Hold == 1 || e.Hold == 2 {
				v.add(
					o, fmt.Sprintf("ends[%d].hold", n), fmt.Sprintf("%d s is not allowed", e.Hold),
					"a hold time is 3 s or more (RFC 4271 section 4.2)",
				)
			}
			for m, f := range append(append([]Filter{}, e.In...), e.Out...) {
				if int(f.From) > f.Prefix.Addr().BitLen() || int(f.To) > f.Prefix.Addr().BitLen() ||
					f.To != 0 && f.To < f.From {
					v.add(
						o, fmt.Sprintf("ends[%d] filter %d", n, m+1), "its lengths make no range",
						"from is the shortest, to the longest length that matches",
					)
				}
			}
		}
	}
}

// vlan checks a VLAN tag (IEEE 802.1Q); 0 is none.
func (v *validator) vlan(o *Object, field string, tag uint16) {
	if tag > 4094 {
		v.add(o, field, fmt.Sprintf("%d is no VLAN tag", tag), "write one from 1 to 4094")
	}
}

// onCircuit checks the two addresses on a circuit.
func (v *validator) onCircuit(o *Object, x, y netip.Prefix) {
	switch {
	case x.IsValid() != y.IsValid():
		v.add(o, "ends", "has an inside address at one end only", "give both, in one range, or none")
	case x.IsValid() && x.Masked() != y.Masked():
		v.add(
			o, "ends[1].inside", fmt.Sprintf("%s and %s are not in one range", x, y),
			"both inside addresses must share a range such as a /30",
		)
	case x.IsValid() && x.Addr() == y.Addr():
		v.add(o, "ends[1].inside", fmt.Sprintf("%s is the other end's, too", y.Addr()), "give each end its own")
	}
}

// joins reports whether a gateway, peering or attachment is that network's.
func (v *validator) joins(o *Object, network ID) bool {
	switch b := o.Body.(type) {
	case *Peering:
		return slices.ContainsFunc(b.Halves, func(h Half) bool { return h.Network == network })
	case *Attachment:
		return b.What == network
	}
	return o.Parent == network
}

func (v *validator) attachment(o *Object, b *Attachment) {
	if b.What == o.Parent {
		v.add(o, "what", "a hub can not attach to itself", "name another hub, a network, a link or a circuit")
	}
	for n, s := range b.Subnets {
		if v.design.Get(s).Parent != b.What {
			v.add(
				o, fmt.Sprintf("subnets[%d]", n), "is not a subnet of what is attached",
				"name a subnet of "+v.design.Title(b.What),
			)
		}
	}
	for _, t := range append([]Ref{b.Bound}, b.Feeds...) {
		if t != "" && v.design.Get(t).Parent != o.Parent {
			v.add(
				o, "bound", v.design.Path(t)+" is another hub's table", "name a table of "+v.design.Get(o.Parent).Name,
			)
		}
	}
}
