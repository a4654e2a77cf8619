package translate

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/words"
)

// offer is a service at a host that somebody must reach, with the flows that do.
type offer struct {
	target  design.ID // the host
	service design.Service
	needs   []need
}

// mostServices is up to how many services are published one by one.
const mostServices = 8

// offers are the services in scope that do not work, by host.
func (pl *planner) offers() []offer {
	var out []offer
	for _, n := range pl.scope.needs {
		if pl.held[n.intent] {
			continue
		}
		if n.target == "" || n.service.Port == 0 {
			pl.exclude("Publishing: a service with a port at a named host is published, and some intents name neither")
			continue
		}
		k := slices.IndexFunc(out, func(o offer) bool { return o.target == n.target && o.service == n.service })
		if k < 0 {
			k = len(out)
			out = append(out, offer{target: n.target, service: n.service})
		}
		out[k].needs = append(out[k].needs, n)
	}
	if len(out) > mostServices {
		pl.exclude(fmt.Sprintf("Publishing: %d services would take an entry each", len(out)))
		return nil
	}
	return out
}

func (pl *planner) serviceWords(list []offer) string {
	var out []string
	for _, o := range list {
		if t := pl.design.Title(o.target) + " " + o.service.String(); !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	if len(out) > 2 {
		return words.Count(len(out), "service", "services")
	}
	return words.List(out)
}

// published lets listeners on unique addresses lead to the services, where the
// targets are.
func (pl *planner) published(give func(*Option) bool) bool {
	list := pl.offers()
	if len(list) == 0 {
		return true
	}
	return give(pl.try(Publish, "Publish "+pl.serviceWords(list), func(e *editor, o *Option) error {
		hidden := mapped{}
		for _, s := range list {
			if err := pl.publish(e, o, s, hidden); err != nil {
				return err
			}
		}
		o.Start, o.PerServe = "Only callers can start.", 1
		o.Next = "One more caller with the same range dials the same listener, once its gateway hides it; nothing else " +
			"is spent."
		return nil
	}))
}

func (pl *planner) publish(e *editor, o *Option, s offer, hidden mapped) error {
	host := pl.design.Get(s.target)
	party := pl.design.Party(s.target)
	l := &design.Listener{Service: s.service, Target: s.target}
	var back []netip.Prefix // where the listener's answers go
	switch party.Kind {
	case design.KindSite:
		edges, why := e.edges(host.Parent, design.ToTarget)
		if len(edges) == 0 {
			return fmt.Errorf("%s", why)
		}
		a, err := e.pool.take(prefix.IPv4, 32)
		if err != nil {
			return err
		}
		e.spent = append(e.spent, a)
		l.At, l.Address, l.Does = edges[0].gateway, a.Addr(), design.Rewriting
		o.Tells = true
	case design.KindNetwork:
		box, err := pl.boxIn(e, party, "", false)
		if err != nil {
			return err
		}
		a, err := pl.freeHost(e, pl.subnetOfBox(e, box))
		if err != nil {
			return err
		}
		l.At, l.Address, l.Does = box.ID, a, design.Proxying
	default:
		return fmt.Errorf("%s has no box that could listen", party.Name)
	}
	for _, n := range s.needs {
		if n.path == nil {
			return fmt.Errorf("nothing joins %s and %s", pl.design.Title(n.fromParty), pl.design.Title(n.toParty))
		}
		ours, err := pl.callers(e, o, n, hidden)
		if err != nil {
			return err
		}
		for _, p := range ours {
			if !slices.Contains(l.Callers, p) {
				l.Callers = append(l.Callers, p)
			}
		}
		if party.Kind == design.KindNetwork {
			e.only = map[design.ID]design.ID{party.ID: pl.tableOfBox(e, e.get(l.At))}
		}
		e.carry(n.path, ours, []netip.Prefix{netip.PrefixFrom(l.Address, l.Address.BitLen())})
		e.only = nil
		back = append(back, ours...)
	}
	e.add(
		design.KindListener, "", host.Name+" "+s.service.Proto, l, Opened, party.ID,
		"at %s publish %s: %s leads to %s, for %s", e.get(l.At).Name, s.service, l.Address, pl.design.Title(s.target),
		list(prefix.Minimal(back)),
	)
	return nil
}

// callers are the ranges by which those who call are known on the way: hidden
// where the far side, or what lies between, holds their own.
func (pl *planner) callers(e *editor, o *Option, n need, hidden mapped) ([]netip.Prefix, error) {
	place := pl.scope.holder(n.from)
	real := ipv4(pl.known(n.from, n.toParty))
	if pl.scope.settled[place] || !pl.meetsOnWay(n, place) {
		return real, nil
	}
	if r, ok := hidden[place]; ok {
		return r, nil
	}
	if pl.keeps(place) {
		return real, nil
	}
	o.Tells = false
	if err := pl.hide(e, o, hidden, place, false); err != nil {
		return nil, err
	}
	return hidden[place], nil
}

// meetsOnWay reports whether anybody whom a flow passes, or its end, holds what a
// place has.
func (pl *planner) meetsOnWay(n need, place design.ID) bool {
	for _, at := range passed(n) {
		for _, other := range pl.scope.places {
			if pl.design.Party(other).ID == at && pl.scope.meets[[2]design.ID{place, other}] {
				return true
			}
		}
	}
	return false
}

// boxIn is a translating box in a network: the one that is there (alone: whose table
// routes for no hosts), or a new one in a subnet with a table of its own.
func (pl *planner) boxIn(e *editor, network *design.Object, zone string, alone bool) (*design.Object, error) {
	for _, b := range pl.design.Inside(network.ID, design.KindBox) {
		if s := pl.subnetOfBox(e, b); !alone || s != nil && pl.tableAlone(network, s) {
			return e.get(b.ID), nil
		}
	}
	for _, id := range e.order {
		if o := e.now[id]; o.Kind == design.KindBox && o.Parent == network.ID {
			return o, nil
		}
	}
	if why := pl.noBox(network); why != "" {
		return nil, fmt.Errorf("%s has no translating box, and %s", network.Name, why)
	}
	var used []netip.Prefix
	for s, body := range design.Each[design.Subnet](pl.design.Inside(network.ID, design.KindSubnet)) {
		used = append(used, design.RangesOf(s)...)
		if zone == "" {
			zone = body.Zone
		}
	}
	r, ok := prefix.Carve(ipv4(design.RangesOf(network)), used, 28)
	if !ok {
		return nil, fmt.Errorf("no /28 is free in the blocks of %s for a translating box", network.Name)
	}
	table := e.add(
		design.KindTable, network.ID, "border table", &design.Table{}, Places, network.ID, "make the table %s",
		"border table",
	)
	e.add(
		design.KindSubnet, network.ID, "border",
		&design.Subnet{Zone: zone, Prefixes: []netip.Prefix{r}, Table: table.ID}, Places, network.ID,
		"make the subnet border %s with that table", r,
	)
	return e.add(
		design.KindBox, network.ID, "translating box", &design.Box{Addresses: []netip.Addr{prefix.FirstHost(r).Next()}},
		Places, network.ID, "put a translating box at %s", prefix.FirstHost(r).Next(),
	), nil
}

// tableAlone reports whether the table of a subnet routes for no subnet that has
// hosts.
func (pl *planner) tableAlone(network, subnet *design.Object) bool {
	return !slices.ContainsFunc(pl.design.Inside(network.ID, design.KindSubnet), func(s *design.Object) bool {
		return s.Body.(*design.Subnet).Table == subnet.Body.(*design.Subnet).Table && !pl.forBoxes(s)
	})
}

// subnetOfBox is the subnet of a box's first address.
func (pl *planner) subnetOfBox(e *editor, box *design.Object) *design.Object {
	a := box.Body.(*design.Box).Addresses[0]
	for _, s := range append(
		pl.design.Inside(box.Parent, design.KindSubnet), e.fresh(box.Parent, design.KindSubnet)...,
	) {
		if prefix.Has(design.RangesOf(s), a) {
			return s
		}
	}
	return nil
}

func (pl *planner) tableOfBox(e *editor, box *design.Object) design.ID {
	if s := pl.subnetOfBox(e, box); s != nil {
		return s.Body.(*design.Subnet).Table
	}
	return ""
}

// fresh are the new objects of a kind in a party.
func (e *editor) fresh(parent design.ID, k design.Kind) []*design.Object {
	var out []*design.Object
	for _, id := range e.order {
		if o := e.now[id]; o.Parent == parent && o.Kind == k && e.design.Get(id) == nil {
			out = append(out, o)
		}
	}
	return out
}

// freeHost is an address of a LAN or subnet that nobody has, from the end.
func (pl *planner) freeHost(e *editor, place *design.Object) (netip.Addr, error) {
	if place == nil {
		return netip.Addr{}, fmt.Errorf("the box stands in no subnet")
	}
	taken := allocation.Hosts(pl.design, place.ID)
	for _, id := range e.order { // and what this option puts there
		switch b := e.now[id].Body.(type) {
		case *design.Listener:
			taken[b.Address] = true
		case *design.Box, *design.Gateway:
			for _, a := range design.StandsAt(e.now[id]) {
				taken[a] = true
			}
		}
	}
	given := allocation.GivenOut(pl.design, place.ID)
	for _, r := range design.RangesOf(place) {
		if !r.Addr().Is4() {
			continue
		}
		for a := prefix.Last(r).Prev(); r.Contains(a); a = a.Prev() {
			if !taken[a] && prefix.IsHost(r, a) && !prefix.Has(given, a) {
				return a, nil
			}
		}
	}
	return netip.Addr{}, fmt.Errorf("no address is free in %s", place.Name)
}

// endpoints are private endpoints: the cloud itself listens in the caller's
// network.
func (pl *planner) endpoints(give func(*Option) bool) bool {
	list := pl.offers()
	var fit []offer
	for _, s := range list {
		far, ok := pl.design.Party(s.target).Body.(*design.Network)
		profile := pl.design.ProfileOf(s.target)
		for _, n := range s.needs {
			near, same := pl.design.Get(n.fromParty).Body.(*design.Network)
			if ok && same && near.Cloud == far.Cloud && profile != nil && profile.Translation.PrivateEndpoint &&
				s.service.Proto == "tcp" {
				fit = append(fit, offer{s.target, s.service, []need{n}})
			}
		}
	}
	if len(fit) == 0 {
		if len(list) > 0 {
			pl.exclude("A private endpoint: caller and service are not in networks of one cloud that offers such")
		}
		return true
	}
	return give(
		pl.try(Endpoint, "Offer "+pl.serviceWords(fit)+" as a private endpoint", func(e *editor, o *Option) error {
			for _, s := range fit {
				n := s.needs[0]
				a, err := pl.freeHost(e, pl.design.Get(n.from))
				if err != nil {
					return err
				}
				l := &design.Listener{
					At: n.fromParty, Address: a, Service: s.service, Target: s.target, Does: design.Proxying,
				}
				e.add(
					design.KindListener,
					"",
					pl.design.Get(s.target).Name+" in "+pl.design.Title(n.fromParty),
					l,
					Opened,
					n.fromParty,
					"in %s let the cloud listen on %s for %s of %s",
					pl.design.Title(n.from),
					a,
					s.service,
					pl.design.Title(s.target),
				)
			}
			o.Start, o.PerServe = "Only callers can start.", 1
			o.Next = "One more caller in the cloud, whatever its range, gets an endpoint in its own network."
			return nil
		}),
	)
}
