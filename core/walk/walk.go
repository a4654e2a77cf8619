// Package walk is the data plane: it carries one packet through the tables of
// a design, hop by hop, and then the reply. What it returns is a [Proof]: the
// header as each stage sees it, every table consulted, every translation met,
// and a verdict that names the first thing that stops the packet.
package walk

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// Code names what stops a packet.
type Code string

// The stops. Those that begin with "reply" happen on the way back.
const (
	OnLinkElsewhere      Code = "on-link-elsewhere"       // another LAN or subnet has the destination's range and gets the packet
	NoNeighbour          Code = "no-neighbour"            // on-link here, but nobody can have the address
	NoRoute              Code = "no-route"                // no usable route, or only the way to the internet
	Loop                 Code = "loop"                    // the packet comes by again as it was
	LinkDown             Code = "link-down"               // the link can not carry anything
	SelectorMiss         Code = "selector-miss"           // no selector covers source and destination
	HalfMade             Code = "half-made"               // only one half of a peering was made
	NotTransitive        Code = "not-transitive"          // a peering carries the two networks' own ranges only
	ZoneCutOff           Code = "zone-cut-off"            // the hub's attachment has no subnet in the host's zone
	BlackHole            Code = "black-hole"              // an entry drops it
	NotForwarding        Code = "does-not-forward"        // the gateway is known not to pass packets on
	NotAnswered          Code = "not-answered"            // the host is reached and does not answer this service
	ReplyNotReversed     Code = "reply-not-reversed"      // the reply arrives from another address than was dialled
	ReplyNoRoute         Code = "reply-no-route"          // as NoRoute, on the way back
	ReplyOnLinkElsewhere Code = "reply-on-link-elsewhere" // as OnLinkElsewhere, on the way back
)

// Header is the part of a packet that decides its way.
type Header struct {
	Src   netip.Addr `json:"src"`
	Dst   netip.Addr `json:"dst"`
	Proto string     `json:"proto"`
	SPort uint16     `json:"sport,omitempty"` // 0 for icmp
	DPort uint16     `json:"dport,omitempty"` // 0 for icmp
}

func (h Header) reversed() Header {
	return Header{Src: h.Dst, Dst: h.Src, Proto: h.Proto, SPort: h.DPort, DPort: h.SPort}
}

// Place is where a stage happens.
type Place struct {
	ID    design.ID   `json:"id"`
	Kind  design.Kind `json:"kind"`
	Title string      `json:"title"`
}

// Act is what a stage does with the packet.
type Act string

// The acts.
const (
	Sends      Act = "sends"
	Routes     Act = "routes"
	MapsSource Act = "maps source"
	MapsDest   Act = "maps destination"
	Selects    Act = "matches selector"
	Enters     Act = "enters tunnel"
	Delivers   Act = "delivers"
	Stops      Act = "stops"
)

// Stage is one step of a packet's way.
type Stage struct {
	At     Place         `json:"at"`
	Act    Act           `json:"act"`
	Text   string        `json:"text"`            // the step as a sentence
	Header Header        `json:"header"`          // after the step
	Table  *route.Choice `json:"table,omitempty"` // the look-up, where there was one
}

// Stop is the first thing that stops a packet.
type Stop struct {
	Code Code   `json:"code"`
	Way  string `json:"way"` // forward or reply
	At   Place  `json:"at"`
	Why  string `json:"why"`
	Mend string `json:"mend"` // what would let it pass, in words
}

// Proof is the outcome of a walk there and back.
type Proof struct {
	Works   bool       `json:"works"`
	From    Place      `json:"from"`
	To      Place      `json:"to"` // who was meant; no ID if it could not be told
	Dialled netip.Addr `json:"dialled"`
	Service string     `json:"service"`
	// Owners are the parties' LANs and subnets that hold the dialled address;
	// more than one means the address alone does not say whose it is.
	Owners  []Place `json:"owners"`
	Forward []Stage `json:"forward"`
	Reply   []Stage `json:"reply"`
	Stop    *Stop   `json:"stop,omitempty"` // nil if it works
}

// Unwalked is the proof of a flow that can not be walked at all.
func Unwalked(s design.Service) Proof {
	return Proof{Service: s.String(), Owners: []Place{}, Forward: []Stage{}, Reply: []Stage{}}
}

// Flow is what is walked.
type Flow struct {
	From    Host
	To      netip.Addr     // what the source dials
	Meant   design.ID      // the endpoint that should answer; empty if whoever is there will do
	Service design.Service //
}

// Host is a source: an address in a LAN or subnet.
type Host struct {
	Place    design.ID // the LAN or subnet
	Endpoint design.ID // empty if no declared endpoint
	Address  netip.Addr
}

// clientPort stands for the port that a client's system picks (RFC 6335
// section 6: dynamic ports).
const clientPort = 49152

// maxStages ends walks that loops would not, as a TTL does.
const maxStages = 256

// Prove walks a flow there and back.
func Prove(t *route.Tables, f Flow) Proof {
	d := t.Design
	p := Proof{From: placeOf(d, f.From.id()), Dialled: f.To, Service: f.Service.String(), Owners: owners(d, f.To), Forward: []Stage{}, Reply: []Stage{}}
	if f.Meant != "" {
		p.To = placeOf(d, f.Meant)
	}
	h := Header{Src: f.From.Address, Dst: f.To, Proto: f.Service.Proto, DPort: f.Service.Port}
	if h.DPort != 0 {
		h.SPort = clientPort
	}
	there := walker{t: t, d: d, way: "forward", meant: f.Meant, header: h}
	reached := there.from(f.From)
	p.Forward, p.Stop = there.stages, there.stop
	if p.Stop != nil {
		return p
	}
	if p.To.ID == "" {
		p.To = placeOf(d, reached.id())
	}
	if p.Stop = answers(d, reached, f.Service); p.Stop != nil {
		return p
	}
	back := walker{t: t, d: d, way: "reply", meant: f.From.id(), header: there.header.reversed()}
	back.from(reached)
	if back.stop == nil && back.header.Src != f.To {
		back.halt(ReplyNotReversed, p.From,
			fmt.Sprintf("%s dialled %s and the reply comes from %s, which belongs to no conversation of its", p.From.Title, f.To, back.header.Src),
			"send the reply through the box that translated the request")
	}
	p.Reply, p.Stop = back.stages, back.stop
	p.Works = p.Stop == nil
	return p
}

func (h Host) id() design.ID {
	if h.Endpoint != "" {
		return h.Endpoint
	}
	return h.Place
}

func placeOf(d *design.Design, id design.ID) Place {
	o := d.Get(id)
	if o == nil {
		return Place{}
	}
	return Place{ID: id, Kind: o.Kind, Title: fullTitle(d, o)}
}

// fullTitle names an endpoint with its LAN, everything else by its title.
func fullTitle(d *design.Design, o *design.Object) string {
	if o.Kind == design.KindEndpoint {
		return d.Title(o.Parent) + " " + o.Name
	}
	return d.Title(o.ID)
}

func answers(d *design.Design, h Host, s design.Service) *Stop {
	o := d.Get(h.Endpoint)
	if o == nil {
		return nil
	}
	list := o.Body.(*design.Endpoint).Answers
	words := ""
	for _, a := range list {
		if a == s {
			return nil
		}
		words += " " + a.String()
	}
	if len(list) == 0 || s.Proto == "icmp" {
		return nil
	}
	at := placeOf(d, h.Endpoint)
	return &Stop{Code: NotAnswered, Way: "forward", At: at,
		Why:  fmt.Sprintf("the packet reaches %s, which answers%s and not %s", at.Title, words, s),
		Mend: "use a service that it answers, or add " + s.String() + " to what it answers"}
}

// walker carries one packet in one direction.
type walker struct {
	t      *route.Tables
	d      *design.Design
	way    string
	meant  design.ID // the endpoint, LAN or subnet that should get it; empty if any will do
	header Header
	stages []Stage
	stop   *Stop
	seen   map[visit]bool
}

type visit struct {
	point  design.ID
	link   design.ID
	header Header
}

func (w *walker) stage(at Place, act Act, table *route.Choice, text string, args ...any) {
	w.stages = append(w.stages, Stage{At: at, Act: act, Text: fmt.Sprintf(text, args...), Header: w.header, Table: table})
}

func (w *walker) halt(code Code, at Place, why, mend string) Host {
	if w.way == "reply" {
		switch code {
		case NoRoute:
			code = ReplyNoRoute
		case OnLinkElsewhere:
			code = ReplyOnLinkElsewhere
		}
	}
	w.stop = &Stop{Code: code, Way: w.way, At: at, Why: why, Mend: mend}
	w.stage(at, Stops, nil, "%s", why)
	return Host{}
}

// from sends the packet from a host and returns the host it reaches, or sets
// the stop.
func (w *walker) from(h Host) Host {
	at := placeOf(w.d, h.id())
	for _, p := range w.d.Ranges(h.Place) {
		if p.Contains(w.header.Dst) && p.Contains(h.Address) {
			w.stage(at, Sends, nil, "%s finds %s on-link in %s and asks its own %s for it", at.Title, w.header.Dst, p, kindWord(w.d, h.Place))
			return w.deliver(h.Place, placeOf(w.d, h.Place))
		}
	}
	next := w.firstHop(h.Place)
	if next == "" {
		return w.halt(NoRoute, at, at.Title+" has no gateway", "give its LAN a gateway")
	}
	w.stage(at, Sends, nil, "%s sends to %s", at.Title, w.d.Title(next))
	return w.point(next, "")
}

func kindWord(d *design.Design, id design.ID) string {
	switch d.Get(id).Kind {
	case design.KindLAN:
		return "LAN"
	case design.KindInnerRoute:
		return "inner network"
	}
	return "subnet"
}

// firstHop is the forwarding point that the hosts of a LAN or subnet use.
func (w *walker) firstHop(place design.ID) design.ID {
	switch b := w.d.Get(place).Body.(type) {
	case *design.Subnet:
		return b.Table
	case *design.LAN:
		if len(b.Gateways) > 0 {
			return b.Gateways[0]
		}
	}
	if all := w.d.Inside(w.d.Get(place).Parent, design.KindGateway); len(all) > 0 {
		return all[0].ID
	}
	return ""
}

// point passes the packet through a forwarding point, in the order of a Linux
// gateway: destination translation, routing decision, source translation,
// selector match. in is the link it came by, if any.
func (w *walker) point(id, in design.ID) Host {
	p := w.t.Point(id)
	at := placeOf(w.d, id)
	key := visit{id, in, w.header}
	if w.seen[key] || len(w.stages) > maxStages {
		return w.halt(Loop, at, fmt.Sprintf("the packet to %s is back at %s as it was", w.header.Dst, at.Title), "correct the route that sends it round")
	}
	if w.seen == nil {
		w.seen = map[visit]bool{}
	}
	w.seen[key] = true
	if g, ok := w.d.Get(id).Body.(*design.Gateway); ok {
		if why := unfit(g); why != "" {
			return w.halt(NotForwarding, at, at.Title+" "+why, "put it right on the box, then take the note off the gateway")
		}
	}

	w.mapDestination(p, at, in)
	choice := p.Lookup(w.header.Dst)
	w.stage(at, Routes, &choice, "%s", routeText(at, w.header.Dst, choice))
	if choice.Winner == nil {
		return w.halt(NoRoute, at, fmt.Sprintf("%s has no usable route to %s", at.Title, w.header.Dst), fmt.Sprintf("add a route for %s at %s", w.header.Dst, at.Title))
	}
	w.mapSource(p, at, choice.Winner.Hop)
	if s, ok := w.selected(p); ok {
		w.stage(at, Selects, nil, "a selector of %s takes it, whatever the route: local %s, remote %s", w.d.Title(s.Link), s.Local, s.Remote)
		return w.cross(s.Link, id)
	}
	switch hop := choice.Winner.Hop; hop.Kind {
	case route.Tunnel:
		if l := w.d.Get(hop.To); l.Body.(*design.Link).Routing == design.RoutingSelectors {
			return w.halt(SelectorMiss, at, fmt.Sprintf("%s has no selector of %s for %s to %s", at.Title, l.Name, w.header.Src, w.header.Dst), "name the source in the selectors of both ends")
		}
		return w.cross(hop.To, w.endAt(hop.To, p))
	case route.Gateway:
		return w.point(hop.To, "")
	case route.Deliver:
		return w.onLink(hop.To, at)
	case route.Peer:
		return w.peer(hop.To, p.Party, at)
	case route.Attached:
		return w.enterHub(hop.To, p.Party, at)
	case route.OtherHub:
		return w.otherHub(hop.To, p.Party, at)
	case route.Circuit:
		return w.circuit(hop.To, id)
	case route.BlackHole:
		return w.halt(BlackHole, at, fmt.Sprintf("%s drops what is for %s: a black hole", at.Title, choice.Winner.Prefix), "remove the entry, or enter a longer one")
	}
	return w.outOfEstate(p, at)
}

func routeText(at Place, dst netip.Addr, c route.Choice) string {
	if c.Winner == nil {
		return fmt.Sprintf("%s finds no usable route to %s", at.Title, dst)
	}
	return fmt.Sprintf("%s: %s matches %s (%s, %s)", at.Title, dst, c.Winner.Prefix, c.Winner.Source, c.Winner.Via)
}

func (w *walker) mapDestination(p *route.Point, at Place, in design.ID) {
	for _, m := range p.Mappings {
		if m.Link == in && m.Mapped.Contains(w.header.Dst) {
			old := w.header.Dst
			w.header.Dst = prefix.Translate(old, m.Mapped, m.Real)
			w.stage(at, MapsDest, nil, "%s maps the destination %s to %s", at.Title, old, w.header.Dst)
			return
		}
	}
}

func (w *walker) mapSource(p *route.Point, at Place, hop route.Hop) {
	for _, m := range p.Mappings {
		if m.Real.Contains(w.header.Src) && w.leavesBy(p, m.Link, hop) {
			old := w.header.Src
			w.header.Src = prefix.Translate(old, m.Real, m.Mapped)
			w.stage(at, MapsSource, nil, "%s maps the source %s to %s", at.Title, old, w.header.Src)
			return
		}
	}
}

// leavesBy tells whether a packet is bound for a link, before its source is
// translated: a route-based link is the next hop, a policy-based one has a
// selector for the destination.
func (w *walker) leavesBy(p *route.Point, link design.ID, hop route.Hop) bool {
	if hop.Kind == route.Deliver {
		return false
	}
	if hop.Kind == route.Tunnel && hop.To == link {
		return true
	}
	for _, s := range p.Selectors {
		if s.Link == link && s.Remote.Contains(w.header.Dst) {
			return true
		}
	}
	return false
}

// selected is the selector that takes the packet. Traffic between the party's
// own ranges is passed by: the gateways are configured so.
func (w *walker) selected(p *route.Point) (s route.Selector, ok bool) {
	if within(p.Own, w.header.Src) && within(p.Own, w.header.Dst) {
		return s, false
	}
	for _, s := range p.Selectors {
		if s.Matches(w.header.Src, w.header.Dst) {
			return s, true
		}
	}
	return s, false
}

func within(ranges []netip.Prefix, a netip.Addr) bool {
	for _, p := range ranges {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

// cross carries the packet over a link to its far gateway.
func (w *walker) cross(link, from design.ID) Host {
	o := w.d.Get(link)
	l := o.Body.(*design.Link)
	_, far, _, _ := l.End(from)
	at := Place{ID: link, Kind: design.KindLink, Title: o.Name}
	strands := w.d.Inside(link, design.KindTunnel)
	if len(strands) == 0 {
		return w.halt(LinkDown, at, o.Name+" has no tunnel", "add a tunnel to the link")
	}
	w.stage(at, Enters, nil, "%s carries it from %s to %s on %s", o.Name, w.d.Title(from), w.d.Title(far.Gateway), strandWords(strands))
	arrival := w.t.Point(far.Gateway)
	if l.Routing == design.RoutingSelectors && !admits(arrival, link, w.header) {
		end := placeOf(w.d, far.Gateway)
		return w.halt(SelectorMiss, end,
			fmt.Sprintf("%s has no selector of %s for %s from %s and drops it", end.Title, o.Name, w.header.Dst, w.header.Src),
			"make the selectors of both ends mirror each other")
	}
	return w.arrive(far.Gateway, link)
}

func strandWords(strands []*design.Object) string {
	if len(strands) == 1 {
		return "its one strand"
	}
	return "one of its " + strconv.Itoa(len(strands)) + " strands"
}

// admits reports whether an inbound packet falls under a selector of the link,
// as RFC 4301 section 5.2 demands after decryption.
func admits(p *route.Point, link design.ID, h Header) bool {
	for _, s := range p.Selectors {
		if s.Link == link && s.Matches(h.Dst, h.Src) {
			return true
		}
	}
	return false
}

// onLink hands the packet to a LAN, or to the subnet of a network that holds
// the destination.
func (w *walker) onLink(place design.ID, at Place) Host {
	if w.d.Get(place).Kind != design.KindNetwork {
		return w.deliver(place, at)
	}
	if s := w.subnetOf(place, w.header.Dst); s != nil {
		if at.Kind == design.KindHubTable {
			if a := w.attachmentOf(w.d.Get(at.ID).Parent, place); a != nil && !w.zoneServed(a, s) {
				return w.cutOff(a, s, at)
			}
		}
		return w.deliver(s.ID, at)
	}
	return w.halt(NoNeighbour, at, fmt.Sprintf("%s is in a block of %s but in none of its subnets", w.header.Dst, w.d.Title(place)), "use an address of a subnet")
}

// deliver resolves the destination in a LAN or subnet.
func (w *walker) deliver(place design.ID, at Place) Host {
	title := w.d.Title(place)
	for _, p := range w.d.Ranges(place) {
		if p.Contains(w.header.Dst) && !prefix.IsHost(p, w.header.Dst) {
			return w.halt(NoNeighbour, at, fmt.Sprintf("%s is not a host's address in %s %s", w.header.Dst, title, p), "use the address of a host")
		}
	}
	got := Host{Place: place, Endpoint: endpointAt(w.d, place, w.header.Dst), Address: w.header.Dst}
	if !w.isMeant(got) {
		meant := placeOf(w.d, w.meant)
		return w.halt(OnLinkElsewhere, at,
			fmt.Sprintf("%s delivers %s to %s, which holds that range itself; it was meant for %s", at.Title, w.header.Dst, title, meant.Title),
			fmt.Sprintf("map the range of %s to one that %s does not hold, and use the mapped address", w.d.Title(w.homeOf(w.meant)), w.d.Party(place).Name))
	}
	who := title
	if got.Endpoint != "" {
		who = placeOf(w.d, got.Endpoint).Title
	}
	w.stage(Place{ID: got.id(), Kind: w.d.Get(got.id()).Kind, Title: who}, Delivers, nil, "%s receives it: from %s to %s", who, w.header.Src, w.header.Dst)
	return got
}

// isMeant reports whether the packet is where it should be: at the endpoint,
// or in the LAN or subnet, that was meant.
func (w *walker) isMeant(got Host) bool {
	return w.meant == "" || w.meant == got.Endpoint || w.meant == got.Place
}

func (w *walker) homeOf(id design.ID) design.ID {
	if o := w.d.Get(id); o != nil && o.Kind == design.KindEndpoint {
		return o.Parent
	}
	return id
}

// outOfEstate is what becomes of a packet that only the way to the internet is
// left for. Where selectors are all that could have taken it, or one names its
// destination, they are to blame; else a route is missing.
func (w *walker) outOfEstate(p *route.Point, at Place) Host {
	routed := slices.ContainsFunc(p.Routes, func(r route.Route) bool { return r.Hop.Kind == route.Tunnel })
	for _, s := range p.Selectors {
		if s.Remote.Contains(w.header.Dst) || !routed && s.Local.Contains(w.header.Src) {
			return w.halt(SelectorMiss, at,
				fmt.Sprintf("no selector of %s covers %s to %s; the nearest has %s and %s", w.d.Title(s.Link), w.header.Src, w.header.Dst, s.Local, s.Remote),
				fmt.Sprintf("add %s and %s to the selectors at both ends of %s", w.header.Src, w.header.Dst, w.d.Title(s.Link)))
		}
	}
	return w.halt(NoRoute, at,
		fmt.Sprintf("%s has no route to %s but the way to the internet", at.Title, w.header.Dst),
		fmt.Sprintf("add a route for %s at %s", w.header.Dst, at.Title))
}

func endpointAt(d *design.Design, place design.ID, a netip.Addr) design.ID {
	for _, o := range d.Inside(place, design.KindEndpoint) {
		for _, own := range o.Body.(*design.Endpoint).Addresses {
			if own == a {
				return o.ID
			}
		}
	}
	return ""
}

// places are the kinds that hosts are in.
var places = []design.Kind{design.KindLAN, design.KindInnerRoute, design.KindSubnet}

func owners(d *design.Design, a netip.Addr) []Place {
	out := []Place{}
	for _, o := range d.All() {
		if slices.Contains(places, o.Kind) && within(d.Ranges(o.ID), a) {
			out = append(out, placeOf(d, o.ID))
		}
	}
	return out
}
