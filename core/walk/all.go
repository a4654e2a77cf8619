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
// service stands for every one that the target or a rule of the design names.
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
			for _, l := range LeadingTo(t.Design, target.Endpoint) {
				b := l.Body.(*design.Listener)
				if asked := (s == design.Service{}); b.Address.Is4() == h.Address.Is4() && (asked || Answering(t.Design, b) == s) {
					out = append(out, Flow{From: h, To: b.Address, Meant: target.id(), Service: b.Service})
				}
			}
			for _, name := range dialled {
				for _, service := range servicesOf(t.Design, target, s) {
					out = append(out, Flow{From: h, To: name, Meant: target.id(), Service: service})
				}
			}
		}
	}
	return out
}

// forwarders are the kinds that list rules.
var forwarders = []design.Kind{design.KindGateway, design.KindBox}

// servicesOf are the services that one that was asked for stands for at a host.
func servicesOf(d *design.Design, at Host, asked design.Service) []design.Service {
	if asked != (design.Service{}) {
		return []design.Service{asked}
	}
	out := []design.Service{{Proto: "icmp"}}
	if o := d.Get(at.Endpoint); o != nil {
		out = append(out, o.Body.(*design.Endpoint).Answers...)
	}
	for _, k := range forwarders {
		for _, o := range d.Of(k) {
			for _, r := range design.RulesOf(o) {
				out = append(out, r.Services...)
			}
		}
	}
	return out
}

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
	told := toldApart(d)
	for _, p := range d.Ranges(id) {
		for _, part := range parts(p, told) {
			if a := prefix.FirstHost(part); p.Contains(a) && prefix.IsHost(p, a) {
				out = append(out, Host{Place: id, Address: a})
			}
		}
	}
	return out
}

// parts splits a range by the ranges inside it: packets from within one part meet
// the same rules and routes.
func parts(p netip.Prefix, told []netip.Prefix) []netip.Prefix {
	var inner []netip.Prefix
	for _, q := range told {
		if q != p && prefix.Contains(p, q) {
			inner = append(inner, q)
		}
	}
	var out []netip.Prefix
	for _, whole := range append([]netip.Prefix{p}, inner...) {
		below := slices.DeleteFunc(slices.Clone(inner), func(q netip.Prefix) bool { return q == whole || !prefix.Contains(whole, q) })
		if left := prefix.Free([]netip.Prefix{whole}, below); len(left) > 0 {
			out = append(out, left[0])
		}
	}
	return out
}

// toldApart are the ranges by which anything in the design tells packets apart.
func toldApart(d *design.Design) []netip.Prefix {
	var out []netip.Prefix
	for _, o := range d.Of(design.KindLink) {
		for _, e := range o.Body.(*design.Link).Ends {
			out = append(out, slices.Concat(e.Routes, e.Local, e.Remote)...)
		}
	}
	for _, o := range d.Of(design.KindMapping) {
		out = append(out, o.Body.(*design.Mapping).Real)
	}
	for _, k := range forwarders {
		for _, o := range d.Of(k) {
			for _, r := range design.RulesOf(o) {
				out = append(append(out, r.Source...), r.Destination...)
				if r.Real.IsValid() {
					out = append(out, r.Real)
				}
			}
		}
	}
	for _, o := range d.Of(design.KindListener) {
		out = append(out, o.Body.(*design.Listener).Callers...)
	}
	for _, o := range d.Of(design.KindCircuit) {
		for _, e := range o.Body.(*design.Circuit).Ends {
			out = append(out, e.Routes...)
		}
	}
	for _, k := range []design.Kind{design.KindTable, design.KindHubTable} {
		for _, o := range d.Of(k) {
			switch b := o.Body.(type) {
			case *design.Table:
				for _, e := range b.Routes {
					out = append(out, e.Prefix)
				}
			case *design.HubTable:
				for _, e := range b.Routes {
					out = append(out, e.Prefix)
				}
			}
		}
	}
	for _, k := range slices.Concat(design.HostPlaces, []design.Kind{design.KindNetwork}) {
		for _, o := range d.Of(k) {
			out = append(out, design.RangesOf(o)...)
		}
	}
	slices.SortFunc(out, prefix.Compare)
	return slices.Compact(out)
}
