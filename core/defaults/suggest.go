package defaults

import (
	"slices"

	"dravin/core/design"
	"dravin/core/negotiate"
)

// Suggestions are values that the fields of an object could be given, best first,
// by key. The object need not be in the design.
func (f *Filler) Suggestions(o *design.Object) map[string][]Value {
	d := f.design
	out := map[string][]Value{}
	add := func(key, value, why string) {
		if value != "" && !slices.ContainsFunc(out[key], func(v Value) bool { return v.Value == value }) {
			out[key] = append(out[key], Value{value, why})
		}
	}
	for _, field := range design.Outline(o.Kind) {
		switch {
		case field.Key == "prefixes" || field.Key == "blocks" ||
			field.Key == "prefix" && o.Kind == design.KindReservation:
			if p, why, err := f.Range(Wanted{Kind: o.Kind, Parent: o.Parent}); err == nil {
				add(field.Key, p.String(), why)
			}
		case field.Key == "addresses" && o.Kind == design.KindEndpoint:
			if a, why, err := f.Host(o.Parent); err == nil {
				add(field.Key, a.String(), why)
			}
		case field.Key == "addresses" && o.Kind == design.KindBox:
			if a, why, err := f.BoxHost(o.Parent); err == nil {
				add(field.Key, a.String(), why)
			}
		case field.Key == "address" && o.Kind == design.KindListener:
			if a, why, err := f.ListenerHost(o.Body.(*design.Listener).At); err == nil {
				add(field.Key, a.String(), why)
			}
		case field.Key == "asn" && field.Type == design.TypeNumber:
			if v, err := f.ASN(); err == nil {
				add(field.Key, v.Value, v.Why)
			}
		case field.Key == "cloud":
			for _, p := range d.Profiles() {
				add(field.Key, p.Name, "its profile is known")
			}
		case field.Key == "region":
			for _, r := range regionsOf(d, o) {
				add(field.Key, r, "a region of the cloud")
			}
		case field.Key == "zone" && o.Kind == design.KindSubnet:
			zone, why := f.Zone(o.Parent)
			add(field.Key, zone, why)
			for _, z := range zonesOf(d, o.Parent) {
				add(field.Key, z, "a zone of the network's region")
			}
		case field.Key == "vpn":
			if p := d.ProfileOf(o.Parent); p != nil {
				for _, v := range p.VPN {
					add(field.Key, v.Name, "a kind of the cloud's VPN gateways")
				}
			}
		case field.Key == "ike" || field.Key == "esp":
			list := negotiate.Strong.IKE
			if field.Key == "esp" {
				list = negotiate.Strong.ESP
			}
			for _, p := range list {
				add(field.Key, p, "strong")
			}
		case field.Key == "group":
			for _, body := range design.Each[design.Intent](d.Of(design.KindIntent)) {
				add(field.Key, body.Group, "other intents are in it")
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
