// Package walk is the data plane: it carries one packet through the tables of
// a design, hop by hop, and then the reply. What it returns is a [Proof]: the
// header as each stage sees it, every table consulted, every translation met,
// and a verdict that names the first thing that stops the packet.
package walk

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/words"
)

// Code names what stops a packet.
type Code string

// The stops. Those that begin with "reply" happen on the way back. What is down
// stops with the codes of the package status.
const (
	// OnLinkElsewhere: another LAN or subnet has the destination's range and gets the packet.
	OnLinkElsewhere Code = "on-link-elsewhere"
	// NoNeighbour: on-link here, but nobody can have the address.
	NoNeighbour Code = "no-neighbour"
	// NoRoute: no usable route, or only the way to the internet.
	NoRoute Code = "no-route"
	// Loop: the packet comes by again as it was.
	Loop Code = "loop"
	// SelectorMiss: no selector covers source and destination.
	SelectorMiss Code = Code(topology.SelectorMiss)
	// NotTransitive: a peering carries the two networks' own ranges only.
	NotTransitive Code = Code(topology.NotTransitive)
	// ZoneCutOff: the hub's attachment has no subnet in the host's zone.
	ZoneCutOff Code = Code(topology.ZoneCutOff)
	// BlackHole: an entry drops it.
	BlackHole Code = "black-hole"
	// ReversePath: a strict filter drops what comes in by another way than the answer would go out.
	ReversePath Code = "reverse-path"
	// OwnSource: it comes to a box from an address that the box itself has.
	OwnSource Code = "own-source"
	// OtherSegment: the box knows the destination in another routing instance only.
	OtherSegment Code = "other-segment"
	// NotAnswered: the host is reached and does not answer this service.
	NotAnswered Code = "not-answered"
	// Filtered: a filter refuses it.
	Filtered Code = "filter"
	// NotSeenBegin: a filter that remembers gets an answer to what went another way.
	NotSeenBegin Code = "not-seen-to-begin"
	// NoWayBack: it leaves for the internet from an address to which nobody there can answer.
	NoWayBack Code = "no-way-back"
	// CallerRefused: a published service does not let this caller in.
	CallerRefused Code = "caller-refused"
	// CallersAlike: who answers sees several callers as one.
	CallersAlike Code = "callers-alike"
	// ReplyNotReversed: the reply arrives from another address than was dialled.
	ReplyNotReversed Code = "reply-not-reversed"
	// ReplyNoRoute: as NoRoute, on the way back.
	ReplyNoRoute Code = "reply-no-route"
	// ReplyOnLinkElsewhere: as OnLinkElsewhere, on the way back.
	ReplyOnLinkElsewhere Code = "reply-on-link-elsewhere"
	// ReplyFiltered: as Filtered, on the way back.
	ReplyFiltered Code = "reply-filter"
)

// Packets are the stops of what is up, with what they mean.
var Packets = []words.Coded[Code]{
	{
		Code: OnLinkElsewhere, Title: "on link elsewhere",
		Doc: "another LAN or subnet has the destination's range and gets the packet",
		Fix: "map the destination, and dial the mapped address",
	},
	{
		Code: NoNeighbour, Title: "no neighbour",
		Doc: "on-link here, but nobody can have the address",
		Fix: "dial an address that a host has",
	},
	{
		Code: NoRoute, Title: "no route",
		Doc: "no usable route, or only the way to the internet",
		Fix: "enter a route, or let it be learned",
	},
	{
		Code: Loop, Title: "loop",
		Doc: "the packet comes by again as it was",
		Fix: "correct the route that sends it round",
	},
	{
		Code: SelectorMiss, Title: "selector miss",
		Doc: "no selector covers source and destination",
		Fix: "name both in the selectors of both ends",
	},
	{
		Code: NotTransitive, Title: "not transitive",
		Doc: "a peering carries the two networks' own ranges only",
		Fix: "join the two that talk directly or by a hub",
	},
	{
		Code: ZoneCutOff, Title: "zone cut off",
		Doc: "the hub's attachment has no subnet in the host's zone",
		Fix: "add a subnet of the zone to the attachment",
	},
	{
		Code: BlackHole, Title: "black hole",
		Doc: "an entry drops it",
		Fix: "remove the entry, or enter a longer one",
	},
	{
		Code: ReversePath, Title: "reverse path",
		Doc: "a strict filter drops what comes in by another way than the answer would go out",
		Fix: "set the filter to loose",
	},
	{
		Code: OwnSource, Title: "own source",
		Doc: "it comes to a box from an address that the box itself has",
		Fix: "hide the source behind another range",
	},
	{
		Code: OtherSegment, Title: "other segment",
		Doc: "the box knows the destination in another routing instance only",
		Fix: "let a crossing say what may pass between the two, or put both into one segment",
	},
	{
		Code: NotAnswered, Title: "not answered",
		Doc: "the host is reached and does not answer this service",
		Fix: "use a service that it answers",
	},
	{
		Code: Filtered, Title: "filter",
		Doc: "a filter refuses it: by a rule, or because none allows it",
		Fix: "let it pass there, at both ends",
	},
	{
		Code: NotSeenBegin, Title: "not seen to begin",
		Doc: "a filter that remembers conversations gets an answer to a request that went another way",
		Fix: "send both ways through the same filter",
	},
	{
		Code: NoWayBack, Title: "no way back",
		Doc: "it leaves for the internet from an address to which nobody there can answer",
		Fix: "hide the source behind the gateway's own address",
	},
	{
		Code: CallerRefused, Title: "caller refused",
		Doc: "a published service does not let this caller in",
		Fix: "let the caller in",
	},
	{
		Code: CallersAlike, Title: "callers alike",
		Doc: "who answers can not tell callers apart: several come from one address",
		Fix: "map the callers one to one instead of hiding them",
	},
	{
		Code: ReplyNotReversed, Title: "reply not reversed",
		Doc: "the reply arrives from another address than was dialled",
		Fix: "send the reply through the box that translated the request",
	},
	{
		Code: ReplyNoRoute, Title: "reply no route",
		Doc: "as NoRoute, on the way back",
		Fix: "enter a route back",
	},
	{
		Code: ReplyOnLinkElsewhere, Title: "reply on link elsewhere",
		Doc: "as OnLinkElsewhere, on the way back",
		Fix: "map the source, too",
	},
	{
		Code: ReplyFiltered, Title: "reply filter",
		Doc: "as Filtered, on the way back: a filter that remembers nothing has no rule for the answer",
		Fix: "let answers pass there",
	},
}

// Family are all stops: those of packets, then those of what is down.
var Family = append(slices.Clone(Packets), down()...)

// Codes are all codes.
var Codes = words.CodesOf(Family)

// down are the codes of what is down.
func down() (out []words.Coded[Code]) {
	for _, c := range status.Family {
		out = append(out, words.Coded[Code]{Code: Code(c.Code), Title: c.Title, Doc: c.Doc, Fix: c.Fix})
	}
	return out
}

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
	// Segment is whose routing instance it is, where a box has several.
	Segment design.ID `json:"segment,omitempty"`
	// Party is the name of the party that it belongs to; empty for what belongs to none.
	Party string `json:"party,omitempty"`
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
	Enters     Act = "enters" // a joint, a hub or a network
	Proxies    Act = "proxies"
	Delivers   Act = "delivers"
	Filters    Act = "filters"
	Stops      Act = "stops"
)

// Stage is one step of a packet's way.
type Stage struct {
	At     Place         `json:"at"`
	Act    Act           `json:"act"`
	Text   string        `json:"text"`            // the step as a sentence
	Header Header        `json:"header"`          // after the step
	Table  *route.Choice `json:"table,omitempty"` // the look-up, where there was one
	Rule   design.ID     `json:"rule,omitempty"`  // the mapping, or the gateway that lists the rule, that translated
	// Hook is where in a box it was translated.
	Hook Hook `json:"hook,omitempty" enum:"prerouting,postrouting,listening"`
	// Decided is the word of a filter, where one was asked.
	Decided *Decided `json:"decided,omitempty"`
	// Tunnels are those of the link that it enters, on one of which it goes.
	Tunnels []design.ID `json:"tunnels,omitempty"`
}

// Hook is a place in a box at which packets are translated.
type Hook string

// The hooks, in the order in which a packet meets them.
const (
	Prerouting  Hook = "prerouting"  // before the route is chosen: prerouting of a Linux box
	Listening   Hook = "listening"   // by a program, or a cloud, that ends the connection and opens another
	Postrouting Hook = "postrouting" // after the route is chosen: postrouting of a Linux box
)

// Remembered is an entry of a box's connection table: how the first packet of a
// conversation came, and what the packets of its answer look like as they come.
type Remembered struct {
	At    Place  `json:"at"`
	First Header `json:"first"`
	Reply Header `json:"reply"`
	// Proxied says that the box has ended one connection and opened the other.
	Proxied bool `json:"proxied,omitempty"`
}

// Stop is the first thing that stops a packet.
type Stop struct {
	Code Code   `json:"code"`
	Way  string `json:"way"` // forward or reply
	At   Place  `json:"at"`
	Why  string `json:"why"`
	Fix  string `json:"fix"` // what would let it pass, in words
	// Subject is what must be fixed, and Line the line of its sheet, where it is
	// known.
	Subject design.ID `json:"subject,omitempty"`
	Line    string    `json:"line,omitempty"`
	// Decided is the word of the filter that stops it.
	Decided *Decided  `json:"decided,omitempty"`
	Joint   design.ID `json:"joint,omitempty"` // the link, circuit, peering or attachment that the subject is or belongs to
}

// Proof is the outcome of a walk there and back.
type Proof struct {
	Works bool `json:"works"`
	// Delivered says that the packet arrives, whatever becomes of its answer.
	Delivered bool       `json:"delivered"`
	From      Place      `json:"from"`
	To        Place      `json:"to"` // who was meant; no ID if it could not be told
	Dialled   netip.Addr `json:"dialled"`
	Service   string     `json:"service"`
	// Owners are the parties' LANs and subnets that hold the dialled address;
	// more than one means the address alone does not say whose it is.
	Owners  []Place `json:"owners"`
	Forward []Stage `json:"forward"`
	Reply   []Stage `json:"reply"`
	// Remembered are the connection tables that its first packet has left behind, in
	// the order in which it came by.
	Remembered []Remembered `json:"remembered"`
	Stop       *Stop        `json:"stop,omitempty"` // nil if it works
	// Side is that of the design in which it was walked: as planned or as built.
	Side design.Side `json:"side" enum:"planned,built"`
}

// Unwalked is the proof of a flow that can not be walked at all.
func Unwalked(s design.Service) Proof {
	return Proof{
		Service: s.String(), Owners: []Place{}, Forward: []Stage{}, Reply: []Stage{}, Remembered: []Remembered{},
	}
}

// Flow is what is walked.
type Flow struct {
	From    Host
	To      netip.Addr     // what the source dials
	Meant   design.ID      // the endpoint that should answer; empty if whoever is there will do
	Service design.Service //
	SPort   uint16         // the source's port; 0: one that its system picks
}

// Host is a source: an address in a LAN or subnet.
type Host struct {
	Place    design.ID // the LAN or subnet
	Endpoint design.ID // empty if no declared endpoint
	Address  netip.Addr
	// Beyond is the gateway by which it was reached, where it is somewhere on the
	// internet.
	Beyond design.ID
	// Box is the gateway, box or edge router that sends itself, where it is no host.
	Box design.ID
}

// clientPort stands for the port that a client's system picks (RFC 6335
// section 6: dynamic ports).
const clientPort = 49152

// maxStages ends walks that loops would not, as a TTL does.
const maxStages = 256

// trip is a flow on its way there and back by one of the ways that equal routes leave.
type trip struct {
	tables  *route.Tables
	flow    Flow
	way     *turns
	classes *filter.Classes // narrowed to the packets that fare alike; nil: nobody asks
	collect *collected      // walks past filters, and collects what they see; nil: filters are obeyed
	lane    *lane           // nothing is told of the way but how it ends; nil: everything

	// until and untilBack are joints before which the packet, or its answer, is left; empty: it goes on.
	until, untilBack design.ID

	there, back walker
	reached     Host
}

// first is the header that the source sends.
func (tr *trip) first() Header {
	h := Header{
		Src: tr.flow.From.Address, Dst: tr.flow.To, Proto: tr.flow.Service.Proto, DPort: tr.flow.Service.Port,
	}
	if h.DPort != 0 {
		h.SPort = cmp.Or(tr.flow.SPort, clientPort)
	}
	return h
}

// goes carries the packet there.
func (tr *trip) goes() (stop *Stop) {
	h := tr.first()
	tr.there = walker{
		tables: tr.tables, design: tr.tables.Design, way: "forward", meant: tr.flow.Meant, header: h,
		known: connections{}, fabric: map[Header]fabricated{}, let: remembering{}, classes: tr.classes,
		collect: tr.collect, turns: tr.way, ports: [2]uint16{h.SPort, h.DPort}, lane: tr.lane,
		begun: tr.flow.From.Box, begunFrom: tr.flow.From.Address, until: tr.until,
	}
	tr.reached, stop = tr.there.run(tr.there.from(tr.flow.From))
	return stop
}

// answered asks whether who was reached answers.
func (tr *trip) answered() *Stop {
	got := tr.there.header
	return answers(
		tr.tables.Design, tr.reached, design.Service{Proto: got.Proto, Port: got.DPort}, tr.there.asked,
	)
}

// returns carries the answer back.
func (tr *trip) returns() *Stop {
	if c := tr.collect; c != nil {
		c.from, c.to = c.to, c.from
	}
	tr.back = walker{
		tables: tr.tables, design: tr.tables.Design, way: "reply", meant: tr.flow.From.id(),
		header: tr.there.header.reversed(), known: tr.there.known, fabric: tr.there.fabric, let: tr.there.let,
		classes: tr.classes, collect: tr.collect, turns: tr.way, ports: tr.there.ports, lane: tr.lane,
		begun: tr.flow.From.Box, begunFrom: tr.flow.From.Address, until: tr.untilBack,
	}
	back := &tr.back
	_, stop := back.run(back.from(tr.reached))
	if back.left {
		return nil
	}
	h := tr.first()
	if got := back.header; stop == nil && got != h.reversed() {
		from := fromOf(tr.tables.Design, tr.flow.From)
		_, stop = back.run(back.halt(ReplyNotReversed, from,
			fmt.Sprintf(
				"%s dialled %s and the reply comes from %s, which belongs to no conversation of its", from.Title,
				endWords(tr.flow.To, h.DPort), endWords(got.Src, got.SPort),
			),
			"send the reply through the box that translated the request"))
	}
	if stop == nil && tr.collect == nil {
		if out, half := back.halfSeen(tr.there.met); half {
			_, stop = back.run(out)
		}
	}
	return stop
}

// proveWith walks a flow there and back by one of the ways that equal routes leave. It narrows classes, if there
// are any, to the packets that fare alike, and, with collect, walks past filters and collects what they see.
func proveWith(t *route.Tables, f Flow, way *turns, classes *filter.Classes, collect *collected) Proof {
	d := t.Design
	p := Proof{
		From: fromOf(d, f.From), Dialled: f.To, Service: f.Service.String(), Owners: owners(t, f.To),
		Forward: []Stage{}, Reply: []Stage{}, Remembered: []Remembered{}, Side: d.Side(),
	}
	if f.Meant != "" {
		p.To = placeOf(d, f.Meant)
	}
	tr := trip{tables: t, flow: f, way: way, classes: classes, collect: collect}
	p.Stop = tr.goes()
	p.Forward, p.Remembered = tr.there.stages, tr.there.remembered()
	if p.Stop != nil {
		return p
	}
	p.Delivered = true
	if p.To.ID == "" {
		p.To = placeOf(d, tr.reached.id())
		if tr.reached.Beyond != "" {
			p.To = p.Forward[len(p.Forward)-1].At
		}
	}
	if p.Stop = tr.answered(); p.Stop != nil {
		return p
	}
	p.Stop = tr.returns()
	p.Reply = tr.back.stages
	p.Works = p.Stop == nil
	return p
}

// fromOf is where a flow begins.
func fromOf(d *design.Design, h Host) Place {
	if h.id() == "" {
		return Place{Title: theInternet}
	}
	return placeOf(d, h.id())
}

func endWords(a netip.Addr, port uint16) string {
	if port == 0 {
		return a.String()
	}
	return netip.AddrPortFrom(a, port).String()
}

func (h Host) id() design.ID {
	switch {
	case h.Box != "":
		return h.Box
	case h.Endpoint != "":
		return h.Endpoint
	}
	return h.Place
}

func placeOf(d *design.Design, id design.ID) Place {
	o := d.Get(id)
	if o == nil {
		return Place{}
	}
	at := Place{ID: id, Kind: o.Kind, Title: fullTitle(d, o)}
	if p := d.Party(id); p != nil {
		at.Party = p.Name
	}
	return at
}

// fullTitle names an endpoint with its LAN, everything else by its title.
func fullTitle(d *design.Design, o *design.Object) string {
	if o.Kind == design.KindEndpoint {
		return d.Title(o.Parent) + " " + o.Name
	}
	return d.Title(o.ID)
}

// answers asks whether a host answers a service; asked is told of every one that it is held against.
func answers(d *design.Design, h Host, s design.Service, asked func(design.Service)) *Stop {
	o := d.Get(h.Endpoint)
	if o == nil {
		return nil
	}
	list := o.Body.(*design.Endpoint).Answers
	words := ""
	for _, a := range list {
		asked(a)
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
		Why: fmt.Sprintf("the packet reaches %s, which answers%s and not %s", at.Title, words, s),
		Fix: "use a service that it answers, or add " + s.String() + " to what it answers"}
}

func endpointAt(d *design.Design, place design.ID, a netip.Addr) design.ID {
	for o, body := range design.Each[design.Endpoint](d.Inside(place, design.KindEndpoint)) {
		for _, own := range body.Addresses {
			if own == a {
				return o.ID
			}
		}
	}
	return ""
}

func owners(t *route.Tables, a netip.Addr) []Place {
	out := []Place{}
	for _, id := range t.Holders(a) {
		out = append(out, placeOf(t.Design, id))
	}
	return out
}
