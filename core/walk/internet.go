package walk

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// onInternet reports whether an address is somewhere on the internet: one that is routed
// there and that nobody in the design has, as a host or at a gateway.
func (w *walker) onInternet(a netip.Addr) bool {
	return prefix.Internet(a) && len(w.tables.Holders(a)) == 0 && !slices.ContainsFunc(
		w.design.Of(design.KindGateway), func(g *design.Object) bool { return g.Body.(*design.Gateway).Owns(a) },
	)
}

// entrance is where the internet carries what is for a public address of the design: the site's gateway or box that
// has it, listens on it or has its range behind it, or the network whose cloud maps it to a host. It is empty of an
// address that nobody in the design has. Who only asks where an address leads is not sent around by the internet.
func (w *walker) entrance(a netip.Addr) design.ID {
	if w.asks != nil || !prefix.Internet(a) {
		return ""
	}
	w.looks()
	for g, b := range design.Each[design.Gateway](w.design.Of(design.KindGateway)) {
		if b.Owns(a) && w.design.Get(g.Parent).Kind == design.KindSite {
			return g.ID
		}
	}
	for _, l := range design.Each[design.Listener](w.design.Of(design.KindListener)) {
		if l.Address == a && slices.Contains(Boxes, w.design.Get(l.At).Kind) && linux(w.design, l.At) {
			return l.At
		}
	}
	for e, b := range design.Each[design.Endpoint](w.design.Of(design.KindEndpoint)) {
		if party := w.design.Party(e.ID); slices.Contains(b.Public, a) && party.Kind == design.KindNetwork {
			return party.ID
		}
	}
	for _, place := range w.tables.Holders(a) {
		switch party := w.design.Party(place); party.Kind {
		case design.KindSite:
			if all := w.design.Inside(party.ID, design.KindGateway); len(all) > 0 {
				return all[0].ID
			}
		case design.KindNetwork:
			if s, ok := w.design.Get(place).Body.(*design.Subnet); ok && s.Public {
				return party.ID
			}
		}
	}
	for _, g := range w.design.Of(design.KindGateway) {
		if w.design.Get(g.Parent).Kind == design.KindSite && slices.ContainsFunc(
			w.tables.Point(g.ID).Translations,
			func(r route.Translation) bool { return r.Does == design.OneToOne && r.Into.Contains(a) },
		) {
			return g.ID
		}
	}
	return ""
}

// byInternet is what becomes of a packet that has left for the internet by a gateway or network: it comes in where its
// destination is, as from the internet, or somebody there has it.
func (w *walker) byInternet(left design.ID) outcome {
	out := Place{Title: theInternet}
	in := w.entrance(w.header.Dst)
	if in == "" {
		w.stage(out, Delivers, nil, "%s, somewhere on the internet, receives it from %s", w.header.Dst, w.header.Src)
		return outcome{arrived: Host{Address: w.header.Dst, Beyond: left}}
	}
	w.stage(out, Enters, nil, "the internet carries it to %s, who has %s", w.title(in), w.header.Dst)
	return w.comesIn(in)
}

// comesIn takes a packet in that comes from the internet.
func (w *walker) comesIn(at design.ID) outcome {
	w.segment = ""
	if w.design.Get(at).Kind == design.KindNetwork {
		return w.intoEdge(at)
	}
	return goesTo(at, "")
}

// leaves sends the packet out to the internet, where somebody answers if the source
// leads back here: an address of the gateway, or one of the site's own that is routed
// on the internet.
func (w *walker) leaves(p *route.Point, at Place) outcome {
	if !w.comesHome(p) {
		return w.halt(NoWayBack, at, fmt.Sprintf("the packet leaves %s for the internet from %s, to which nobody there "+
			"has a way back", at.Title, w.header.Src),
			"hide it behind the gateway's own address: a rule own-address at "+at.Title+", after one that exempts what "+
				"links lead to").
			about(p.ID, "translate")
	}
	return w.byInternet(p.ID)
}

// comesHome reports whether somebody on the internet can answer to the source of a
// packet that leaves by a point: a public address of the gateway, or one that is routed
// on the internet and is the box's or its site's.
func (w *walker) comesHome(p *route.Point) bool {
	if g, ok := w.design.Get(p.ID).Body.(*design.Gateway); ok && g.Owns(w.header.Src) {
		return true
	}
	return prefix.Internet(w.header.Src) && (prefix.Has(p.Self, w.header.Src) || prefix.Has(p.Own, w.header.Src))
}

// fromBeyond sends what somebody on the internet sends or answers to the gateway or network by which it comes in.
func (w *walker) fromBeyond(h Host) outcome {
	does := "answers to"
	if w.way == "forward" {
		does = "sends to"
	}
	out := Place{Title: theInternet}
	w.stage(out, Sends, nil, "%s %s %s", h.Address, does, w.header.Dst)
	if w.way == "forward" && w.entrance(w.header.Dst) == "" {
		return w.nobodyOutside(out)
	}
	return w.comesIn(h.Beyond)
}

// nobodyOutside stops what somebody on the internet sends to an address that leads nowhere from there.
func (w *walker) nobodyOutside(out Place) outcome {
	return w.halt(
		NoRoute, out, fmt.Sprintf("no public address leads to %s: nobody on the internet has a way there", w.header.Dst),
		"publish a service at a public address, or let the host stand in a public subnet",
	)
}
