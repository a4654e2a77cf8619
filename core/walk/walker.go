package walk

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/topology"
)

// walker carries one packet in one direction.
type walker struct {
	tables *route.Tables
	design *design.Design
	way    string
	meant  design.ID // the endpoint, LAN or subnet that should get it; empty if any will do
	header Header
	stages []Stage
	seen   map[visit]bool
	known  connections           // what the boxes remember of the flow
	fabric map[Header]fabricated // what clouds remember that listen themselves, by the reply
	// segment is what the packet is in: that of the LAN that it left, of the
	// tunnel or circuit that it came by; empty where everything meets.
	segment design.ID
	turns   *turns  // which of equal routes are taken
	asks    *asking // nil: it carries a packet, and does not only ask
	let     remembering
	met     []meeting       // filters: there those that remember what they let pass, back all
	classes *filter.Classes // of packets that fare alike; nil: nobody asks
	ports   [2]uint16       // of the source and the destination, as the flow began
	collect *collected      // what filters see; nil: they are obeyed
	lane    *lane           // of one that tells nothing but how it ends; nil: it tells everything
	begun   design.ID       // the box that sent the first packet itself; empty: a host
	// begunFrom is the address from which it did.
	begunFrom netip.Addr
	until     design.ID // the joint before which it is left; empty: it goes on
	left      bool      // it was
	told      int       // how many stages there were, told or not
}

type visit struct {
	point, by, segment design.ID
	header             Header
}

func (w *walker) stage(at Place, act Act, table *route.Choice, text string, args ...any) {
	if w.told++; w.silent() {
		return
	}
	w.stages = append(
		w.stages, Stage{At: at, Act: act, Text: fmt.Sprintf(text, args...), Header: w.header, Table: table},
	)
}

// silent reports whether nobody wants to know of the packet's way but how it ends.
func (w *walker) silent() bool { return w.asks != nil || w.lane != nil }

// placeOf is where a stage happens; its title is told only to who wants to know.
func (w *walker) placeOf(id design.ID) Place {
	if !w.silent() {
		return placeOf(w.design, id)
	}
	o := w.design.Get(id)
	if o == nil {
		return Place{}
	}
	return Place{ID: id, Kind: o.Kind}
}

// title is the title of something, for who wants to know.
func (w *walker) title(id design.ID) string {
	if w.silent() {
		return ""
	}
	return w.design.Title(id)
}

// outcome is what becomes of a packet: it goes on at another point, it has arrived, or it is
// stopped, and why. One of the three is set.
type outcome struct {
	to, by  design.ID // the point at which it goes on, and what it comes there by
	arrived Host
	stop    *Stop
}

// goesTo sends a packet on to a point. by is the link, circuit, peering, LAN or subnet that it
// comes by, empty if none of them.
func goesTo(point, by design.ID) outcome { return outcome{to: point, by: by} }

// run carries a packet from outcome to outcome until it arrives or is stopped.
func (w *walker) run(o outcome) (Host, *Stop) {
	for o.stop == nil && o.to != "" && !w.answered() {
		o = w.next(o)
	}
	if o.stop != nil {
		w.stage(o.stop.At, Stops, nil, "%s", o.stop.Why)
	}
	return o.arrived, o.stop
}

// next is the step after an outcome.
func (w *walker) next(o outcome) outcome {
	if w.lane != nil {
		return w.lane.step(w, o)
	}
	return w.step(o.to, o.by)
}

// returning is what a stop is called on the way back.
func (c Code) returning() Code {
	switch c {
	case NoRoute:
		return ReplyNoRoute
	case OnLinkElsewhere:
		return ReplyOnLinkElsewhere
	case Filtered:
		return ReplyFiltered
	}
	return c
}

// halt stops the packet.
func (w *walker) halt(code Code, at Place, why, fix string) outcome {
	if w.way == "reply" {
		code = code.returning()
	}
	return outcome{stop: &Stop{Code: code, Way: w.way, At: at, Why: why, Fix: fix}}
}

// about names what must be fixed, and the line of its sheet.
func (o outcome) about(subject design.ID, line string) outcome {
	o.stop.Subject, o.stop.Line = subject, line
	return o
}

// down stops the packet at something that is down, with its first cause.
func (w *walker) down(v status.Verdict, at Place) outcome {
	out := w.halt(Code(v.Cause), at, v.Why, v.Fix(w.design)).about(v.Subject, v.Line)
	for o := w.design.Get(v.Subject); o != nil; o = w.design.Get(o.Parent) {
		if topology.KindOf(o) != nil {
			out.stop.Joint = o.ID
			break
		}
	}
	return out
}

// from sends the packet from a host.
func (w *walker) from(h Host) outcome {
	switch {
	case h.Beyond != "":
		return w.fromBeyond(h)
	case h.Box != "":
		return w.fromBox(h)
	}
	at := w.placeOf(h.id())
	if v := w.statusOf(h.Place); !v.Up {
		return w.down(v, at)
	}
	for _, p := range w.design.Ranges(h.Place) {
		if p.Contains(w.header.Dst) && p.Contains(h.Address) {
			if out, stopped := w.sendsThrough(h, at, true); stopped {
				return out
			}
			w.stage(
				at, Sends, nil, "%s finds %s on-link in %s and asks its own %s for it", at.Title, w.header.Dst, p,
				design.Word(w.design.Get(h.Place).Kind),
			)
			return w.deliver(h.Place, w.placeOf(h.Place))
		}
	}
	w.segment = w.design.SegmentOf(h.Place)
	next := topology.Router(w.design, w.design.Get(h.Place))
	if next == "" {
		return w.halt(NoRoute, at, at.Title+" has no gateway", "give its LAN a gateway")
	}
	if out, stopped := w.sendsThrough(h, at, false); stopped {
		return out
	}
	w.stage(at, Sends, nil, "%s sends to %s", at.Title, w.title(next))
	return goesTo(next, h.Place)
}

// again tells whether the packet was here before as it is, and notes that it is
// here now.
func (w *walker) again(id, by design.ID) bool {
	key := visit{id, by, w.segment, w.header}
	if w.seen[key] || w.told > maxStages {
		return true
	}
	if w.seen == nil {
		w.seen = map[visit]bool{}
	}
	w.seen[key] = true
	return false
}

// onLink hands the packet to a LAN, or to the subnet of a network that holds
// the destination.
func (w *walker) onLink(place design.ID, at Place) outcome {
	if w.header.Src == w.header.Dst && w.header.Src.Is4() { // of IPv6 it takes it, and answers itself
		return w.halt(
			NoNeighbour, at,
			fmt.Sprintf(
				"the packet for %s comes from that very address, and a host takes nothing from itself", w.header.Dst,
			),
			"map the source, too, so that the two can be told apart",
		)
	}
	if w.design.Get(place).Kind != design.KindNetwork {
		return w.deliver(place, at)
	}
	if at.Kind == design.KindHubTable {
		w.unpool(w.design.Get(at.ID).Parent, place, at)
		if table := w.entered(w.design.Get(at.ID).Parent, place); table != "" {
			return w.intoTable(table, place)
		}
	}
	if !prefix.Has(w.design.Ranges(place), w.header.Dst) {
		return w.halt(
			NoNeighbour, at,
			fmt.Sprintf("%s leads %s to %s, which does not hold it", at.Title, w.header.Dst, w.design.Title(place)),
			"remove the entry, or let it lead to who holds the range",
		)
	}
	if s := SubnetOf(w.design, place, w.header.Dst); s != nil {
		if at.Kind == design.KindHubTable {
			if a := w.design.AttachmentOf(w.design.Get(at.ID).Parent, place); a != nil &&
				!topology.ServesZone(w.design, a, s) {
				r := topology.CutOff(w.design, a, s)
				return w.halt(ZoneCutOff, at, r.Why, r.Fix)
			}
		}
		return w.deliver(s.ID, at)
	}
	return w.halt(
		NoNeighbour, at,
		fmt.Sprintf("%s is in a block of %s but in none of its subnets", w.header.Dst, w.design.Title(place)),
		"use an address of a subnet",
	)
}

// deliver resolves the destination in a LAN or subnet.
func (w *walker) deliver(place design.ID, at Place) outcome {
	if w.lane != nil && !w.lane.delivers {
		return goesTo(place, intoPlace+at.ID) // a step of its own
	}
	title := w.title(place)
	if v := w.statusOf(place); !v.Up {
		return w.down(v, at)
	}
	for _, p := range w.design.Ranges(place) {
		if p.Contains(w.header.Dst) && !prefix.IsHost(p, w.header.Dst) {
			return w.halt(
				NoNeighbour, at, fmt.Sprintf("%s is not a host's address in %s %s", w.header.Dst, title, p),
				"use the address of a host",
			)
		}
	}
	if c, ok := w.fabric[w.header]; ok {
		return w.cloudAnswers(c)
	}
	got := Host{Place: place, Endpoint: endpointAt(w.design, place, w.header.Dst), Address: w.header.Dst}
	if got.Endpoint == "" && w.design.IsSourcePool(place) {
		return w.halt(
			NoNeighbour, at, fmt.Sprintf("%s is in %s, a source pool in which no host is", w.header.Dst, title),
			"dial a host, under an address that leads to it",
		)
	}
	if got.Endpoint == "" {
		if b := w.tables.Bearer(place, w.header.Dst); b != "" {
			return w.bearer(b, place, at)
		}
		if b := w.awaited(place); b != "" {
			return w.bearer(b, place, at)
		}
	}
	if !w.isMeant(got) {
		meant := w.placeOf(w.meant)
		return w.halt(
			OnLinkElsewhere,
			at,
			fmt.Sprintf(
				"%s delivers %s to %s, which holds that range itself; it was meant for %s", at.Title, w.header.Dst,
				title, meant.Title,
			),
			fmt.Sprintf(
				"map the range of %s to one that %s does not hold, and use the mapped address",
				w.design.Title(HomeOf(w.design, w.meant)),
				w.design.Party(place).Name,
			),
		)
	}
	w.holdsIt(place)
	who := title
	if got.Endpoint != "" {
		who = w.placeOf(got.Endpoint).Title
	}
	here := w.placeOf(got.id())
	here.Title = who
	if out, stopped := w.receivesThrough(got, here, at.ID == place); stopped {
		return out
	}
	if at.ID != place && w.fromItself(got) {
		return w.halt(
			OwnSource, here, fmt.Sprintf("%s takes nothing that comes from %s, an address of its own", who, w.header.Src),
			"hide the source behind an address that whoever is called does not have",
		)
	}
	w.stage(here, Delivers, nil, "%s receives it: from %s to %s", who, w.header.Src, w.header.Dst)
	return outcome{arrived: got}
}

// fromItself reports whether a packet of IPv4 comes to a host from an address of its own: a translation has made its
// source one. A kernel drops it as a martian.
func (w *walker) fromItself(h Host) bool {
	if !w.header.Src.Is4() {
		return false
	}
	if w.header.Src == h.Address {
		return true
	}
	o := w.design.Get(h.Endpoint)
	return o != nil && slices.Contains(o.Body.(*design.Endpoint).Addresses, w.header.Src)
}

// isMeant reports whether the packet is where it should be: at the endpoint,
// or in the LAN or subnet, that was meant.
func (w *walker) isMeant(got Host) bool {
	return w.meant == "" || w.meant == got.Endpoint || w.meant == got.Place
}
