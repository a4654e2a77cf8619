package walk

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// FlowsBetween are all flows that an object stands for toward another: from a
// host of every part of its ranges that some rule or route tells from the rest,
// to every such host of the other under every name, in both families. A zero
// service stands for every one: [AnyPossibly] walks all.
func FlowsBetween(t *route.Tables, from, to design.ID, s design.Service) []Flow {
	var out []Flow
	targets := hostsOf(t, to)
	for _, h := range hostsOf(t, from) {
		for _, target := range targets {
			if target.Address.Is4() != h.Address.Is4() {
				continue
			}
			dialled := []netip.Addr{target.Address}
			for _, n := range mappedNames(t.Design, t.Design.Party(to), target.Address) {
				dialled = append(dialled, n.Address)
			}
			if subnet, ok := t.Design.Get(target.Place).Body.(*design.Subnet); ok && subnet.Public {
				if e := t.Design.Get(target.Endpoint); e != nil { // by the internet
					dialled = append(dialled, e.Body.(*design.Endpoint).Public...)
				}
			}
			out = append(out, redirected(t, h, target, s)...)
			for _, l := range LeadingTo(t.Design, target.Endpoint) {
				b := l.Body.(*design.Listener)
				if asked := (s == design.Service{}); b.Address.Is4() == h.Address.Is4() &&
					(asked || Answering(t.Design, b) == s) {
					out = append(out, Flow{From: h, To: b.Address, Meant: target.id(), Service: b.Service})
				}
			}
			for _, name := range dialled {
				if name.Is4() != h.Address.Is4() {
					continue
				}
				out = append(out, Flow{From: h, To: name, Meant: target.id(), Service: s})
			}
		}
	}
	return out
}

// redirected are the flows to what some box sends on to a host: an address in every
// range that such a rule takes, or every address of the box where it takes all.
func redirected(t *route.Tables, from, target Host, s design.Service) []Flow {
	var out []Flow
	for _, k := range forwarders {
		for _, o := range t.Design.Of(k) {
			for _, r := range design.RulesOf(o) {
				if r.Does != design.ToTarget || r.Target != target.Address {
					continue
				}
				taken := r.Destination
				if len(taken) == 0 {
					taken = t.Point(o.ID).Self
				}
				for _, p := range taken {
					if p.Addr().Is4() != from.Address.Is4() {
						continue
					}
					for _, part := range parts(p, t.Boundaries()) {
						for _, service := range asDialled(r, s) {
							out = append(
								out,
								Flow{From: from, To: prefix.FirstHost(part[0]), Meant: target.id(), Service: service},
							)
						}
					}
				}
			}
		}
	}
	return out
}

// asDialled are the services with which a rule's packets come to be the one that is asked
// for at its target.
func asDialled(r design.Rule, asked design.Service) []design.Service {
	if asked == (design.Service{}) {
		return []design.Service{asked}
	}
	var out []design.Service
	if r.Port == 0 || r.Port == asked.Port {
		out = append(out, asked)
	}
	for _, s := range r.Services {
		if s.Proto == asked.Proto && r.Port == asked.Port {
			out = append(out, s)
		}
	}
	return out
}

// forwarders are the kinds that list rules.
var forwarders = []design.Kind{design.KindGateway, design.KindBox}

// hostsOf are hosts that stand for all of an object: every address of an
// endpoint; of a LAN, subnet or inner route its endpoints, and a host in each
// part that is told apart.
func hostsOf(t *route.Tables, id design.ID) []Host {
	d := t.Design
	o := d.Get(id)
	var out []Host
	if e, ok := o.Body.(*design.Endpoint); ok {
		for _, a := range e.Addresses {
			out = append(out, Host{Place: o.Parent, Endpoint: o.ID, Address: a})
		}
		return out
	}
	for _, e := range d.Inside(id, design.KindEndpoint) {
		out = append(out, hostsOf(t, e.ID)...)
	}
	told := t.Boundaries()
	for _, p := range d.Ranges(id) {
		for _, part := range parts(p, told) {
			if a := hostAmong(p, part); a.IsValid() {
				out = append(out, Host{Place: id, Address: a})
			}
		}
	}
	return out
}

// hostAmong is the first address of some ranges that a host of p may have; invalid if
// none may.
func hostAmong(p netip.Prefix, part []netip.Prefix) netip.Addr {
	for _, q := range part {
		for a, n := q.Addr(), 0; n < 3 && q.Contains(a); a, n = a.Next(), n+1 { // at most the first and last are none
			if prefix.IsHost(p, a) {
				return a
			}
		}
	}
	return netip.Addr{}
}

// parts splits a range by the ranges inside it: packets from within one part meet
// the same rules and routes.
func parts(p netip.Prefix, told []netip.Prefix) [][]netip.Prefix {
	var inner []netip.Prefix
	for _, q := range told {
		if q != p && prefix.Contains(p, q) {
			inner = append(inner, q)
		}
	}
	var out [][]netip.Prefix
	for _, whole := range append([]netip.Prefix{p}, inner...) {
		below := slices.DeleteFunc(
			slices.Clone(inner), func(q netip.Prefix) bool { return q == whole || !prefix.Contains(whole, q) },
		)
		if left := prefix.Free([]netip.Prefix{whole}, below); len(left) > 0 {
			out = append(out, left)
		}
	}
	return out
}
