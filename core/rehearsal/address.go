package rehearsal

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
)

// lendable has the ranges of which addresses are lent, by family; both are for documentation (RFC 5737, RFC 3849).
var lendable = [2]netip.Prefix{netip.MustParsePrefix("203.0.113.192/26"), netip.MustParsePrefix("2001:db8:ffff::/48")}

// Addressed is a design as it will be when built, with public addresses for gateways that have none yet: a cloud says
// them when it makes the gateway, and no daemon dials what is not known. It comes with a sentence for each one that is
// lent.
func Addressed(d *design.Design) (*design.Design, []string, error) {
	var told []string
	for _, t := range d.Of(design.KindTunnel) {
		for n, e := range d.Get(t.Parent).Body.(*design.Link).Ends {
			for tries := 0; tries < mostLent && unknown(d, t, n); tries++ {
				g := d.Get(e.Gateway)
				a := lent(d, prefix.FamilyOf(t.Body.(*design.Tunnel).Outside[n]))
				next, _, err := d.Apply([]design.Edit{design.PutEdit(design.Edited(g, func(b *design.Gateway) {
					b.Addresses = append(slices.Clone(b.Addresses), a)
				}))})
				if err != nil {
					return nil, nil, err
				}
				d = next
				told = append(told, fmt.Sprintf("%s: its public address is not known yet; %s stands for it", d.Title(g.ID), a))
			}
		}
	}
	return d, told, nil
}

// mostLent bounds the addresses that one end of a tunnel is lent.
const mostLent = 8

func unknown(d *design.Design, tunnel *design.Object, n int) bool {
	out := d.OutsideOf(tunnel)
	return len(out) == 2 && !negotiate.Known(out[n])
}

// lent is the first address of those that may be lent that no gateway or tunnel has.
func lent(d *design.Design, f prefix.Family) netip.Addr {
	has := map[netip.Addr]bool{}
	for _, b := range design.Each[design.Gateway](d.Of(design.KindGateway)) {
		for _, a := range b.Addresses {
			has[a] = true
		}
	}
	for _, b := range design.Each[design.Tunnel](d.Of(design.KindTunnel)) {
		for _, a := range b.Outside {
			has[a] = true
		}
	}
	a := prefix.FirstHost(lendable[f])
	for has[a] {
		a = a.Next()
	}
	return a
}
