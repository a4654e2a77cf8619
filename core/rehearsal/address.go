package rehearsal

import (
	"bytes"
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
				a, err := lent(d, prefix.FamilyOf(t.Body.(*design.Tunnel).Outside[n]))
				if err != nil {
					return nil, nil, err
				}
				given := func(o *design.Object) *design.Object {
					return design.Edited(o, func(b *design.Gateway) { b.Addresses = append(slices.Clone(b.Addresses), a) })
				}
				edits := []design.Edit{design.PutEdit(given(g))}
				if there := d.Built().Get(g.ID); there != nil && d.Side() == design.Planned {
					edits = append(edits, design.Edit{Side: design.Built, Op: design.Put, ID: g.ID, Object: given(there)})
				}
				next, _, err := d.Apply(edits)
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

// lent is the first address of those that may be lent that the design names nowhere and that is in no range of hosts.
// The error is that there is none.
func lent(d *design.Design, f prefix.Family) (netip.Addr, error) {
	file, err := d.Write()
	if err != nil {
		return netip.Addr{}, err
	}
	var ranges []netip.Prefix
	for _, k := range design.HostPlaces {
		for _, place := range d.Of(k) {
			ranges = append(ranges, d.Ranges(place.ID)...)
		}
	}
	for a := prefix.FirstHost(lendable[f]); lendable[f].Contains(a); a = a.Next() {
		if !bytes.Contains(file, []byte(a.String())) && !prefix.Has(ranges, a) {
			return a, nil
		}
		if f == prefix.IPv6 && prefix.Has(ranges, a) {
			break // a range of IPv6 has no end that could be waited for
		}
	}
	return netip.Addr{}, fmt.Errorf("no address of %s is free to stand for one that is not known yet", lendable[f])
}
