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
)

// FlowBetween is the flow from an object (an endpoint, LAN, subnet or party) to
// another, dialled as the source knows it.
func FlowBetween(t *route.Tables, from, to design.ID, s design.Service) (Flow, error) {
	d := t.Design
	if o := d.Get(from); o != nil && o.Kind == design.KindInternet {
		return flowFromInternet(t, to, s)
	}
	if o := d.Get(from); o != nil && o.Kind == design.KindListener {
		return flowFromListener(t, o, s)
	}
	if o := d.Get(from); o != nil && slices.Contains(Boxes, o.Kind) {
		return FlowFromBox(t, from, "", to, s)
	}
	if o := d.Get(to); o != nil && slices.Contains(Boxes, o.Kind) {
		return FlowToBox(t, from, to, s)
	}
	var last error
	for _, f := range prefix.Families {
		h, err := HostOf(d, from, f)
		if err != nil {
			last = err
			continue
		}
		target, err := HostOf(d, to, f)
		if err == nil {
			return FlowOf(t, h, target, s), nil
		}
		last = err
		if _, other := HostOf(d, to, 1-f); other == nil {
			last = fmt.Errorf(
				"%s and %s have no address family in common; give one of them an address of the other's", d.Title(from),
				d.Title(to),
			)
		}
	}
	return Flow{}, last
}

// FlowOf is the flow from a host to another, dialled as the source knows it.
func FlowOf(t *route.Tables, from, target Host, s design.Service) Flow {
	a := SeenAs(t, from.Place, target.Place, target.Address).Address
	return published(t, Flow{From: from, To: a, Meant: target.id(), Service: s})
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
	if open, _ := Opened(t, f, netip.Prefix{}, netip.Prefix{}); open.Works {
		return f // only filters are in its way
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
func HostOf(d *design.Design, id design.ID, f prefix.Family) (Host, error) {
	o := d.Get(id)
	if o == nil {
		return Host{}, fmt.Errorf(
			"one of the ends is not in this design; choose an endpoint, a LAN, a subnet or a party",
		)
	}
	switch o.Kind {
	case design.KindEndpoint:
		for _, a := range o.Body.(*design.Endpoint).Addresses {
			if f.Has(a) {
				return Host{Place: o.Parent, Endpoint: o.ID, Address: a}, nil
			}
		}
	case design.KindLAN, design.KindInnerRoute, design.KindSubnet:
		for _, e := range d.Inside(id, design.KindEndpoint) {
			if h, err := HostOf(d, e.ID, f); err == nil {
				return h, nil
			}
		}
		for _, p := range d.Ranges(id) {
			if f.Has(p.Addr()) {
				return Host{Place: id, Address: prefix.FirstHost(p)}, nil
			}
		}
	case design.KindSite, design.KindNetwork:
		for _, place := range d.Inside(id, design.HostPlaces...) {
			if h, err := HostOf(d, place.ID, f); err == nil {
				return h, nil
			}
		}
	default:
		return Host{}, fmt.Errorf(
			"a packet can neither start nor end at the %s %q; choose an endpoint, a LAN, a subnet or a party", o.Kind,
			o.Name,
		)
	}
	return Host{}, fmt.Errorf("%s has no %s address; give it an endpoint or a range", d.Title(id), f)
}

// flowEnds are the kinds between which a person may ask for a flow.
var flowEnds = append([]design.Kind{
	design.KindEndpoint, design.KindLAN, design.KindInnerRoute, design.KindSubnet, design.KindSite, design.KindNetwork,
}, Boxes...)

// flowStarts are the kinds at which one may begin: the internet and published services, too.
var flowStarts = append([]design.Kind{design.KindInternet, design.KindListener}, flowEnds...)

// ParseFlow reads a flow as a person gives it: from a party, LAN, subnet or
// host (a path or name) to one of these or an address. An address is taken to mean
// the one declared endpoint that has it, if there is exactly one.
func ParseFlow(t *route.Tables, from, to string, s design.Service) (Flow, error) {
	d := t.Design
	from, by, _ := strings.Cut(from, " via ")
	source, err := one(d, from, "from", flowStarts...)
	if err != nil {
		return Flow{}, err
	}
	var joint design.ID
	if by != "" {
		o, err := one(d, by, "via", design.JointKinds...)
		if err != nil {
			return Flow{}, err
		}
		joint = o.ID
	}
	if source.Kind == design.KindInternet {
		return parseFromInternet(t, source.ID, to, s)
	}
	a, err := netip.ParseAddr(to)
	if err != nil {
		target, err := one(d, to, "to", append([]design.Kind{design.KindListener}, flowEnds...)...)
		if err != nil {
			return Flow{}, err
		}
		if l, ok := target.Body.(*design.Listener); ok {
			return ParseFlow(t, from, l.Address.String(), l.Service)
		}
		if joint != "" {
			return FlowFromBox(t, source.ID, joint, target.ID, s)
		}
		return FlowBetween(t, source.ID, target.ID, s)
	}
	if slices.Contains(Boxes, source.Kind) {
		own := t.Sends(source.ID, a)
		if !linux(d, source.ID) || !own.IsValid() {
			return Flow{}, fmt.Errorf("%s has no address of its own from which it could dial %s", d.Title(source.ID), a)
		}
		return Flow{From: Host{Box: source.ID, Address: own.Addr}, To: a, Meant: meantBy(t, a, s), Service: s}, nil
	}
	h, err := HostOf(d, source.ID, prefix.FamilyOf(a))
	if err != nil {
		return Flow{}, err
	}
	return Flow{From: h, To: a, Meant: meantBy(t, a, s), Service: s}, nil
}

// meantBy is the endpoint that an address alone can mean: the only declared
// one that has it under any name.
func meantBy(t *route.Tables, a netip.Addr, s design.Service) design.ID {
	var found design.ID
	for _, b := range bearers(t, a) {
		e := endpointAt(t.Design, b.place, b.real)
		if e == "" || publishedOtherwise(t.Design, e, a, s) {
			continue
		}
		if found != "" {
			return ""
		}
		found = e
	}
	return found
}

// publishedOtherwise reports whether an address leads to an endpoint by a published service alone, and not by the one
// that is asked for.
func publishedOtherwise(d *design.Design, endpoint design.ID, a netip.Addr, s design.Service) bool {
	other := false
	for _, o := range LeadingTo(d, endpoint) {
		if l := o.Body.(*design.Listener); l.Address == a {
			if l.Service == s {
				return false
			}
			other = true
		}
	}
	return other
}

func one(d *design.Design, text, what string, kinds ...design.Kind) (*design.Object, error) {
	found := d.Find(text, kinds...)
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) == 0 && len(d.Find(text)) > 0:
		o := d.Find(text)[0]
		return nil, fmt.Errorf(
			"%s: %s is a %s, where a packet can neither start nor end; give a host, LAN, subnet, party or box, such as %s",
			what, d.Title(o.ID), design.Word(o.Kind), example(d, kinds),
		)
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

// HomeOf is the place of an endpoint, or what was given.
func HomeOf(d *design.Design, id design.ID) design.ID {
	if o := d.Get(id); o != nil && o.Kind == design.KindEndpoint {
		return o.Parent
	}
	return id
}
