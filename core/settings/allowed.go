package settings

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
)

// InsideRefused says why a cloud does not take the inside range of a tunnel, and at which
// gateway: it lies outside what the cloud hands out, in what it keeps, or has another
// length. why is empty if every end takes it.
func InsideRefused(d *design.Design, tunnel *design.Object) (why string, at design.ID) {
	b := tunnel.Body.(*design.Tunnel)
	if len(b.Inside) != 2 {
		return "", ""
	}
	p := b.Inside[0].Masked()
	for _, e := range d.Get(tunnel.Parent).Body.(*design.Link).Ends {
		v := d.VPNOf(e.Gateway)
		switch {
		case v == nil || len(v.Inside.Within) == 0:
		case !slices.ContainsFunc(v.Inside.Within, func(w netip.Prefix) bool { return w.Contains(p.Addr()) }):
			return "lies outside what its gateway takes", e.Gateway
		case slices.ContainsFunc(v.Inside.Reserved, p.Overlaps):
			return "lies in a range that the cloud keeps for itself", e.Gateway
		case p.Bits() != int(v.Inside.Bits):
			return fmt.Sprintf("is not a /%d, which its gateway wants", v.Inside.Bits), e.Gateway
		}
	}
	return "", ""
}

// Starts reports whether an end of a tunnel begins its negotiation: of two that may the
// first, or the one whose far end waits or can not be reached from outside.
func Starts(d *design.Design, tunnel *design.Object, n int) bool {
	l := d.Get(tunnel.Parent).Body.(*design.Link)
	mine, theirs := behindNAT(tunnel, n), behindNAT(tunnel, 1-n)
	switch {
	case Waits(d, l.Ends[n].Gateway), theirs && !mine:
		return false
	case mine:
		return true
	}
	return n == 0 || Waits(d, l.Ends[1-n].Gateway)
}

func behindNAT(tunnel *design.Object, n int) bool {
	t := tunnel.Body.(*design.Tunnel)
	return len(t.Ends) == 2 && t.Ends[n].NAT
}
