package finding_test

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/demo"
)

// Everything that goes wrong with links is found, and each fix ends what it is
// offered for.
func TestWhatGoesWrongWithLinksIsFoundAndMended(t *testing.T) {
	const salt, peatside = "saltmarsh-station-to-image-analysis", "peatside-to-marrow-hill"
	tunnel := func(change func(a, b *design.TunnelEnd)) func(design.Body) {
		return func(b design.Body) {
			x := b.(*design.Tunnel)
			x.Ends = make([]design.TunnelEnd, 2)
			change(&x.Ends[0], &x.Ends[1])
		}
	}
	session := func(change func(a, b *design.SessionEnd)) func(design.Body) {
		return func(b design.Body) {
			x := b.(*design.Session)
			x.Ends = slices.Clone(x.Ends)
			change(&x.Ends[0], &x.Ends[1])
		}
	}
	circuit := func(change func(*design.Circuit)) func(design.Body) {
		return func(b design.Body) {
			x := b.(*design.Circuit)
			x.Ends = slices.Clone(x.Ends)
			change(x)
		}
	}
	for _, c := range []struct {
		name, path string
		kind       design.Kind
		change     func(design.Body)
		code       string
		fixes      int
	}{
		{
			"peer address", peatside + "/tunnel-1", design.KindTunnel,
			tunnel(func(a, _ *design.TunnelEnd) { a.Peer = netip.MustParseAddr("198.51.100.11") }), "ends-differ", 1,
		},
		{
			"a proposal that its cloud does not have", salt + "/tunnel-1", design.KindTunnel,
			tunnel(func(a, b *design.TunnelEnd) {
				a.IKE, b.IKE = []string{"aes192-sha512-modp4096"}, []string{"aes192-sha512-modp4096"}
			}), "proposal-not-offered", 1,
		},
		{
			"a family without next hops", salt + "/tunnel-1/session", design.KindSession,
			session(func(a, b *design.SessionEnd) {
				a.Families, b.Families = []string{"ipv4", "ipv6"}, []string{"ipv4", "ipv6"}
			}), "family-without-next-hop", 0,
		},
		{
			"identity", peatside + "/tunnel-1", design.KindTunnel,
			tunnel(func(a, b *design.TunnelEnd) { a.Identity, b.PeerIdentity = "nursery.example", "nursery.exampel" }),
			"ends-differ", 2,
		},
		{
			"group", peatside + "/tunnel-1", design.KindTunnel,
			tunnel(func(a, _ *design.TunnelEnd) { a.IKE = []string{"aes256-sha256-modp4096"} }), "ends-differ", 2,
		},
		{
			"key exchange at renewal", peatside + "/tunnel-1", design.KindTunnel,
			tunnel(func(a, _ *design.TunnelEnd) { a.ESP = []string{"aes256gcm16"} }), "ends-differ", 2,
		},
		{
			"IKE version", peatside + "/tunnel-1", design.KindTunnel,
			tunnel(func(a, _ *design.TunnelEnd) { a.Version = 1 }), "ends-differ", 2,
		},
		{
			"lifetime", peatside + "/tunnel-1", design.KindTunnel,
			tunnel(func(a, _ *design.TunnelEnd) { a.ChildLife = 1800 }), "lifetimes-differ", 2,
		},
		{
			"weak", peatside + "/tunnel-1", design.KindTunnel,
			tunnel(func(a, _ *design.TunnelEnd) { a.IKE = []string{"aes256-sha256-ecp256", "3des-sha1-modp1024"} }),
			"weak-proposal", 1,
		},
		{
			"MTU", peatside + "/tunnel-1", design.KindTunnel, tunnel(func(a, _ *design.TunnelEnd) { a.MTU = 1500 }),
			"mtu-too-large", 1,
		},
		{
			"inside elsewhere", salt + "/tunnel-1", design.KindTunnel,
			tunnel(func(a, _ *design.TunnelEnd) { a.Inside = netip.MustParsePrefix("169.254.141.14/30") }),
			"ends-differ", 1,
		},
		{"inside not allowed", salt + "/tunnel-1", design.KindTunnel, func(b design.Body) {
			b.(*design.Tunnel).Inside = []netip.Prefix{
				netip.MustParsePrefix("169.254.199.2/30"), netip.MustParsePrefix("169.254.199.1/30"),
			}
		}, "inside-not-allowed", 1},
		{"inside twice", salt + "/tunnel-1", design.KindTunnel, func(b design.Body) {
			b.(*design.Tunnel).Inside = []netip.Prefix{
				netip.MustParsePrefix("169.254.141.6/30"), netip.MustParsePrefix("169.254.141.5/30"),
			}
		}, "inside-address-twice", 1},
		{"second tunnel missing", salt + "/tunnel-2", design.KindTunnel, nil, "single-tunnel", 1},
		{
			"ASN expected", salt + "/tunnel-1/session", design.KindSession,
			session(func(a, _ *design.SessionEnd) { a.PeerASN = 64999 }), "session-down", 2,
		},
		{
			"password", salt + "/tunnel-1/session", design.KindSession,
			session(func(a, _ *design.SessionEnd) { a.Password = true }), "session-down", 2,
		},
		{
			"too many routes", salt + "/tunnel-1/session", design.KindSession,
			session(func(_, b *design.SessionEnd) { b.MaxPrefixes = 1 }), "session-down", 0,
		},
		{
			"ASN in two places", salt + "/tunnel-1/session", design.KindSession,
			session(func(a, _ *design.SessionEnd) { a.ASN = 64777 }), "asn-in-two-places", 1,
		},
		{
			"ASN twice", "herbarium-scans/circuit-gateway", design.KindGateway,
			func(b design.Body) { b.(*design.Gateway).ASN = 64505 }, "asn-used-twice", 1,
		},
		{
			"forwarding off", "peatside-nursery/gateway", design.KindGateway,
			func(b design.Body) { b.(*design.Gateway).Faults = []string{"forwarding-off"} }, "gateway-does-not-forward",
			1,
		},
		{"gateway subnet", "image-analysis/gateway-subnet", design.KindSubnet, func(b design.Body) {
			b.(*design.Subnet).Prefixes = []netip.Prefix{netip.MustParsePrefix("10.211.0.0/28")}
		}, "gateway-too-small", 1},
		{"half a peering", "", "", nil, "half-made-peering", 1},
		{"gateway not lent", "sequencing-with-image-analysis", design.KindPeering, func(b design.Body) {
			x := b.(*design.Peering)
			x.Halves = slices.Clone(x.Halves)
			x.Halves[0].UsesGateway = true
		}, "gateway-not-lent", 1},
		{
			"circuit speeds", "saltmarsh-station-circuit", design.KindCircuit,
			circuit(func(x *design.Circuit) { x.Ends[0].Mbps = 50 }), "circuit-speeds-differ", 2,
		},
		{
			"circuit tags", "saltmarsh-station-circuit", design.KindCircuit,
			circuit(func(x *design.Circuit) { x.Ends[0].VLAN = 7 }), "circuit-tags-differ", 2,
		},
		{
			"speed not sold", "herbarium-scans-circuit-1", design.KindCircuit,
			circuit(func(x *design.Circuit) { x.Ends[0].Mbps, x.Ends[1].Mbps = 60, 60 }), "circuit-speed-not-offered",
			1,
		},
		{
			"code's zone", "herbarium-scans-circuit-1", design.KindCircuit,
			circuit(func(x *design.Circuit) { x.CodeZone = "tarn-north-c" }), "code-of-other-zone", 1,
		},
		{"one circuit", "herbarium-scans-circuit-2", design.KindCircuit, nil, "single-circuit", 1},
		{
			"public subnet", "catalogue/shelf-a", design.KindSubnet,
			func(b design.Body) { b.(*design.Subnet).Public = true }, "attachment-in-public-subnet", 0,
		},
		{"zone skipped", "tarn-hub/catalogue", design.KindAttachment,
			func(b design.Body) { x := b.(*design.Attachment); x.Subnets = x.Subnets[:1] }, "attachment-skips-zone", 1},
		{"hub refuses", "seed-bank-index", design.KindNetwork, func(b design.Body) {
			b.(*design.Network).Blocks = []netip.Prefix{
				netip.MustParsePrefix("172.29.48.0/20"), netip.MustParsePrefix("172.29.18.0/24"),
			}
		}, "hub-refuses-overlap", 1},
		{"a full table", "catalogue/table-a", design.KindTable, func(b design.Body) {
			x := b.(*design.Table)
			for n := range 65 {
				x.Routes = append(
					x.Routes,
					design.Entry{
						Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 222, byte(n), 0}), 24),
						Via:    x.Routes[0].Via,
					},
				)
			}
		}, "too-many-routes", 0},
		{
			"no profile", "ticketing", design.KindNetwork, func(b design.Body) { b.(*design.Network).Cloud = "Rush" },
			"no-profile", 0,
		},
		{"open request", "", "", nil, "request-open", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, err := design.Read(demo.Thistledown)
			require.NoError(t, err)
			if c.path != "" {
				d = changed(t, d, d.Find(c.path, c.kind)[0], c.change)
			}
			found := withCode(d, c.code)
			require.NotEmpty(t, found)
			assert.Len(t, found[0].Fixes, c.fixes, "%+v", found[0])
			for _, m := range found[0].Fixes {
				next, _, err := d.Apply(m.Edits)
				require.NoError(t, err, m.Title)
				assert.Less(t, len(withCode(next, c.code)), len(found), m.Title)
			}
		})
	}
}

func withCode(d *design.Design, code string) []finding.Finding {
	all := snapshot.Of(d, status.Condition{}).Findings
	out := slices.DeleteFunc(all.All(), func(f finding.Finding) bool { return f.Code != code })
	for n := range out[:min(len(out), 2)] { // with those that are worked out when asked for
		out[n].Fixes, _ = all.Fixes(context.Background(), out[n].Key) // which never ends
	}
	return out
}

// changed applies a change to a copy of an object's body, or removes the object
// with what is in it if there is none.
func changed(t *testing.T, d *design.Design, o *design.Object, change func(design.Body)) *design.Design {
	var edits []design.Edit
	if change == nil {
		for _, in := range d.Inside(o.ID) {
			edits = append(edits, design.Edit{Op: design.Remove, ID: in.ID})
		}
		edits = append(edits, design.Edit{Op: design.Remove, ID: o.ID})
	} else {
		copied, err := o.Remap(nil)
		require.NoError(t, err)
		change(copied.Body)
		edits = append(edits, design.PutEdit(copied))
	}
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	return next
}

func TestCodesAndKeysAreFound(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	o := d.Find("herbarium-scans-circuit-2", design.KindCircuit)[0]
	d = changed(t, d, o, func(b design.Body) {
		x := b.(*design.Circuit)
		x.Step, x.Code, x.Expires = "code", "K7", "2026-12-01"
	})
	for today, code := range map[string]string{
		"2026-11-20": "", "2026-11-26": "code-expires", "2026-12-02": "code-expired",
	} {
		ahead := "2026-11-27"
		if today > "2026-11-20" {
			ahead = "2026-12-09"
		}
		found := finding.Expiring(d, today, ahead)
		if code == "" {
			assert.Empty(t, found)
			continue
		}
		require.Len(t, found, 1, today)
		assert.Equal(t, code, found[0].Code)
		next, _, err := d.Apply(found[0].Fixes[0].Edits)
		require.NoError(t, err)
		assert.Empty(t, finding.Expiring(next, today, ahead))
	}
	var tunnels []design.ID
	for _, t := range d.Of(design.KindTunnel) {
		tunnels = append(tunnels, t.ID)
	}
	assert.Len(t, finding.SharedKeys(d, [][]design.ID{tunnels[:4]}), 1)
	assert.Empty(t, finding.SharedKeys(d, [][]design.ID{tunnels[:2]}), "the tunnels of one link may share a key")
}

// A hundred gateways with one ASN are one thing to know, not thousands; and
// fixes that look through the whole design stay bounded.
func TestManyOfAKindStayReadable(t *testing.T) {
	var file strings.Builder
	file.WriteString(
		"dravin: 1\nsites:\n  - name: Head\n    gateways:\n      - name: gateway\n        addresses: [198.51.100.1, " +
			"198.51.100.2]\n        asn: 64501\n",
	)
	for n := range 100 {
		fmt.Fprintf(
			&file,
			"  - name: Hut %d\n    gateways:\n      - name: gateway\n        addresses: 203.0.113.%d\n        asn: 64700\n",
			n,
			n+1,
		)
	}
	file.WriteString("links:\n")
	for n := range 100 {
		fmt.Fprintf(
			&file,
			"  - name: Link %d\n    routing: bgp\n    ends:\n      - gateway: head/gateway\n      - gateway: "+
				"hut-%d/gateway\n    tunnels:\n      - name: tunnel 1\n        outside: [198.51.100.1, 203.0.113.%d]\n",
			n,
			n,
			n+1,
		)
	}
	d, err := design.Read([]byte(file.String()))
	require.NoError(t, err)
	twice := withCode(d, "asn-used-twice")
	require.Len(t, twice, 1)
	assert.Len(t, twice[0].Subjects, 100)
	single := withCode(d, "single-tunnel")
	require.Len(t, single, 100)
	for n, f := range single {
		assert.Equal(t, n < 2, len(f.Fixes) > 0, "fixes are drafted when asked for")
		assert.True(t, f.More)
		assert.Equal(t, f.Subjects[0], f.Link)
	}
	// Static links tell nobody which path a route took: the ASNs do not matter.
	var edits []design.Edit
	for _, o := range d.Of(design.KindLink) {
		l := *o.Body.(*design.Link)
		l.Routing = design.RoutingStatic
		edits = append(edits, design.PutEdit(o.With(&l)))
	}
	d, _, err = d.Apply(edits)
	require.NoError(t, err)
	assert.Empty(t, withCode(d, "asn-used-twice"))
}

// Two routers of one place that are joined to one network have one ASN on purpose.
func TestTwoRoutersOfOnePlaceMayHaveOneASN(t *testing.T) {
	const file = "dravin: 1\nsites:\n" +
		"  - {name: Head, gateways: [{name: gateway, addresses: [198.51.100.1], asn: 64501}]}\n" +
		"  - {name: Hut, gateways: [{name: left, addresses: [203.0.113.1], asn: 64700}, " +
		"{name: right, addresses: [203.0.113.2], asn: 64700}]}\n" +
		"links:\n" +
		"  - {name: one, routing: bgp, ends: [{gateway: head/gateway}, {gateway: hut/left}]}\n" +
		"  - {name: two, routing: bgp, ends: [{gateway: head/gateway}, {gateway: hut/right}]}\n"
	d, err := design.Read([]byte(file))
	require.NoError(t, err)
	assert.Empty(t, withCode(d, "asn-used-twice"))
	d, err = design.Read([]byte(strings.Replace(file, "asn: 64501", "asn: 64700", 1)))
	require.NoError(t, err)
	assert.Empty(t, withCode(d, "asn-used-twice"), "they speak to each other directly")
	other := strings.Replace(file, "  - {name: Hut, gateways: [{name: left, addresses: [203.0.113.1], asn: 64700}, {",
		"  - {name: Hut, gateways: [{name: left, addresses: [203.0.113.1], asn: 64700}]}\n  - {name: Barn, gateways: [{", 1)
	d, err = design.Read([]byte(strings.Replace(other, "hut/right", "barn/right", 1)))
	require.NoError(t, err)
	assert.Len(t, withCode(d, "asn-used-twice"), 1)
}
