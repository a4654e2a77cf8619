package box

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/topology"
)

// Assigned are the ranges in the subnets of its network that a cloud must give to a box beside the box's own addresses:
// where it listens, what it maps into and hides behind. A cloud delivers only what is assigned, whoever answers for it.
// There are none at anything but a box in a network.
func Assigned(d *design.Design, o *design.Object) (out []netip.Prefix) {
	x, ok := o.Body.(*design.Box)
	if !ok || d.Party(o.ID).Kind != design.KindNetwork {
		return nil
	}
	for _, l := range d.ListenersAt(o.ID) {
		out = append(out, netip.PrefixFrom(l.Address, l.Address.BitLen()))
	}
	var subnets []netip.Prefix
	for _, e := range topology.Places(d, o) {
		subnets = append(subnets, d.Ranges(e.To)...)
	}
	out = slices.DeleteFunc(append(out, route.Among(d, o)...), func(p netip.Prefix) bool {
		return !prefix.Has(subnets, p.Addr()) || p.IsSingleIP() && slices.Contains(x.Addresses, p.Addr())
	})
	return prefix.Minimal(out)
}
