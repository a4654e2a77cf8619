package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/ends"
	"dravin/core/negotiate"
	"dravin/core/route"
	"dravin/core/standing"
)

// sessionAt is a BGP session as one gateway sees it.
type sessionAt struct {
	name      string
	near, far design.SessionEnd
	set       negotiate.BGPEnd // what the near end is set to, in full
	internal  bool
}

// sessionsAt lists the sessions of a gateway's links and circuits.
func sessionsAt(t *route.Tables, gateway design.ID) []sessionAt {
	d := t.Design
	var out []sessionAt
	add := func(in *design.Object, n int, path ...string) {
		for _, o := range d.Inside(in.ID, design.KindSession) {
			both := o.Body.(*design.Session).Ends
			set := ends.SessionEndsOf(d, o)
			out = append(out, sessionAt{protocols.name(append(path, o.Name)...), both[n], both[1-n], set[n], set[n].ASN == set[n].PeerASN})
		}
	}
	for _, e := range endsOf(t, gateway) {
		for _, s := range e.strands {
			add(s.tunnel, e.n, e.link.Name, s.tunnel.Name)
		}
	}
	for _, o := range design.InOrder(d.Referring(gateway, design.KindCircuit)) {
		for n, e := range o.Body.(*design.Circuit).Ends {
			if e.At == gateway && t.Standing.Intended(o) {
				add(o, n, o.Name)
			}
		}
	}
	return out
}

// bird renders the BGP daemon's configuration: what is announced is originated
// here, and what is learned goes into the kernel, equal paths side by side.
func bird(t *route.Tables, g *design.Object, sessions []sessionAt) string {
	p := &page{}
	p.head("BGP sessions of " + t.Design.Title(g.ID))
	p.line("router id %s;", routerID(g, sessions))
	p.line("protocol device { }")
	own := ownRanges(t, g)
	for _, family := range []string{"ipv4", "ipv6"} {
		if !slices.ContainsFunc(sessions, func(s sessionAt) bool { return slices.Contains(families(s.near), family) }) {
			continue
		}
		p.block("protocol kernel kernel_"+family, func() {
			p.line("merge paths on;")
			p.line("metric %d; # behind the static routes", learnedMetric)
			p.line("%s { export where source = RTS_BGP; };", family)
		})
		p.block("protocol static own_"+family, func() {
			p.line("%s;", family)
			for _, r := range announced(sessions, own, family) {
				p.line("route %s unreachable; # announced, never put into the kernel", r)
			}
		})
	}
	for _, s := range sessions {
		birdSession(p, s, own)
	}
	return p.String()
}

// learnedMetric is that of learned routes in the kernel: behind all static ones.
const learnedMetric = 20000

// ownRanges are what a speaker announces by itself: its party's own.
func ownRanges(t *route.Tables, g *design.Object) []netip.Prefix {
	if g.Kind == design.KindEdgeRouter {
		return nil
	}
	return t.Design.Exports(t.Design.Party(g.ID).ID)
}

func birdSession(p *page, s sessionAt, own []netip.Prefix) {
	p.block("protocol bgp "+s.name, func() {
		p.line("local %s as %d;", s.set.Address, s.set.ASN)
		p.line("neighbor %s as %d;", s.set.Peer, s.set.PeerASN)
		if s.internal {
			p.line("direct;")
		}
		p.line("hold time %d;", s.set.Hold)
		if s.near.Password {
			p.line("password \"%s\"; # agree on one with the far end", fillIn)
		}
		if s.near.AllowOwn > 0 {
			p.line("allow local as %d;", s.near.AllowOwn)
		}
		for _, family := range families(s.near) {
			channel(p, s, own, family)
		}
	})
}

// channel is what a session carries of one address family.
func channel(p *page, s sessionAt, own []netip.Prefix, family string) {
	e := s.near
	p.block(family, func() {
		if len(e.In) == 0 {
			p.line("import all;")
		} else {
			birdFilter(p, "import", e.In, family, s.set.ASN)
		}
		if e.MaxPrefixes > 0 {
			p.line("import limit %d action disable;", e.MaxPrefixes)
		}
		p.line("next hop self;")
		mine := ofFamily(own, family)
		switch {
		case len(e.Out) > 0:
			birdFilter(p, "export", e.Out, family, s.set.ASN)
		case len(mine) == 0:
			p.line("export none;")
		default: // its own, and nothing learned elsewhere
			p.line("export where source = RTS_STATIC && net ~ [ %s ];", words(mine))
		}
	})
	p.Truncate(p.Len() - 1)
	p.WriteString(";\n") // a channel ends as a statement does
}

// birdFilter renders the rules of one direction: the first that fits decides,
// and what none fits is dropped.
func birdFilter(p *page, direction string, rules []design.Filter, family string, asn uint32) {
	p.line("%s filter {", direction)
	for _, r := range rules {
		if r.Prefix.Addr().Is4() == (family == "ipv4") {
			p.line("    if net ~ [ %s ] then { %s}", lengths(r), actions(r, direction, asn))
		}
	}
	p.line("    reject;")
	p.line("};")
}

func lengths(r design.Filter) string {
	if r.From == 0 && r.To == 0 {
		return r.Prefix.String()
	}
	from := max(int(r.From), r.Prefix.Bits())
	return fmt.Sprintf("%s{%d,%d}", r.Prefix, from, max(int(r.To), from))
}

func actions(r design.Filter, direction string, asn uint32) string {
	if r.Deny {
		return "reject; "
	}
	out := ""
	if r.LocalPref > 0 {
		out += fmt.Sprintf("bgp_local_pref = %d; ", r.LocalPref)
	}
	if r.MED > 0 {
		out += fmt.Sprintf("bgp_med = %d; ", r.MED)
	}
	for _, text := range r.Communities {
		c, err := negotiate.ParseCommunity(text)
		switch {
		case err != nil: // stored before communities were checked
			out += "/* a community that is none is left out here */ "
		case c.Large:
			out += fmt.Sprintf("bgp_large_community.add((%d,%d,%d)); ", c.Values[0], c.Values[1], c.Values[2])
		default:
			out += fmt.Sprintf("bgp_community.add((%d,%d)); ", c.Values[0], c.Values[1])
		}
	}
	return out + strings.Repeat(fmt.Sprintf("bgp_path.prepend(%d); ", asn), int(r.Prepend)) + "accept; "
}

func families(e design.SessionEnd) []string {
	if len(e.Families) == 0 {
		return []string{"ipv4"}
	}
	return e.Families
}

// announced are the ranges that are originated: those that filters let out, and
// its own where a session has no filter. Longer ones of a filter with a range of
// lengths are learned, not originated.
func announced(sessions []sessionAt, own []netip.Prefix, family string) []netip.Prefix {
	var out []netip.Prefix
	add := func(p netip.Prefix) {
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	for _, s := range sessions {
		for _, r := range s.near.Out {
			if !r.Deny && r.From <= uint8(r.Prefix.Bits()) {
				add(r.Prefix)
			}
		}
		if len(s.near.Out) == 0 {
			for _, p := range own {
				add(p)
			}
		}
	}
	return ofFamily(out, family)
}

func ofFamily(ps []netip.Prefix, family string) []netip.Prefix {
	return slices.DeleteFunc(slices.Clone(ps), func(p netip.Prefix) bool { return p.Addr().Is4() != (family == "ipv4") })
}

// routerID is an address that nobody else has: the gateway's own public one.
func routerID(g *design.Object, sessions []sessionAt) netip.Addr {
	if b, ok := g.Body.(*design.Gateway); ok {
		for _, a := range b.Addresses {
			if a.Is4() {
				return a
			}
		}
	}
	least := sessions[0].near.Address
	for _, s := range sessions {
		if s.near.Address.Less(least) {
			least = s.near.Address
		}
	}
	return least
}

// sessionSheet lists what must be set of a session at one end.
func sessionSheet(p *page, d *design.Design, o *design.Object, n int) {
	near, set := o.Body.(*design.Session).Ends[n], ends.SessionEndsOf(d, o)[n]
	p.line("  [ ] BGP: own ASN %d at %s, far ASN %d at %s, hold time %d s", set.ASN, set.Address, set.PeerASN, set.Peer, set.Hold)
	for _, r := range near.Out {
		p.line("      announce %s", r.Prefix)
	}
	for _, r := range near.In {
		p.line("      take %s", r.Prefix)
	}
	if near.MaxPrefixes > 0 {
		p.line("      take %d routes at most", near.MaxPrefixes)
	}
}

// joinSheet lists what a party must set of peerings, circuits and attachments.
func joinSheet(p *page, t *route.Tables, party design.ID) {
	d := t.Design
	at := func(id design.ID) bool { x := d.Party(id); return x != nil && x.ID == party }
	for _, o := range d.Of(design.KindPeering) {
		for n, h := range o.Body.(*design.Peering).Halves {
			if at(h.Network) && standing.Exists(o) {
				p.line("")
				p.line("%s", o.Name)
				p.line("  [ ] the half toward %s", d.Title(o.Body.(*design.Peering).Halves[1-n].Network))
				p.line("  [ ] lends its gateway: %s; uses the other's: %s; takes what the other passes on: %s", yesNo(h.LendsGateway), yesNo(h.UsesGateway), yesNo(h.AcceptForwarded))
			}
		}
	}
	for _, o := range d.Of(design.KindCircuit) {
		c := o.Body.(*design.Circuit)
		for n, e := range c.Ends {
			if at(e.At) && standing.Exists(o) {
				p.line("")
				p.line("%s, to %s", o.Name, d.Title(c.Ends[1-n].At))
				p.line("  [ ] %d Mbit/s, VLAN tag %d, zone %s", e.Mbps, e.VLAN, orNone(e.Zone))
				for _, s := range d.Inside(o.ID, design.KindSession) {
					sessionSheet(p, d, s, n)
				}
			}
		}
	}
	for _, o := range d.Of(design.KindAttachment) {
		a := o.Body.(*design.Attachment)
		if (a.What == party || o.Parent == party) && standing.Exists(o) {
			p.line("")
			p.line("%s at %s", o.Name, d.Title(o.Parent))
			if a.Bound != "" {
				p.line("  [ ] bound to %s", d.Get(a.Bound).Name)
			}
			for _, f := range a.Feeds {
				p.line("  [ ] feeds %s", d.Get(f).Name)
			}
			for _, s := range a.Subnets {
				p.line("  [ ] subnet %s", d.Get(s).Name)
			}
			for _, k := range a.KeepOut {
				p.line("  [ ] keep %s out of export", k)
			}
		}
	}
}

func yesNo(b bool) string { return map[bool]string{true: "yes", false: "no"}[b] }

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}
