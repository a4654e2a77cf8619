package lab_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/lab"
)

// circuitEstate is three sites at an edge router, whose circuits have sessions, and a
// circuit between two of them, which has routes that somebody typed or left out.
func circuitEstate(t *testing.T, seed uint64) (d *design.Design, boxes, lans []design.ID) {
	r := rand.New(rand.NewPCG(seed, 31))
	var m maker
	segments := []design.ID{
		"", m.add(design.KindSegment, "", "science", &design.Segment{}),
		m.add(design.KindSegment, "", "grounds", &design.Segment{}),
	}
	any := func() design.ID { return segments[r.IntN(len(segments))] }
	edge := m.add(design.KindEdgeRouter, "", "Millrace", &design.EdgeRouter{Exchange: "Millrace", ASN: 64510})
	for s := range 3 {
		site := m.add(design.KindSite, "", fmt.Sprint("site ", s), &design.Site{})
		g := m.add(
			design.KindGateway, site, "gateway",
			&design.Gateway{
				ASN: uint32(64501 + s), Addresses: []netip.Addr{netip.AddrFrom4([4]byte{198, 51, 100, byte(1 + s)})},
			},
		)
		boxes = append(boxes, g)
		for k := range 2 {
			p := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(212 + s), byte(k), 0}), 24)
			lans = append(
				lans,
				m.add(
					design.KindLAN, site, fmt.Sprint("lan ", k),
					&design.LAN{Prefixes: []netip.Prefix{p}, Segment: any()},
				),
			)
		}
		if r.IntN(5) == 0 && s == 2 {
			continue
		}
		in := netip.AddrFrom4([4]byte{169, 254, 140, byte(4 * s)})
		all := []design.Filter{{Prefix: netip.MustParsePrefix("10.208.0.0/12"), From: 12, To: 32}}
		ends := []design.CircuitEnd{
			{At: g, Mbps: 100, VLAN: uint16(100 + s)}, {At: edge, Mbps: 100, VLAN: uint16(100 + s)},
		}
		c := m.add(design.KindCircuit, "", fmt.Sprint("circuit ", s), &design.Circuit{Segment: any(), Ends: ends})
		m.add(
			design.KindSession, c, "session",
			&design.Session{
				Ends: []design.SessionEnd{
					{ASN: uint32(64501 + s), Address: in.Next()}, {ASN: 64510, Address: in.Next().Next(), Out: all},
				},
			},
		)
	}
	routes := func(s int) (out []netip.Prefix) {
		for k := range 2 {
			if r.IntN(4) > 0 {
				out = append(out, netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(212 + s), byte(k), 0}), 24))
			}
		}
		return out
	}
	inside := func(n byte) netip.Prefix { return netip.PrefixFrom(netip.AddrFrom4([4]byte{169, 254, 141, n}), 29) }
	tag := uint16(r.IntN(2) * 300)
	m.add(design.KindCircuit, "", "between", &design.Circuit{Segment: any(), Ends: []design.CircuitEnd{
		{
			At:     boxes[0],
			Mbps:   100,
			VLAN:   tag,
			Inside: inside(1),
			Routes: routes(1),
		}, {At: boxes[1], Mbps: 100, VLAN: tag, Inside: inside(2), Routes: routes(0)}}})
	return m.design(t), append(boxes, edge), lans
}

// Circuits and an edge router by the files that are handed over: tagged interfaces on
// ports that an administrator fills in, addresses, routes, instances, and the daemons'
// sessions. Packets pass exactly where walks say.
func TestTruthOfCircuits(t *testing.T) {
	estates(t, number("DRAVIN_TRUTH_INSTANCES", 2), func(t *testing.T, seed uint64) (works, all int) {
		d, boxes, lans := circuitEstate(t, seed)
		l := needs(t, "ping", "bird", "ip")
		nodes := map[design.ID]*lab.Node{}
		for n, id := range boxes {
			nodes[id] = node(t, l, fmt.Sprint("b", n))
		}
		tables := route.Solve(d, status.Condition{})
		ports := map[design.ID]map[string]string{}
		for n, c := range d.Of(design.KindCircuit) {
			names := [2]string{}
			for k, end := range c.Body.(*design.Circuit).Ends {
				names[k] = fmt.Sprint("port", n)
				if end.VLAN != 0 { // not every kernel makes tagged interfaces: a cable stands for one
					names[k] = circuitDevice(t, handover.Render(tables, d.Party(end.At).ID, nil), c.Name)
				}
				if ports[end.At] == nil {
					ports[end.At] = map[string]string{}
				}
				ports[end.At][c.Name] = names[k]
			}
			e := c.Body.(*design.Circuit).Ends
			require.NoError(
				t,
				l.Join(
					nodes[e[0].At], names[0], fmt.Sprintf("192.0.2.%d/32", 2*n+1), nodes[e[1].At], names[1],
					fmt.Sprintf("192.0.2.%d/32", 2*n+2),
				),
			)
		}
		hosts := map[design.ID]*lab.Node{}
		for n, lan := range lans {
			hosts[lan] = behind(
				t, l, nodes[d.Inside(d.Get(lan).Parent, design.KindGateway)[0].ID], fmt.Sprint("lan", n),
				d.Ranges(lan)[0],
			)
		}
		for _, id := range boxes {
			install(t, nodes[id], handover.Render(tables, d.Party(id).ID, nil), ports[id])
		}
		for _, id := range boxes[:3] {
			learnsAll(t, nodes[id], tables, id)
		}
		learnsAll(t, nodes[boxes[3]], tables, boxes[3])
		return pings(t, fmt.Sprint("seed ", seed), d, hosts), len(hosts) * (len(hosts) - 1)
	})
}

// circuitDevice is the interface that a box's files expect a circuit on.
func circuitDevice(t *testing.T, files []handover.File, circuit string) string {
	for _, f := range files {
		if filepath.Base(f.Path) != "ports" {
			continue
		}
		for _, line := range strings.Split(f.Content, "\n") {
			if strings.HasSuffix(line, "# "+circuit) {
				return strings.Fields(line)[0]
			}
		}
	}
	t.Fatalf("no file names the interface of %s", circuit)
	return ""
}

// install runs what is handed over for a box, with the ports of its circuits filled in.
func install(t *testing.T, box *lab.Node, files []handover.File, ports map[string]string) {
	dir := t.TempDir()
	for _, f := range files {
		name := filepath.Base(f.Path)
		if name == "ports" {
			lines := strings.Split(f.Content, "\n")
			for n, line := range lines {
				for circuit, port := range ports {
					if strings.HasSuffix(line, "# "+circuit) {
						lines[n] = strings.Replace(line, "FILL-IN", port, 1)
					}
				}
			}
			f.Content = strings.Join(lines, "\n")
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(f.Content), 0o600))
	}
	require.NoError(
		t,
		box.Script(
			"export DRAVIN_PORTS="+dir+"/ports", "sh "+dir+"/routes.sh", "sh "+dir+"/routes.sh",
			"nft -f "+dir+"/dravin.nft",
		),
	)
	if conf, err := os.ReadFile(filepath.Join(dir, "bird.conf")); err == nil {
		bird(t, box, string(conf))
	}
	if _, err := os.Stat(filepath.Join(dir, "watch.sh")); err == nil {
		require.NoError(t, box.Start(nil, filepath.Join(dir, "watch.log"), "/bin/sh", filepath.Join(dir, "watch.sh")))
	}
}

// What runs at boot is read by systemd as it is meant: every unit is in order, the
// listeners wait for the addresses and never give up.
func TestUnitsAreInOrder(t *testing.T) {
	needs(t, "systemd-analyze")
	d, _, _ := circuitEstate(t, 0)
	g := d.Of(design.KindGateway)[0]
	lan := d.Inside(g.Parent, design.KindLAN)[0]
	host := &design.Object{
		ID: "h", Kind: design.KindEndpoint, Parent: lan.ID, Name: "h",
		Body: &design.Endpoint{Addresses: []netip.Addr{prefix.FirstHost(d.Ranges(lan.ID)[0]).Next()}},
	}
	l := &design.Object{
		ID: "l", Kind: design.KindListener, Name: "l",
		Body: &design.Listener{
			At: g.ID, Address: netip.MustParseAddr("10.223.0.9"), Service: design.Service{Proto: "tcp", Port: 443},
			Target: "h",
		},
	}
	d, _, err := d.Apply([]design.Edit{design.PutEdit(host), design.PutEdit(l)})
	require.NoError(t, err)
	dir := t.TempDir()
	var units []string
	for _, f := range handover.Render(route.Solve(d, status.Condition{}), g.Parent, nil) {
		if strings.HasSuffix(f.Path, ".service") {
			units = append(units, filepath.Join(dir, filepath.Base(f.Path)))
			require.NoError(t, os.WriteFile(units[len(units)-1], []byte(f.Content), 0o644))
		}
		if strings.Contains(f.Path, "dravin-listener-") {
			assert.Contains(t, f.Content, "After=dravin.service")
			assert.Contains(t, f.Content, "StartLimitIntervalSec=0")
		}
	}
	require.Len(t, units, 3)
	out, err := exec.Command("systemd-analyze", append([]string{"verify", "--man=no"}, units...)...).CombinedOutput()
	assert.NoError(t, err, "%s", out)
	assert.NotContains(t, string(out), "dravin", "%s", out)
}
