package walk

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/topology"
)

// Name is an address under which something is known.
type Name struct {
	Address netip.Addr `json:"address"`
	Mapping design.ID  `json:"mapping,omitempty"` // the mapping, or the box that lists the rule; empty: the real address
	Link    design.ID  `json:"link,omitempty"`    // the mapping's link or circuit
	// Listener is the published service of which it is the address, and Service
	// what is dialled there.
	Listener design.ID      `json:"listener,omitempty"`
	Service  design.Service `json:"service,omitzero"`
	Parties  []design.ID    `json:"parties"` // who sees it by this name
	Seen     string         `json:"seen"`    // the parties in words
}

// Identity is one bearer of an address, with all its names.
type Identity struct {
	Place    design.ID  `json:"place"`              // the LAN or subnet
	Endpoint design.ID  `json:"endpoint,omitempty"` // the declared host, if there is one
	Title    string     `json:"title"`
	Real     netip.Addr `json:"real"`
	Names    []Name     `json:"names"` // the real one first
}

// Identities returns everything that has an address as its real or mapped one.
func Identities(t *route.Tables, a netip.Addr) []Identity {
	out := []Identity{}
	for _, b := range bearers(t, a) {
		out = append(out, identify(t, t.Design.Get(b.place), b.real))
	}
	return out
}

// bearer is who has an address, and which it really is.
type bearer struct {
	place design.ID
	real  netip.Addr
}

// bearers are all that an address can mean: those who hold it, and those whose
// address is mapped to it.
func bearers(t *route.Tables, a netip.Addr) []bearer {
	var out []bearer
	add := func(b bearer) {
		if !slices.Contains(out, b) {
			out = append(out, b)
		}
	}
	for _, place := range t.Holders(a) {
		add(bearer{place, a})
	}
	for _, box := range Translators(t.Design) {
		for _, x := range arrivingOneToOne(t.Design, box) {
			if !x.Into.Contains(a) {
				continue
			}
			real := x.Mapped(a, true)
			for _, place := range t.Holders(real) {
				if t.Design.Party(place) == t.Design.Party(box) {
					add(bearer{place, real})
				}
			}
		}
	}
	for _, o := range t.Design.Of(design.KindListener) {
		l := o.Body.(*design.Listener)
		if e := TargetOf(t.Design, l); l.Address == a && e != nil {
			add(bearer{e.Parent, e.Body.(*design.Endpoint).Addresses[0]})
		}
	}
	return out
}

// Translators are the gateways and boxes that have a mapping, a published service
// or a rule.
func Translators(d *design.Design) []design.ID {
	var out []design.ID
	add := func(id design.ID) {
		if !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	for _, o := range d.Of(design.KindMapping) {
		add(o.Body.(*design.Mapping).Gateway)
	}
	for _, k := range forwarders {
		for _, o := range d.Of(k) {
			if len(design.RulesOf(o)) > 0 {
				add(o.ID)
			}
		}
	}
	return out
}

// arrivingOneToOne are the rules by which a box gives what it holds other names.
func arrivingOneToOne(d *design.Design, box design.ID) []route.Translation {
	return slices.DeleteFunc(
		route.Translations(d, box),
		func(x route.Translation) bool { return x.Hook != design.Prerouting || x.Does != design.OneToOne },
	)
}

// TargetOf is the host to which a published service leads in the end, or nil.
func TargetOf(d *design.Design, l *design.Listener) *design.Object {
	for range maxHops {
		o := d.Get(l.Target)
		next, ok := o.Body.(*design.Listener)
		if !ok {
			return o
		}
		l = next
	}
	return nil
}

// Answering is the service that the host at the end of a chain of listeners is
// asked for.
func Answering(d *design.Design, l *design.Listener) design.Service {
	_, port := d.DialOf(l)
	for range maxHops {
		next, ok := d.Get(l.Target).Body.(*design.Listener)
		if !ok {
			break
		}
		l = next
		_, port = d.DialOf(l)
	}
	return design.Service{Proto: l.Service.Proto, Port: port}
}

// LeadingTo are the published services that lead to a host, in canonical order.
func LeadingTo(d *design.Design, endpoint design.ID) []*design.Object {
	var out []*design.Object
	ids := []design.ID{endpoint}
	for n := 0; n < len(ids) && endpoint != ""; n++ {
		for _, o := range design.InOrder(d.Referring(ids[n], design.KindListener)) {
			if o.Body.(*design.Listener).Target == ids[n] && !slices.Contains(ids, o.ID) {
				ids, out = append(ids, o.ID), append(out, o)
			}
		}
	}
	return out
}

// NamesFor are the names under which one party's tables lead to an address of an
// endpoint: the mapped ones, then its own, then the services that are published of it,
// which are less than the host.
func NamesFor(t *route.Tables, viewer design.ID, endpoint *design.Object, a netip.Addr) []Name {
	d := t.Design
	own := d.Party(endpoint.ID)
	if viewer == own.ID {
		return []Name{{Address: a, Parties: []design.ID{}}}
	}
	var out []Name
	leading := func(names []Name) {
		for _, n := range names {
			if leadTo(t, viewer, n) {
				out = append(out, n)
			}
		}
	}
	leading(mappedNames(d, own, a))
	if leadsHome(t, viewer, endpoint.Parent, a) {
		out = append(out, Name{Address: a, Parties: []design.ID{}})
	}
	leading(listenerNames(d, endpoint.ID))
	return out
}

// IdentityOf returns an endpoint with all the names of one of its addresses.
func IdentityOf(t *route.Tables, endpoint *design.Object, a netip.Addr) Identity {
	return identify(t, t.Design.Get(endpoint.Parent), a)
}

func identify(t *route.Tables, place *design.Object, real netip.Addr) Identity {
	d := t.Design
	id := Identity{Place: place.ID, Real: real, Title: d.Title(place.ID), Endpoint: endpointAt(d, place.ID, real)}
	if id.Endpoint != "" {
		id.Title = placeOf(d, id.Endpoint).Title
	}
	own := d.Party(place.ID)
	names := append(mappedNames(d, own, real), listenerNames(d, id.Endpoint)...)
	real0 := Name{Address: real, Parties: []design.ID{own.ID}}
	for _, party := range d.Inside("", design.KindSite, design.KindNetwork) {
		if party.ID == own.ID {
			continue
		}
		if leadsHome(t, party.ID, place.ID, real) {
			real0.Parties = append(real0.Parties, party.ID)
		}
		for n := range names {
			if leadTo(t, party.ID, names[n]) {
				names[n].Parties = append(names[n].Parties, party.ID)
			}
		}
	}
	id.Names = append([]Name{real0}, names...)
	for n := range id.Names {
		id.Names[n].Seen = partyWords(d, id.Names[n].Parties)
	}
	return id
}

// mappedNames are the names that the mappings of a party give an address.
func mappedNames(d *design.Design, party *design.Object, real netip.Addr) []Name {
	out := []Name{}
	add := func(box design.ID, known netip.Addr) {
		for _, x := range arrivingOneToOne(d, box) {
			name := Name{Address: x.Mapped(known, false), Mapping: x.Of, Link: x.From, Parties: []design.ID{}}
			if name.Address.IsValid() && !slices.ContainsFunc(
				out, func(n Name) bool { return n.Address == name.Address && n.Link == name.Link },
			) {
				out = append(out, name)
			}
		}
	}
	for _, g := range d.Forwarders(party.ID) {
		add(g.ID, real)
	}
	first := append([]Name{{Address: real}}, out...)
	for _, b := range d.Of(design.KindBox) { // a second time, on the way
		for _, n := range first {
			if b.Parent != party.ID && !prefix.Has(d.Ranges(b.Parent), n.Address) {
				add(b.ID, n.Address)
			}
		}
	}
	return out
}

// listenerNames are the addresses of the published services that lead to a host; of a
// chain the first listener, which callers are meant to dial, before those that it leads
// to.
func listenerNames(d *design.Design, endpoint design.ID) []Name {
	var out []Name
	for _, o := range slices.Backward(LeadingTo(d, endpoint)) {
		l := o.Body.(*design.Listener)
		out = append(out, Name{Address: l.Address, Listener: o.ID, Service: l.Service, Parties: []design.ID{}})
	}
	return out
}

func partyWords(d *design.Design, ids []design.ID) string {
	if len(ids) == 0 {
		return "nobody"
	}
	words := make([]string, len(ids))
	for n, id := range ids {
		words[n] = d.Get(id).Name
	}
	return strings.Join(words, ", ")
}

// arrival is where the tables lead an address: to a LAN or subnet, or to a
// gateway that maps it.
type arrival struct {
	place   design.ID
	mapping design.ID
	link    design.ID // the last link crossed
	box     design.ID // it ends at a gateway, box or published service itself
}

// leads tells whether somebody who dials a name comes to what has it.
func (a arrival) leads(d *design.Design, n Name) bool {
	if n.Listener == "" {
		return a.mapping == n.Mapping
	}
	return a.box == n.Listener || a.box != "" && a.box == d.Get(n.Listener).Body.(*design.Listener).At
}

const maxHops = 32

// arrivals are where the tables lead an address from a party, LAN or subnet, once for
// each routing domain in which its hosts are: the same address may lead elsewhere in
// another.
func arrivals(t *route.Tables, viewer design.ID, a netip.Addr) []arrival {
	var out []arrival
	for _, from := range viewsOf(t.Design, viewer) {
		if at := arrives(t, from, a); !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out
}

// viewsOf are the places that see as a viewer does: itself, or of a site whose LANs are
// in several segments one LAN for each.
func viewsOf(d *design.Design, viewer design.ID) []design.ID {
	if d.Get(viewer).Kind != design.KindSite {
		return []design.ID{viewer}
	}
	var out []design.ID
	seen := map[design.ID]bool{}
	for _, place := range d.Inside(viewer, design.KindLAN, design.KindInnerRoute) {
		if s := d.SegmentOf(place.ID); !seen[s] {
			seen[s] = true
			out = append(out, place.ID)
		}
	}
	if len(out) < 2 {
		return []design.ID{viewer}
	}
	return out
}

// leadTo reports whether somebody who dials a name comes to what has it, from anywhere
// in a party, LAN or subnet.
func leadTo(t *route.Tables, viewer design.ID, n Name) bool {
	return slices.ContainsFunc(arrivals(t, viewer, n.Address), func(a arrival) bool { return a.leads(t.Design, n) })
}

// leadsHome reports whether a place is reached under a real address.
func leadsHome(t *route.Tables, viewer, place design.ID, a netip.Addr) bool {
	return slices.ContainsFunc(arrivals(t, viewer, a), func(at arrival) bool { return at.place == place })
}

// follower goes from point to point toward an address.
type follower struct {
	t       *route.Tables
	a       netip.Addr
	views   []netip.Prefix // where it comes from
	segment design.ID
	by      design.ID // the joint or place that it came by last
	out     arrival
}

// arrives follows the tables from a party, LAN or subnet toward an address, as they are meant:
// what happens to be down changes nobody's name, and what was refused or is gone was never meant.
func arrives(t *route.Tables, viewer design.ID, a netip.Addr) arrival {
	f := &follower{t: t, a: a, views: t.Design.Ranges(viewer)}
	if o := t.Design.Get(viewer); slices.Contains(design.HostPlaces, o.Kind) {
		f.segment = t.Design.SegmentOf(viewer)
	}
	at := firstPoint(t.Design, viewer)
	for range maxHops {
		p := t.PointIn(at, f.segment)
		if p == nil {
			return arrival{}
		}
		if f.mapped(p); f.out.mapping != "" {
			return f.out
		}
		if prefix.Has(p.Self, a) {
			f.out.box = p.ID
			return f.out
		}
		hop, tunnels, ok := meantHop(t, p, a)
		if !ok {
			return arrival{}
		}
		next, ended := f.onward(p, hop, tunnels)
		if ended {
			return f.out
		}
		at = next
	}
	return arrival{}
}

// mapped notes the one-to-one rule by which a point takes the address for another.
func (f *follower) mapped(p *route.Point) {
	for _, r := range p.Translations {
		from := r.From == "" || r.From == f.by
		mine := len(r.Source) == 0 || len(f.views) == 0 || slices.ContainsFunc(
			r.Source, func(s netip.Prefix) bool { return slices.ContainsFunc(f.views, s.Overlaps) },
		)
		if r.Hook == design.Prerouting && r.Does == design.OneToOne && from && mine && r.Into.Contains(f.a) {
			f.out.mapping = r.Of
			return
		}
	}
}

// onward takes the address to its next hop; ended says that it goes no further.
func (f *follower) onward(p *route.Point, hop route.Hop, tunnels []design.ID) (next design.ID, ended bool) {
	d := f.t.Design
	switch hop.Kind {
	case route.Deliver:
		f.out.place = hop.To
		if d.Get(hop.To).Kind == design.KindNetwork {
			if p.Kind == design.KindHubTable {
				if at := enteredFrom(d, p.Party.ID, hop.To, f.a); at != "" {
					return at, false
				}
			}
			f.out.place = ""
			if x := subnetOf(d, hop.To, f.a); x != nil {
				f.out.place = x.ID
			}
		}
		return f.delivered()
	case route.Gateway:
		f.by = hop.Through
		return hop.To, false
	}
	if e, ok := f.t.Edge(p, hop); ok {
		return f.across(e, tunnels), false
	}
	f.out = arrival{}
	return "", true
}

// delivered ends at a place, or goes on at a box that answers there for what it maps.
func (f *follower) delivered() (next design.ID, ended bool) {
	if f.out.place == "" {
		return "", true
	}
	f.out.box = f.t.Bearer(f.out.place, f.a)
	if o := f.t.Design.Get(f.out.box); o != nil && (o.Kind == design.KindBox || o.Kind == design.KindGateway) {
		f.by = f.out.place
		f.mapped(f.t.Point(o.ID))
	}
	return "", true
}

// across is the point at which an edge comes out; empty if at none.
func (f *follower) across(e topology.Edge, tunnels []design.ID) design.ID {
	d := f.t.Design
	to := d.Get(e.To)
	f.by, f.segment = e.Joint, e.Segment
	if to.Kind == design.KindGateway || to.Kind == design.KindEdgeRouter {
		f.out.link = e.Joint
		if len(tunnels) == 0 {
			for _, t := range d.Inside(e.Joint, design.KindTunnel) {
				tunnels = append(tunnels, t.ID)
			}
		}
		if len(tunnels) > 0 {
			f.segment = d.SegmentOf(tunnels[0])
		}
		if e.AtHub || e.Enters != "" { // its gateway translates, and another table routes
			if f.mapped(f.t.Point(e.To)); f.out.mapping != "" {
				return e.To
			}
			return e.Enters
		}
		return e.To
	}
	if e.Kind == design.KindAttachment {
		f.by = ""
		f.segment = ""
		return e.Enters
	}
	if e.Enters != "" {
		return e.Enters
	}
	if subnetOf(d, to.ID, f.a) != nil {
		return firstPoint(d, to.ID)
	}
	return f.t.Lent(to.ID, f.a)
}

// firstPoint is the forwarding point that the hosts of a LAN or subnet use first, or
// those of a party: in a cloud's network the table of a subnet that has named hosts,
// before one that stands empty or has boxes only.
func firstPoint(d *design.Design, viewer design.ID) design.ID {
	o := d.Get(viewer)
	if o.Kind == design.KindLAN || o.Kind == design.KindSubnet {
		return topology.Router(d, o)
	}
	first := design.ID("")
	for _, s := range d.Inside(viewer, design.KindSubnet) {
		table := s.Body.(*design.Subnet).Table
		if len(d.Inside(s.ID, design.KindEndpoint)) > 0 {
			return table
		}
		if first == "" {
			first = table
		}
	}
	if first != "" {
		return first
	}
	for _, k := range []design.Kind{design.KindTable, design.KindGateway} {
		for _, o := range d.Inside(viewer, k) {
			return o.ID
		}
	}
	return ""
}

// meantHop is where a point means to send an address, whether that is up or not. What
// was refused or is gone is not meant.
func meantHop(t *route.Tables, p *route.Point, a netip.Addr) (hop route.Hop, tunnels []design.ID, ok bool) {
	c := p.Lookup(a)
	best := c.Winner
	for n := range c.Losers {
		if l := &c.Losers[n]; l.Down != nil && meant(t.Design, l.Down) &&
			(best == nil || l.Prefix.Bits() > best.Prefix.Bits()) {
			best = l
		}
	}
	for _, s := range p.Selectors {
		if s.Remote.Contains(a) && (best == nil || best.Hop.Kind != route.Deliver) {
			return route.Hop{Kind: route.Tunnel, To: s.Link}, nil, true
		}
	}
	if best == nil || best.Down != nil && !meant(t.Design, best.Down) {
		return route.Hop{}, nil, false
	}
	return best.Hop, best.Tunnels, true
}

// meant reports whether something that is down is part of the plan all the same.
func meant(d *design.Design, v *status.Verdict) bool {
	o := d.Get(v.Subject)
	return v.Cause != status.NotAccepted && (o == nil || status.Exists(o))
}

// SeenAs is the name by which a party, or a LAN or subnet of it, knows an address of
// a LAN or subnet: the one under which the viewer's tables lead to it, a mapped one
// before the real one. If none does, it is the mapped one beyond the link that the
// party shares with it, or one that a box gives to everybody, else the real one.
func SeenAs(t *route.Tables, viewer, place design.ID, real netip.Addr) Name {
	d := t.Design
	owner, party := d.Party(place), d.Party(viewer).ID
	itself := Name{Address: real}
	if party == owner.ID {
		return itself
	}
	names := mappedNames(d, owner, real)
	for _, n := range names {
		if leadTo(t, viewer, n) {
			return n
		}
	}
	if len(names) == 0 || leadsHome(t, viewer, place, real) {
		return itself
	}
	for _, n := range names {
		if j, ok := design.JointOf(d.Get(n.Link)); ok {
			if x, y := d.PartiesOf(j); x == party || y == party {
				return n
			}
		}
	}
	for _, n := range names {
		if n.Link == "" { // a box gives it to whoever dials, once that is routed there
			return n
		}
	}
	return itself
}

// FlowBetween is the flow from an object (an endpoint, LAN, subnet or party) to
// another, dialled as the source knows it.
func FlowBetween(t *route.Tables, from, to design.ID, s design.Service) (Flow, error) {
	d := t.Design
	var last error
	for _, v4 := range []bool{true, false} {
		h, err := HostOf(d, from, v4)
		if err != nil {
			last = err
			continue
		}
		target, err := HostOf(d, to, v4)
		if err == nil {
			a := SeenAs(t, h.Place, target.Place, target.Address).Address
			return published(t, Flow{From: h, To: a, Meant: target.id(), Service: s}), nil
		}
		last = err
		if _, other := HostOf(d, to, !v4); other == nil {
			last = fmt.Errorf(
				"%s and %s have no address family in common; give one of them an address of the other's", d.Title(from),
				d.Title(to),
			)
		}
	}
	return Flow{}, last
}

// published is a flow as its source would dial it: where the host itself is not
// reached and a published service leads to it, that; of a chain the first listener,
// and what is in the caller's own range before all others.
func published(t *route.Tables, f Flow) Flow {
	all := LeadingTo(t.Design, f.Meant)
	if len(all) == 0 || Prove(t, f).Works {
		return f
	}
	slices.Reverse(all)
	slices.SortStableFunc(all, func(a, b *design.Object) int {
		beside := func(o *design.Object) int {
			if prefix.Has(t.Design.Ranges(f.From.Place), o.Body.(*design.Listener).Address) {
				return 0
			}
			return 1
		}
		return cmp.Compare(beside(a), beside(b))
	})
	var meant *Flow
	for _, o := range all {
		l := o.Body.(*design.Listener)
		if Answering(t.Design, l) != f.Service || l.Address.Is4() != f.From.Address.Is4() {
			continue
		}
		by := Flow{From: f.From, To: l.Address, Meant: f.Meant, Service: l.Service}
		if Prove(t, by).Works {
			return by
		}
		if meant == nil && leadTo(t, f.From.Place, Name{Address: l.Address, Listener: o.ID}) {
			meant = &by
		}
	}
	reached := slices.ContainsFunc(
		arrivals(t, f.From.Place, f.To),
		func(a arrival) bool { return a.mapping != "" || a.place == HomeOf(t.Design, f.Meant) },
	)
	if meant != nil && !reached {
		return *meant // it is what the source dials, though it does not answer now
	}
	return f
}

// HostOf picks the host that stands for an object: the endpoint itself, the
// first endpoint of a LAN, subnet or party, or the first address a host may
// have there.
func HostOf(d *design.Design, id design.ID, v4 bool) (Host, error) {
	o := d.Get(id)
	if o == nil {
		return Host{}, fmt.Errorf(
			"one of the ends is not in this design; choose an endpoint, a LAN, a subnet or a party",
		)
	}
	switch o.Kind {
	case design.KindEndpoint:
		for _, a := range o.Body.(*design.Endpoint).Addresses {
			if a.Is4() == v4 {
				return Host{Place: o.Parent, Endpoint: o.ID, Address: a}, nil
			}
		}
	case design.KindLAN, design.KindInnerRoute, design.KindSubnet:
		for _, e := range d.Inside(id, design.KindEndpoint) {
			if h, err := HostOf(d, e.ID, v4); err == nil {
				return h, nil
			}
		}
		for _, p := range d.Ranges(id) {
			if p.Addr().Is4() == v4 {
				return Host{Place: id, Address: prefix.FirstHost(p)}, nil
			}
		}
	case design.KindSite, design.KindNetwork:
		for _, place := range d.Inside(id, design.HostPlaces...) {
			if h, err := HostOf(d, place.ID, v4); err == nil {
				return h, nil
			}
		}
	default:
		return Host{}, fmt.Errorf(
			"a packet can neither start nor end at the %s %q; choose an endpoint, a LAN, a subnet or a party", o.Kind,
			o.Name,
		)
	}
	return Host{}, fmt.Errorf("%s has no %s address; give it an endpoint or a range", d.Title(id), familyWord(v4))
}

func familyWord(v4 bool) string {
	if v4 {
		return "IPv4"
	}
	return "IPv6"
}

// flowEnds are the kinds between which a person may ask for a flow.
var flowEnds = []design.Kind{
	design.KindEndpoint, design.KindLAN, design.KindInnerRoute, design.KindSubnet, design.KindSite, design.KindNetwork,
}

// ParseFlow reads a flow as a person gives it: from a party, LAN, subnet or
// host (a path or name) to one of these or an address. An address is taken to mean
// the one declared endpoint that has it, if there is exactly one.
func ParseFlow(t *route.Tables, from, to string, s design.Service) (Flow, error) {
	d := t.Design
	source, err := one(d, from, "from", flowEnds...)
	if err != nil {
		return Flow{}, err
	}
	a, err := netip.ParseAddr(to)
	if err != nil {
		target, err := one(d, to, "to", flowEnds...)
		if err != nil {
			return Flow{}, err
		}
		return FlowBetween(t, source.ID, target.ID, s)
	}
	h, err := HostOf(d, source.ID, a.Is4())
	if err != nil {
		return Flow{}, err
	}
	return Flow{From: h, To: a, Meant: meantBy(t, a), Service: s}, nil
}

// meantBy is the endpoint that an address alone can mean: the only declared
// one that has it under any name.
func meantBy(t *route.Tables, a netip.Addr) design.ID {
	var found design.ID
	for _, b := range bearers(t, a) {
		e := endpointAt(t.Design, b.place, b.real)
		if e == "" {
			continue
		}
		if found != "" {
			return ""
		}
		found = e
	}
	return found
}

func one(d *design.Design, text, what string, kinds ...design.Kind) (*design.Object, error) {
	found := d.Find(text, kinds...)
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) == 0:
		return nil, fmt.Errorf(
			"%s: nothing in this design is called %q; give a path such as %s", what, text, example(d, kinds),
		)
	}
	paths := make([]string, 0, 5)
	for _, o := range found[:min(len(found), 5)] {
		paths = append(paths, d.Path(o.ID))
	}
	return nil, fmt.Errorf("%s: %q may be %s; give the whole path", what, text, strings.Join(paths, " or "))
}

func example(d *design.Design, kinds []design.Kind) string {
	for _, k := range kinds {
		if all := d.Of(k); len(all) > 0 {
			return d.Path(all[0].ID)
		}
	}
	return "site/lan/host"
}

// RangeSeenAs is the range under which a party knows a range of a place, where it
// is mapped for it; invalid where it is known as it is.
func RangeSeenAs(t *route.Tables, party, place design.ID, p netip.Prefix) netip.Prefix {
	n := SeenAs(t, party, place, prefix.FirstHost(p))
	if n.Mapping == "" {
		return netip.Prefix{}
	}
	return netip.PrefixFrom(n.Address, p.Bits()).Masked()
}

// OtherNames are the names that an endpoint's address has beside itself, whoever
// sees them.
func OtherNames(t *route.Tables, endpoint *design.Object, a netip.Addr) []Name {
	return append(mappedNames(t.Design, t.Design.Party(endpoint.ID), a), listenerNames(t.Design, endpoint.ID)...)
}

// Viewers are the parties that reach something under the name that a mapping, or a
// rule of a box, gives it.
func Viewers(t *route.Tables, name netip.Addr, of design.ID) []design.ID {
	var out []design.ID
	for _, party := range t.Design.Inside("", design.KindSite, design.KindNetwork) {
		if leadTo(t, party.ID, Name{Address: name, Mapping: of}) {
			out = append(out, party.ID)
		}
	}
	return out
}

// HomeOf is the place of an endpoint, or what was given.
func HomeOf(d *design.Design, id design.ID) design.ID {
	if o := d.Get(id); o != nil && o.Kind == design.KindEndpoint {
		return o.Parent
	}
	return id
}
