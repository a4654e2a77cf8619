package design

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"

	"dravin/core/prefix"
)

// Box is a translating box of one's own: a host with addresses in one or several
// subnets or LANs, which entries name as their next hop.
type Box struct {
	// Its own, in the subnets of its network or the LANs of its site.
	Addresses []netip.Addr `yaml:"addresses" json:"addresses" min:"1"`
	// Entries of its own, by addresses in the places where it stands; for the rest it has the router of its first
	// address.
	Routes []BoxRoute `yaml:"routes,omitempty" json:"routes,omitempty"`
	// What it translates; the first that fits is done.
	Translate []Rule `yaml:"translate,omitempty" json:"translate,omitempty"`
	// What is known to keep it from forwarding.
	Faults []string `yaml:"faults,omitempty" json:"faults,omitempty" enum:"forwarding-off,source-check,strict-reverse-path"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// Listener is a published service: who dials the listener comes to the target.
type Listener struct {
	// Who listens: a gateway or box, or, where the profile has private endpoints, the cloud itself in a network.
	At Ref `yaml:"at" json:"at" ref:"gateway,box,network"`
	// What callers dial: in a place where the listener stands, or in a range that leads to it.
	Address netip.Addr `yaml:"address" json:"address"`
	// The protocol and port that callers dial.
	Service Service `yaml:"service" json:"service"`
	// The host that answers, or another listener.
	Target Ref `yaml:"target" json:"target" ref:"endpoint,published-service"`
	// The port at the target; the same if left out.
	Port uint16 `yaml:"port,omitempty" json:"port,omitempty"`
	// The address under which the listener reaches the target, where that is another than its own.
	Dials netip.Addr `yaml:"dials,omitempty" json:"dials,omitzero"`
	// rewriting: the packet goes on with another destination; proxying: the listener answers and opens a connection of
	// its own. proxying if left out.
	Does string `yaml:"does,omitempty" json:"does,omitempty" enum:"rewriting,proxying"`
	// rewriting: callers are hidden behind the listener's own address.
	Hides bool `yaml:"hides,omitempty" json:"hides,omitempty"`
	// Who may call; left out: everybody.
	Callers []netip.Prefix `yaml:"callers,omitempty" json:"callers,omitempty"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// What a listener does.
const (
	Rewriting = "rewriting"
	Proxying  = "proxying"
)

// Proxies reports whether a listener ends the connection and opens another.
func (p *Listener) Proxies() bool { return p.Does != Rewriting }

// Admits reports whether who calls from an address may.
func (p *Listener) Admits(a netip.Addr) bool {
	return len(p.Callers) == 0 || slices.ContainsFunc(p.Callers, func(r netip.Prefix) bool { return r.Contains(a) })
}

// DialOf is where a listener leads: the address and port that it dials. What
// rewrites stays in the family of its listener.
func (d *Design) DialOf(p *Listener) (a netip.Addr, port uint16) {
	port = p.Port
	if port == 0 {
		port = p.Service.Port
	}
	if p.Dials.IsValid() {
		return p.Dials, port
	}
	switch b := d.Get(p.Target).Body.(type) {
	case *Listener:
		return b.Address, port
	case *Endpoint:
		for _, own := range b.Addresses {
			if own.Is4() == p.Address.Is4() {
				return own, port
			}
		}
		if p.Proxies() {
			return b.Addresses[0], port
		}
	}
	return a, port
}

// ListenersAt streams the published services of a gateway, box or network in canonical order.
func (d *Design) ListenersAt(at ID) iter.Seq2[*Object, *Listener] {
	return func(yield func(*Object, *Listener) bool) {
		for o, l := range Each[Listener](InOrder(d.Referring(at, KindListener))) {
			if l.At == at && !yield(o, l) {
				return
			}
		}
	}
}

// IsSourcePool reports whether a subnet is the source pool of an attachment.
func (d *Design) IsSourcePool(subnet ID) bool {
	return slices.ContainsFunc(
		d.Referring(subnet, KindAttachment), func(a *Object) bool { return a.Body.(*Attachment).Pool == subnet },
	)
}

// FaultsOf is what is known to keep a gateway or box from forwarding.
func FaultsOf(o *Object) []string {
	switch b := o.Body.(type) {
	case *Gateway:
		return b.Faults
	case *Box:
		return b.Faults
	}
	return nil
}

// RulesOf are the translations that a gateway or box lists.
func RulesOf(o *Object) []Rule {
	switch b := o.Body.(type) {
	case *Gateway:
		return b.Translate
	case *Box:
		return b.Translate
	}
	return nil
}

// StandsAt are a gateway's or box's own addresses in the LANs or subnets around it.
func StandsAt(o *Object) []netip.Addr {
	switch b := o.Body.(type) {
	case *Gateway:
		return b.Stands
	case *Box:
		return b.Addresses
	}
	return nil
}

// Forwarders are the gateways and boxes of a site or network.
func (d *Design) Forwarders(party ID) []*Object { return d.Inside(party, KindGateway, KindBox) }

// StandsIn reports whether a gateway or box stands in a LAN or subnet: it has an
// address there, or the LAN's hosts use it.
func (d *Design) StandsIn(box, place *Object) bool {
	if box.Parent != place.Parent {
		return false
	}
	for _, p := range RangesOf(place) {
		for _, a := range StandsAt(box) {
			if p.Contains(a) {
				return true
			}
		}
	}
	if g, ok := box.Body.(*Gateway); ok && g.Subnet == place.ID {
		return true
	}
	lan, ok := place.Body.(*LAN)
	return ok && box.Kind == KindGateway && (len(lan.Gateways) == 0 || slices.Contains(lan.Gateways, box.ID))
}

// box checks a translating box.
func (v *validator) box(o *Object, b *Box) {
	v.stands(o, "addresses", b.Addresses)
	for n, r := range b.Translate {
		v.rule(o, n, r)
	}
	for n, r := range b.Routes {
		if r.Via.IsValid() && !v.isIn(o.Parent, r.Via) {
			v.add(
				o, fmt.Sprintf("routes[%d].via", n),
				fmt.Sprintf("%s is in no LAN or subnet of %s", r.Via, v.design.Title(o.Parent)),
				"give the address of a router beside the box",
			)
		}
	}
}

// stands checks addresses that a box has beside hosts.
func (v *validator) stands(o *Object, field string, list []netip.Addr) {
	for n, a := range list {
		at := fmt.Sprintf("%s[%d]", field, n)
		place := v.design.placeWith(o.Parent, a)
		if place == nil {
			v.add(
				o, at, fmt.Sprintf("%s is in no LAN or subnet of %s", a, v.design.Title(o.Parent)),
				"give an address in one of them",
			)
			continue
		}
		v.free(o, at, place, a, Service{})
	}
}

// placeWith is the LAN or subnet of a party that holds an address as a host's.
func (d *Design) placeWith(party ID, a netip.Addr) *Object {
	for _, place := range d.Inside(party, KindLAN, KindSubnet) {
		for _, p := range RangesOf(place) {
			if p.Contains(a) && prefix.IsHost(p, a) {
				return place
			}
		}
	}
	return nil
}

func (v *validator) isIn(party ID, a netip.Addr) bool { return v.design.placeWith(party, a) != nil }

// free refuses an address that a host, a box or another listener of the place has.
func (v *validator) free(o *Object, field string, place *Object, a netip.Addr, s Service) {
	for e, body := range Each[Endpoint](v.design.Inside(place.ID, KindEndpoint)) {
		if slices.Contains(body.Addresses, a) {
			v.add(
				o, field, fmt.Sprintf("%s is the address of %s", a, v.design.Title(place.ID)+" "+e.Name),
				"give one that nobody has",
			)
		}
	}
	for r, body := range Each[InnerRoute](v.design.Inside(place.Parent, KindInnerRoute)) {
		if body.Via == a {
			v.add(
				o, field,
				fmt.Sprintf("%s is the inner router's of %s", a, v.design.Title(r.ID)), "give one that nobody has",
			)
		}
	}
	for _, f := range v.design.Forwarders(place.Parent) {
		if f.ID != o.ID && slices.Contains(StandsAt(f), a) && !v.listensAt(o, f) {
			v.add(o, field, fmt.Sprintf("%s is the address of %s", a, v.design.Title(f.ID)), "give one that nobody has")
		}
	}
	v.twice(o, field, place, a, s)
}

// notABox refuses a host's address that a box or listener beside it has.
func (v *validator) notABox(o *Object, field string, place *Object, a netip.Addr) {
	for _, f := range v.design.Forwarders(place.Parent) {
		if slices.Contains(StandsAt(f), a) {
			v.add(o, field, fmt.Sprintf("%s is the address of %s", a, v.design.Title(f.ID)), "give one that nobody has")
		}
	}
	v.twice(o, field, place, a, Service{})
}

// listensAt reports whether o is a listener of that box: it may have its address.
func (v *validator) listensAt(o, box *Object) bool {
	p, ok := o.Body.(*Listener)
	return ok && p.At == box.ID
}

// twice refuses what another listener of a place, or of the same box, answers to.
func (v *validator) twice(o *Object, field string, place *Object, a netip.Addr, s Service) {
	for _, f := range append(v.design.Forwarders(place.Parent), v.design.Get(place.Parent)) {
		for l, b := range v.design.ListenersAt(f.ID) {
			mine, listens := o.Body.(*Listener)
			same := listens && mine.At == b.At
			switch {
			case l.ID == o.ID || b.Address != a || b.At == o.ID:
			case same && b.Service != s:
			default:
				v.add(
					o, field, fmt.Sprintf("%s is what %q listens on", a, l.Name),
					"give an address, or another port of the same listener, that nobody has",
				)
			}
		}
	}
}

// listener checks a published service.
func (v *validator) listener(o *Object, b *Listener) {
	at := v.design.Get(b.At)
	if !b.Address.IsValid() {
		v.add(o, "address", "is missing", "give the address that callers dial")
		return
	}
	if b.Service.Port == 0 {
		v.add(o, "service", "has no port", "publish tcp or udp, such as tcp/443")
	}
	if b.Target == o.ID || v.rounds(o) {
		v.add(o, "target", "leads back to itself", "let the last listener lead to a host")
		return
	}
	if dials, _ := v.design.DialOf(b); !b.Proxies() && (!dials.IsValid() || dials.Is4() != b.Address.Is4()) {
		v.add(
			o, "target", "has no address of the family that is dialled",
			"give one of that family, or let the listener proxy",
		)
	}
	if at.Kind == KindNetwork {
		if !b.Proxies() {
			v.add(o, "does", "a cloud's own listener ends the connection", "write proxying")
		}
		if v.design.placeWith(at.ID, b.Address) == nil {
			v.add(
				o, "address", fmt.Sprintf("%s is in no subnet of %s", b.Address, at.Name),
				"give an address in one of its subnets",
			)
		}
	}
	v.listens(o, b, at)
}

// listens refuses an address that anything else has.
func (v *validator) listens(o *Object, b *Listener, at *Object) {
	party := at.Parent
	if at.Kind == KindNetwork {
		party = at.ID
	}
	if place := v.design.placeWith(party, b.Address); place != nil {
		v.free(o, "address", place, b.Address, b.Service)
		return
	}
	for _, k := range HostPlaces {
		for _, place := range v.design.Of(k) {
			if place.Parent == party && k != KindInnerRoute {
				continue
			}
			for e, body := range Each[Endpoint](v.design.Inside(place.ID, KindEndpoint)) {
				if slices.Contains(body.Addresses, b.Address) {
					v.add(
						o, "address",
						fmt.Sprintf("%s is the address of %s", b.Address, v.design.Title(place.ID)+" "+e.Name),
						"give one that nobody has",
					)
				}
			}
		}
	}
	for l, other := range Each[Listener](v.design.Of(KindListener)) {
		if l.ID != o.ID && other.Address == b.Address && (other.At != b.At || other.Service == b.Service) {
			v.add(
				o, "address", fmt.Sprintf("%s is what %q listens on", b.Address, l.Name),
				"give an address, or another port of the same listener, that nobody has",
			)
		}
	}
}

// rounds reports whether listeners lead to each other in a ring.
func (v *validator) rounds(o *Object) bool {
	seen := map[ID]bool{}
	for at := o; at != nil && at.Kind == KindListener; at = v.design.Get(at.Body.(*Listener).Target) {
		if seen[at.ID] {
			return true
		}
		seen[at.ID] = true
	}
	return false
}
