package server

import (
	"net/netip"
	"reflect"
	"slices"

	"dravin/core/design"
	"dravin/core/overlap"
	"dravin/core/sheet"
	"dravin/core/status"
)

// Estate is what the picture shows.
type Estate struct {
	Parties []EstateParty `json:"parties"`
	Links   []EstateLink  `json:"links"`
	Ties    []EstateTie   `json:"ties"`
}

// EstateParty is a site, a cloud network, a hub, an edge router or an outside
// party.
type EstateParty struct {
	ID       design.ID     `json:"id"`
	Kind     design.Kind   `json:"kind"`
	Name     string        `json:"name"`
	Where    string        `json:"where" doc:"Cloud and region; empty for a site."`
	Region   string        `json:"region" doc:"The cloud's region; empty for a site."`
	Owner    string        `json:"owner" doc:"Who answers for it; empty: nobody said."`
	Segments []string      `json:"segments" doc:"The segments of its ranges, by name."`
	Gateways int           `json:"gateways"`
	Ranges   []EstateRange `json:"ranges"`
}

// EstateRange is a LAN, a subnet or a mapped range of a party.
type EstateRange struct {
	ID     design.ID    `json:"id"`
	Kind   design.Kind  `json:"kind"`
	Name   string       `json:"name"`
	Prefix netip.Prefix `json:"prefix"`
	Fixed  bool         `json:"fixed,omitempty"`
}

// EstateLink joins two parties.
type EstateLink struct {
	ID      design.ID       `json:"id"`
	Kind    design.Kind     `json:"kind" doc:"link, circuit, peering or attachment."`
	Name    string          `json:"name"`
	A       design.ID       `json:"a"`
	B       design.ID       `json:"b"`
	Shape   string          `json:"shape" doc:"What it is, in words."`
	Routing string          `json:"routing" doc:"Of a link: static, selectors or bgp."`
	Tunnels int             `json:"tunnels"`
	Up      int             `json:"up" doc:"How many of the tunnels are up at the horizon asked for."`
	State   string          `json:"state" enum:"planned,waiting-for-the-other-half,being-built,ready,refused,gone"`
	Status  status.Verdict  `json:"status"`
	Verdict sheet.Agreement `json:"verdict" doc:"The worst of its lines."`
}

// EstateTie joins two ranges that collide.
type EstateTie struct {
	Group    string         `json:"group"`
	Weight   overlap.Weight `json:"weight"`
	A        design.ID      `json:"a"`
	B        design.ID      `json:"b"`
	Sentence string         `json:"sentence"`
}

// maxTies bounds what the picture draws; Overlaps has them all.
const maxTies = 400

func estateOf(v *solved) Estate {
	d := v.design
	e := Estate{Parties: []EstateParty{}, Links: []EstateLink{}, Ties: []EstateTie{}}
	at := map[design.ID]int{}
	for n, o := range d.Inside("", design.Parties...) {
		e.Parties = append(e.Parties, partyOf(d, o))
		at[o.ID] = n
	}
	for _, c := range overlap.Claims(d) {
		if c.Kind == design.KindMapping {
			p := &e.Parties[at[c.Party]]
			p.Ranges = append(p.Ranges, EstateRange{ID: c.Owner, Kind: c.Kind, Name: "mapped", Prefix: c.Prefix})
		}
	}
	for j := range d.Joints() {
		if l := estateLink(v, j.Object); l.A != l.B && l.State != design.Gone {
			e.Links = append(e.Links, l)
		}
	}
	for _, g := range v.groups() {
		// A tie for each neighbour in the group shows who is in it without
		// drawing every pair.
		for n := 1; n < len(g.Claims); n++ {
			a, b := g.Claims[n-1], g.Claims[n]
			if a.Party != b.Party && a.Party != "" && b.Party != "" && len(e.Ties) < maxTies {
				e.Ties = append(
					e.Ties, EstateTie{Group: g.Key, Weight: g.Weight, A: a.Owner, B: b.Owner, Sentence: g.Sentence},
				)
			}
		}
	}
	return e
}

func estateLink(v *solved, o *design.Object) EstateLink {
	r := rowOf(v, o, func(design.ID) [2]string { return [2]string{} })
	l := EstateLink{
		ID: o.ID, Kind: o.Kind, Name: r.Name, A: r.Facts.A, B: r.Facts.B, Shape: r.Facts.Shape,
		Tunnels: r.Facts.Tunnels, State: r.State, Verdict: r.Verdict, Status: r.Status,
	}
	for _, t := range v.design.Inside(o.ID, design.KindTunnel) {
		if v.tables().Status.Of(t.ID).Up {
			l.Up++
		}
	}
	if o.Kind != design.KindLink && l.Status.Up {
		l.Up = 1
	}
	if b, ok := o.Body.(*design.Link); ok {
		l.Routing = b.Routing
	}
	return l
}

func partyOf(d *design.Design, o *design.Object) EstateParty {
	p := EstateParty{
		ID: o.ID, Kind: o.Kind, Name: o.Name, Gateways: len(d.Inside(o.ID, design.KindGateway)),
		Ranges: []EstateRange{},
	}
	if owner := d.Get(design.OwnerOf(o)); owner != nil {
		p.Owner = owner.Name
	}
	p.Segments = segmentsOf(d, o)
	if n, ok := o.Body.(*design.Network); ok {
		p.Where, p.Region = n.Cloud, n.Region
		if n.Region != "" {
			p.Where += ", " + n.Region
		}
		for _, b := range n.Blocks {
			p.Ranges = append(p.Ranges, EstateRange{ID: o.ID, Kind: o.Kind, Name: "block", Prefix: b})
		}
	}
	switch b := o.Body.(type) {
	case *design.Hub:
		p.Where, p.Region = b.Cloud, b.Region
		if b.Region != "" {
			p.Where += ", " + b.Region
		}
	case *design.EdgeRouter:
		p.Where = b.Exchange
	}
	if outside, ok := o.Body.(*design.Outside); ok {
		for _, r := range outside.Prefixes {
			p.Ranges = append(p.Ranges, EstateRange{ID: o.ID, Kind: o.Kind, Name: "range", Prefix: r})
		}
	}
	for _, place := range d.Inside(o.ID, design.KindLAN, design.KindInnerRoute, design.KindSubnet) {
		lan, _ := place.Body.(*design.LAN)
		for _, r := range d.Ranges(place.ID) {
			p.Ranges = append(
				p.Ranges,
				EstateRange{
					ID: place.ID, Kind: place.Kind, Name: place.Name, Prefix: r, Fixed: lan != nil && lan.Fixed,
				},
			)
		}
	}
	return p
}

// segmentsOf names the segments that a party or anything in it is in.
func segmentsOf(d *design.Design, party *design.Object) []string {
	out := []string{}
	for _, o := range append(d.Inside(party.ID, design.HostPlaces...), party) {
		if s := d.Get(d.SegmentOf(o.ID)); s != nil && !slices.Contains(out, s.Name) {
			out = append(out, s.Name)
		}
	}
	return out
}

// typeOf is the type of a value, or of what it points to.
func typeOf(v any) reflect.Type {
	t := reflect.TypeOf(v)
	if t.Kind() == reflect.Pointer {
		return t.Elem()
	}
	return t
}
