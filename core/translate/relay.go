package translate

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/prefix"
	"dravin/core/status"
)

// relays let a listener inside the caller's own range hand over to one at the far
// gateway: between the two sides nothing is routed.
func (pl *planner) relays(give func(*Option) bool) bool {
	list := pl.offers()
	if len(list) == 0 {
		return true
	}
	return give(
		pl.try(
			Relay,
			"Relay to "+pl.serviceWords(list)+" inside the caller's own range",
			func(e *editor, o *Option) error {
				for _, s := range list {
					for _, n := range s.needs {
						if err := pl.relay(e, s, n); err != nil {
							return err
						}
					}
				}
				o.Start, o.PerServe = "Only callers can start.", 2
				o.Next = "One more caller with the same range gets a listener at its own gateway; no range is spent, and " +
					"nothing is routed."
				return nil
			},
		),
	)
}

// meeting is a tunnel over which two listeners hand over to each other: the gateways
// at its two ends with their inside addresses.
type meeting struct {
	near, far *design.Object
	at        [2]netip.Addr // inside addresses, the near one first
}

func (pl *planner) relay(e *editor, s offer, n need) error {
	if pl.design.Get(n.fromParty).Kind != design.KindSite || pl.design.Get(n.toParty).Kind != design.KindSite {
		return fmt.Errorf(
			"%s and %s are not two sites, at which a box of one's own listens",
			pl.design.Title(n.fromParty), pl.design.Title(n.toParty),
		)
	}
	m, err := pl.meet(e, n)
	if err != nil {
		return err
	}
	if err := pl.stand(e, m.far, pl.design.Get(n.to)); err != nil {
		return err
	}
	second := &design.Listener{
		At: m.far.ID, Address: m.at[1], Service: pl.freePort(e, m.at[1], s.service), Target: s.target,
		Does: design.Proxying, Callers: []netip.Prefix{netip.PrefixFrom(m.at[0], m.at[0].BitLen())},
	}
	if second.Service != s.service {
		second.Port = s.service.Port
	}
	last := e.add(
		design.KindListener, "", pl.design.Get(s.target).Name+" at "+pl.design.Title(
			n.toParty,
		), second, Opened, n.toParty,
		"at %s listen on its inside address %s for %s and lead to %s", m.far.Name, second.Address, second.Service,
		pl.design.Title(s.target),
	)
	a, err := pl.freeHost(e, pl.design.Get(n.from))
	if err != nil {
		return err
	}
	first := &design.Listener{At: m.near.ID, Address: a, Service: s.service, Target: last.ID, Does: design.Proxying}
	if second.Service != s.service {
		first.Port = second.Service.Port
	}
	e.add(
		design.KindListener, "", pl.design.Get(s.target).Name+" in "+pl.design.Title(
			n.from,
		), first, Opened, n.fromParty,
		"at %s listen on %s, in %s itself, and hand over to %s", m.near.Name, a,
		pl.design.Title(n.from), second.Address,
	)
	return nil
}

// meet finds the tunnel that relays use: one of a link between the two sites whose
// far gateway may be touched, or that of a new relay in the far LAN.
func (pl *planner) meet(e *editor, n need) (m meeting, err error) {
	joints := slices.Concat(pl.design.Of(design.KindLink), e.fresh("", design.KindLink))
	for _, o := range joints {
		l := o.Body.(*design.Link)
		near := e.endAt(o.ID, n.fromParty)
		if !status.Exists(o) || l.Routing == design.RoutingSelectors || e.party(l.Ends[near].Gateway) != n.fromParty ||
			e.party(l.Ends[1-near].Gateway) != n.toParty ||
			pl.design.Get(l.Ends[1-near].Gateway) != nil && slices.Contains(pl.question.Closed, n.toParty) {
			continue
		}
		for _, t := range slices.Concat(pl.design.Inside(o.ID, design.KindTunnel), e.fresh(o.ID, design.KindTunnel)) {
			if in := t.Body.(*design.Tunnel).Inside; len(in) == 2 {
				return meeting{
					e.get(l.Ends[near].Gateway), e.get(l.Ends[1-near].Gateway),
					[2]netip.Addr{in[near].Addr(), in[1-near].Addr()},
				}, nil
			}
		}
	}
	if len(n.path) == 1 && !slices.Contains(pl.question.Closed, n.toParty) {
		return m, fmt.Errorf("%s has no inside addresses for the two listeners to meet at", e.get(n.path[0].By).Name)
	}
	return pl.dialOut(e, n)
}

// dialOut puts a relay into the far LAN, which dials out over a tunnel of its own to
// the caller's gateway: nobody else's box there is touched.
func (pl *planner) dialOut(e *editor, n need) (m meeting, err error) {
	near, out, ok := pl.public(n.fromParty)
	_, behind, also := pl.public(n.toParty)
	place := pl.design.Get(n.to)
	switch {
	case place.Kind != design.KindLAN:
		return m, fmt.Errorf("%s is no LAN in which a relay could stand", pl.design.Title(n.to))
	case pl.question.NoBoxes:
		return m, fmt.Errorf("no box may be added, as was asked")
	case !ok || !also:
		return m, fmt.Errorf(
			"%s or %s has no gateway with a public address, over which a relay could dial out",
			pl.design.Title(n.fromParty),
			pl.design.Title(n.toParty),
		)
	}
	books := allocation.NewBooks(pl.design)
	for _, p := range e.inside {
		books.TakeRange(p)
	}
	free, err := draft.TakeInside(books, nil, nil)
	if err != nil {
		return m, err
	}
	stands, err := pl.freeHost(e, place)
	if err != nil {
		return m, err
	}
	e.inside = append(e.inside, free)
	first := free.Addr().Next()
	m = meeting{near: near, at: [2]netip.Addr{first, first.Next()}}
	m.far = e.add(
		design.KindGateway,
		n.toParty,
		"relay",
		&design.Gateway{
			Addresses: []netip.Addr{behind},
			Stands:    []netip.Addr{stands},
			Note:      "A small box in " + place.Name + "; it dials out from there.",
		},
		Places,
		n.toParty,
		"put a relay at %s in %s; it dials out from behind %s",
		stands,
		place.Name,
		behind,
	)
	if lan := place.Body.(*design.LAN); len(lan.Gateways) == 0 { // its hosts keep the gateways that they have
		edited := design.Edited(place, func(c *design.LAN) {
			for _, g := range pl.design.Inside(n.toParty, design.KindGateway) {
				c.Gateways = append(c.Gateways, g.ID)
			}
		})
		e.put(edited, Places, n.toParty, "", "let the hosts of %s keep the gateway that they have", place.Name)
	}
	link := e.add(
		design.KindLink,
		"",
		pl.design.Title(n.fromParty)+" to the relay at "+pl.design.Title(n.toParty),
		&design.Link{
			Routing: design.RoutingStatic,
			Ends:    []design.End{{Gateway: near.ID}, {Gateway: m.far.ID}},
		},
		Places,
		n.fromParty,
		"let %s take the relay's tunnel",
		near.Name,
	)
	inside := []netip.Prefix{netip.PrefixFrom(m.at[0], free.Bits()), netip.PrefixFrom(m.at[1], free.Bits())}
	e.add(
		design.KindTunnel,
		link.ID,
		"tunnel 1",
		&design.Tunnel{Outside: []netip.Addr{out, behind}, Inside: inside, Ends: []design.TunnelEnd{{}, {NAT: true}}},
		Places,
		n.toParty,
		"make the tunnel from the relay to %s, with the inside addresses %s and %s",
		out,
		m.at[0],
		m.at[1],
	)
	return m, nil
}

// public is the first gateway of a site with a public IPv4 address, and that.
func (pl *planner) public(site design.ID) (*design.Object, netip.Addr, bool) {
	for g, body := range design.Each[design.Gateway](pl.design.Inside(site, design.KindGateway)) {
		for _, a := range body.Addresses {
			if a.Is4() && !a.IsUnspecified() {
				return g, a, true
			}
		}
	}
	return nil, netip.Addr{}, false
}

// freePort is a service's own port, or the next one that nothing listens on at an
// address.
func (pl *planner) freePort(e *editor, at netip.Addr, s design.Service) design.Service {
	for _, l := range slices.Concat(pl.design.Of(design.KindListener), e.fresh("", design.KindListener)) {
		if b := l.Body.(*design.Listener); b.Address == at && b.Service == s {
			s.Port++
			return pl.freePort(e, at, s)
		}
	}
	return s
}

// stand gives a gateway an address of its own in a LAN, where none is known.
func (pl *planner) stand(e *editor, gateway, place *design.Object) error {
	g := *e.get(gateway.ID).Body.(*design.Gateway)
	for _, a := range g.Stands {
		if prefix.Has(design.RangesOf(place), a) {
			return nil
		}
	}
	a, err := pl.freeHost(e, place)
	if err != nil {
		return err
	}
	g.Stands = append(slices.Clone(g.Stands), a)
	e.put(
		e.get(gateway.ID).With(&g), Places, gateway.Parent, gateway.ID,
		"let %s have %s in %s (if it has another address there, say that one)", gateway.Name, a, place.Name,
	)
	return nil
}
