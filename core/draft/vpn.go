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
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/core/words"
)

// end is what one end of a VPN can be: an existing gateway or a new one.
type end struct {
	side
	vpn     *provider.VPN // nil at a site
	gateway *design.Object
}

// vpnEnds lists the gateways that a party has or could have, one for each kind.
func vpnEnds(d *design.Design, s side) []end {
	gateways := d.Inside(s.party.ID, design.KindGateway)
	if s.is(design.KindSite) {
		for _, g := range gateways {
			if len(g.Body.(*design.Gateway).Addresses) > 0 {
				return []end{{side: s, gateway: g}}
			}
		}
		return nil
	}
	if s.profile == nil {
		return nil
	}
	var out []end
	for n := range s.profile.VPN {
		v := &s.profile.VPN[n]
		if !slices.Contains(v.At, string(s.party.Kind)) {
			continue
		}
		e := end{side: s, vpn: v}
		for _, g := range gateways {
			if d.VPNOf(g.ID) == v && g.Name != circuitGateway {
				e.gateway = g
				break
			}
		}
		out = append(out, e)
	}
	return out
}

func (e end) routing() []string {
	if e.vpn == nil {
		return []string{design.RoutingBGP, design.RoutingStatic, design.RoutingSelectors}
	}
	return e.vpn.Routing
}

func (e end) proposals(d *design.Design) (ike, esp []string) {
	if e.gateway != nil {
		return settings.ProposalsOf(d, e.gateway.ID)
	}
	return e.vpn.IKE, e.vpn.ESP
}

func (e end) insideRule() *provider.Inside {
	if e.vpn == nil {
		return nil
	}
	return &e.vpn.Inside
}

// addresses are the public addresses that tunnels end on in turn; unspecified
// where the cloud has not given them yet.
func (e end) addresses() []netip.Addr {
	var out []netip.Addr
	if e.gateway != nil {
		for _, a := range e.gateway.Body.(*design.Gateway).Addresses {
			if a.Is4() {
				out = append(out, a)
			}
		}
	}
	want := 1
	if e.vpn != nil {
		want = int(e.vpn.Addresses)
	}
	for len(out) < want {
		out = append(out, netip.IPv4Unspecified())
	}
	return out
}

var routingWords = map[string]string{
	design.RoutingBGP: "BGP", design.RoutingStatic: "static routes", design.RoutingSelectors: "policy selectors",
}

// vpnShapes are the VPNs that the two ends' gateways allow.
func vpnShapes(books *allocation.Books, a, b side, q Options) []Shape {
	d := books.Design()
	if a.is(design.KindHub) || b.is(design.KindHub) {
		return hubVPNShapes(books, a, b, q)
	}
	var out []Shape
	endsA, endsB := vpnEnds(d, a), vpnEnds(d, b)
	for _, x := range []struct {
		side
		ends []end
	}{{a, endsA}, {b, endsB}} {
		if len(x.ends) == 0 {
			s := newShape("vpn", "VPN over the internet")
			draft(books, &s, q).out("%s", noGateway(x.side))
			return []Shape{s}
		}
	}
	for _, ea := range endsA {
		for _, eb := range endsB {
			for _, routing := range routings {
				if q.wants("vpn-" + routing) {
					out = append(out, vpnShape(books, ea, eb, routing, q))
				}
			}
		}
	}
	return merged(out)
}

var routings = []string{design.RoutingBGP, design.RoutingStatic, design.RoutingSelectors}

// hubVPNShapes are the VPNs to a hub: a link that is attached there.
func hubVPNShapes(books *allocation.Books, a, b side, q Options) []Shape {
	if a.is(design.KindHub) && (!b.is(design.KindHub) || design.Slug(a.cloud) == design.Slug(b.cloud)) {
		a, b = b, a
	}
	var out []Shape
	for _, routing := range routings {
		kind := ""
		if b.profile != nil {
			for _, v := range b.profile.VPN {
				if slices.Contains(v.At, string(design.KindHub)) && kind == "" {
					kind = v.Name
				}
			}
		}
		s := newShape("vpn-"+routing+"-"+kind, vpnTitle(routing, kind)+", attached to "+b.party.Name)
		f := draft(books, &s, q)
		switch {
		case b.profile == nil || kind == "":
			f.out("%s", b.without("VPN gateway for a hub"))
		case a.is(design.KindNetwork) && design.Slug(a.cloud) == design.Slug(b.cloud):
			f.out("%s is in the hub's own cloud, and is attached to it directly", a.party.Name)
		case a.is(design.KindHub) && design.Slug(a.cloud) == design.Slug(b.cloud):
			f.out("both hubs are in %s, which joins them inside", a.cloud)
		default:
			s = attached(books, s, b.party, []side{a}, q, routing)
		}
		out = append(out, s)
	}
	return merged(out)
}

func vpnTitle(routing, kinds string) string {
	if kinds == "" {
		return "VPN with " + routingWords[routing]
	}
	return "VPN with " + routingWords[routing] + ", " + kinds + " gateway"
}

// merged keeps one of several shapes that are out for one and the same reason.
func merged(shapes []Shape) []Shape {
	seen := map[string]bool{}
	return slices.DeleteFunc(shapes, func(s Shape) bool {
		why := strings.Join(s.Out, "; ")
		if why == "" {
			return false
		}
		defer func() { seen[why] = true }()
		return seen[why]
	})
}

func noGateway(s side) string {
	switch s.party.Kind {
	case design.KindSite:
		return s.party.Name + " has no gateway with a public address; give one its address in Estate"
	case design.KindEdgeRouter:
		return s.party.Name + " is an edge router, which has circuits only"
	}
	return s.without("VPN gateway for a " + string(s.party.Kind))
}

// waits reports whether an end leaves it to the other to start.
func (e end) waits() bool { return e.vpn != nil && e.vpn.FarStarts }

func (e end) kindWord() string {
	if e.vpn == nil {
		return ""
	}
	return e.vpn.Name
}

func vpnShape(books *allocation.Books, a, b end, routing string, q Options) Shape {
	d := books.Design()
	kinds := strings.Join(
		slices.DeleteFunc([]string{a.kindWord(), b.kindWord()}, func(s string) bool { return s == "" }), " and ",
	)
	s := newShape("vpn-"+routing+"-"+design.Slug(kinds), vpnTitle(routing, kinds))
	f := draft(books, &s, q)
	ike, esp, _ := f.agreed(a, b, routing)
	if l := joined(d, a.gateway, b.gateway); l != nil {
		f.out("%s joins them already", l.Name)
	}
	if len(s.Out) == 0 {
		f.vpn(a, b, routing, ike, esp, q)
	}
	return s
}

// agreed are the proposals that two ends have in common; ok is false, and the reasons noted, if they
// have none or one of them does no such routing.
func (f *drafter) agreed(a, b end, routing string) (ike, esp []string, ok bool) {
	for _, e := range []end{a, b} {
		if !slices.Contains(e.routing(), routing) {
			f.out(
				"the %s gateway of %s does %s only", e.vpn.Name, e.cloud, joinWords(mapped(e.routing(), routingWords)),
			)
		}
	}
	ikeA, espA := a.proposals(f.design)
	ikeB, espB := b.proposals(f.design)
	ike, esp = negotiate.Common(negotiate.IKE, ikeA, ikeB), negotiate.Common(negotiate.ESP, espA, espB)
	if len(ike) == 0 || len(esp) == 0 {
		f.out("the two ends have no proposal in common: %s against %s", joinWords(ikeA), joinWords(ikeB))
	}
	return ike, esp, len(f.shape.Out) == 0
}

func mapped(list []string, words map[string]string) []string {
	out := make([]string, len(list))
	for n, w := range list {
		out[n] = words[w]
	}
	return out
}

// joined is a link that exists between two gateways.
func joined(d *design.Design, a, b *design.Object) *design.Object {
	if a == nil || b == nil {
		return nil
	}
	for _, l := range d.Of(design.KindLink) {
		if _, far, _, ok := l.Body.(*design.Link).End(a.ID); ok && far.Gateway == b.ID && status.Exists(l) {
			return l
		}
	}
	return nil
}

// vpn drafts the link with everything in it.
func (f *drafter) vpn(a, b end, routing string, ike, esp []string, q Options) *design.Object {
	if a.waits() && b.waits() {
		f.out(
			"a %s gateway of %s and a %s one of %s both wait for the other end to start, so that nobody would",
			a.kindWord(), a.cloud, b.kindWord(), b.cloud,
		)
		return nil
	}
	f.gateway(&a, routing)
	f.gateway(&b, routing)
	if len(f.shape.Out) > 0 {
		return nil
	}
	exportsA, _ := apart(a.exports, b.exports)
	exportsB, _ := apart(b.exports, a.exports)
	link := f.between(a, b, routing, exportsA, exportsB)
	if link == nil {
		return nil
	}
	o := f.put(design.KindLink, "", a.party.Name+" to "+b.party.Name, link)
	f.suggest("IKE proposals", joinWords(ike), "what both ends can do, strongest first")
	f.suggest("ESP proposals", joinWords(esp), "what both ends can do, strongest first")
	n := f.tunnels(o, a, b, routing)
	f.exempt(a.gateway, o)
	f.exempt(b.gateway, o)
	f.suggest(
		"Pre-shared keys", words.Count(n, "key", "keys"),
		"256 bits from the system's random source, one for each tunnel; made when first shown or handed over",
	)
	f.sideWork(a, b, exportsB)
	f.sideWork(b, a, exportsA)
	if w := fixedStatic(a, b, routing); w != "" {
		f.suggest(
			"Beware", "fixed ranges",
			"%s can not change the static ranges of a tunnel once it is made: choose ranges with room, or use BGP", w,
		)
	}
	f.costs("VPN link", cost.Monthly(linkHour(a))+cost.Monthly(linkHour(b)))
	for _, e := range []end{a, b} {
		if e.profile != nil {
			f.costs(fmt.Sprintf("%d GB out of %s", q.GB/2, e.cloud), cost.Volume(e.profile.Prices.OutGB, q.GB/2))
		}
	}
	f.shape.Mbps = bandwidth(a, b, n, routing)
	f.shape.Survives, f.shape.Fragile = survives(a, b, n)
	f.shape.Next = uint32(3 + max(len(a.tables), len(b.tables)))
	f.shape.NextWhy = "a gateway, a link and the far files for it, and an entry in each table that does not learn by " +
		"itself"
	f.done(o, a.side, b.side)
	return o
}

// between is the link with its selectors or routes; nil if nothing could pass.
func (f *drafter) between(a, b end, routing string, exportsA, exportsB []netip.Prefix) *design.Link {
	link := &design.Link{
		Routing: routing, Ends: []design.End{{Gateway: a.gateway.ID}, {Gateway: b.gateway.ID}},
	}
	if routing == design.RoutingSelectors {
		link.Ends[0].Local, link.Ends[0].Remote = exportsA, exportsB
		link.Ends[1].Local, link.Ends[1].Remote = exportsB, exportsA
		if (len(exportsA) == 0 || len(exportsB) == 0) && !f.translated {
			f.out("%s", needsTranslation(a.side, b.side))
			return nil
		}
		f.suggest(
			"Selectors", fmt.Sprintf("%s to %s", negotiate.Joined(exportsA), negotiate.Joined(exportsB)),
			"what the two ends hold, mirrored",
		)
	} else {
		for _, e := range []end{a, b} {
			if len(e.all) > 0 && len(e.exports) == 0 && !f.translated {
				f.out("%s", needsTranslation(a.side, b.side))
				return nil
			}
		}
		link.Ends[0].Routes, link.Ends[1].Routes = exportsB, exportsA
		if len(exportsA)+len(exportsB) == 0 {
			return link
		}
		f.suggest(
			"Routes", fmt.Sprintf("%s and %s", negotiate.Joined(exportsA), negotiate.Joined(exportsB)),
			"what the two ends hold; selectors are everything, and routes decide",
		)
	}
	return link
}

// Collides reports whether a reason against a shape is that ranges collide.
func Collides(why string) bool { return strings.Contains(why, collided) }

const collided = "collides, so that neither could name the other's"

// needsTranslation says that two can be joined only when their ranges are made known as others.
func needsTranslation(a, b side) string {
	return fmt.Sprintf(
		"what %s and %s have %s; joined and translated at once, they can talk", a.party.Name, b.party.Name, collided,
	)
}

func fixedStatic(a, b end, routing string) string {
	for _, e := range []end{a, b} {
		if routing != design.RoutingBGP && e.vpn != nil && e.vpn.StaticFixed {
			return e.cloud
		}
	}
	return ""
}

func linkHour(e end) provider.Money {
	if e.profile == nil {
		return 0
	}
	return e.profile.Prices.LinkHour
}

// gateway reuses the party's gateway or drafts one.
func (f *drafter) gateway(e *end, routing string) {
	if e.gateway == nil {
		body := &design.Gateway{Addresses: []netip.Addr{}, VPN: e.vpn.Name}
		if e.vpn.OwnSubnet > 0 {
			subnet := f.gatewaySubnet(e)
			if subnet == nil {
				return
			}
			body.Subnet = subnet.ID
		}
		e.gateway = f.put(design.KindGateway, e.party.ID, e.vpn.Name+" gateway", body)
		f.builds(fmt.Sprintf("A new %s gateway in %s", e.vpn.Name, e.party.Name), e.gateway, false)
		f.step(
			e.party.Name, "Make the %s gateway and note its %s", e.vpn.Name,
			words.Count(int(e.vpn.Addresses), "public address", "public addresses"),
		)
		f.hourly("gateway in "+e.party.Name, e.profile.Prices.GatewayHour)
	} else {
		f.builds(fmt.Sprintf("The gateway %s", f.title(e.gateway.ID)), e.gateway, true)
	}
	if g := *e.gateway.Body.(*design.Gateway); routing == design.RoutingBGP && g.ASN == 0 {
		own := uint32(0)
		if hub, ok := e.party.Body.(*design.Hub); ok {
			own = hub.ASN
		}
		if g.ASN = f.asn(e.party.Name, own); g.ASN == 0 {
			return
		}
		if e.vpn != nil && e.vpn.ASNFixed {
			f.suggest("Beware", fmt.Sprint(g.ASN), "%s fixes the ASN when the gateway is made; set it then", e.cloud)
		}
		e.gateway = e.gateway.With(&g)
		f.replace(e.gateway)
	}
}

// gatewaySubnet drafts the subnet that a gateway wants for itself.
func (f *drafter) gatewaySubnet(e *end) *design.Object {
	network, ok := e.party.Body.(*design.Network)
	if !ok || len(e.tables) == 0 {
		f.out("%s has no route table for the gateway's own subnet; add one in Estate", e.party.Name)
		return nil
	}
	var used []netip.Prefix
	for _, s := range f.design.Inside(e.party.ID, design.KindSubnet) {
		used = append(used, f.design.Ranges(s.ID)...)
	}
	p, ok := prefix.Carve(network.Blocks, used, int(e.vpn.OwnSubnet))
	if !ok {
		f.out("%s has no free /%d for the subnet that its gateway wants for itself", e.party.Name, e.vpn.OwnSubnet)
		return nil
	}
	o := f.put(
		design.KindSubnet, e.party.ID, "gateway subnet", &design.Subnet{
			Prefixes: []netip.Prefix{p}, Table: e.tables[0].ID,
		},
	)
	f.builds(fmt.Sprintf("A subnet %s for the gateway", p), o, false)
	f.step(e.party.Name, "Make the subnet %s for the gateway alone", p)
	f.suggest(
		"Gateway subnet", p.String(), "%s wants one for itself, a /%d or larger; this is free in the block", e.cloud,
		e.vpn.OwnSubnet,
	)
	return o
}

// tunnels drafts the tunnels and sessions, and returns how many.
func (f *drafter) tunnels(link *design.Object, a, b end, routing string) int {
	addrA, addrB := a.addresses(), b.addresses()
	n := 1
	for _, e := range []end{a, b} {
		if e.vpn != nil {
			n = max(n, int(e.vpn.Tunnels))
		}
	}
	if a.vpn == nil && b.vpn == nil {
		n = min(2, max(len(addrA), len(addrB)))
	}
	var ranges []netip.Prefix
	if routing != design.RoutingSelectors {
		if ranges = f.inside(a.insideRule(), b.insideRule(), n); ranges == nil {
			return 0
		}
	}
	for k := range n {
		t := &design.Tunnel{Outside: []netip.Addr{addrA[k%len(addrA)], addrB[k%len(addrB)]}}
		if ranges != nil {
			low, high := hosts(ranges[k])
			t.Inside = []netip.Prefix{high, low} // a cloud's end, else the second, has the lower
			if a.vpn != nil && b.vpn == nil {
				t.Inside = []netip.Prefix{low, high}
			}
		}
		speaks := routing == design.RoutingBGP
		if speaks && slices.Contains(familiesOf(a.speaker(netip.Addr{}), b.speaker(netip.Addr{})), prefix.IPv6) {
			six, err := TakeInside6(f.books)
			if err != nil {
				f.out("%v", err)
				return 0
			}
			low, high := hosts(six)
			t.Inside6 = []netip.Prefix{high, low} // next hops of the IPv6 that its session carries
		}
		o := f.put(design.KindTunnel, link.ID, fmt.Sprintf("tunnel %d", k+1), t)
		if speaks {
			f.session(o.ID, a.speaker(t.Inside[0].Addr()), b.speaker(t.Inside[1].Addr()))
		}
	}
	f.builds(fmt.Sprintf("A VPN link with %s", words.Count(n, "tunnel", "tunnels")), link, false)
	if n > 1 {
		f.suggest("Tunnels", fmt.Sprint(n), "one that fails or is under maintenance leaves the other")
	}
	return n
}

func (e end) speaker(at netip.Addr) speaker {
	s := speaker{
		at: at, asn: e.gateway.Body.(*design.Gateway).ASN, owner: e.owner, all: e.all, exports: e.exports,
		transit: e.is(design.KindHub),
	}
	if e.vpn != nil {
		s.most, s.fixed = e.vpn.MaxRoutesIn, e.vpn.FiltersFixed
	}
	return s
}

// sideWork is what the administrator of e does besides the gateway.
func (f *drafter) sideWork(e, far end, learns []netip.Prefix) {
	if e.vpn == nil {
		f.step(e.party.Name, "Load the files from Handover on %s", f.title(e.gateway.ID))
		return
	}
	f.step(e.party.Name, "Make the link to %s with the values of the two-ended sheet", far.party.Name)
	f.enter(e.side, learns, e.gateway, "gateway")
}

// shares reports whether the tunnels of an end carry load together.
func (e end) shares(routing string) bool {
	if e.vpn == nil {
		return true
	}
	switch e.vpn.EqualCost {
	case "always":
		return true
	case "bgp":
		return routing == design.RoutingBGP
	case "hub-bgp":
		return routing == design.RoutingBGP && e.is(design.KindHub)
	}
	return false
}

func bandwidth(a, b end, tunnels int, routing string) uint32 {
	least := uint32(0)
	for _, e := range []end{a, b} {
		if e.vpn != nil && e.vpn.Mbps > 0 && (least == 0 || e.vpn.Mbps < least) {
			least = e.vpn.Mbps
		}
	}
	if a.shares(routing) && b.shares(routing) {
		return least * uint32(tunnels)
	}
	return least
}

func survives(a, b end, tunnels int) (string, bool) {
	if tunnels < 2 {
		return "nothing: there is one tunnel", true
	}
	var single []string
	for _, e := range []end{a, b} {
		if len(e.addresses()) < 2 {
			single = append(single, e.party.Name)
		}
	}
	if len(single) > 0 {
		return fmt.Sprintf("one tunnel or cloud address; not the one address of %s", joinWords(single)), false
	}
	return "one tunnel, and one address at either end", false
}

func linkFacts(f *Facts, d *design.Design, o *design.Object) {
	b := o.Body.(*design.Link)
	f.between(d, b.Ends[0].Gateway, b.Ends[1].Gateway)
	f.Shape, f.Tunnels = "VPN, "+routingWords[b.Routing], len(d.Tunnels(o.ID))
	x, y := endOf(d, b.Ends[0].Gateway), endOf(d, b.Ends[1].Gateway)
	f.Mbps = bandwidth(x, y, f.Tunnels, b.Routing)
	f.Survives, f.Fragile = survives(x, y, f.Tunnels)
	f.add("VPN link", cost.Monthly(linkHour(x)+linkHour(y)))
}
