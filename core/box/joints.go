package box

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/topology"
)

// Link is a link as the box at one of its ends has it.
type Link struct {
	ID      design.ID
	Name    string
	Routing string // static, selectors or bgp
	Far     string // the far gateway's title
	Sends   []netip.Prefix
	Remote  []netip.Prefix // policy-based: the far selectors
	Tunnels []Tunnel       // without those that are gone at either end
}

// Routed reports whether routes decide what enters the link; else selectors do.
func (l *Link) Routed() bool { return l.Routing != design.RoutingSelectors }

// Devices are the interfaces of a route-based link, one for each tunnel.
func (l *Link) Devices() []string {
	var out []string
	for _, t := range l.Tunnels {
		out = append(out, t.Device())
	}
	return out
}

// MTU is the least that is set on any tunnel of the link, in bytes; 0: none is.
func (l *Link) MTU() (least int) {
	for _, t := range l.Tunnels {
		if set := int(t.Set.MTU); set != 0 && (least == 0 || set < least) {
			least = set
		}
	}
	return least
}

// Tunnel is one tunnel of a link as the box at one of its ends has it.
type Tunnel struct {
	ID      design.ID
	Name    string
	Number  int // of its interface, if_id and mark, for life
	Set     negotiate.Settings
	Starts  bool // this end begins: only one does, so that there is never a second pair of SAs
	Up      bool // its sheet says so; nothing is sent into it else, until it answers
	Segment design.ID
	// Inside is the box's address in it, and FarInside the far end's; invalid where there are
	// none.
	Inside    netip.Prefix
	FarInside netip.Addr
	Inside6   netip.Prefix // a second one, of IPv6
}

// Insides are the box's addresses in the tunnel.
func (t Tunnel) Insides() []netip.Prefix {
	return slices.DeleteFunc([]netip.Prefix{t.Inside, t.Inside6}, func(p netip.Prefix) bool { return !p.IsValid() })
}

// Device is the name of a route-based tunnel's interface.
func (t Tunnel) Device() string { return fmt.Sprintf("dravin%d", t.Number) }

// Pair is a local and a remote selector of one family (RFC 4301 section 4.4.1).
type Pair struct{ Local, Remote netip.Prefix }

// Pairs are the selectors of a tunnel, as this end is set: each local range with each remote
// one of its family.
func (t Tunnel) Pairs() []Pair {
	var out []Pair
	for _, l := range t.Set.Local {
		for _, r := range t.Set.Remote {
			if l.Addr().Is4() == r.Addr().Is4() {
				out = append(out, Pair{l, r})
			}
		}
	}
	return out
}

// Asked is the far end's inside address, if the selectors let it be asked whether it lives.
func (t Tunnel) Asked() netip.Addr {
	if !t.Inside.IsValid() {
		return netip.Addr{}
	}
	fits := func(p Pair) bool { return p.Local.Contains(t.Inside.Addr()) && p.Remote.Contains(t.FarInside) }
	if slices.ContainsFunc(t.Pairs(), fits) {
		return t.FarInside
	}
	return netip.Addr{}
}

func links(t *route.Tables, gateway design.ID) []*Link {
	d := t.Design
	var out []*Link
	numbers := d.NumbersAt(gateway, design.KindTunnel)
	for o, b := range design.Each[design.Link](design.InOrder(d.Referring(gateway, design.KindLink))) {
		near, far, n, ok := b.End(gateway)
		if !ok || !t.Status.Intended(o) {
			continue
		}
		l := &Link{
			ID: o.ID, Name: o.Name, Routing: b.Routing, Far: d.Title(far.Gateway), Sends: near.Routes,
			Remote: near.Remote,
		}
		for _, x := range d.Tunnels(o.ID) {
			if !setUpHere(t, x, n) {
				continue
			}
			l.Tunnels = append(l.Tunnels, tunnel(t, x, n, numbers[x.ID]))
		}
		out = append(out, l)
	}
	return out
}

// setUpHere reports whether a tunnel is set up at one of its ends: a box has nothing of what is being made at its own.
func setUpHere(t *route.Tables, o *design.Object, end int) bool {
	ends := o.Body.(*design.Tunnel).Ends
	return end >= len(ends) || ends[end].State == "" || ends[end].State == design.Ready
}

func tunnel(t *route.Tables, o *design.Object, end, number int) Tunnel {
	d := t.Design
	out := Tunnel{
		ID: o.ID, Name: o.Name, Number: number, Set: settings.SettingsOf(d, o, "")[end],
		Starts: settings.Starts(d, o, end), Up: t.Status.Of(o.ID).Up, Segment: d.SegmentOf(o.ID),
	}
	if in := o.Body.(*design.Tunnel).Inside; len(in) == 2 {
		out.Inside, out.FarInside = in[end], in[1-end].Addr()
	}
	if six := o.Body.(*design.Tunnel).Inside6; len(six) == 2 {
		out.Inside6 = six[end]
	}
	return out
}

// Circuit is a private circuit as the box at one of its ends has it.
type Circuit struct {
	ID      design.ID
	Name    string
	Number  int    // of its interface, for life
	VLAN    uint16 // IEEE 802.1Q; 0 if untagged
	Segment design.ID
	Up      bool
	// Inside is the box's address on it, and FarInside the far end's; invalid where neither the
	// circuit nor a session says them.
	Inside    netip.Prefix
	FarInside netip.Addr
	Port      string // into which it is plugged; empty: not known
}

// Insides are the box's addresses on the circuit.
func (c Circuit) Insides() []netip.Prefix {
	return slices.DeleteFunc([]netip.Prefix{c.Inside}, func(p netip.Prefix) bool { return !p.IsValid() })
}

// Device is the name of the circuit's interface.
func (c Circuit) Device() string { return fmt.Sprintf("circuit%d", c.Number) }

// circuits are those of a gateway or edge router that are part of the plan.
func circuits(t *route.Tables, at design.ID) []Circuit {
	d := t.Design
	var out []Circuit
	numbers := d.NumbersAt(at, design.KindCircuit)
	for _, o := range design.InOrder(d.Referring(at, design.KindCircuit)) {
		for k, e := range o.Body.(*design.Circuit).Ends {
			if e.At != at || !t.Status.Intended(o) {
				continue
			}
			c := Circuit{
				ID: o.ID, Name: o.Name, Number: numbers[o.ID], VLAN: e.VLAN, Segment: d.SegmentOf(o.ID),
				Up: t.Status.Of(o.ID).Up, Port: e.Port,
			}
			in := topology.OnCircuit(d, o, k)
			c.Inside, c.FarInside = in.Own, in.Far
			out = append(out, c)
		}
	}
	return out
}

// Session is a BGP session as the box at one of its ends has it.
type Session struct {
	ID       design.ID
	Path     []string          // the names of what carries it, and its own
	Near     design.SessionEnd // as it was said
	Set      negotiate.BGPEnd  // what the near end is set to, in full
	FarKeeps bool              // the far end keeps next hops
	FarHops  []netip.Addr      // where it keeps them, those of the far end itself
	Internal bool
	Joint    design.ID // the link or circuit
	First    bool      // what it learns goes before what other sessions do
	Segment  design.ID // whose routing instance it speaks for; empty: that in which everything meets
	// Speaks and Feeds are, at a hub's gateway, the table that it announces and those that take what it learns.
	Speaks design.ID
	Feeds  []design.ID
}

// sessions are those of a box's links and circuits.
func sessions(t *route.Tables, o *design.Object, b *Box) []Session {
	d := t.Design
	var out []Session
	add := func(carrier, joint design.ID, path ...string) {
		for _, s := range d.Inside(carrier, design.KindSession) {
			n := settings.EndAt(d, s, o.ID)
			both, set := settings.SessionOf(d, s).Ends, settings.SessionEndsOf(d, s)[n]
			x := Session{
				ID: s.ID, Path: append(path, s.Name), Near: both[n], Set: set, FarKeeps: both[1-n].KeepNextHop,
				Internal: set.ASN == set.PeerASN, Joint: joint, First: t.GoesFirst(o.ID, d.Get(joint).Kind),
				Segment: route.InstanceFor(d, o, d.SegmentOf(carrier)),
			}
			if x.FarKeeps {
				x.FarHops = hopsOf(d, s, 1-n)
			}
			if p := d.Get(o.Parent); p != nil && p.Kind == design.KindHub {
				x.Speaks, x.Feeds = t.HubTables(p.ID, joint, carrier)
			}
			out = append(out, x)
		}
	}
	for _, l := range b.Links {
		for _, x := range l.Tunnels {
			add(x.ID, l.ID, l.Name, x.Name)
		}
	}
	for _, c := range b.Circuits {
		add(c.ID, c.ID, c.Name)
	}
	return out
}

// hopsOf are the addresses of an end of a session, in either family, that it gives as next hops of its own.
func hopsOf(d *design.Design, session *design.Object, n int) []netip.Addr {
	out := []netip.Addr{session.Body.(*design.Session).Ends[n].Address}
	if b, ok := d.Get(session.Parent).Body.(*design.Tunnel); ok {
		for _, two := range [][]netip.Prefix{b.Inside, b.Inside6} {
			if len(two) == 2 && !slices.Contains(out, two[n].Addr()) {
				out = append(out, two[n].Addr())
			}
		}
	}
	return out
}

// beside is the range of a LAN or subnet in which a gateway or box stands, and of which
// another is a part; invalid if there is none.
func beside(d *design.Design, o *design.Object, r netip.Prefix) netip.Prefix {
	for _, e := range topology.Places(d, o) {
		for _, own := range d.Ranges(e.To) {
			if prefix.Contains(own, r) {
				return own
			}
		}
	}
	return netip.Prefix{}
}
