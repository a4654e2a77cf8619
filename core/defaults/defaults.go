// Package defaults says what a new thing would be given where nobody has said it: the
// next free range of the size used around, a host's address, an ASN, a zone, a
// name. Sayings and forms both ask here, and tell why.
package defaults

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/allocation"
	"dravin/core/design"
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
var private = []netip.Prefix{
	netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"),
	netip.MustParsePrefix("192.168.0.0/16"),
}

// usual is the length of a range of a kind if there is none around.
func usual(k design.Kind) int {
	if k == design.KindNetwork || k == design.KindOutside {
		return 16
	}
	return 24
}

// Filler fills in for one design, perhaps while it changes: each answer costs what it
// looks at itself.
type Filler struct {
	design  *design.Design
	books   *allocation.Books
	around  map[around]*ranges
	subnets map[design.ID]*allocation.Taken // by network
}

// New fills in for a design.
func New(d *design.Design) *Filler {
	return &Filler{
		design: d, books: allocation.NewBooks(d), around: map[around]*ranges{}, subnets: map[design.ID]*allocation.Taken{},
	}
}

// Changed enters that an object of the design has taken another's place; either may be
// nil.
func (f *Filler) Changed(old, now *design.Object) {
	f.books.Changed(old, now)
	for _, x := range []struct {
		o   *design.Object
		add int
	}{{now, 1}, {old, -1}} {
		if x.o == nil {
			continue
		}
		for _, p := range design.RangesOf(x.o) {
			f.counted(x.o, p, x.add)
		}
	}
}

// counted enters one more range of an object, or one less.
func (f *Filler) counted(o *design.Object, p netip.Prefix, by int) {
	for _, parent := range []design.ID{"", o.Parent} {
		if r := f.around[around{o.Kind, p.Addr().Is4(), parent}]; r != nil {
			r.add(p, by)
		}
		if o.Parent == "" {
			break
		}
	}
	taken := f.subnets[o.Parent]
	switch {
	case o.Kind != design.KindSubnet || taken == nil:
	case by > 0:
		taken.Add(p)
	default:
		taken.Remove(p)
	}
}

// Range is the next free range.
func (f *Filler) Range(w Wanted) (netip.Prefix, string, error) {
	beside := f.rangesAround(w)
	if w.Bits == 0 {
		w.Bits = beside.size(usual(w.Kind))
	}
	places, taken := placesFor(w, beside), f.books.Holding()
	if w.Kind == design.KindSubnet { // it lies in its network's blocks, and only other subnets are in its way
		places, taken = f.design.Ranges(w.Parent), f.subnetsOf(w.Parent)
		if w.Within.IsValid() {
			places = prefix.Intersect(places, []netip.Prefix{w.Within})
		}
	}
	for _, allowed := range places {
		if found, ok := nextIn(taken, allowed, w.Bits, beside); ok {
			return found, fmt.Sprintf("the next free /%d of %s", w.Bits, allowed), nil
		}
	}
	return netip.Prefix{}, "", fmt.Errorf("no /%d is free in %s", w.Bits, negotiate.Joined(places))
}

// Size is the length of a range that is usual for a kind in a place.
func (f *Filler) Size(k design.Kind, parent design.ID) int {
	return f.rangesAround(Wanted{Kind: k, Parent: parent}).size(usual(k))
}

// nextIn is the first free range behind those around, or else the first.
func nextIn(taken *allocation.Taken, allowed netip.Prefix, bits int, beside *ranges) (netip.Prefix, bool) {
	if bits < allowed.Bits() {
		return netip.Prefix{}, false
	}
	if last := beside.lastIn(allowed); last.IsValid() && last.Next().IsValid() {
		from := netip.PrefixFrom(last.Next(), bits).Masked()
		if found, ok := taken.FirstFree(allowed, from); ok {
			return found, true
		}
	}
	return taken.FirstFree(allowed, netip.PrefixFrom(allowed.Addr(), bits))
}

// subnetsOf are the ranges of a network's subnets.
func (f *Filler) subnetsOf(network design.ID) *allocation.Taken {
	if f.subnets[network] == nil {
		f.subnets[network] = allocation.NewTaken()
		for _, s := range f.design.Inside(network, design.KindSubnet) {
			for _, p := range design.RangesOf(s) {
				f.subnets[network].Add(p)
			}
		}
	}
	return f.subnets[network]
}

// placesFor are where to look: what was asked for, or near those around, first where
// most of these are.
func placesFor(w Wanted, beside *ranges) []netip.Prefix {
	if w.Within.IsValid() {
		return []netip.Prefix{w.Within}
	}
	var out []netip.Prefix
	for _, near := range wides {
		if near <= w.Bits {
			out = append(out, beside.wide(near)...)
		}
	}
	return append(out, private...)
}

// Books tell what is taken in the design.
func (f *Filler) Books() *allocation.Books { return f.books }

// Host is the next address for a host in a LAN, inner route or subnet.
func (f *Filler) Host(place design.ID) (netip.Addr, string, error) {
	d, taken, given := f.design, allocation.Hosts(f.design, place), allocation.GivenOut(f.design, place)
	for _, p := range d.Ranges(place) {
		a := prefix.FirstHost(p)
		for range hostsSkipped {
			a = a.Next()
		}
		for n := 0; n <= len(taken)+len(given) && prefix.IsHost(p, a); n++ {
			k := slices.IndexFunc(given, func(r netip.Prefix) bool { return r.Contains(a) })
			switch {
			case k >= 0:
				a = prefix.Last(given[k])
			case !taken[a]:
				return a, "the next free address of " + d.Title(place), nil
			}
			a = a.Next()
		}
	}
	return netip.Addr{}, "", fmt.Errorf("no address of %s is free", d.Title(place))
}

// BoxHost is the next address for a box or a published service in a site or network: where hosts are,
// not in a public subnet if there is another, and the first subnet's own boxes' place before others.
func (f *Filler) BoxHost(party design.ID) (netip.Addr, string, error) {
	d := f.design
	var places []design.ID
	for _, o := range d.Inside(party, design.KindLAN, design.KindSubnet) {
		if s, ok := o.Body.(*design.Subnet); !ok || !s.Public {
			places = append(places, o.ID)
		}
	}
	for _, o := range d.Inside(party, design.KindSubnet) {
		if o.Body.(*design.Subnet).Public {
			places = append(places, o.ID)
		}
	}
	for _, place := range places {
		if a, why, err := f.Host(place); err == nil {
			return a, why, nil
		}
	}
	return netip.Addr{}, "", fmt.Errorf("%s has no LAN or subnet with a free address", d.Title(party))
}

// ListenerHost is the next address for a published service of a gateway, box or network.
func (f *Filler) ListenerHost(at design.ID) (netip.Addr, string, error) {
	o := f.design.Get(at)
	switch {
	case o == nil:
		return netip.Addr{}, "", fmt.Errorf("who listens is not said")
	case o.Kind == design.KindNetwork:
		return f.BoxHost(o.ID)
	}
	return f.BoxHost(o.Parent)
}

// hostsSkipped leaves the low addresses to routers, as most people do.
const hostsSkipped = 9

// ASN is the next free one.
func (f *Filler) ASN() (Value, error) {
	n, err := f.books.ASN()
	return Value{
		fmt.Sprint(n), "the lowest private ASN (RFC 6996) that nobody here has and no cloud gives by default",
	}, err
}

// Region is the first region of a cloud, "" if its profile has none.
func (f *Filler) Region(cloud string) (name, why string) {
	if p := f.design.Profile(cloud); p != nil && len(p.Regions) > 0 {
		return p.Regions[0].Name, "the first region of " + cloud
	}
	return "", ""
}

// Zone is the zone of a network's region that has the fewest of its subnets.
func (f *Filler) Zone(network design.ID) (name, why string) {
	used := map[string]int{}
	for _, body := range design.Each[design.Subnet](f.design.Inside(network, design.KindSubnet)) {
		used[body.Zone]++
	}
	for _, z := range zonesOf(f.design, network) {
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
	design.KindTable: "main table", design.KindHubTable: "main", design.KindTunnel: "tunnel 1",
	design.KindEndpoint:   "host",
	design.KindInnerRoute: "inner route", design.KindEdgeRouter: "edge router", design.KindOutside: "outside party",
}

// Name is a free name for a new thing of a kind in a place.
func (f *Filler) Name(k design.Kind, parent design.ID) string {
	name, _ := f.books.Beside(k, parent, cmp.Or(names[k], string(k)))
	return name
}
