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

// leaves sends the packet out to the internet, where somebody answers if the source
// leads back here: an address of the gateway, or one of the site's own that is routed
// on the internet.
func (w *walker) leaves(p *route.Point, at Place) outcome {
	out := Place{Title: theInternet}
	if !w.comesHome(p) {
		return w.halt(NoWayBack, at, fmt.Sprintf("the packet leaves %s for the internet from %s, to which nobody "+
			"there "+
			"has a way back", at.Title, w.header.Src),
			"hide it behind the gateway's own address: a rule own-address at "+at.Title+", after one that exempts "+
				"what "+
				"links lead to").
			about(p.ID, "translate")
	}
	w.stage(out, Delivers, nil, "%s, somewhere on the internet, receives it from %s", w.header.Dst, w.header.Src)
	return outcome{arrived: Host{Address: w.header.Dst, Beyond: p.ID}}
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
	w.stage(Place{Title: theInternet}, Sends, nil, "%s %s %s", h.Address, does, w.header.Dst)
	if w.design.Get(h.Beyond).Kind == design.KindNetwork {
		return w.intoEdge(h.Beyond)
	}
	return goesTo(h.Beyond, "")
}
