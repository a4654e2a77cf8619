package walk

import (
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
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
	for _, l := range design.Each[design.Listener](t.Design.Of(design.KindListener)) {
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
	for _, body := range design.Each[design.Mapping](d.Of(design.KindMapping)) {
		add(body.Gateway)
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

// maxChain bounds how many published services lead to one another.
const maxChain = 32

// TargetOf is the host to which a published service leads in the end, or nil.
func TargetOf(d *design.Design, l *design.Listener) *design.Object {
	for range maxChain {
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
	for range maxChain {
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
		for o, body := range design.Each[design.Listener](design.InOrder(d.Referring(ids[n], design.KindListener))) {
			if body.Target == ids[n] && !slices.Contains(ids, o.ID) {
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
