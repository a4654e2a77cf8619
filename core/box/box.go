package box

import (
	"net/netip"
	"slices"

	"dravin/core/bgp"
	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// Box is one gateway or appliance of one's own, an edge router, or a cloud's gateway or table.
// The zero Box holds nothing.
type Box struct {
	ID    design.ID
	Kind  design.Kind // a gateway, a box, an edge router, or a table of a network or hub
	Name  string      // as in its party
	Title string      // as anywhere
	Linux bool        // it is one's own, and gets files

	Addresses []netip.Addr // public ones, in the order in which tunnels use them
	Stands    []netip.Addr // those that it has beside hosts
	RouterID  netip.Addr   // RFC 4271 section 1.1; invalid if it has none
	Shares    bool         // equal routes that it learns are used side by side
	LANs      []LAN        // in which it stands

	// Instances are its tables, that in which everything meets first.
	Instances []Instance
	Links     []*Link
	Circuits  []Circuit
	Sessions  []Session
	Summaries []design.Summary

	Rules     []Rule // translations, in their order; within a hook the first that fits is done
	Listeners []Listener
	Listens   []Answer // addresses that it must be given to listen on
	Among     []Answer // pools and mapped ranges among the addresses of hosts that it answers for
	Entries   []design.BoxRoute
	Crossings []Crossing
	Filters   []Filter // of one's own, what may pass it and what may come to it
	// Prepare are the lines for the shell of a fresh Debian machine, as root, that make one's own box ready for its files.
	Prepare []string
}

// LAN is a LAN in which a box stands.
type LAN struct {
	ID      design.ID
	Name    string
	Ranges  []netip.Prefix
	VLAN    uint16 // IEEE 802.1Q; 0 if untagged
	Segment design.ID
}

// Instance is one routing instance of a box.
type Instance struct {
	Segment design.ID // empty: that in which everything meets
	Number  int       // of its segment, for life; 0 of that in which everything meets
	Title   string    // the segment's
	Table   *route.Point
	// Announces is what it announces by itself, with what else a filter may let out.
	Announces []bgp.Originated
	// Prefers is the source of what the box sends into links and circuits itself, of IPv4 and
	// of IPv6; invalid where the design gives none.
	Prefers [2]netip.Addr
	// Behind are the ranges, by LAN, whose packets are in the segment by their source, since
	// their LAN is in none.
	Behind map[design.ID][]netip.Prefix
}

// Preferred is the instance's source of one family.
func (i *Instance) Preferred(f prefix.Family) netip.Addr { return i.Prefers[f] }

// Answer is a range that a box answers for beside hosts.
type Answer struct {
	Range  netip.Prefix
	Beside netip.Prefix // the range of the LAN or subnet in which it is; invalid if in none
}

// Idle reports whether nothing is asked of a box: it has not been handed anything yet.
func (b *Box) Idle() bool {
	return len(b.Circuits)+len(b.Rules)+len(b.Listeners)+len(b.Entries)+len(b.Filters) == 0 && len(b.Instances) < 2 &&
		!slices.ContainsFunc(b.Links, func(l *Link) bool { return len(l.Tunnels) > 0 })
}

// Main is the instance in which everything meets.
func (b *Box) Main() *Instance { return &b.Instances[0] }

// Link is the link of an ID at the box, or nil.
func (b *Box) Link(id design.ID) *Link {
	for _, l := range b.Links {
		if l.ID == id {
			return l
		}
	}
	return nil
}

// Fed are the entries that count and that come into a cloud's table by themselves, its network's
// own blocks apart; none of any other box.
func (b *Box) Fed() (out []route.Route) {
	if !slices.Contains(tables, b.Kind) {
		return nil
	}
	for _, r := range b.Main().Table.Routes {
		if r.Unusable == "" && r.Source != route.Static && r.Source != route.Local {
			out = append(out, r)
		}
	}
	return out
}

// Circuit is the circuit of an ID at the box, or nil.
func (b *Box) Circuit(id design.ID) *Circuit {
	for n := range b.Circuits {
		if b.Circuits[n].ID == id {
			return &b.Circuits[n]
		}
	}
	return nil
}

// Of resolves a gateway, box, edge router or table; nil if it is none.
func Of(t *route.Tables, id design.ID) *Box {
	d := t.Design
	o := d.Get(id)
	if o == nil || !slices.Contains(forwarding, o.Kind) {
		return nil
	}
	b := &Box{ID: id, Kind: o.Kind, Name: o.Name, Title: d.Title(id), Stands: design.StandsAt(o)}
	b.Linux = linux(d, o)
	switch body := o.Body.(type) {
	case *design.Gateway:
		b.Addresses, b.Entries, b.Summaries = body.Addresses, body.Routes, body.Summaries
	case *design.Box:
		b.Entries = body.Routes
	case *design.EdgeRouter:
		b.Summaries = body.Summaries
	}
	if o.Kind == design.KindGateway || o.Kind == design.KindEdgeRouter {
		b.RouterID, b.Shares = route.RouterID(d, id), t.Shares(id)
	}
	b.Instances = instances(t, o)
	if o.Kind == design.KindGateway && b.Linux {
		b.LANs = lans(d, o)
	}
	b.Links, b.Circuits = links(t, id), circuits(t, id)
	b.Sessions = sessions(t, o, b)
	b.Rules = rules(t, b)
	b.Listeners = listeners(t, b)
	b.Listens, b.Among = answers(d, o)
	if b.Linux {
		b.Filters, b.Crossings = filtersAt(t, id), crossings(t, b)
		b.Prepare = prepare(d, o)
	}
	return b
}

// linux reports whether a forwarding object is one's own box, which gets files.
func linux(d *design.Design, o *design.Object) bool {
	cloud := o.Kind == design.KindGateway && d.Get(o.Parent).Kind != design.KindSite
	return slices.Contains(forwarding, o.Kind) && !cloud && !slices.Contains(tables, o.Kind)
}

// tables are the kinds of boxes that are a table and nothing else.
var tables = []design.Kind{design.KindTable, design.KindHubTable}

// forwarding are the kinds of boxes.
var forwarding = append([]design.Kind{design.KindGateway, design.KindBox, design.KindEdgeRouter}, tables...)

// At are the boxes of a party: its gateways, its boxes, its tables, then the party itself where
// it is an edge router.
func At(t *route.Tables, party design.ID) []*Box {
	var out []*Box
	for _, k := range forwarding {
		for _, o := range t.Design.Inside(party, k) {
			out = append(out, Of(t, o.ID))
		}
	}
	if b := Of(t, party); b != nil {
		out = append(out, b)
	}
	return out
}

func instances(t *route.Tables, o *design.Object) []Instance {
	d := t.Design
	var out []Instance
	numbers := d.SegmentNumbers()
	for _, segment := range route.Instances(d, o) {
		i := Instance{
			Segment: segment, Number: numbers[segment], Table: t.PointIn(o.ID, segment),
			Behind: map[design.ID][]netip.Prefix{},
		}
		i.Announces = t.Announced(route.Key{At: o.ID, Segment: segment})
		i.Prefers = [2]netip.Addr{t.Preferred(i.Table, prefix.IPv4), t.Preferred(i.Table, prefix.IPv6)}
		if segment != "" {
			i.Title = d.Title(segment)
			for _, lan := range d.Inside(o.Parent, design.KindLAN) {
				if r := route.Behind(d, lan, segment); len(r) > 0 {
					i.Behind[lan.ID] = r
				}
			}
		}
		out = append(out, i)
	}
	return out
}

func lans(d *design.Design, gateway *design.Object) []LAN {
	var out []LAN
	for _, o := range route.LANsOf(d, gateway) {
		out = append(out, LAN{o.ID, o.Name, d.Ranges(o.ID), o.Body.(*design.LAN).VLAN, d.SegmentOf(o.ID)})
	}
	return out
}

// answers are what a box answers for beside its own addresses: those that it must be given
// to listen on, and its pools and mapped ranges among hosts.
func answers(d *design.Design, o *design.Object) (listens, among []Answer) {
	own := slices.Concat(design.StandsAt(o), route.InsideOf(d, o.ID))
	if g, ok := o.Body.(*design.Gateway); ok {
		own = append(own, g.Addresses...)
	}
	for _, body := range d.ListenersAt(o.ID) {
		a := body.Address
		if has := func(x Answer) bool { return x.Range.Addr() == a }; slices.Contains(own, a) ||
			slices.ContainsFunc(listens, has) {
			continue
		}
		listens = append(listens, Answer{prefix.Alone(a), beside(d, o, prefix.Alone(a))})
	}
	for _, r := range route.Among(d, o) {
		among = append(among, Answer{r, beside(d, o, r)})
	}
	return listens, among
}
