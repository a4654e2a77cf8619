package walk

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/topology"
)

// enters takes a packet into the joint that its route names.
func (w *walker) enters(s *step, hop route.Hop) outcome {
	e, ok := w.tables.Edge(s.point, hop)
	if w.byRoute(); !ok {
		return w.halt(
			NoRoute, s.at, fmt.Sprintf("%s does not end at %s", w.design.Title(hop.To), s.at.Title), "correct its ends",
		)
	}
	only := s.choice.Winner.Tunnels
	if out, stopped := w.byGateway(s, e, hop, only); stopped {
		return out
	}
	return w.cross(s.point, e, only)
}

// byGateway passes what leaves a hub's table through the gateway of the hub at which the joint
// ends.
func (w *walker) byGateway(s *step, e topology.Edge, hop route.Hop, only []design.ID) (out outcome, stopped bool) {
	from := w.design.Get(e.From)
	if s.point.Kind != design.KindHubTable || from.Kind != design.KindGateway {
		return out, false
	}
	return w.relay(e.From, "", route.Route{Hop: hop, Tunnels: only})
}

// relay passes the packet through a gateway for which another table routes.
func (w *walker) relay(gateway, by design.ID, routed route.Route) (out outcome, stopped bool) {
	return w.ask(relayed, &step{
		point: w.pointOf(gateway), at: w.placeOf(gateway), by: by, came: w.header.Src,
		choice: route.Choice{Winner: &routed},
	})
}

// cross carries the packet over a joint: if it is up, if it admits the packet, on some of its
// tunnels where not on all.
func (w *walker) cross(from *route.Point, e topology.Edge, only []design.ID) outcome {
	if w.until == e.Joint {
		w.left = true
		return outcome{arrived: Host{Box: from.ID}}
	}
	o := w.design.Get(e.Joint)
	at := Place{ID: o.ID, Kind: o.Kind, Title: w.design.Title(o.ID)}
	if v := w.statusOf(o.ID); !v.Up {
		return w.down(v, at)
	}
	tunnels := w.tunnelsUp(e, only)
	packet := topology.Packet{
		Src: w.header.Src, Dst: w.header.Dst, Tunnels: tunnels, FromGateway: from.Kind == design.KindGateway,
		Asked: w.looks, AskedTo: w.looksTo,
	}
	fitting, refused := topology.Admits(w.tables.Status, e, packet)
	if refused != nil && w.asks == nil {
		return w.halt(Code(refused.Code), at, refused.Why, refused.Fix)
	}
	if e.Kind == design.KindAttachment {
		w.pooled(o, at)
	} else {
		if !w.silent() {
			w.stage(
				at, Enters, nil, "%s carries it from %s to %s%s%s", o.Name, w.design.Title(e.From), w.design.Title(e.To),
				tunnelWords(fitting, w.design.Tunnels(o.ID), w.tables.Status), w.although(o),
			)
			w.on(fitting)
		}
		w.segment = e.Segment
	}
	if len(fitting) > 0 {
		w.segment = w.design.SegmentOf(fitting[0].ID)
	}
	return w.arrive(e)
}

// on notes the tunnels on which a packet may be in the last stage.
func (w *walker) on(tunnels []*design.Object) {
	for _, t := range tunnels {
		s := &w.stages[len(w.stages)-1]
		s.Tunnels = append(s.Tunnels, t.ID)
	}
}

// tunnelsUp are the tunnels of a joint that are up, of some or of all.
func (w *walker) tunnelsUp(e topology.Edge, only []design.ID) []*design.Object {
	return slices.DeleteFunc(w.design.Inside(e.Joint, design.KindTunnel), func(t *design.Object) bool {
		return !w.statusOf(t.ID).Up || len(only) > 0 && !slices.Contains(only, t.ID)
	})
}

// tunnelWords names the tunnels that a packet may take, of all that a link has; nothing where
// it has none.
func tunnelWords(fitting, all []*design.Object, st *status.Status) string {
	up := 0
	for _, t := range all {
		if st.Of(t.ID).Up {
			up++
		}
	}
	switch {
	case len(all) == 0:
		return ""
	case len(all) == 1:
		return " on its one tunnel"
	case len(fitting) == 1 && up == 1:
		return " on " + fitting[0].Name + ", the one of its " + strconv.Itoa(len(all)) + " tunnels that is up"
	case len(fitting) == 1:
		return " on " + fitting[0].Name + ", the one of its " + strconv.Itoa(up) + " tunnels that takes this"
	}
	return " on one of its " + strconv.Itoa(len(fitting)) + " tunnels"
}

// arrive goes on where a joint ends: by the gateway of a hub in the table that the joint is bound
// to, by a table of a network for what enters there, else at what ends it.
func (w *walker) arrive(e topology.Edge) outcome {
	to := w.design.Get(e.To)
	switch {
	case e.AtHub && e.Attachment == "":
		return w.halt(
			NoRoute, w.placeOf(e.To),
			fmt.Sprintf(
				"%s is not attached to %s, which does not route it", w.design.Title(e.Joint),
				w.design.Get(to.Parent).Name,
			),
			"attach it to the hub",
		)
	case to.Kind == design.KindHub:
		return w.bound(e.Joint, e.To, e.Enters, w.placeOf(e.From))
	case e.Enters == "" && to.Kind == design.KindNetwork:
		w.looksTo()
		return w.intoNetwork(e, to)
	case e.Enters == "":
		return goesTo(e.To, e.Joint)
	}
	at := w.placeOf(e.To)
	if to.Kind == design.KindGateway {
		if out, stopped := w.relay(e.To, e.Joint, route.Route{}); stopped {
			return out
		}
	}
	if e.AtHub {
		return w.bound(e.Attachment, to.Parent, e.Enters, at)
	}
	return w.intoTable(e.Enters, e.Joint)
}

// bound routes in the hub table that an attachment is bound to.
func (w *walker) bound(attachment, hub, table design.ID, at Place) outcome {
	if v := w.statusOf(attachment); !v.Up {
		return w.down(v, at)
	}
	if table == "" {
		return w.halt(NoRoute, at, w.design.Title(hub)+" has no table", "add a hub table and bind the attachment to it")
	}
	w.stage(
		at, Enters, nil, "%s enters %s and is routed by %s%s", w.header.Dst, w.design.Title(hub),
		w.design.Get(table).Name, w.although(w.design.Get(attachment)),
	)
	return goesTo(table, "")
}

// although tells what a walk believes of a joint that is said to be ready and was refused: that it is there.
func (w *walker) although(joint *design.Object) string {
	if w.silent() || joint == nil || !w.tables.Status.Refused(joint) {
		return ""
	}
	return fmt.Sprintf(
		"; %s is said to be ready, and is taken to be there, although it was refused%s", w.design.Title(joint.ID),
		w.tables.Status.Refusal(joint),
	)
}

// intoTable routes what comes into a network by one of its entering tables.
func (w *walker) intoTable(table, by design.ID) outcome {
	party := w.design.Party(table)
	w.stage(
		w.placeOf(party.ID), Enters, nil, "%s enters %s and is routed by %s", w.header.Dst, party.Name,
		w.design.Get(table).Name,
	)
	return goesTo(table, by)
}

// intoNetwork ends at a network that was peered with: what it holds it delivers, for the rest it
// has a gateway that it lends.
func (w *walker) intoNetwork(e topology.Edge, network *design.Object) outcome {
	if prefix.Has(w.design.Ranges(network.ID), w.header.Dst) {
		return w.onLink(network.ID, w.placeOf(network.ID))
	}
	if topology.Lends(w.design, e) {
		if g := w.tables.Lent(network.ID, w.header.Dst); g != "" {
			return goesTo(g, e.Joint)
		}
	}
	return w.halt(
		NotTransitive, w.placeOf(e.Joint),
		fmt.Sprintf(
			"%s is not in %s, and a peering carries only the two networks' own ranges", w.header.Dst, network.Name,
		),
		"join the two that talk directly or by a hub; or lend the gateway, where the cloud allows it",
	)
}

// entered is the table of a network that routes what a hub hands to it: the one
// that its attachment names, or that has published what is asked for; empty where
// it is for the network itself.
func (w *walker) entered(hub, network design.ID) design.ID {
	return enteredFrom(w.design, hub, network, w.header.Dst)
}

func enteredFrom(d *design.Design, hub, network design.ID, to netip.Addr) design.ID {
	if a := d.AttachmentOf(hub, network); a != nil {
		if table := a.Body.(*design.Attachment).Enters; table != "" {
			return table
		}
	}
	if prefix.Has(d.Ranges(network), to) {
		return ""
	}
	for t, body := range design.Each[design.Table](d.Inside(network, design.KindTable)) {
		for _, e := range body.Routes {
			if e.Publish == design.Published && e.Prefix.Contains(to) {
				return t.ID
			}
		}
	}
	return ""
}

// SubnetOf is the subnet of a network that holds an address; nil if none does.
func SubnetOf(d *design.Design, network design.ID, a netip.Addr) *design.Object {
	for _, s := range d.Inside(network, design.KindSubnet) {
		if prefix.Has(d.Ranges(s.ID), a) {
			return s
		}
	}
	return nil
}
