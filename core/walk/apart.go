package walk

import (
	"fmt"
	"net/netip"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// Apart is a proof of a flow whose target must tell callers apart: where another host beside the source
// would come from the same address, the flow does not do what is wanted. A flow that does not work is
// proven as it is.
func Apart(t *route.Tables, f Flow, p Proof) Proof {
	other, ok := beside(t.Design, f.From)
	if !p.Works || !ok {
		return p
	}
	like := f
	like.From = Host{Place: f.From.Place, Address: other}
	q := Prove(t, like)
	at, seen := lastOf(p)
	if _, also := lastOf(q); !q.Works || seen != also {
		return p
	}
	p.Works = false
	p.Stop = &Stop{
		Code: CallersAlike, Way: "forward", At: at,
		Why: fmt.Sprintf("%s sees %s and %s as %s, and can not tell them apart", at.Title, f.From.Address, other, seen),
		Fix: "map " + t.Design.Title(f.From.Place) + " one to one instead of hiding it",
	}
	return p
}

// lastOf is where a packet came to on its way there, and from which address.
func lastOf(p Proof) (Place, netip.Addr) {
	if len(p.Forward) == 0 {
		return Place{}, netip.Addr{}
	}
	s := p.Forward[len(p.Forward)-1]
	return s.At, s.Header.Src
}

// beside is another address that a host may have in the place of a source.
func beside(d *design.Design, h Host) (netip.Addr, bool) {
	for _, r := range d.Ranges(h.Place) {
		if !r.Contains(h.Address) {
			continue
		}
		for _, a := range []netip.Addr{h.Address.Next(), h.Address.Prev()} {
			if a.IsValid() && r.Contains(a) && prefix.IsHost(r, a) {
				return a, true
			}
		}
	}
	return netip.Addr{}, false
}
