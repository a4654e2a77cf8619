package translate

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/proof"
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/walk"
)

// carry makes one way carry two lists of ranges: theirs from its beginning to its
// end, ours back; by every joint that stands beside another, so that what survives a
// failure still does.
func (e *editor) carry(path []hop, ours, theirs []netip.Prefix) {
	for n, h := range path {
		for _, x := range e.beside(h) {
			e.across(x, ours, theirs)
			e.across(x.Back(), theirs, ours)
			if n+1 == len(path) {
				continue
			}
			for _, y := range e.beside(path[n+1]) {
				e.passOn(x, y, theirs)
				e.passOn(y.Back(), x.Back(), ours)
			}
		}
	}
}

// beside are the joints of the same two parties as a hop's, itself first.
func (e *editor) beside(h hop) []hop {
	out := []hop{h}
	for _, x := range e.near.Near(h.From) {
		if x.To == h.To && x.By != h.By {
			out = append(out, x)
		}
	}
	return out
}

// endAt is which end of a link or circuit belongs to a party.
func (e *editor) endAt(joint, party design.ID) int {
	j, _ := design.JointOf(e.get(joint))
	if e.party(j.Ends[1]) == party {
		return 1
	}
	return 0
}

// letPass lets the filters of the sessions over a joint pass what one end announces.
func (e *editor) letPass(joint *design.Object, from int, ranges []netip.Prefix) {
	if len(ranges) == 0 {
		return
	}
	for _, id := range e.learnedOn(joint.ID) {
		o := e.get(id.ID)
		s := design.Session{Ends: slices.Clone(o.Body.(*design.Session).Ends)}
		s.Ends[from].Out = passing(s.Ends[from].Out, ranges)
		s.Ends[1-from].In = passing(s.Ends[1-from].In, ranges)
		if design.Same(o, o.With(&s)) {
			continue
		}
		j, _ := design.JointOf(joint)
		for end := range s.Ends {
			e.put(
				o.With(&s), Routes, e.party(j.Ends[end]), o.ID, "let the session of %s pass %s", joint.Name, ranges[0],
			)
		}
	}
}

// passing adds ranges to a filter; an empty one passes everything of its own
// already.
func passing(filter []design.Filter, ranges []netip.Prefix) []design.Filter {
	if len(filter) == 0 {
		return filter
	}
	var added []design.Filter
	for _, p := range ranges {
		if !design.Lets(filter, p) {
			added = append(added, design.Filter{Prefix: p})
		}
	}
	return append(added, filter...)
}

// passOn lets what stands between two joints pass on what comes from behind the
// second: an edge router or site by its filters, a network by tables for what enters.
func (e *editor) passOn(from, to hop, theirs []netip.Prefix) {
	o := e.get(from.To)
	if o.Kind == design.KindNetwork {
		e.transit(from, to, theirs)
		return
	}
	if o.Kind != design.KindEdgeRouter && o.Kind != design.KindSite {
		return
	}
	// What is learned behind is announced only where the filter names it.
	for _, s := range e.learnedOn(from.By) {
		e.announceAlso(s.ID, e.endAt(from.By, from.To), from, theirs)
	}
}

// announceAlso puts ranges that are not a speaker's own into a filter that names
// nothing yet, beside what is.
func (e *editor) announceAlso(session design.ID, n int, h hop, ranges []netip.Prefix) {
	o := e.get(session)
	if len(ranges) == 0 {
		return
	}
	s := design.Session{Ends: slices.Clone(o.Body.(*design.Session).Ends)}
	if len(s.Ends[n].Out) > 0 || settings.FiltersFixed(e.design, o, n) {
		return // letPass has seen to it, or nobody can
	}
	own := e.design.Exports(h.To)
	if e.design.Get(h.To).Kind == design.KindEdgeRouter {
		own = nil
	}
	for _, p := range slices.Concat(own, ranges) {
		s.Ends[n].Out = append(s.Ends[n].Out, design.Filter{Prefix: p})
	}
	if len(s.Ends[n].Out) > 0 {
		e.put(o.With(&s), Routes, h.To, o.ID, "announce %s over %s", ranges[0], e.get(h.By).Name)
	}
}

// enter adds entries to every table of a cloud network whose hosts' packets need
// them: none where the cloud feeds its tables itself.
func (e *editor) enter(party, via design.ID, ranges []netip.Prefix) {
	o := e.design.Get(party)
	if o == nil || o.Kind != design.KindNetwork {
		return
	}
	for _, t := range append(e.design.Inside(party, design.KindTable), e.fresh(party, design.KindTable)...) {
		if only, ok := e.only[party]; ok && t.ID != only {
			continue
		}
		way := via
		if b := e.boxed[party]; b != nil && slices.Contains(b.of, t.ID) {
			way = b.box
		}
		if topology.Fed(e.design, t, e.get(way).Kind) {
			continue
		}
		for _, p := range ranges {
			if !slices.ContainsFunc(
				e.design.Ranges(party), func(own netip.Prefix) bool { return prefix.Contains(own, p) },
			) {
				e.wish(t, p, way)
			}
		}
	}
}

// edges are the gateways of a party's place with the links and circuits that end
// there: where it can be translated toward others; empty, with the reason, where
// it can not be.
func (e *editor) edges(place design.ID, does string) (out []edge, why string) {
	party := e.design.Party(place)
	var gateways []*design.Object
	if lan, ok := e.design.Get(place).Body.(*design.LAN); ok && len(lan.Gateways) > 0 {
		for _, id := range lan.Gateways {
			gateways = append(gateways, e.design.Get(id))
		}
	} else {
		gateways = e.design.Inside(party.ID, design.KindGateway)
	}
	why = e.design.Title(place) + " has no link or circuit at which it could be translated"
	for _, g := range gateways {
		if party.Kind != design.KindSite && !offers(e.design, party.ID, does) {
			why = e.design.Title(g.ID) + " does no such translation: its cloud has no rule of the kind there"
			continue
		}
		for _, j := range e.design.JointsAt(g.ID) {
			if routed(j) {
				out = append(out, edge{g.ID, j.ID})
			}
		}
	}
	return out, why
}

type edge struct{ gateway, joint design.ID }

// routed reports whether a joint is a link or circuit that takes up its place.
func routed(j design.Joint) bool {
	return topology.BetweenBoxes(j.Kind) && status.Exists(j.Object)
}

func offers(d *design.Design, party design.ID, does string) bool {
	p := d.ProfileOf(party)
	return p != nil && slices.Contains(p.Translation.Gateway, does)
}

// mapPlace maps a place one to one at all its edges, and puts the mapped ranges in
// the place of the real ones in what the joints say of it.
func (e *editor) mapPlace(place design.ID) ([]netip.Prefix, error) {
	o := e.design.Get(place)
	party := e.design.Party(place).ID
	edges, why := e.edges(place, design.OneToOne)
	if len(edges) == 0 {
		return nil, fmt.Errorf("%s", why)
	}
	var out []netip.Prefix
	for _, real := range e.design.Ranges(place) {
		mapped, err := e.pool.take(prefix.FamilyOf(real.Addr()), real.Bits())
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", e.design.Title(place), real, err)
		}
		out = append(out, mapped)
		e.spent = append(e.spent, mapped)
		e.why = append(e.why, fmt.Sprintf("%s becomes %s: %s.", real, mapped, e.pool.why))
		e.maps = append(e.maps, Pair{Place: place, Title: e.design.Title(place), Real: real, Mapped: mapped})
		for _, x := range edges {
			joint := e.get(x.joint)
			m := &design.Mapping{Gateway: x.gateway, Link: x.joint, Real: real, Mapped: mapped}
			name := fmt.Sprintf("%s as %s toward %s", o.Name, mapped, joint.Name)
			id := design.IDFor(design.KindMapping, string(place)+string(x.joint)+string(x.gateway)+real.String())
			e.put(&design.Object{ID: id, Kind: design.KindMapping, Name: name, Body: m}, Rules, party, x.gateway,
				"at %s map %s to %s toward %s", e.design.Get(x.gateway).Name, real, mapped, joint.Name)
			e.replace(joint, x, real, mapped)
		}
	}
	return out, nil
}

// refilter lets the sessions over a joint announce and take a mapped range instead
// of the real one.
func (e *editor) refilter(joint *design.Object, n int, real, mapped netip.Prefix) {
	j, _ := design.JointOf(joint)
	for _, id := range topology.SessionsOf(e.design, joint) {
		o := e.get(id.ID)
		s := design.Session{Ends: slices.Clone(o.Body.(*design.Session).Ends)}
		fixed := settings.FiltersFixed(e.design, o, n)
		if len(s.Ends[n].Out) == 0 && !fixed { // it announced everything of its own
			for _, p := range e.design.Exports(e.party(j.Ends[n])) {
				s.Ends[n].Out = append(s.Ends[n].Out, design.Filter{Prefix: p})
			}
			s.Ends[n].Out = passing(s.Ends[n].Out, []netip.Prefix{mapped})
		}
		s.Ends[n].Out = without(s.Ends[n].Out, real, mapped)
		s.Ends[1-n].In = without(s.Ends[1-n].In, real, mapped)
		for end := range s.Ends {
			e.put(
				o.With(&s), Routes, e.party(j.Ends[end]), o.ID, "let the session of %s pass %s instead of %s",
				joint.Name, mapped, real,
			)
		}
	}
}

// without is a filter in which a mapped range stands for the real one.
func without(filter []design.Filter, real, mapped netip.Prefix) []design.Filter {
	var out []design.Filter
	for _, f := range filter {
		t := prefix.TranslatePrefix(f.Prefix, real, mapped)
		if f.Prefix.IsValid() && t.IsValid() && f.Does() == design.Accept {
			f.Prefix, f.From, f.To = t, 0, 0
		}
		if !slices.ContainsFunc(out, func(x design.Filter) bool { return design.SameFilter(x, f) }) {
			out = append(out, f)
		}
	}
	return out
}

// Flow is what shall work between two places: LANs, inner routes or subnets.
type Flow struct{ From, To design.ID }

// Carried are the edits, with what they mean for each party, that make flows known all along their
// shortest ways, there and back, under the names that their ends have now. The joints that are
// avoided are no ways. Whether the flows work then is for a proof to say.
func Carried(p *proof.Proofs, flows []Flow, avoid ...design.ID) ([]design.Edit, []Change) {
	d := p.Tables().Design
	near := topology.Parties(d, func(o *design.Object) bool {
		return status.Exists(o) && !slices.Contains(avoid, o.ID)
	})
	pl := &planner{
		proofs: p, tables: p.Tables(), design: d, near: near, boxed: boxedAlready(d),
		names: map[[2]design.ID][]netip.Prefix{}, scope: &scope{design: d},
	}
	ways := map[design.ID]map[design.ID]hop{}
	for _, f := range flows {
		n := need{from: walk.HomeOf(d, f.From), to: walk.HomeOf(d, f.To)}
		n.fromParty, n.toParty = d.Party(n.from).ID, d.Party(n.to).ID
		if ways[n.fromParty] == nil {
			ways[n.fromParty] = near.Ways(n.fromParty)
		}
		n.path = topology.Way(ways[n.fromParty], n.fromParty, n.toParty)
		pl.scope.needs = append(pl.scope.needs, n)
	}
	e := newEditor(d, newPool(d, nil))
	e.near, e.boxed = near, pl.boxed
	pl.open(e, mapped{}, nil)
	edits := e.edits()
	return edits, e.changes
}
