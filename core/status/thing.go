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

// ParseThing reads what is to be taken away: a public address of a gateway, a
// zone, or the path or name of an object.
func ParseThing(d *design.Design, text string) (Thing, error) {
	text = strings.TrimSpace(text)
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
