// Package fill says what a new thing would be given where nobody has said it: the
// next free range of the size used around, a host's address, an ASN, a zone, a
// name. Sayings and forms both ask here, and tell why.
package fill

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/inuse"
	"dravin/core/negotiate"
	"dravin/core/prefix"
)

// Value is a value that would be given, as it is written, and why.
type Value struct {
	Value string `json:"value"`
	Why   string `json:"why"`
}

// Wanted is which range is wanted.
type Wanted struct {
	Kind   design.Kind  // of what will hold it
	Parent design.ID    // what that stands in
	Bits   int          // its length; 0: that of those around
	Within netip.Prefix // where it must lie; the zero Prefix: where those around lie
}

// private are the ranges to look in where nothing says otherwise (RFC 1918).
var private = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"), netip.MustParsePrefix("192.168.0.0/16")}

// usual is the length of a range of a kind if there is none around.
func usual(k design.Kind) int {
	if k == design.KindNetwork || k == design.KindOutside {
		return 16
	}
	return 24
}

// Range is the next free range.
func Range(d *design.Design, w Wanted) (netip.Prefix, string, error) {
	around := rangesAround(d, w)
	if w.Bits == 0 {
		w.Bits = sizeOf(around, usual(w.Kind))
	}
	used := inuse.ForHolding(d, nil, "")
	places := placesFor(w, around)
	if w.Kind == design.KindSubnet { // it lies in its network's blocks, and only other subnets are in its way
		blocks := d.Ranges(w.Parent)
		if w.Within.IsValid() {
			blocks = prefix.Intersect(blocks, []netip.Prefix{w.Within})
		}
		places, used = blocks, nil
		for _, s := range d.Inside(w.Parent, design.KindSubnet) {
			used = append(used, design.RangesOf(s)...)
		}
	}
	space := prefix.NewSpace(places, used)
	for _, allowed := range places {
		if found := nextAfter(space, allowed, w.Bits, around); found.IsValid() {
			return found, fmt.Sprintf("the next free /%d of %s", w.Bits, allowed), nil
		}
	}
	return netip.Prefix{}, "", fmt.Errorf("no /%d is free in %s", w.Bits, negotiate.Joined(places))
}

// nextAfter is the first free range behind those around, or else the first.
func nextAfter(space *prefix.Space, allowed netip.Prefix, bits int, around []netip.Prefix) netip.Prefix {
	after := allowed.Addr()
	for _, p := range around {
		if last := prefix.Last(p); allowed.Contains(last) && last.Compare(after) > 0 {
			after = last
		}
	}
	const enough = 512
	var first netip.Prefix
	for _, c := range space.Fits(allowed, bits, enough) {
		p := c.Prefix
		if !first.IsValid() {
			first = p
		}
		if p.Addr().Compare(after) > 0 && (first.Addr().Compare(after) <= 0 || p.Addr().Less(first.Addr())) {
			first = p
		}
	}
	return first
}

// rangesAround are those of the same kind in the same place, or else anywhere, in
// the family that is looked for.
func rangesAround(d *design.Design, w Wanted) []netip.Prefix {
	var beside, all []netip.Prefix
	for _, o := range d.Of(w.Kind) {
		for _, p := range design.RangesOf(o) {
			if w.Within.IsValid() && p.Addr().Is4() != w.Within.Addr().Is4() || !w.Within.IsValid() && !p.Addr().Is4() {
				continue
			}
			all = append(all, p)
			if o.Parent == w.Parent && w.Parent != "" {
				beside = append(beside, p)
			}
		}
	}
	if len(beside) > 0 {
		return beside
	}
	return all
}

// sizeOf is the length that most have, the longest of these.
func sizeOf(ps []netip.Prefix, otherwise int) int {
	count := map[int]int{}
	best := 0
	for _, p := range ps {
		n := p.Bits()
		if count[n]++; best == 0 || count[n] > count[best] || count[n] == count[best] && n > best {
			best = n
		}
	}
	return cmp.Or(best, otherwise)
}

// placesFor are where to look: what was asked for, or near those around.
func placesFor(w Wanted, around []netip.Prefix) []netip.Prefix {
	if w.Within.IsValid() {
		return []netip.Prefix{w.Within}
	}
	var out []netip.Prefix
	for _, near := range []int{16, 12, 8} {
		for _, p := range around {
			if near > w.Bits || p.Bits() < near {
				continue
			}
			wide := netip.PrefixFrom(p.Addr(), near).Masked()
			inPrivate := slices.ContainsFunc(private, func(q netip.Prefix) bool { return prefix.Contains(q, wide) })
			if inPrivate && !slices.Contains(out, wide) {
				out = append(out, wide)
			}
		}
	}
	return append(out, private...)
}

// Host is the next address for a host in a LAN, inner route or subnet.
func Host(d *design.Design, place design.ID) (netip.Addr, string, error) {
	taken := inuse.Hosts(d, place)
	for _, p := range d.Ranges(place) {
		a := prefix.FirstHost(p)
		for range hostsSkipped {
			a = a.Next()
		}
		for n := 0; n <= len(taken) && prefix.IsHost(p, a); n++ {
			if !taken[a] {
				return a, "the next free address of " + d.Title(place), nil
			}
			a = a.Next()
		}
	}
	return netip.Addr{}, "", fmt.Errorf("no address of %s is free", d.Title(place))
}

// hostsSkipped leaves the low addresses to routers, as most people do.
const hostsSkipped = 9

// ASN is the next free one.
func ASN(d *design.Design) (Value, error) {
	n, err := draft.NextASN(d)
	return Value{fmt.Sprint(n), "the lowest private ASN (RFC 6996) that nobody here has and no cloud gives by default"}, err
}

// Region is the first region of a cloud, "" if its profile has none.
func Region(d *design.Design, cloud string) (name, why string) {
	if p := d.Profile(cloud); p != nil && len(p.Regions) > 0 {
		return p.Regions[0].Name, "the first region of " + cloud
	}
	return "", ""
}

// Zone is the zone of a network's region that has the fewest of its subnets.
func Zone(d *design.Design, network design.ID) (name, why string) {
	used := map[string]int{}
	for _, s := range d.Inside(network, design.KindSubnet) {
		used[s.Body.(*design.Subnet).Zone]++
	}
	for _, z := range zonesOf(d, network) {
		if name == "" || used[z] < used[name] {
			name, why = z, "the zone with the fewest subnets so far"
		}
	}
	return name, why
}

func zonesOf(d *design.Design, network design.ID) []string {
	n, ok := d.Get(network).Body.(*design.Network)
	if !ok {
		return nil
	}
	p := d.Profile(n.Cloud)
	if p == nil {
		return nil
	}
	for _, r := range p.Regions {
		if r.Name == n.Region {
			return r.Zones
		}
	}
	return nil
}

// names are what things are called if nobody says it.
var names = map[design.Kind]string{
	design.KindTable: "main table", design.KindHubTable: "main", design.KindTunnel: "strand 1", design.KindEndpoint: "host",
	design.KindInnerRoute: "inner route", design.KindEdgeRouter: "edge router", design.KindOutside: "outside party",
}

// Name is a free name for a new thing of a kind in a place.
func Name(d *design.Design, k design.Kind, parent design.ID) string {
	name := cmp.Or(names[k], string(k))
	return draft.Beside(d, k, parent, name, nil).Name
}
