package route

import (
	"net/netip"
	"slices"

	"dravin/core/bgp"
	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/status"
	"dravin/core/topology"
)

// Learned is what a session brought with a route (RFC 4271 section 5).
type Learned struct {
	Session     design.ID `json:"session"`
	Path        []uint32  `json:"path"` // AS path, the neighbour first
	Origin      string    `json:"origin"`
	LocalPref   uint32    `json:"local_pref"`
	MED         uint32    `json:"med"`
	Communities []string  `json:"communities"`
	NextHop     string    `json:"next_hop"`
	By          string    `json:"by"`     // the rule that beat the runner-up
	Chance      bool      `json:"chance"` // nothing that anybody chose decided
	Rivals      int       `json:"rivals"` // how many others there are
}

// learned gives a table what sessions brought, and marks what is expected and
// was not learned.
func (s *solver) learned(p *Point) {
	k := Key{p.ID, p.Segment}
	s.design.NoteLearned(k.String())
	for _, e := range s.tables.network.learn().Table(k.String()) {
		s.entryLearned(p, e)
	}
	s.expected(p)
}

// entryLearned puts one entry in, a route for each joint that it came by.
func (s *solver) entryLearned(p *Point, e bgp.Entry) {
	at := map[design.ID]int{}
	for _, r := range e.Routes {
		if r.Own() {
			continue
		}
		route := s.cameBy(p, r)
		route.Prefix = e.Prefix
		if n, ok := at[route.Hop.To]; ok { // another tunnel of the same link
			p.Routes[n].Tunnels = append(p.Routes[n].Tunnels, route.Tunnels...)
			continue
		}
		route.Learned.By, route.Learned.Chance, route.Learned.Rivals = e.By.String(), e.Chance, e.Rivals
		at[route.Hop.To] = len(p.Routes)
		p.add(route)
	}
}

// cameBy is a learned route as a row of a table.
func (s *solver) cameBy(p *Point, r *bgp.Route) Route {
	l := &Learned{
		Session: design.ID(r.Session.Key), Path: r.Path, Origin: r.Origin.String(), LocalPref: r.LocalPref, MED: r.MED,
		Communities: []string{},
	}
	if r.Path == nil {
		l.Path = []uint32{}
	}
	if r.NextHop.IsValid() {
		l.NextHop = r.NextHop.String()
	}
	for _, c := range r.Communities {
		l.Communities = append(l.Communities, c.String())
	}
	group := s.design.Get(design.ID(r.Session.Ends[r.End].Group))
	out := Route{Learned: l, Via: group.Name, Source: sourcesOf(group).learned, Hop: Into(group)}
	if session := s.design.Get(l.Session); session != nil && s.design.Get(session.Parent).Kind == design.KindTunnel {
		out.Tunnels = []design.ID{session.Parent}
	}
	if p.Kind != design.KindHubTable {
		return out
	}
	if !topology.BetweenBoxes(group.Kind) {
		out.Hop = attachedHop(s.design, group)
	} else if a := s.design.AttachmentOf(p.Party.ID, group.ID); a != nil {
		out.Source, out.Via = Hub, a.Name
	}
	return out
}

// expected notes what is expected at a table's joints and was not learned there:
// with what is down, where that is why.
func (s *solver) expected(p *Point) {
	for _, x := range s.awaited(p) {
		joint := s.design.Get(x.Joint)
		if !s.meets(p, x.Joint) || !status.Exists(joint) {
			continue // it is no part of the plan
		}
		if slices.ContainsFunc(p.Routes, func(r Route) bool { return r.Prefix == x.Prefix && r.Hop.To == x.Joint }) {
			continue
		}
		r := Route{Prefix: x.Prefix, Source: sourcesOf(joint).learned, Hop: Into(joint), Via: joint.Name}
		if v := topology.Brings(s.st, x.Joint, prefix.FamilyOf(x.Prefix.Addr())); v.Up {
			r.Expected, r.Unusable = Missing, "it is expected here and was not learned"
			if e, ok := s.tables.network.learn().Best(Key{p.ID, p.Segment}.String(), x.Prefix); ok && slices.ContainsFunc(
				e.Lost, func(l *bgp.Route) bool { return !l.Own() && l.Session.Ends[l.End].Group == string(x.Joint) },
			) {
				r.Expected, r.Unusable = Lost, "it was learned, and another goes before it: "+e.By.String()
			}
		} else {
			r.Down, r.Unusable = &v, v.Why
		}
		p.add(r)
	}
}

// awaited is what a table expects on sessions: its own, or of a hub's table those of the
// links and circuits that feed it.
func (s *solver) awaited(p *Point) []Expected {
	if p.Kind != design.KindHubTable {
		return ExpectedAt(s.design, p.ID)
	}
	var out []Expected
	for _, g := range s.design.Inside(p.Party.ID, design.KindGateway) {
		for _, x := range ExpectedAt(s.design, g.ID) {
			if a := s.design.AttachmentOf(p.Party.ID, x.Joint); a != nil &&
				slices.Contains(a.Body.(*design.Attachment).Feeds, p.ID) {
				out = append(out, x)
			}
		}
	}
	return out
}

// Expectation is what became of what is expected over a session that is up.
type Expectation string

// What becomes of it.
const (
	Missing Expectation = "missing" // it was not learned
	Lost    Expectation = "lost"    // it was learned, and another goes before it
)

// Expected is a range that somebody expects to learn over a joint.
type Expected struct {
	Joint  design.ID
	Prefix netip.Prefix
}

// ExpectedAt are the ranges that a box is expected to learn on its sessions.
func ExpectedAt(d *design.Design, box design.ID) []Expected {
	var out []Expected
	for _, o := range topology.At(d, box) {
		j, ok := design.JointOf(o)
		_, end, at := j.Far(box)
		if !ok || !at || !topology.Learns(d, o) {
			continue
		}
		for _, r := range topology.KindOf(o).Routes(d, o, end) {
			out = append(out, Expected{o.ID, r})
		}
	}
	return out
}

// boxRoutes are a site gateway's own entries. A next hop counts if the table has
// a way to it, at however many removes (RFC 4271 section 5.1.3 has the same rule
// for what is learned).
func (s *solver) boxRoutes(p *Point, list []design.BoxRoute) {
	for _, r := range list {
		if !r.Via.IsValid() {
			p.add(
				Route{
					Prefix: r.Prefix.Masked(), Source: Static, Hop: Hop{Kind: BlackHole}, Via: "black hole",
					entered: true,
				},
			)
		}
	}
	for _, r := range list {
		if r.Via.IsValid() {
			p.recursive = append(p.recursive, r)
		}
	}
}

// resolve finds the next hops of entries that name an address, once all else is
// in the table.
func (s *solver) resolve(p *Point) {
	left := p.recursive
	for again := true; again; {
		again = false
		var still []design.BoxRoute
		for _, r := range left {
			way, ok := p.way(r)
			if !ok {
				still = append(still, r)
				continue
			}
			way.Prefix, way.Source, way.Via, way.Learned, way.entered, way.NextHop = r.Prefix.Masked(), Static,
				r.Via.String()+", "+way.Via, nil, true, r.Via
			if way.Hop.Kind == Deliver {
				s.beside(p, &way, r.Via)
			}
			p.add(way)
			again = true
		}
		left = still
	}
	for _, r := range left {
		p.add(
			Route{
				Prefix: r.Prefix.Masked(), Source: Static, Hop: Hop{Kind: BlackHole}, Via: r.Via.String(),
				Unusable: "nothing in the table leads to its next hop " + r.Via.String(),
			},
		)
	}
}

// way is the longest usable route to an entry's next hop. The way to the
// internet leads to none.
func (p *Point) way(r design.BoxRoute) (best Route, ok bool) {
	for _, x := range p.Routes {
		if x.Unusable != "" || x.Source == Implied || x.Hop.Kind == BlackHole || !x.Prefix.Contains(r.Via) {
			continue
		}
		if !ok || x.Prefix.Bits() > best.Prefix.Bits() || x.Prefix.Bits() == best.Prefix.Bits() && slices.Index(
			p.preference, x.Source,
		) < slices.Index(p.preference, best.Source) {
			best, ok = x, true
		}
	}
	return best, ok
}

// less is a list without what is kept out of it.
func less(list, keepOut []netip.Prefix) []netip.Prefix {
	if len(keepOut) == 0 {
		return list
	}
	return prefix.Free(list, keepOut)
}
