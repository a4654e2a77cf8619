package fill

import (
	"slices"

	"dravin/core/design"
	"dravin/core/negotiate"
)

// Suggestions are values that the fields of an object could be given, best first,
// by key. The object need not be in the design.
func Suggestions(d *design.Design, o *design.Object) map[string][]Value {
	out := map[string][]Value{}
	add := func(key, value, why string) {
		if value != "" && !slices.ContainsFunc(out[key], func(v Value) bool { return v.Value == value }) {
			out[key] = append(out[key], Value{value, why})
		}
	}
	for _, f := range design.Outline(o.Kind) {
		switch {
		case f.Key == "prefixes" || f.Key == "blocks" || f.Key == "prefix" && o.Kind == design.KindReservation:
			if p, why, err := Range(d, Wanted{Kind: o.Kind, Parent: o.Parent}); err == nil {
				add(f.Key, p.String(), why)
			}
		case f.Key == "addresses" && o.Kind == design.KindEndpoint:
			if a, why, err := Host(d, o.Parent); err == nil {
				add(f.Key, a.String(), why)
			}
		case f.Key == "asn" && f.Type == design.TypeNumber:
			if v, err := ASN(d); err == nil {
				add(f.Key, v.Value, v.Why)
			}
		case f.Key == "cloud":
			for _, p := range d.Profiles() {
				add(f.Key, p.Name, "its profile is known")
			}
		case f.Key == "region":
			for _, r := range regionsOf(d, o) {
				add(f.Key, r, "a region of the cloud")
			}
		case f.Key == "zone" && o.Kind == design.KindSubnet:
			zone, why := Zone(d, o.Parent)
			add(f.Key, zone, why)
			for _, z := range zonesOf(d, o.Parent) {
				add(f.Key, z, "a zone of the network's region")
			}
		case f.Key == "vpn":
			if p := d.ProfileOf(o.Parent); p != nil {
				for _, v := range p.VPN {
					add(f.Key, v.Name, "a kind of the cloud's VPN gateways")
				}
			}
		case f.Key == "ike" || f.Key == "esp":
			list := negotiate.Strong.IKE
			if f.Key == "esp" {
				list = negotiate.Strong.ESP
			}
			for _, p := range list {
				add(f.Key, p, "strong")
			}
		case f.Key == "group":
			for _, i := range d.Of(design.KindIntent) {
				add(f.Key, i.Body.(*design.Intent).Group, "other intents are in it")
			}
		}
	}
	return out
}

func regionsOf(d *design.Design, o *design.Object) []string {
	p := d.Profile(design.CloudOf(o))
	if p == nil {
		return nil
	}
	var out []string
	for _, r := range p.Regions {
		out = append(out, r.Name)
	}
	return out
}
