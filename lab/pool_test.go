package lab_test

import (
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/ledger"
	"dravin/core/route"
	"dravin/core/status"
)

// TestAPoolUntilItIsFull sends more conversations to one far end than a pool of one
// address has ports, through the rendered rules: the kernel gives out no more than
// are reckoned, hardly fewer, and none twice.
func TestAPoolUntilItIsFull(t *testing.T) {
	needs(t, "ip", "nft")
	room(t, 140_000)
	e := &estate{r: rand.New(rand.NewPCG(1, 1)), up: map[design.ID]bool{}, side: design.Planned}
	site := func(lan string) *design.Object {
		s := e.add(design.KindSite, "", &design.Site{})
		g := e.add(
			design.KindGateway, s.ID,
			&design.Gateway{
				Addresses: []netip.Addr{e.address()}, Stands: []netip.Addr{nth(netip.MustParsePrefix(lan), 2)},
			},
		)
		e.hosts(e.add(design.KindLAN, s.ID, &design.LAN{Prefixes: []netip.Prefix{netip.MustParsePrefix(lan)}}))
		return g
	}
	a, b := site("192.168.211.0/24"), site("10.214.0.0/24")
	pool, far := netip.MustParsePrefix("10.223.0.1/32"), netip.MustParsePrefix("10.214.0.0/24")
	l := e.add(
		design.KindLink, "",
		&design.Link{
			Routing: design.RoutingStatic,
			Ends: []design.End{
				{Gateway: a.ID, Routes: []netip.Prefix{far}}, {Gateway: b.ID, Routes: []netip.Prefix{pool}},
			},
		},
	)
	e.tunnel(l, l.Body.(*design.Link), a, b, 0, true)
	tunnel := e.of(design.KindTunnel, l.ID)[0]
	tunnel.Body.(*design.Tunnel).Ends = nil
	e.up[tunnel.ID] = true
	a.Body.(*design.Gateway).Translate = []design.Rule{
		{Hook: design.Postrouting, Toward: l.ID, Does: design.FromPool, Into: pool},
	}
	var edits []design.Edit
	for _, o := range e.objects {
		edits = append(edits, design.PutEdit(o))
	}
	var err error
	e.d, _, err = design.New("pool", nil).Apply(edits)
	require.NoError(t, err)
	tables := route.Solve(e.d, status.Condition{})
	w := build(t, e, func(g design.ID) (map[design.ID]string, []string) { return renderedFiles(t, tables, g) })

	places := e.of(design.KindLAN, "")
	seen := map[netip.AddrPort]int{}
	to := nth(far, 10)
	var server *net.UDPConn
	require.NoError(t, w.nodes[places[1].ID].Do(func() (err error) {
		server, err = net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(to, port)))
		return err
	}))
	_ = server.SetReadBuffer(64 << 20)
	done := make(chan struct{})
	go func() {
		defer close(done)
		buf := make([]byte, 16)
		for {
			if _, from, err := server.ReadFromUDPAddrPort(buf); err == nil {
				seen[from]++
				continue
			}
			return
		}
	}()
	const each = 40_000
	require.NoError(t, w.nodes[places[0].ID].Do(func() error {
		for _, host := range []netip.Addr{
			nth(netip.MustParsePrefix("192.168.211.0/24"), 10), nth(netip.MustParsePrefix("192.168.211.0/24"), 11),
		} {
			for p := range each {
				c, err := net.DialUDP(
					"udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(host, uint16(20_000+p))),
					net.UDPAddrFromAddrPort(netip.AddrPortFrom(to, port)),
				)
				if err != nil {
					continue // the namespace uses the port itself
				}
				_, _ = c.Write([]byte{1})
				_ = c.Close()
				if p%128 == 0 {
					time.Sleep(time.Millisecond)
				}
			}
		}
		return nil
	}))
	time.Sleep(300 * time.Millisecond)
	_ = server.Close()
	<-done
	reckoned := ledger.Pools(tables)
	require.Len(t, reckoned, 1)
	t.Logf("%d conversations of %d reckoned", len(seen), reckoned[0].Connections)
	assert.LessOrEqual(t, uint64(len(seen)), reckoned[0].Connections)
	assert.Greater(t, uint64(len(seen)), reckoned[0].Connections*9/10)
	for from := range seen {
		require.Equal(t, pool.Addr(), from.Addr().Unmap())
	}
}

// room lets connection tables take so many conversations while the test runs, where
// they take fewer; it skips, and fails in CI, where that can not be.
func room(t *testing.T, conversations int) {
	const most = "/proc/sys/net/netfilter/nf_conntrack_max"
	text, err := os.ReadFile(most)
	if os.IsNotExist(err) {
		return // nothing bounds them
	}
	require.NoError(t, err)
	if n, _ := strconv.Atoi(strings.TrimSpace(string(text))); n >= conversations {
		return
	}
	err = os.WriteFile(most, []byte(strconv.Itoa(conversations)), 0o644)
	if err != nil && os.Getenv("CI") == "" {
		t.Skipf("NOT CHECKED AGAINST REALITY: the connection table takes too few: %v", err)
	}
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.WriteFile(most, text, 0o644)) })
}
