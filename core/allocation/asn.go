package allocation

import (
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/settings"
)

// Private ASNs of four bytes (RFC 6996): nobody has chosen one of them by hand, as
// people do those of two.
const (
	firstPrivateASN = 4200000000
	lastPrivateASN  = 4294967294
)

// usedASNs are those that objects of the design have, how many of them, and those that
// profiles give out by default.
func usedASNs(d *design.Design) map[uint32]int {
	out := map[uint32]int{}
	for _, k := range speaking {
		for _, o := range d.Of(k) {
			for _, n := range asnsOf(o) {
				out[n]++
			}
		}
	}
	for _, p := range d.Profiles() {
		for _, v := range p.Profile.VPN {
			out[v.DefaultASN]++
		}
		if p.Profile.Circuit != nil {
			out[p.Profile.Circuit.DefaultASN]++
		}
	}
	return out
}

// freeASN is the first private one from a number on that is not used.
func freeASN(used map[uint32]int, from uint32) (uint32, error) {
	for n := from; n < lastPrivateASN; n++ {
		if used[n] == 0 {
			return n, nil
		}
	}
	return 0, fmt.Errorf("all private ASNs from %d to %d are used", firstPrivateASN, lastPrivateASN)
}

// speaking are the kinds that have an ASN.
var speaking = []design.Kind{design.KindGateway, design.KindHub, design.KindEdgeRouter, design.KindSession}

// asnsOf are the autonomous systems that an object has or gives its ends, 0 where it has
// none.
func asnsOf(o *design.Object) []uint32 {
	if o == nil {
		return nil
	}
	switch b := o.Body.(type) {
	case *design.Gateway:
		return []uint32{b.ASN}
	case *design.Hub:
		return []uint32{b.ASN}
	case *design.EdgeRouter:
		return []uint32{b.ASN}
	case *design.Session:
		var out []uint32
		for _, e := range b.Ends {
			out = append(out, e.ASN)
		}
		return out
	}
	return nil
}

// ASNs lists every autonomous system in a design, with the parties that have it.
func ASNs(d *design.Design) map[uint32][]design.ID {
	out := map[uint32][]design.ID{}
	for _, k := range speaking {
		for _, o := range d.Of(k) {
			for n, asn := range asnsOf(o) {
				at := d.Party(o.ID)
				if k == design.KindSession {
					at = settings.PartyOf(d, o, n)
				}
				if asn != 0 && at != nil && !slices.Contains(out[asn], at.ID) {
					out[asn] = append(out[asn], at.ID)
				}
			}
		}
	}
	return out
}
