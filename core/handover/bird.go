package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/negotiate"
)

// sessionAt is a BGP session as one gateway sees it.
type sessionAt struct {
	name      string
	near, far design.SessionEnd
}

// sessionsAt lists the sessions of a gateway's links and circuits.
func sessionsAt(d *design.Design, gateway design.ID) []sessionAt {
	var out []sessionAt
	add := func(in *design.Object, n int, path ...string) {
		for _, o := range d.Inside(in.ID, design.KindSession) {
			ends := o.Body.(*design.Session).Ends
			out = append(out, sessionAt{protocols.name(append(path, o.Name)...), ends[n], ends[1-n]})
		}
	}
	for _, e := range endsOf(d, gateway) {
		for _, s := range e.strands {
			add(s.tunnel, e.n, e.link.Name, s.tunnel.Name)
		}
	}
	for _, o := range d.Of(design.KindCircuit) {
		for n, e := range o.Body.(*design.Circuit).Ends {
			if e.At == gateway && design.Carries(design.StateOf(o)) {
				add(o, n, o.Name)
			}
		}
	}
	return out
}

// bird renders the BGP daemon's configuration: what is announced is originated
// here, and what is learned goes into the kernel, equal paths side by side.
func bird(d *design.Design, g *design.Object, sessions []sessionAt) string {
	p := &page{}
	p.head("BGP sessions of " + d.Title(g.ID))
	p.line("router id %s;", routerID(g, sessions))
	p.line("protocol device { }")
	for _, family := range []string{"ipv4", "ipv6"} {
		if !slices.ContainsFunc(sessions, func(s sessionAt) bool { return slices.Contains(families(s.near), family) }) {
			continue
		}
		p.block("protocol kernel kernel_"+family, func() {
			p.line("merge paths on;")
			p.line("%s { export where source = RTS_BGP; };", family)
		})
		p.block("protocol static own_"+family, func() {
			p.line("%s;", family)
			for _, r := range announced(sessions, family) {
				p.line("route %s unreachable; # announced, never put into the kernel", r)
			}
		})
	}
	for _, s := range sessions {
		birdSession(p, s)
	}
	return p.String()
}

func birdSession(p *page, s sessionAt) {
	asn, peer := s.near.PeerASN, s.near.Peer
	if asn == 0 {
		asn = s.far.ASN
	}
	if !peer.IsValid() {
		peer = s.far.Address
	}
	p.block("protocol bgp "+s.name, func() {
		p.line("local %s as %d;", s.near.Address, s.near.ASN)
		p.line("neighbor %s as %d;", peer, asn)
		if s.near.Hold > 0 {
			p.line("hold time %d;", s.near.Hold)
		}
		if s.near.Password {
			p.line("password \"%s\"; # agree on one with the far end", fillIn)
		}
		if s.near.AllowOwn > 0 {
			p.line("allow local as %d;", s.near.AllowOwn)
		}
		for _, family := range families(s.near) {
			channel(p, s.near, family)
		}
	})
}

// channel is what a session carries of one address family.
func channel(p *page, e design.SessionEnd, family string) {
	p.block(family, func() {
		birdFilter(p, "import", e.In, family)
		if e.MaxPrefixes > 0 {
			p.line("import limit %d action disable;", e.MaxPrefixes)
		}
		p.line("next hop self;")
		birdFilter(p, "export", e.Out, family)
	})
	p.Truncate(p.Len() - 1)
	p.WriteString(";\n") // a channel ends as a statement does
}

// birdFilter renders the rules of one direction: the first that fits decides,
// and what none fits is dropped.
func birdFilter(p *page, direction string, rules []design.Filter, family string) {
	if len(rules) == 0 {
		p.line("%s all;", direction)
		return
	}
	p.line("%s filter {", direction)
	for _, r := range rules {
		if r.Prefix.Addr().Is4() == (family == "ipv4") {
			p.line("    if net ~ [ %s ] then { %s}", lengths(r), actions(r, direction))
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

func actions(r design.Filter, direction string) string {
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
	if direction == "export" {
		out += strings.Repeat("bgp_path.prepend(bgp_path.first); ", int(r.Prepend))
	}
	return out + "accept; "
}

func families(e design.SessionEnd) []string {
	if len(e.Families) == 0 {
		return []string{"ipv4"}
	}
	return e.Families
}

func announced(sessions []sessionAt, family string) []netip.Prefix {
	var out []netip.Prefix
	for _, s := range sessions {
		for _, r := range s.near.Out {
			if !r.Deny && r.Prefix.Addr().Is4() == (family == "ipv4") && !slices.Contains(out, r.Prefix) {
				out = append(out, r.Prefix)
			}
		}
	}
	return out
}

// routerID is an address that nobody else has: the gateway's own public one.
func routerID(g *design.Object, sessions []sessionAt) netip.Addr {
	for _, a := range g.Body.(*design.Gateway).Addresses {
		if a.Is4() {
			return a
		}
	}
	return sessions[0].near.Address
}

// sessionSheet lists what must be set of a session at one end.
func sessionSheet(p *page, s *design.Session, n int) {
	near, far := s.Ends[n], s.Ends[1-n]
	p.line("  [ ] BGP: own ASN %d at %s, far ASN %d at %s, hold time %d s", near.ASN, near.Address, far.ASN, far.Address, near.Hold)
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
func joinSheet(p *page, d *design.Design, party design.ID) {
	at := func(id design.ID) bool { x := d.Party(id); return x != nil && x.ID == party }
	for _, o := range d.Of(design.KindPeering) {
		for n, h := range o.Body.(*design.Peering).Halves {
			if at(h.Network) && design.StateOf(o) != design.Gone && design.StateOf(o) != design.Refused {
				p.line("")
				p.line("%s", o.Name)
				p.line("  [ ] the half toward %s", d.Title(o.Body.(*design.Peering).Halves[1-n].Network))
				p.line("  [ ] lends its gateway: %s; uses the other's: %s; accepts forwarded packets: %s", yesNo(h.LendsGateway), yesNo(h.UsesGateway), yesNo(h.AcceptForwarded))
			}
		}
	}
	for _, o := range d.Of(design.KindCircuit) {
		c := o.Body.(*design.Circuit)
		for n, e := range c.Ends {
			if at(e.At) && design.Carries(design.StateOf(o)) {
				p.line("")
				p.line("%s, to %s", o.Name, d.Title(c.Ends[1-n].At))
				p.line("  [ ] %d Mbit/s, VLAN tag %d, zone %s", e.Mbps, e.VLAN, orNone(e.Zone))
				for _, s := range d.Inside(o.ID, design.KindSession) {
					sessionSheet(p, s.Body.(*design.Session), n)
				}
			}
		}
	}
	for _, o := range d.Of(design.KindAttachment) {
		a := o.Body.(*design.Attachment)
		if (a.What == party || o.Parent == party) && design.Carries(design.StateOf(o)) {
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
