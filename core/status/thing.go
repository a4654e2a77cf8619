package status

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
)

// CanFail are the kinds of objects that can be taken away.
var CanFail = []design.Kind{
	design.KindSite,
	design.KindNetwork,
	design.KindHub,
	design.KindEdgeRouter,
	design.KindOutside,
	design.KindGateway,
	design.KindBox,
	design.KindLink,
	design.KindTunnel,
	design.KindSession,
	design.KindCircuit,
	design.KindPeering,
	design.KindAttachment,
}

// ParseThings reads several by [ParseThing]. The error is that of the first that can not be read.
func ParseThings(d *design.Design, texts []string) (out []Thing, err error) {
	for _, text := range texts {
		t, err := ParseThing(d, text)
		if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, nil
}

// ParseThing reads what is to be taken away: a public address of a gateway, a
// zone, or the ID, path or name of an object.
func ParseThing(d *design.Design, text string) (Thing, error) {
	text = strings.TrimSpace(text)
	if o := d.Get(design.ID(text)); o != nil && slices.Contains(CanFail, o.Kind) {
		return Thing{Object: o.ID}, nil
	}
	if a, err := netip.ParseAddr(text); err == nil {
		for _, body := range design.Each[design.Gateway](d.Of(design.KindGateway)) {
			if body.Owns(a) {
				return Thing{Address: a}, nil
			}
		}
		return Thing{}, fmt.Errorf("%s is no gateway's public address; give one that a gateway has", a)
	}
	if slices.ContainsFunc(zones(d), func(z string) bool { return strings.EqualFold(z, text) }) {
		return Thing{Zone: text}, nil
	}
	found := d.Find(text, CanFail...)
	switch len(found) {
	case 1:
		return Thing{Object: found[0].ID}, nil
	case 0:
		return Thing{}, fmt.Errorf(
			"nothing that can fail is called %q; give the path of a party, gateway, link, tunnel, session, circuit, "+
				"peering or attachment, a zone, or a gateway's public address",
			text,
		)
	}
	paths := make([]string, 0, 5)
	for _, o := range found[:min(len(found), 5)] {
		paths = append(paths, string(o.Kind)+" "+d.Path(o.ID))
	}
	return Thing{}, fmt.Errorf("%q may be %s; give the whole path", text, strings.Join(paths, " or "))
}

// zones are all zones that anything is in.
func zones(d *design.Design) []string {
	var out []string
	for _, body := range design.Each[design.Subnet](d.Of(design.KindSubnet)) {
		out = append(out, body.Zone)
	}
	for _, body := range design.Each[design.Circuit](d.Of(design.KindCircuit)) {
		for _, e := range body.Ends {
			out = append(out, e.Zone)
		}
	}
	return slices.DeleteFunc(out, func(z string) bool { return z == "" })
}

// Affected are the objects whose own standing depends on whether things are taken away: an object with all that is
// inside it, what is in a zone, the tunnels that end on an address.
func Affected(d *design.Design, things []Thing) []design.ID {
	var out []design.ID
	for _, t := range things {
		switch {
		case t.Object != "":
			out = append(out, within(d, t.Object)...)
		case t.Zone != "":
			out = append(out, inZone(d, t.Zone)...)
		default:
			for _, o := range d.Of(design.KindTunnel) {
				if slices.Contains(d.OutsideOf(o), t.Address) {
					out = append(out, o.ID)
				}
			}
		}
	}
	return out
}

// within are an object and all that is inside it.
func within(d *design.Design, id design.ID) []design.ID {
	out := []design.ID{id}
	for n := 0; n < len(out); n++ {
		for _, o := range d.Inside(out[n], design.KindsInside(d.Get(out[n]).Kind)...) {
			out = append(out, o.ID)
		}
	}
	return out
}

// inZone are the subnets of a zone with all that is in them, and the circuits that end in it.
func inZone(d *design.Design, zone string) (out []design.ID) {
	for o, b := range design.Each[design.Subnet](d.Of(design.KindSubnet)) {
		if strings.EqualFold(b.Zone, zone) {
			out = append(out, within(d, o.ID)...)
		}
	}
	for o, b := range design.Each[design.Circuit](d.Of(design.KindCircuit)) {
		if slices.ContainsFunc(b.Ends, func(e design.CircuitEnd) bool { return strings.EqualFold(e.Zone, zone) }) {
			out = append(out, o.ID)
		}
	}
	return out
}

// Title names what is taken away.
func (t Thing) Title(d *design.Design) string {
	switch {
	case t.Object != "":
		o := d.Get(t.Object)
		if parent := d.Get(o.Parent); parent != nil && d.Party(o.ID) == nil { // of a link or circuit
			return Thing{Object: parent.ID}.Title(d) + ", " + o.Name
		}
		return d.Title(t.Object)
	case t.Zone != "":
		return "the zone " + t.Zone
	}
	return "the address " + t.Address.String()
}

// Titles name what is taken away, each by itself.
func Titles(d *design.Design, things []Thing) []string {
	out := make([]string, len(things))
	for n, t := range things {
		out[n] = t.Title(d)
	}
	return out
}

// Text is what [ParseThing] reads as it.
func (t Thing) Text(d *design.Design) string {
	switch {
	case t.Object != "":
		return d.Path(t.Object)
	case t.Zone != "":
		return t.Zone
	}
	return t.Address.String()
}

// Single are all things that may fail alone, by kind: what [CanFail] lists, but for parties, then the addresses of
// gateways that have several, then zones.
func Single(d *design.Design) []Thing {
	var out []Thing
	for _, k := range CanFail {
		for _, o := range d.Of(k) {
			if !slices.Contains(design.Parties, k) || k == design.KindHub || k == design.KindEdgeRouter {
				out = append(out, Thing{Object: o.ID})
			}
		}
	}
	for _, b := range design.Each[design.Gateway](d.Of(design.KindGateway)) {
		for _, a := range b.Addresses {
			if len(b.Addresses) > 1 {
				out = append(out, Thing{Address: a})
			}
		}
	}
	all := zones(d)
	slices.Sort(all)
	for _, z := range slices.Compact(all) {
		out = append(out, Thing{Zone: z})
	}
	return out
}
