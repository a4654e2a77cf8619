package walk

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// Name is an address under which something is known.
type Name struct {
	Address netip.Addr  `json:"address"`
	Mapping design.ID   `json:"mapping,omitempty"` // empty: the real address
	Link    design.ID   `json:"link,omitempty"`    // the mapping's link
	Parties []design.ID `json:"parties"`           // who sees it by this name
	Seen    string      `json:"seen"`              // the parties in words
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
func Identities(d *design.Design, a netip.Addr) []Identity {
	out := []Identity{}
	add := func(party design.ID, real netip.Addr) {
		for _, o := range d.Inside(party, places...) {
			known := slices.ContainsFunc(out, func(i Identity) bool { return i.Place == o.ID && i.Real == real })
			if !known && within(d.Ranges(o.ID), real) {
				out = append(out, identify(d, o, real))
			}
		}
	}
	for _, party := range d.Inside("", design.KindSite, design.KindNetwork) {
		add(party.ID, a)
	}
	for _, o := range d.Of(design.KindMapping) {
		if m := o.Body.(*design.Mapping); m.Mapped.Contains(a) {
			add(d.Party(m.Gateway).ID, prefix.Translate(a, m.Mapped, m.Real))
		}
	}
	return out
}

// IdentityOf returns an endpoint with all the names of one of its addresses.
func IdentityOf(d *design.Design, endpoint *design.Object, a netip.Addr) Identity {
	return identify(d, d.Get(endpoint.Parent), a)
}

func identify(d *design.Design, place *design.Object, real netip.Addr) Identity {
	id := Identity{Place: place.ID, Real: real, Title: d.Title(place.ID), Endpoint: endpointAt(d, place.ID, real)}
	if id.Endpoint != "" {
		id.Title = placeOf(d, id.Endpoint).Title
	}
	party := d.Party(place.ID)
	others := reachable(d, party.ID, "")
	var mapped []Name
	for _, o := range d.Of(design.KindMapping) {
		m := o.Body.(*design.Mapping)
		if d.Party(m.Gateway) != party || !m.Real.Contains(real) {
			continue
		}
		beyond := reachable(d, party.ID, m.Link)
		others = slices.DeleteFunc(others, func(p design.ID) bool { return slices.Contains(beyond, p) })
		mapped = append(mapped, Name{Address: prefix.Translate(real, m.Real, m.Mapped), Mapping: o.ID, Link: m.Link, Parties: beyond, Seen: partyWords(d, beyond)})
	}
	own := append([]design.ID{party.ID}, others...)
	id.Names = append([]Name{{Address: real, Parties: own, Seen: partyWords(d, own)}}, mapped...)
	return id
}

// reachable lists the parties that can be reached from a party, in canonical
// order: over the one join first, or over any if it is empty. The party itself
// is not passed again.
func reachable(d *design.Design, party, first design.ID) []design.ID {
	seen := map[design.ID]bool{party: true}
	queue, joins := []design.ID{party}, d.Joins()
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, j := range joins {
			a, b := j.A, j.B
			if b == at {
				a, b = b, a
			}
			if a == at && !seen[b] && (at != party || first == "" || j.By == first) {
				seen[b] = true
				queue = append(queue, b)
			}
		}
	}
	out := []design.ID{}
	for _, o := range d.Inside("", design.KindSite, design.KindNetwork) {
		if seen[o.ID] && o.ID != party {
			out = append(out, o.ID)
		}
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

// Dial is the address by which an endpoint is known to a party: a mapped one
// where the party is beyond a mapping, else the real one of the wanted family.
func Dial(d *design.Design, party design.ID, endpoint *design.Object, v4 bool) netip.Addr {
	for _, a := range endpoint.Body.(*design.Endpoint).Addresses {
		if a.Is4() != v4 {
			continue
		}
		for _, n := range IdentityOf(d, endpoint, a).Names {
			if slices.Contains(n.Parties, party) {
				return n.Address
			}
		}
		return a
	}
	return netip.Addr{}
}

// FlowBetween is the flow from an object (an endpoint, LAN, subnet or party) to
// an endpoint, dialled as the source knows it.
func FlowBetween(d *design.Design, from, to design.ID, s design.Service) (Flow, error) {
	target := d.Get(to)
	if target == nil || target.Kind != design.KindEndpoint {
		return Flow{}, fmt.Errorf("%s is not an endpoint; choose a host", d.Title(to))
	}
	var last error
	for _, v4 := range []bool{true, false} {
		h, err := HostOf(d, from, v4)
		if err != nil {
			last = err
			continue
		}
		if a := Dial(d, d.Party(h.Place).ID, target, v4); a.IsValid() {
			return Flow{From: h, To: a, Meant: to, Service: s}, nil
		}
		last = fmt.Errorf("%s and %s have no address family in common; give one of them an address of the other's", d.Title(from), d.Title(to))
	}
	return Flow{}, last
}

// HostOf picks the host that stands for an object: the endpoint itself, the
// first endpoint of a LAN, subnet or party, or the first address a host may
// have there.
func HostOf(d *design.Design, id design.ID, v4 bool) (Host, error) {
	o := d.Get(id)
	if o == nil {
		return Host{}, fmt.Errorf("the source is not in this design; choose an endpoint, a LAN, a subnet or a party")
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
		for _, place := range d.Inside(id, places...) {
			if h, err := HostOf(d, place.ID, v4); err == nil {
				return h, nil
			}
		}
	default:
		return Host{}, fmt.Errorf("a packet can not start at the %s %q; choose an endpoint, a LAN, a subnet or a party", o.Kind, o.Name)
	}
	return Host{}, fmt.Errorf("%s has no %s address to start from; give it an endpoint or a range", d.Title(id), familyWord(v4))
}

func familyWord(v4 bool) string {
	if v4 {
		return "IPv4"
	}
	return "IPv6"
}

// ParseFlow reads a flow as a person gives it: from a party, LAN, subnet or
// host (a path or name) to a host or an address. An address is taken to mean
// the one declared endpoint that has it, if there is exactly one.
func ParseFlow(t *route.Tables, from, to string, s design.Service) (Flow, error) {
	d := t.Design
	source, err := one(d, from, "from", design.KindEndpoint, design.KindLAN, design.KindInnerRoute, design.KindSubnet, design.KindSite, design.KindNetwork)
	if err != nil {
		return Flow{}, err
	}
	a, err := netip.ParseAddr(to)
	if err != nil {
		target, err := one(d, to, "to", design.KindEndpoint)
		if err != nil {
			return Flow{}, err
		}
		return FlowBetween(d, source.ID, target.ID, s)
	}
	h, err := HostOf(d, source.ID, a.Is4())
	if err != nil {
		return Flow{}, err
	}
	return Flow{From: h, To: a, Meant: meantBy(d, a), Service: s}, nil
}

// meantBy is the endpoint that an address alone can mean: the only declared
// one that has it under any name.
func meantBy(d *design.Design, a netip.Addr) design.ID {
	var found design.ID
	for _, i := range Identities(d, a) {
		if i.Endpoint == "" {
			continue
		}
		if found != "" {
			return ""
		}
		found = i.Endpoint
	}
	return found
}

func one(d *design.Design, text, what string, kinds ...design.Kind) (*design.Object, error) {
	found := d.Find(text, kinds...)
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) == 0:
		return nil, fmt.Errorf("%s: nothing in this design is called %q; give a path such as %s", what, text, example(d, kinds))
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
