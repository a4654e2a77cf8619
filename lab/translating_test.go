package lab_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/prefix"
	"dravin/core/route"
)

// newTranslating makes an estate of sites and links that routes decide on, in
// which gateways and boxes translate in every way.
func newTranslating(seed uint64) *estate {
	return drawn(seed+1_000_000, func(e *estate) {
		e.rules, e.side = true, design.Planned
		e.translating()
	})
}

func (e *estate) translating() {
	for range 2 + e.r.IntN(2) {
		e.gardens()
	}
	gateways := e.of(design.KindGateway, "")
	for n := 1; n < len(gateways); n++ {
		e.joined(gateways[n-1], gateways[n])
	}
	if len(gateways) == 3 && e.chance(50) {
		e.joined(gateways[0], gateways[2])
	}
	for _, f := range slices.Concat(gateways, e.of(design.KindBox, "")) {
		e.publish(f)
	}
}

// gardens is a site with a gateway, LANs of which some collide with other sites',
// and now and then a translating box in the first.
func (e *estate) gardens() {
	site := e.add(design.KindSite, "", &design.Site{})
	g := &design.Gateway{Addresses: []netip.Addr{e.address()}}
	if e.chance(6) {
		g.Faults = []string{pick(e.r, []string{design.ForwardingOff, design.StrictReversePath, design.SourceCheck})}
	}
	e.add(design.KindGateway, site.ID, g)
	free := slices.Clone(siteRanges[:6])
	for n := range 1 + e.r.IntN(2) {
		p := pick(e.r, free)
		free = slices.DeleteFunc(free, p.Overlaps)
		lan := &design.LAN{Prefixes: []netip.Prefix{p}}
		if n == 0 && e.chance(40) {
			lan.Prefixes = append(lan.Prefixes, siteRanges6[len(e.of(design.KindSite, ""))-1])
		}
		o := e.add(design.KindLAN, site.ID, lan)
		for _, r := range lan.Prefixes {
			for _, k := range []int{10, 11} {
				e.add(
					design.KindEndpoint, o.ID,
					&design.Endpoint{
						Addresses: []netip.Addr{nth(r, k)},
						Answers:   []design.Service{{Proto: "tcp", Port: port}, {Proto: "udp", Port: port}},
					},
				)
			}
			g.Stands = append(g.Stands, nth(r, 2))
		}
		if n == 0 && e.chance(60) {
			b := &design.Box{Addresses: []netip.Addr{nth(p, 7)}}
			if len(lan.Prefixes) > 1 {
				b.Addresses = append(b.Addresses, nth(lan.Prefixes[1], 7))
			}
			if e.chance(8) {
				b.Faults = []string{pick(e.r, []string{design.ForwardingOff, design.SourceCheck})}
			}
			e.add(design.KindBox, site.ID, b)
		}
	}
	for _, o := range e.of(design.KindBox, site.ID) {
		b := o.Body.(*design.Box)
		for range 1 + e.r.IntN(2) {
			g.Routes = append(g.Routes, design.BoxRoute{Prefix: pick(e.r, siteRanges[:6]), Via: b.Addresses[0]})
		}
		e.mapped++
		into := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 223, byte(e.mapped * 4), 0}), 24)
		g.Routes = append(g.Routes, design.BoxRoute{Prefix: into, Via: b.Addresses[0]})
		for range 1 + e.r.IntN(2) {
			b.Translate = append(b.Translate, e.boxRules(into)...)
		}
	}
}

func (e *estate) host4() netip.Addr {
	for {
		if a := pick(e.r, e.of(design.KindEndpoint, "")).Body.(*design.Endpoint).Addresses[0]; a.Is4() {
			return a
		}
	}
}

// boxRules are the rules of a box to which a range is routed.
func (e *estate) boxRules(into netip.Prefix) []design.Rule {
	real := pick(
		e.r, prefixesOf("10.212.0.0/24", "10.212.1.0/24", "10.213.0.0/24", "192.168.216.0/24", "192.168.211.0/24"),
	)
	switch e.r.IntN(6) {
	case 5: // only toward what has the same range, or what is mapped already
		same := []netip.Prefix{pick(e.r, []netip.Prefix{real, into})}
		return []design.Rule{
			{Hook: design.Postrouting, Does: design.OneToOne, Real: real, Into: into, Destination: same},
			{Hook: design.Prerouting, Does: design.OneToOne, Real: real, Into: into, Source: same},
		}
	case 0: // destinations, and the way back
		return []design.Rule{
			{Hook: design.Prerouting, Does: design.OneToOne, Real: real, Into: into},
			{Hook: design.Postrouting, Does: design.OwnAddress, Destination: []netip.Prefix{real}},
		}
	case 1:
		return []design.Rule{
			{
				Hook:        design.Prerouting,
				Does:        design.ToTarget,
				Target:      e.host4(),
				Port:        port,
				Destination: []netip.Prefix{into},
				Services:    []design.Service{{Proto: "tcp", Port: 7003}},
			},
			{Hook: design.Postrouting, Does: design.OwnAddress},
		}
	case 2:
		return []design.Rule{
			{
				Hook: design.Postrouting, Does: design.FromPool, Into: netip.PrefixFrom(nth(into, 4), 32),
				Source: []netip.Prefix{real},
			},
		}
	case 3:
		return []design.Rule{
			{Hook: design.Postrouting, Does: design.Nothing, Destination: []netip.Prefix{real}},
			{Hook: design.Postrouting, Does: design.OwnAddress},
		}
	}
	return []design.Rule{
		{Hook: design.Postrouting, Does: design.OneToOne, Real: real, Into: into},
		{Hook: design.Prerouting, Does: design.OneToOne, Real: real, Into: into},
	}
}

// joined is a link with one tunnel, over which each end sends most of what the
// other has, as it is known there, and the far pools.
func (e *estate) joined(a, b *design.Object) {
	l := &design.Link{Routing: design.RoutingStatic, Ends: []design.End{{Gateway: a.ID}, {Gateway: b.ID}}}
	mine, theirs := e.exports(e.partyOf(a)), e.exports(e.partyOf(b))
	o := e.add(design.KindLink, "", l)
	mine, theirs = e.known(o, a, e.mappings(o, a, mine)), e.known(o, b, e.mappings(o, b, theirs))
	nowhere := func(p netip.Prefix) bool { return p.Bits() == 0 }
	l.Ends[0].Routes, l.Ends[1].Routes = slices.DeleteFunc(theirs, nowhere), slices.DeleteFunc(mine, nowhere)
	bare := e.chance(10)
	for n := range 1 + e.r.IntN(5)/4 {
		e.tunnel(o, l, a, b, n, true)
		t := e.of(design.KindTunnel, o.ID)[n]
		t.Body.(*design.Tunnel).Ends = nil
		if bare { // tunnels have no addresses of their own
			t.Body.(*design.Tunnel).Inside = nil
		}
		e.up[t.ID] = true
	}
}

// known adds rules at a gateway toward a link, and to what the far end is told
// what they need.
func (e *estate) known(link, gateway *design.Object, told []netip.Prefix) []netip.Prefix {
	g := gateway.Body.(*design.Gateway)
	for range e.r.IntN(3) {
		e.mapped++
		whole := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 223, byte(e.mapped * 4), 0}), 24)
		var rules []design.Rule
		switch e.r.IntN(7) {
		case 5: // several rules of what came by one link, with an exemption
			rules = []design.Rule{
				{
					Hook:     design.Postrouting,
					From:     link.ID,
					Does:     design.Nothing,
					Services: []design.Service{{Proto: pick(e.r, []string{"tcp", "udp"}), Port: port}},
				},
				{
					Hook: design.Postrouting, From: link.ID, Does: design.OwnAddress,
					Source: []netip.Prefix{pick(e.r, siteRanges[:6])},
				},
				{
					Hook: design.Postrouting,
					From: link.ID,
					Does: design.FromPool,
					Into: netip.PrefixFrom(nth(whole, 4), 32),
				},
			}
		case 6: // its own address by whatever way
			rules = []design.Rule{
				{
					Hook: design.Postrouting, Does: design.OwnAddress,
					Source: []netip.Prefix{pick(e.r, slices.Concat(siteRanges[:6], siteRanges6))},
				},
			}
		case 0:
			rules = []design.Rule{
				{
					Hook: design.Postrouting, Toward: link.ID, Does: design.OwnAddress,
					Services: []design.Service{{Proto: pick(e.r, []string{"tcp", "udp"}), Port: port}},
				},
			}
		case 1:
			if len(told) == 0 {
				continue
			}
			real := pick(e.r, told)
			if !real.Addr().Is4() || real.Bits() != 24 {
				continue
			}
			one := design.Rule{
				Toward: link.ID, Hook: design.Postrouting, Does: design.OneToOne, Real: real, Into: whole,
			}
			in := design.Rule{From: link.ID, Hook: design.Prerouting, Does: design.OneToOne, Real: real, Into: whole}
			rules = []design.Rule{one, in}
		case 2:
			rules = []design.Rule{
				{
					Hook: design.Prerouting, From: link.ID, Does: design.ToTarget, Target: e.host4(), Port: port,
					Destination: []netip.Prefix{whole},
					Services:    []design.Service{{Proto: "tcp", Port: 7003}, {Proto: "udp", Port: 7003}},
				},
			}
		case 3:
			rules = []design.Rule{
				{Hook: design.Postrouting, Does: design.Nothing, Destination: fours(told)},
				{
					Hook: design.Postrouting, Toward: link.ID, Does: design.FromPool,
					Into: netip.PrefixFrom(nth(whole, 4), 32),
				},
			}
		default:
			rules = []design.Rule{
				{
					Hook: design.Postrouting, Toward: link.ID, Does: design.FromPool,
					Into: netip.PrefixFrom(nth(whole, 4), 32), Source: fours(told),
				},
			}
		}
		g.Translate = append(g.Translate, rules...)
		if e.chance(85) {
			told = append(told, whole)
		}
	}
	return told
}

// publish lets a gateway or box listen: among the hosts, at an address that is
// routed to it or not, or at its inside address; for a host, or for another listener.
func (e *estate) publish(f *design.Object) {
	for range e.r.IntN(3) {
		e.mapped++
		stands := design.StandsAt(f)
		at := netip.AddrFrom4([4]byte{10, 223, byte(e.mapped * 4), 9})
		if inside := e.insideOf(f.ID); inside.IsValid() && e.chance(25) {
			at = inside
		} else if e.chance(60) {
			own := pick(e.r, stands)
			bits := map[bool]int{true: 24, false: 64}[own.Is4()]
			at = nth(netip.PrefixFrom(own, bits).Masked(), 60+e.mapped)
		}
		l := &design.Listener{
			At:      f.ID,
			Address: at,
			Service: design.Service{Proto: pick(e.r, []string{"tcp", "udp"}), Port: uint16(7010 + e.mapped)},
			Port:    port,
			Does:    pick(e.r, []string{design.Rewriting, design.Proxying}),
			Hides:   e.chance(50),
		}
		l.Target = pick(
			e.r,
			slices.DeleteFunc(
				e.of(design.KindEndpoint, ""),
				func(o *design.Object) bool { return addressesOf(o)[0].Is4() != at.Is4() },
			),
		).ID
		before := slices.DeleteFunc(e.of(design.KindListener, ""), func(o *design.Object) bool {
			b := o.Body.(*design.Listener)
			return b.At == f.ID || b.Address.Is4() != at.Is4() || b.Service.Proto != l.Service.Proto
		})
		if len(before) > 0 && e.chance(40) {
			next := pick(e.r, before)
			l.Target, l.Port = next.ID, 0
			l.Port = next.Body.(*design.Listener).Service.Port
		}
		if e.chance(30) {
			l.Callers = []netip.Prefix{
				pick(e.r, map[bool][]netip.Prefix{true: siteRanges, false: siteRanges6}[at.Is4()]),
			}
		}
		e.add(design.KindListener, "", l)
		for _, o := range e.of(design.KindLink, "") {
			for n := range o.Body.(*design.Link).Ends {
				if end := &o.Body.(*design.Link).Ends[n]; e.get(end.Gateway).Parent != f.Parent && e.chance(70) &&
					!among(at) {
					end.Routes = append(end.Routes, prefix.Alone(at))
				}
			}
		}
		if f.Kind == design.KindBox && !among(at) {
			g := e.of(design.KindGateway, f.Parent)[0].Body.(*design.Gateway)
			g.Routes = append(g.Routes, design.BoxRoute{Prefix: prefix.Alone(at), Via: stands[0]})
		}
	}
}

// among reports whether an address lies among hosts, or inside a tunnel.
func among(at netip.Addr) bool {
	return at.IsLinkLocalUnicast() ||
		slices.ContainsFunc(slices.Concat(siteRanges, siteRanges6), func(r netip.Prefix) bool { return r.Contains(at) })
}

// insideOf is an inside address of a gateway, if it has one.
func (e *estate) insideOf(gateway design.ID) (out netip.Addr) {
	for _, o := range e.of(design.KindLink, "") {
		if _, _, n, ok := o.Body.(*design.Link).End(gateway); ok {
			if in := e.of(design.KindTunnel, o.ID)[0].Body.(*design.Tunnel).Inside; len(in) == 2 && in[n].Addr().Is4() {
				out = in[n].Addr()
			}
		}
	}
	return out
}

// boxes puts the boxes of a site into a LAN, with what is rendered for them.
func (w *world) boxes(lan *design.Object, plug func(design.ID) string) {
	p := design.RangesOf(lan)[0]
	for _, o := range w.e.d.Inside(lan.Parent, design.KindBox) {
		a := o.Body.(*design.Box).Addresses[0]
		if !p.Contains(a) {
			continue
		}
		x := plug(o.ID)
		w.do(
			o.ID,
			"for f in /proc/sys/net/ipv[46]/conf/*/accept_redirects /proc/sys/net/ipv4/conf/*/send_redirects; do echo 0 "+
				">$f; done",
		)
		w.do(o.ID, "ip address add %s/%d dev %s", a, p.Bits(), x)
		w.do(o.ID, "ip route replace default via %s", nth(p, 2+w.gatewaysOf(lan)[0]))
		if len(o.Body.(*design.Box).Addresses) > 1 {
			six := design.RangesOf(lan)[1]
			w.do(o.ID, "ip -6 address add %s/%d dev %s nodad", o.Body.(*design.Box).Addresses[1], six.Bits(), x)
			w.do(o.ID, "ip -6 route replace default via %s", nth(six, 2+w.gatewaysOf(lan)[0]))
		}
	}
}

// relays runs the listeners that were rendered as units.
func relays(t *testing.T, w *world, tables *route.Tables) {
	dir := t.TempDir()
	for n, o := range w.e.d.Of(design.KindListener) {
		at := o.Body.(*design.Listener).At
		for _, f := range handover.Render(tables, w.e.d.Party(at).ID, nil) {
			if !strings.HasSuffix(f.Path, "dravin-listener-"+design.Slug(o.Name)+".service") {
				continue
			}
			_, line, _ := strings.Cut(f.Content, "ExecStart=")
			line, _, _ = strings.Cut(line, "\n")
			require.NoError(t, w.nodes[at].Start(nil, fmt.Sprintf("%s/relay%d", dir, n), strings.Fields(line)...))
			listens := fmt.Sprintf(":%d ", o.Body.(*design.Listener).Service.Port)
			require.Eventually(t, func() bool {
				open, err := w.nodes[at].Output("ss -Hlntu")
				return err == nil && strings.Contains(open, listens)
			}, time.Minute, 5*time.Millisecond)
		}
	}
}

// TestTruthOfTranslation holds every kind of translation against the kernel, by
// the rendered files, in random estates. DRAVIN_TRUTH is how many.
func TestTruthOfTranslation(t *testing.T) {
	t.Parallel()
	needs(t, "ip", "nft", "socat")
	estates, first := number("DRAVIN_TRUTH", 14), firstSeed
	var all []string
	for seed := range estates {
		t.Run(fmt.Sprint(first+seed), func(t *testing.T) {
			all = append(
				all,
				differences(t, newTranslating(uint64(first+seed)), fmt.Sprint("translating ", first+seed), true, 20)...,
			)
		})
	}
	assert.Empty(t, all, "%d differences:\n%s", len(all), strings.Join(all, "\n"))
}
