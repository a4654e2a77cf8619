package plan

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/prefix"
	"dravin/core/walk"
)

// linkMends are what the ends of links send into them and what their selectors name, both ends at once; and what hides
// sources from who must tell them apart.
func linkMends(x around) (out []mend) {
	d := x.state.design()
	known := x.known()
	for _, o := range x.joints {
		l, ok := o.Body.(*design.Link)
		if !ok {
			continue
		}
		for n := range l.Ends {
			party := d.Party(l.Ends[n].Gateway)
			for _, p := range known {
				near := names(d, party, p)
				var now *design.Object
				text := ""
				switch {
				case l.Routing == design.RoutingStatic && !near && !slices.Contains(l.Ends[n].Routes, p):
					text = fmt.Sprintf("send %s into %s at %s", p, o.Name, party.Name)
					now = design.Edited(o, func(b *design.Link) { b.Ends[n].Routes = append(b.Ends[n].Routes, p) })
				case l.Routing == design.RoutingSelectors && near && !slices.Contains(l.Ends[n].Local, p):
					text = fmt.Sprintf("name %s of %s in the selectors of both ends of %s", p, party.Name, o.Name)
					now = design.Edited(o, func(b *design.Link) {
						b.Ends[n].Local = append(b.Ends[n].Local, p)
						b.Ends[1-n].Remote = append(b.Ends[1-n].Remote, p)
					})
				default:
					continue
				}
				out = append(out, x.at(o, text, design.PutEdit(now)))
			}
		}
	}
	return append(out, unhidingMends(x)...)
}

// names reports whether a party has a range: as its own, or as what one of its boxes maps into.
func names(d *design.Design, party *design.Object, p netip.Prefix) bool {
	if party == nil {
		return false
	}
	for _, place := range d.Inside(party.ID, design.HostPlaces...) {
		if slices.ContainsFunc(d.Ranges(place.ID), func(r netip.Prefix) bool { return prefix.Contains(r, p) }) {
			return true
		}
	}
	return slices.ContainsFunc(
		filter.MapsOf(d, party.ID), func(m [2]netip.Prefix) bool { return prefix.Contains(m[1], p) },
	)
}

// unhidingMends take away a rule that hides callers from who must tell them apart.
func unhidingMends(x around) (out []mend) {
	stop := x.result.Stop()
	if stop == nil || stop.Code != walk.CallersAlike {
		return nil
	}
	for _, o := range x.objects {
		g, ok := o.Body.(*design.Gateway)
		if !ok {
			continue
		}
		for n, r := range g.Translate {
			if r.Does == design.OwnAddress || r.Does == design.FromPool {
				now := design.Edited(o, func(b *design.Gateway) {
					b.Translate = slices.Delete(slices.Clone(b.Translate), n, n+1)
				})
				out = append(
					out, x.at(o, fmt.Sprintf("no longer hide %v at %s", r.Source, o.Name), design.PutEdit(now)),
				)
			}
		}
	}
	return out
}
