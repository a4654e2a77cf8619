package draft

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/allocation"
	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/provider"
	"dravin/core/status"
	"dravin/core/words"
)

// circuitGateway is the name of the gateway at which a network's circuits end.
const circuitGateway = "circuit gateway"

// circuitShape joins the two by circuits over an edge router.
func circuitShape(books *allocation.Books, a, b side, q Options) Shape {
	s := newShape("circuit", "Private circuit")
	f := draft(books, &s, q)
	f.circuitPossible(a, b)
	if len(s.Out) > 0 {
		return s
	}
	edge := f.edge(a, b)
	var subject *design.Object
	s.Mbps = 0
	for _, x := range [2][2]side{{a, b}, {b, a}} {
		if x[0].is(design.KindEdgeRouter) {
			continue
		}
		if o := f.leg(edge, x[0], x[1], q); o != nil && subject == nil {
			subject = o
		}
	}
	if subject == nil {
		f.out("circuits join them already")
	}
	f.reannounce(edge, a, b)
	if len(s.Out) > 0 {
		return s
	}
	s.Survives, s.Fragile = f.circuitsSurvive(a, b)
	s.Next = 4
	s.NextWhy = "the edge router stays: order, code, acceptance and session for one more circuit"
	f.done(subject, a, b)
	return s
}

// circuitPossible says why circuits can not join the two.
func (f *drafter) circuitPossible(a, b side) {
	for _, x := range []side{a, b} {
		switch {
		case x.is(design.KindHub):
			f.out("a circuit ends at a network, a site or an edge router; choose a network attached to the hub")
		case x.is(design.KindNetwork) && (x.profile == nil || x.profile.Circuit == nil):
			f.out("%s", x.without("circuits"))
		case x.is(design.KindSite) && len(f.design.Inside(x.party.ID, design.KindGateway)) == 0:
			f.out("%s has no gateway to end a circuit at", x.party.Name)
		}
	}
	if a.is(design.KindNetwork) && b.is(design.KindNetwork) && design.Slug(a.cloud) == design.Slug(b.cloud) {
		f.out("both are in %s, which joins them inside", a.cloud)
	}
	if c := clashes(a, b); c != "" && !f.translated {
		f.out("the edge router would know one range in two places: %s", c)
	}
}

// circuitsSurvive says what failure the circuits of the two live through.
func (f *drafter) circuitsSurvive(a, b side) (what string, fragile bool) {
	var single []string
	for _, x := range []side{a, b} {
		if !x.is(design.KindEdgeRouter) && !f.redundant(x) {
			single = append(single, x.party.Name)
		}
	}
	if len(single) > 0 {
		return "nothing: there is one circuit to " + strings.Join(single, " and "), true
	}
	return "one circuit or zone; not the edge router", false
}

func (f *drafter) redundant(x side) bool {
	return x.profile != nil && x.profile.Circuit != nil && x.profile.Circuit.Redundant
}

// edge is the edge router to use: one of the two, one that is there, or a new
// one.
func (f *drafter) edge(a, b side) *design.Object {
	var have *design.Object
	for _, x := range []side{a, b} {
		if x.is(design.KindEdgeRouter) {
			have = x.party
		}
	}
	for _, o := range f.design.Of(design.KindEdgeRouter) {
		if have == nil && status.Exists(o) {
			have = o
		}
	}
	if have == nil {
		owner := a.owner
		if owner == "" {
			owner = b.owner
		}
		have = f.put(
			design.KindEdgeRouter, "", "edge router",
			&design.EdgeRouter{Exchange: "exchange", Owner: owner},
		)
		f.builds("A new edge router", have, false)
		f.step(have.Name, "Order the edge router at an exchange that all can reach")
		for _, x := range []side{a, b} {
			if x.profile != nil && x.profile.Prices.EdgeRouterMonth > 0 {
				f.costs("edge router", x.profile.Prices.EdgeRouterMonth)
				break
			}
		}
	} else {
		f.builds("The edge router "+have.Name, have, true)
	}
	body := *have.Body.(*design.EdgeRouter)
	if body.ASN == 0 {
		if body.ASN = f.asn(have.Name, 0); body.ASN == 0 {
			return have
		}
		have = have.With(&body)
		f.replace(have)
	}
	return have
}

// leg drafts the circuits between the edge router and one party, or teaches
// those that are there the far party's ranges. It returns what was drafted.
func (f *drafter) leg(edge *design.Object, x, far side, q Options) *design.Object {
	if have := f.circuits(edge, x); len(have) > 0 {
		f.reuse(edge, have, x, far, q)
		return nil
	}
	if x.is(design.KindSite) {
		return f.siteLeg(edge, x, far, q)
	}
	return f.cloudLeg(edge, x, far, q)
}

// reuse lets the circuits that are there carry more.
func (f *drafter) reuse(edge *design.Object, have []*design.Object, x, far side, q Options) {
	for _, o := range have {
		f.teach(o, x, far)
		f.builds("The circuit "+o.Name, o, true)
		f.shape.Mbps = least(f.shape.Mbps, o.Body.(*design.Circuit).Ends[0].Mbps)
	}
	f.traffic(x, q)
	ends := have[0].Body.(*design.Circuit).Ends
	if g := f.get(ends[farEnd(ends, edge)].At); x.is(design.KindNetwork) {
		f.enter(x, far.exports, g, "circuit gateway")
	}
}

// cloudLeg drafts as many circuits as the cloud wants.
func (f *drafter) cloudLeg(edge *design.Object, x, far side, q Options) *design.Object {
	rule := x.profile.Circuit
	gateway := f.circuitGateway(x)
	if gateway == nil {
		return nil
	}
	n := 1
	if rule.Redundant {
		n = 2
	}
	mbps := speedFor(rule.Speeds, q.GB)
	zones := x.profile.Zones(x.region)
	ranges := f.inside(nil, nil, n)
	if ranges == nil {
		return nil
	}
	var first *design.Object
	for k := range n {
		zone := ""
		if len(zones) > 0 {
			zone = zones[k%len(zones)]
		}
		o := f.circuit(edge, gateway, x, far, fmt.Sprintf("%s circuit %d", x.party.Name, k+1), zone, mbps, ranges[k])
		f.costs(
			fmt.Sprintf("circuit of %d Mbit/s in %s", mbps, orText(zone, x.region)),
			x.profile.Prices.CircuitMonth+x.profile.Prices.CircuitMbpsOver*provider.Money(mbps),
		)
		if first == nil {
			first = o
		}
	}
	f.shape.Mbps = least(f.shape.Mbps, mbps)
	f.traffic(x, q)
	f.suggest(
		"Speed toward "+x.party.Name, fmt.Sprintf("%d Mbit/s", mbps),
		"the lowest step of %s that carries the month's traffic in working hours", x.cloud,
	)
	if n > 1 && len(zones) > 1 {
		f.suggest(
			"Zones toward "+x.party.Name, joinWords(zones[:2]), "two circuits in different zones, so that one may fail",
		)
	}
	f.orders(edge, x, n, mbps)
	f.enter(x, far.exports, gateway, "circuit gateway")
	return first
}

// orders are the steps of ordering n circuits, accepting and setting them up.
func (f *drafter) orders(edge *design.Object, x side, n int, mbps uint32) {
	rule := x.profile.Circuit
	order, accept := x.party.Name, edge.Name
	if rule.OrderedAt == "exchange" {
		order, accept = edge.Name, x.party.Name
	}
	f.step(
		order, "Order %s of %d Mbit/s toward %s and pass the order code on", words.Count(n, "circuit", "circuits"),
		mbps, accept,
	)
	f.step(accept, "Accept with the order code%s", daysWords(rule.CodeDays))
	f.step(x.party.Name, "Set up the session with the edge router")
	f.step(edge.Name, "Set up the session with %s", x.party.Name)
}

// traffic is what leaves a cloud over circuits.
func (f *drafter) traffic(x side, q Options) {
	if x.profile != nil {
		f.costs(
			fmt.Sprintf("%d GB out of %s over circuits", q.GB/2, x.cloud),
			cost.Volume(x.profile.Prices.CircuitGB, q.GB/2),
		)
	}
}

func daysWords(days uint32) string {
	if days == 0 {
		return ""
	}
	return fmt.Sprintf(", within %d days", days)
}

func orText(a, b string) string {
	if a == "" {
		return b
	}
	return a
}

func least(a, b uint32) uint32 {
	if a == 0 {
		return b
	}
	return min(a, b)
}

// reannounce lets what else the edge router has circuits to know of the two
// parties: it announces between its circuits.
func (f *drafter) reannounce(edge *design.Object, a, b side) {
	for _, o := range f.design.Of(design.KindCircuit) {
		if !status.Exists(o) {
			continue
		}
		ends := o.Body.(*design.Circuit).Ends
		for n := range ends {
			p := f.design.Party(ends[1-n].At)
			if ends[n].At != edge.ID || p == nil || p.ID == a.party.ID || p.ID == b.party.ID || f.own[o.ID] != nil {
				continue
			}
			all := f.design.Exports(p.ID)
			var news []netip.Prefix
			for _, x := range []side{a, b} {
				if !x.is(design.KindEdgeRouter) {
					clear, _ := apart(spoken(x.exports, all), all)
					news = append(news, clear...)
				}
			}
			if len(news) == 0 {
				continue
			}
			edited := design.Edited(o, func(body *design.Circuit) {
				body.Ends = slices.Clone(ends)
				body.Ends[1-n].Routes = prefix.Minimal(slices.Concat(ends[1-n].Routes, news))
			})
			f.replace(edited)
			f.announce(o, n, news)
			f.suggest("Learned by "+p.Name, negotiate.Joined(news), "the edge router announces between its circuits")
		}
	}
}

// circuits are those between an edge router and a party.
func (f *drafter) circuits(edge *design.Object, x side) []*design.Object {
	var out []*design.Object
	for o, body := range design.Each[design.Circuit](f.design.Of(design.KindCircuit)) {
		if !status.Exists(o) {
			continue
		}
		ends := body.Ends
		for n := range ends {
			if p := f.design.Party(ends[1-n].At); ends[n].At == edge.ID && p != nil && p.ID == x.party.ID {
				out = append(out, o)
			}
		}
	}
	return out
}

// teach adds the far party's ranges to what the party's end learns, and the
// party's to what the edge router learns.
func (f *drafter) teach(o *design.Object, x, far side) {
	if now := f.own[o.ID]; now != nil {
		o = now
	}
	body := *o.Body.(*design.Circuit)
	body.Ends = slices.Clone(body.Ends)
	for n := range body.Ends {
		learns := far.exports
		if body.Ends[n].At != "" && f.get(body.Ends[n].At).Kind == design.KindEdgeRouter {
			learns = x.exports
		}
		routes := slices.Clone(body.Ends[n].Routes)
		for _, p := range learns {
			if !slices.Contains(routes, p) {
				routes = append(routes, p)
			}
		}
		body.Ends[n].Routes = routes
	}
	f.replace(o.With(&body))
	for n := range body.Ends {
		if f.get(body.Ends[n].At).Kind == design.KindEdgeRouter {
			f.announce(o, n, far.exports)
		}
	}
}

// farEnd is the end of a circuit that is not the edge router's.
func farEnd(ends []design.CircuitEnd, edge *design.Object) int {
	if ends[0].At == edge.ID {
		return 1
	}
	return 0
}

// announce lets the filters of a circuit's sessions pass more from one end to
// the other.
func (f *drafter) announce(circuit *design.Object, end int, ranges []netip.Prefix) {
	for _, o := range f.design.Inside(circuit.ID, design.KindSession) {
		if now := f.own[o.ID]; now != nil {
			o = now
		}
		s := design.Session{Ends: slices.Clone(o.Body.(*design.Session).Ends)}
		s.Ends[end].Out = passing(s.Ends[end].Out, ranges)
		s.Ends[1-end].In = passing(s.Ends[1-end].In, ranges)
		f.replace(o.With(&s))
	}
}

// passing adds ranges to a filter; an empty one passes everything already.
func passing(filter []design.Filter, ranges []netip.Prefix) []design.Filter {
	if len(filter) == 0 {
		return nil
	}
	out := slices.Clone(filter)
	for _, p := range ranges {
		if !design.Lets(out, p) {
			out = append([]design.Filter{{Prefix: p}}, out...)
		}
	}
	return out
}

// circuitGateway reuses the network's gateway for circuits, or drafts one.
func (f *drafter) circuitGateway(x side) *design.Object {
	var g *design.Object
	for _, have := range f.design.Inside(x.party.ID, design.KindGateway) {
		if have.Name == circuitGateway {
			g = have
			f.builds("The circuit gateway of "+x.party.Name, g, true)
		}
	}
	if g == nil {
		g = f.put(design.KindGateway, x.party.ID, circuitGateway, &design.Gateway{Addresses: []netip.Addr{}})
		f.builds("A new circuit gateway in "+x.party.Name, g, false)
		f.step(x.party.Name, "Make the circuit gateway")
		f.hourly("circuit gateway in "+x.party.Name, x.profile.Prices.GatewayHour)
	}
	if body := *g.Body.(*design.Gateway); body.ASN == 0 {
		if body.ASN = f.asn("the circuit gateway of "+x.party.Name, 0); body.ASN == 0 {
			return nil
		}
		g = g.With(&body)
		f.replace(g)
	}
	return g
}

// siteLeg is the circuit from a site to the exchange, which a carrier sells.
func (f *drafter) siteLeg(edge *design.Object, x, far side, q Options) *design.Object {
	gateway := f.design.Inside(x.party.ID, design.KindGateway)[0]
	if now := f.own[gateway.ID]; now != nil {
		gateway = now
	}
	body := *gateway.Body.(*design.Gateway)
	if body.ASN == 0 {
		if body.ASN = f.asn(x.party.Name, 0); body.ASN == 0 {
			return nil
		}
		gateway = gateway.With(&body)
		f.replace(gateway)
	}
	ranges := f.inside(nil, nil, 1)
	if ranges == nil {
		return nil
	}
	mbps := speedFor([]uint32{100, 1000, 10000}, q.GB)
	o := f.circuit(edge, gateway, x, far, x.party.Name+" circuit", "", mbps, ranges[0])
	f.shape.Mbps = least(f.shape.Mbps, mbps)
	f.shape.Unpriced = "what a carrier asks for the way from " + x.party.Name + " to the exchange"
	f.suggest(
		"Price of "+o.Name, "not known",
		"a carrier sells the way from %s to the exchange; ask for it and add it to the sum", x.party.Name,
	)
	f.step(x.party.Name, "Order a circuit of %d Mbit/s to %s from a carrier", mbps, edge.Name)
	f.step(x.party.Name, "Set up the session with the edge router")
	return o
}

// circuit drafts one circuit with its session. The order is made at the first
// end.
func (f *drafter) circuit(
	edge, gateway *design.Object,
	x, far side,
	name, zone string,
	mbps uint32,
	inside netip.Prefix,
) *design.Object {
	vlan := f.vlan(edge)
	near := design.CircuitEnd{At: gateway.ID, Zone: zone, Mbps: mbps, VLAN: vlan, Routes: far.exports}
	at := design.CircuitEnd{At: edge.ID, Zone: zone, Mbps: mbps, VLAN: vlan, Routes: x.exports}
	ends := []design.CircuitEnd{near, at}
	if x.profile != nil && x.profile.Circuit.OrderedAt == "exchange" {
		slices.Reverse(ends)
	}
	o := f.put(design.KindCircuit, "", name, &design.Circuit{Ends: ends})
	f.builds("A circuit of "+fmt.Sprint(mbps)+" Mbit/s to "+x.party.Name, o, false)
	low, high := hosts(inside)
	speakers := [2]speaker{
		{
			at: low.Addr(), asn: gateway.Body.(*design.Gateway).ASN, owner: x.owner, all: x.all, exports: x.exports,
		},
		{
			at: high.Addr(), asn: edge.Body.(*design.EdgeRouter).ASN, owner: design.OwnerOf(edge), exports: far.exports,
			transit: true,
		},
	}
	if ends[0].At == edge.ID {
		speakers[0], speakers[1] = speakers[1], speakers[0]
	}
	f.session(o.ID, speakers[0], speakers[1])
	f.exempt(gateway, o)
	return o
}

// vlan is a tag that no circuit of the edge router has.
func (f *drafter) vlan(edge *design.Object) uint16 {
	used := allocation.Tags(f.design, edge.ID)
	for _, o := range f.own {
		if c, ok := o.Body.(*design.Circuit); ok && (c.Ends[0].At == edge.ID || c.Ends[1].At == edge.ID) {
			used[c.Ends[0].VLAN], used[c.Ends[1].VLAN] = true, true
		}
	}
	for n := uint16(100); n < 4094; n++ {
		if !used[n] {
			return n
		}
	}
	return 0
}

// workingSeconds are those of a month's working hours: 22 days of 8 hours.
const workingSeconds = 22 * 8 * 3600

// speedFor is the lowest step that carries half a month's traffic each way in
// working hours, or the highest.
func speedFor(steps []uint32, gb uint32) uint32 {
	need := uint64(gb) / 2 * 8000 / workingSeconds
	for _, s := range steps {
		if uint64(s) >= need {
			return s
		}
	}
	return steps[len(steps)-1]
}

func circuitFacts(f *Facts, d *design.Design, o *design.Object) {
	b := o.Body.(*design.Circuit)
	f.between(d, b.Ends[0].At, b.Ends[1].At)
	f.Shape, f.Tunnels, f.Mbps = "circuit", 1, min(b.Ends[0].Mbps, b.Ends[1].Mbps)
	f.Survives, f.Fragile = "nothing by itself; a second circuit in another zone does", true
	if partners(d, o, b) > 1 {
		f.Survives, f.Fragile = "its failure: there is a second circuit", false
	}
	for _, e := range b.Ends {
		if p := d.ProfileOf(e.At); p != nil {
			f.add("circuit", p.Prices.CircuitMonth+p.Prices.CircuitMbpsOver*provider.Money(e.Mbps))
		}
	}
}
