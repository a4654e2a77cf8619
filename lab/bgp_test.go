package lab_test

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/negotiate"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/demo"
	"dravin/lab"
)

// bird starts a BGP daemon on a configuration.
func bird(t *testing.T, n *lab.Node, conf string) (birdc func(args string) string) {
	dir := t.TempDir()
	file, socket, log := filepath.Join(dir, "bird.conf"), filepath.Join(dir, "ctl"), filepath.Join(dir, "log")
	require.NoError(t, os.WriteFile(file, []byte("log stderr { error, bug, fatal };\n"+conf), 0o644))
	out, err := n.Output("bird -p -c " + file)
	require.NoError(t, err, "%s\n%s", out, conf)
	require.NoError(
		t,
		n.Start(
			nil, log, "bird", "-f", "-c", file, "-s", socket, "-P", filepath.Join(dir, "pid"),
		),
	)
	t.Cleanup(func() { // of two ways into a table the first to come is taken, and a filter that fails refuses
		said, err := os.ReadFile(log)
		require.NoError(t, err)
		assert.NotRegexp(t, "collision|filters, line|out of bounds", string(said))
	})
	return func(args string) string {
		out, _ := n.Output("birdc -s " + socket + " " + args)
		return out
	}
}

var holdTimer = regexp.MustCompile(`Hold timer:\s+[0-9.]+/(\d+)`)

// Two real BGP daemons on the rendered files: the session comes up exactly when
// core/link says so, with the hold time that it says, and the routes arrive.
func TestRenderedSessionsAreWhatDaemonsDo(t *testing.T) {
	l := needs(t, "bird", "birdc")
	d, a, b := drafted(t, "vpn-bgp-")
	o := d.Find("saltmarsh-station-to-dunmoss-arboretum/tunnel-1/session", design.KindSession)[0]
	// A cable stands for the tunnel.
	inside := d.Get(o.Parent).Body.(*design.Tunnel).Inside
	near, far := node(t, l, "saltmarsh"), node(t, l, "dunmoss")
	require.NoError(t, l.Join(near, "dravin1", inside[0].String(), far, "dravin1", inside[1].String()))

	for _, c := range []struct {
		name   string
		change func(*design.Session)
	}{
		{"as drafted", func(*design.Session) {}},
		{"hold times differ", func(s *design.Session) { s.Ends[1].Hold = 9 }},
		{"another ASN expected", func(s *design.Session) { s.Ends[0].PeerASN = 64999 }},
		{"another address expected", func(s *design.Session) { s.Ends[0].Peer = inside[1].Addr().Next() }},
		{"more routes than are taken", func(s *design.Session) { s.Ends[1].MaxPrefixes = 1 }},
	} {
		session := design.Session{Ends: append([]design.SessionEnd{}, o.Body.(*design.Session).Ends...)}
		c.change(&session)
		changed, _, err := d.Apply([]design.Edit{design.PutEdit(o.With(&session))})
		require.NoError(t, err)
		want := negotiate.AgreeSession(settings.BGPEnds(&session)[0], settings.BGPEnds(&session)[1])
		want.Up = route.Solve(changed, status.Condition{}).Status.Of(o.ID).Up
		birdc := bird(t, near, sessionsOf(t, changed, a.ID))
		bird(t, far, sessionsOf(t, changed, b.ID))
		var shown string
		up := func() bool {
			shown = birdc("show protocols all")
			return strings.Contains(shown, "Established")
		}
		if want.Up {
			require.Eventually(t, up, 2*time.Minute, 100*time.Millisecond, c.name)
			assert.Equal(t, fmt.Sprint(want.Hold), holdTimer.FindStringSubmatch(shown)[1], c.name)
			require.Eventually(t, func() bool {
				out, err := near.Output("ip route show 192.168.211.0/24")
				return err == nil && strings.Contains(out, inside[1].Addr().String())
			}, 2*time.Minute, 100*time.Millisecond, "%s: what is learned goes into the kernel", c.name)
		} else {
			assert.Never(
				t, func() bool { return up() && stays(birdc) }, 5*time.Second, 500*time.Millisecond, "%s: %s", c.name,
				want.Why,
			)
		}
		l.End(near, far)
		t.Log(c.name+":", want.Why)
	}
}

// The far daemon receives the paths that the filters of a session speak of, for
// every action of a filter and for none.
func TestReceivedPathsAreWhatFiltersSay(t *testing.T) {
	l := needs(t, "bird", "birdc")
	d, a, b := drafted(t, "vpn-bgp-")
	o := d.Find("saltmarsh-station-to-dunmoss-arboretum/tunnel-1/session", design.KindSession)[0]
	inside := d.Get(o.Parent).Body.(*design.Tunnel).Inside
	near, far := node(t, l, "saltmarsh"), node(t, l, "dunmoss")
	require.NoError(t, l.Join(near, "dravin1", inside[0].String(), far, "dravin1", inside[1].String()))
	house := netip.MustParsePrefix("192.168.211.0/24")
	asn := fmt.Sprint(o.Body.(*design.Session).Ends[1].ASN)
	for _, c := range []struct {
		name     string
		out, in  []design.Filter
		has, not []string
	}{
		{"no filter", nil, nil, []string{"as_path: " + asn + "\n", "origin: IGP"}, []string{"community"}},
		{
			"prepended", []design.Filter{{Prefix: house, Prepend: 2}}, nil,
			[]string{"as_path: " + strings.TrimSpace(strings.Repeat(asn+" ", 3)) + "\n"}, nil,
		},
		{
			"MED and communities",
			[]design.Filter{{Prefix: house, MED: 50, Communities: []string{"64502:7", "4200000001:1:2"}}}, nil,
			[]string{"med: 50", "community: (64502,7)", "large_community: (4200000001, 1, 2)"}, nil,
		},
		{
			"local preference on the way in", nil, []design.Filter{{Prefix: house, LocalPref: 210}},
			[]string{"local_pref: 210"}, nil,
		},
		{"denied on the way out", []design.Filter{{Prefix: house, Deny: true}}, nil, nil, []string{"192.168.211.0/24"}},
		{
			"not named on the way in", nil, []design.Filter{{Prefix: netip.MustParsePrefix("10.208.0.0/16")}}, nil,
			[]string{"192.168.211.0/24"},
		},
	} {
		s := design.Session{Ends: append([]design.SessionEnd{}, o.Body.(*design.Session).Ends...)}
		s.Ends[0].In, s.Ends[1].Out = c.in, c.out
		changed, _, err := d.Apply([]design.Edit{design.PutEdit(o.With(&s))})
		require.NoError(t, err)
		birdc := bird(t, near, sessionsOf(t, changed, a.ID))
		bird(t, far, sessionsOf(t, changed, b.ID))
		require.Eventually(
			t, func() bool { return strings.Contains(birdc("show protocols all"), "Established") }, 2*time.Minute,
			100*time.Millisecond, c.name,
		)
		shown := ""
		arrived := func() bool {
			shown = birdc("show route all for 192.168.211.9")
			return strings.Contains(shown, "192.168.211.0/24")
		}
		if len(c.has) > 0 {
			require.Eventually(t, arrived, 2*time.Minute, 100*time.Millisecond, c.name)
		} else {
			time.Sleep(2 * time.Second)
			arrived()
		}
		for _, want := range c.has {
			assert.Contains(t, strings.ReplaceAll(shown, "BGP.", ""), want, c.name)
		}
		for _, not := range c.not {
			assert.NotContains(t, shown, not, c.name)
		}
		l.End(near, far)
	}
}

// stays tells whether a session that is up is so a moment later too.
func stays(birdc func(string) string) bool {
	time.Sleep(1500 * time.Millisecond)
	return strings.Contains(birdc("show protocols all"), "Established")
}

// sessionsOf is the BGP daemon's file of a site.
func sessionsOf(t *testing.T, d *design.Design, site design.ID) string {
	for _, f := range handover.Render(route.Solve(d, status.Condition{}), site, nil) {
		if strings.HasSuffix(f.Path, "bird.conf") {
			return f.Content
		}
	}
	t.Fatal("no bird.conf")
	return ""
}

// Every feature of a filter is understood by the real daemon's parser.
func TestRenderedFiltersParse(t *testing.T) {
	l := needs(t, "bird")
	n := node(t, l, "parser")
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	for _, o := range d.Of(design.KindSession) {
		s := design.Session{Ends: append([]design.SessionEnd{}, o.Body.(*design.Session).Ends...)}
		for k := range s.Ends {
			s.Ends[k].Families, s.Ends[k].Password, s.Ends[k].AllowOwn = []string{"ipv4", "ipv6"}, true, 2
			s.Ends[k].In = []design.Filter{
				{
					Prefix: netip.MustParsePrefix("10.211.0.0/16"), To: 24, LocalPref: 150,
					Communities: []string{"no-export"},
				},
				{Prefix: netip.MustParsePrefix("2001:db8::/32"), Deny: true},
			}
			s.Ends[k].Out = []design.Filter{
				{
					Prefix: netip.MustParsePrefix("10.215.0.0/23"), From: 23, To: 25, Prepend: 3, MED: 10,
					Communities: []string{"64502:1"},
				},
				{Prefix: netip.MustParsePrefix("2001:db8:30::/64")},
			}
		}
		d, _, err = d.Apply([]design.Edit{design.PutEdit(o.With(&s))})
		require.NoError(t, err)
	}
	file := filepath.Join(t.TempDir(), "bird.conf")
	text := sessionsOf(t, d, d.Find("saltmarsh-station", design.KindSite)[0].ID)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	out, err := n.Output("bird -p -c " + file)
	require.NoError(t, err, "%s\n%s", out, text)
}

// A summary that is made of what is learned is announced while a part is known, and no
// longer; and a next hop that the far end keeps is used as the table uses it.
func TestRenderedSummariesFollowTheirParts(t *testing.T) {
	l := needs(t, "bird", "birdc", "ip")
	var m maker
	pfx := netip.MustParsePrefix
	gateways := map[string]design.ID{}
	for n, name := range []string{"orangery", "hill", "nursery"} {
		site := m.add(design.KindSite, "", name, &design.Site{})
		g := &design.Gateway{
			ASN: uint32(64501 + n), Addresses: []netip.Addr{netip.AddrFrom4([4]byte{198, 51, 100, byte(n + 1)})},
		}
		if name == "hill" {
			g.Summaries = []design.Summary{{Prefix: pfx("10.212.0.0/16"), Hide: true}}
		}
		gateways[name] = m.add(design.KindGateway, site, "gateway", g)
		m.add(
			design.KindLAN, site, "lan",
			&design.LAN{Prefixes: []netip.Prefix{pfx([]string{"10.212.5.0/24", "10.213.0.0/24", "10.214.0.0/24"}[n])}},
		)
	}
	nodes := map[string]*lab.Node{}
	for name := range gateways {
		nodes[name] = node(t, l, name)
	}
	for n, far := range []string{"orangery", "nursery"} {
		in := netip.AddrFrom4([4]byte{169, 254, 140, byte(4 * n)})
		a, b := netip.PrefixFrom(in.Next(), 30), netip.PrefixFrom(in.Next().Next(), 30)
		link := m.add(
			design.KindLink, "", "to "+far,
			&design.Link{
				Routing: design.RoutingBGP, Ends: []design.End{{Gateway: gateways["hill"]}, {Gateway: gateways[far]}},
			},
		)
		tunnel := m.add(
			design.KindTunnel, link, "tunnel 1",
			&design.Tunnel{
				Outside: []netip.Addr{
					netip.MustParseAddr("198.51.100.2"), netip.AddrFrom4([4]byte{198, 51, 100, byte(2*n + 1)}),
				},
				Inside: []netip.Prefix{a, b},
			},
		)
		m.add(
			design.KindSession, tunnel, "session",
			&design.Session{
				Ends: []design.SessionEnd{
					{ASN: 64502, Address: a.Addr(), Hold: 3}, {ASN: uint32(64501 + 2*n), Address: b.Addr(), Hold: 3},
				},
			},
		)
		require.NoError(
			t, l.Join(nodes["hill"], fmt.Sprint("dravin", n+1), a.String(), nodes[far], "dravin1", b.String()),
		)
	}
	d := m.design(t)
	tables := route.Solve(d, status.Condition{})
	start := func(name string) {
		for _, f := range handover.Render(tables, d.Get(gateways[name]).Parent, nil) {
			if strings.HasSuffix(f.Path, "bird.conf") {
				bird(t, nodes[name], f.Content)
			}
		}
	}
	has := func(name, prefix string) bool {
		out, err := nodes[name].Output("ip -4 route show proto bird " + prefix)
		return err == nil && strings.TrimSpace(out) != ""
	}
	start("hill")
	start("nursery")
	require.Eventually(
		t, func() bool { return has("nursery", "10.213.0.0/24") }, 2*time.Minute, 100*time.Millisecond,
		"the hill's own range",
	)
	assert.False(t, has("nursery", "10.212.0.0/16"), "no part is known yet")
	start("orangery")
	require.Eventually(
		t, func() bool { return has("nursery", "10.212.0.0/16") }, 2*time.Minute, 100*time.Millisecond,
		"a part is known",
	)
	assert.False(t, has("nursery", "10.212.5.0/24"), "and hidden")
	l.End(nodes["orangery"])
	require.Eventually(
		t, func() bool { return !has("nursery", "10.212.0.0/16") }, 2*time.Minute, 100*time.Millisecond,
		"and gone again",
	)
}
