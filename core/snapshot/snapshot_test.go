package snapshot_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/negotiate"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/core/translate"
	"dravin/demo"
)

// estate makes an estate of n sites, n/10 cloud networks, a link of two tunnels
// from each site to a network and an intent over each, with some of everything
// that goes wrong.
func estate(tb testing.TB, n int) *design.Design {
	var objects []*design.Object
	add := func(k design.Kind, parent design.ID, name string, b design.Body) design.ID {
		id := design.IDFor(k, string(parent)+name)
		objects = append(objects, &design.Object{ID: id, Kind: k, Parent: parent, Name: name, Body: b})
		return id
	}
	public := func(k int) netip.Addr { return netip.AddrFrom4([4]byte{198, 51, byte(k >> 8), byte(k)}) }
	var gateways, hosts []design.ID
	for k := range max(1, n/10) {
		net := add(
			design.KindNetwork, "", fmt.Sprintf("network %d", k),
			&design.Network{
				Cloud: "Sedge", Region: "sedge-coast",
				Blocks: []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 208, byte(k * 8), 0}), 21)},
			},
		)
		table := add(design.KindTable, net, "table", &design.Table{})
		sub := add(
			design.KindSubnet, net, "subnet",
			&design.Subnet{
				Zone: "sedge-coast-a", Table: table,
				Prefixes: []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 208, byte(k * 8), 0}), 24)},
			},
		)
		hosts = append(
			hosts,
			add(
				design.KindEndpoint, sub, "server",
				&design.Endpoint{Addresses: []netip.Addr{netip.AddrFrom4([4]byte{10, 208, byte(k * 8), 10})}},
			),
		)
		gateways = append(
			gateways,
			add(
				design.KindGateway, net, "gateway",
				&design.Gateway{
					Addresses: []netip.Addr{public(60000 + 2*k), public(60001 + 2*k)}, ASN: uint32(4200100000 + k),
					VPN: "doubled",
				},
			),
		)
	}
	for k := range n {
		site := add(design.KindSite, "", fmt.Sprintf("site %d", k), &design.Site{})
		g := add(
			design.KindGateway, site, "gateway",
			&design.Gateway{Addresses: []netip.Addr{public(k)}, ASN: uint32(4200000000 + k)},
		)
		lan := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(212 + k/256), byte(k), 0}), 24)
		if k%29 == 28 {
			lan = netip.MustParsePrefix("192.168.216.0/24") // some are the same
		}
		place := add(design.KindLAN, site, "house", &design.LAN{Prefixes: []netip.Prefix{lan}})
		host := add(
			design.KindEndpoint, place, "controller",
			&design.Endpoint{Addresses: []netip.Addr{lan.Addr().Next().Next()}},
		)
		m := k % len(gateways)
		block := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 208, byte(m * 8), 0}), 21)
		link := add(
			design.KindLink, "", fmt.Sprintf("link %d", k),
			&design.Link{
				Routing: design.RoutingBGP,
				Ends: []design.End{
					{Gateway: g, Routes: []netip.Prefix{block}}, {Gateway: gateways[m], Routes: []netip.Prefix{lan}},
				},
			},
		)
		for s := range 2 {
			in := netip.PrefixFrom(
				netip.AddrFrom4([4]byte{169, 254, byte(180 + (2*k+s)/64), byte((2*k + s) % 64 * 4)}), 30,
			)
			a, b := in.Addr().Next(), in.Addr().Next().Next()
			t := &design.Tunnel{
				Outside: []netip.Addr{public(k), public(60000 + 2*m + s)},
				Inside:  []netip.Prefix{netip.PrefixFrom(a, 30), netip.PrefixFrom(b, 30)},
			}
			if k%17 == 3 {
				t.Ends = []design.TunnelEnd{
					{IKE: []string{"aes256-sha384-ecp384"}}, {IKE: []string{"aes128-sha256-ecp256"}},
				}
			}
			tunnel := add(design.KindTunnel, link, fmt.Sprintf("tunnel %d", s+1), t)
			add(
				design.KindSession, tunnel, "session",
				&design.Session{
					Ends: []design.SessionEnd{
						{ASN: uint32(4200000000 + k), Address: a}, {ASN: uint32(4200100000 + m), Address: b},
					},
				},
			)
		}
		add(
			design.KindIntent, "", fmt.Sprintf("intent %d", k),
			&design.Intent{From: hosts[m], To: host, Service: design.Service{Proto: "tcp", Port: 502}},
		)
	}
	edits := make([]design.Edit, len(objects))
	for n, o := range objects {
		edits[n] = design.PutEdit(o)
	}
	d, _, err := design.New("estate", nil).Apply(edits)
	require.NoError(tb, err)
	return d
}

// everything is all that can be said of a solved design, as text.
func everything(tb testing.TB, s *snapshot.Solved) string {
	var verdicts []status.Verdict
	for _, o := range s.Design.All() {
		verdicts = append(verdicts, s.Tables.Status.Of(o.ID))
	}
	text, err := json.Marshal([]any{verdicts, s.Tables.Points(), s.Proofs.All(), s.Findings.All()})
	require.NoError(tb, err)
	if there := s.On(design.Built); there != s {
		return string(text) + everything(tb, there)
	}
	return string(text)
}

// randomEdit changes something anywhere, now and then something that is refused.
func randomEdit(r *rand.Rand, d *design.Design) []design.Edit {
	all := d.All()
	o := all[r.IntN(len(all))]
	if r.IntN(12) == 0 {
		return []design.Edit{{Op: design.Remove, ID: o.ID}}
	}
	states := []design.State{design.Waiting, design.Making, design.Ready, design.Refused, design.Gone}
	switch b := o.Body.(type) {
	case *design.LAN:
		c := *b
		c.Prefixes = append(
			slices.Clone(b.Prefixes), netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 215, byte(r.IntN(40)), 0}), 24),
		)
		return []design.Edit{design.PutEdit(o.With(&c))}
	case *design.Gateway:
		c := *b
		c.ASN = 4200000000 + uint32(r.IntN(9))
		c.Faults = [][]string{nil, {design.ForwardingOff}, {design.StrictReversePath}}[r.IntN(3)]
		return []design.Edit{design.PutEdit(o.With(&c))}
	case *design.Tunnel:
		c := *b
		c.Ends = []design.TunnelEnd{{Version: uint8(r.IntN(3))}, {Version: uint8(r.IntN(3))}}
		return []design.Edit{design.PutEdit(o.With(&c))}
	case *design.Table:
		c := *b
		if len(c.Routes) > 0 {
			c.Routes = slices.Delete(slices.Clone(c.Routes), 0, 1)
		}
		return []design.Edit{design.PutEdit(o.With(&c))}
	case *design.Session:
		c := design.Session{Ends: slices.Clone(b.Ends)}
		filters := [][]design.Filter{
			nil, {{Prefix: netip.MustParsePrefix("10.208.0.0/12"), To: 32}}, {{LocalPref: 90}},
			{{Prefix: netip.MustParsePrefix("10.209.0.0/16"), Prepend: 2}, {Verdict: design.Refuse}},
		}
		switch r.IntN(4) {
		case 0:
			c.Ends[0].PeerASN = uint32(r.IntN(2)) * 4200000999
		case 1:
			c.Ends[r.IntN(2)].MaxPrefixes = uint32(r.IntN(4))
		case 2:
			c.Ends[r.IntN(2)].Out = filters[r.IntN(4)]
		case 3:
			c.Ends[r.IntN(2)].In = filters[r.IntN(4)]
		}
		return []design.Edit{design.PutEdit(o.With(&c))}
	case *design.Attachment:
		c := *b
		if r.IntN(2) == 0 {
			c.Feeds = nil
		}
		return []design.Edit{design.PutEdit(o.With(&c).InState(states[r.IntN(len(states))]))}
	}
	if b, ok := o.Body.(*design.Circuit); ok && r.IntN(2) == 0 {
		c := *b
		if segments := d.Of(design.KindSegment); len(segments) > 0 {
			c.Segment = segments[r.IntN(len(segments))].ID
		}
		return []design.Edit{design.PutEdit(o.With(&c))}
	}
	c := *o.InState(states[r.IntN(len(states))])
	if r.IntN(3) == 0 {
		c.Name += " x"
	}
	edit := design.PutEdit(&c)
	edit.Side = []design.Side{design.Planned, design.Planned, design.Built, design.Both}[r.IntN(4)]
	return []design.Edit{edit}
}

// Whatever is changed, in whatever order, what follows is the same as from
// nothing: of the design itself, of trials, and of designs that stay.
func TestAfterAChangeAllIsAsFromNothing(t *testing.T) {
	for seed := range uint64(6) {
		r := rand.New(rand.NewPCG(seed, 1))
		d, err := design.Read(demo.Thistledown)
		require.NoError(t, err)
		if seed == 5 {
			d = estate(t, 20)
		}
		at := snapshot.Of(d, status.Condition{})
		everything(t, at)
		changed := 0
		for range 40 {
			edits := randomEdit(r, at.Design)
			tried, err := at.Try(edits)
			if err != nil {
				continue
			}
			changed++
			there := design.New(d.Name, slices.Clone(tried.Design.Built().All()))
			anew := design.New(d.Name, slices.Clone(tried.Design.All())).WithBuilt(there)
			want := everything(t, snapshot.Of(anew, status.Condition{}))
			require.Equal(t, want, everything(t, tried), "a trial of %v", edits[0])
			if r.IntN(2) == 0 {
				tried.Settle()
				at = tried
				require.Equal(t, want, everything(t, at))
			}
		}
		require.Greater(t, changed, 8)
	}
}

func BenchmarkFromNothing(b *testing.B) {
	for _, n := range []int{30, 300} {
		d := estate(b, n)
		b.Run(fmt.Sprintf("%d sites", n), func(b *testing.B) {
			for b.Loop() {
				snapshot.Of(d, status.Condition{}).Findings.All()
			}
		})
	}
}

// edited are edits that give the tunnels of a link other proposals in turn.
func edited(d *design.Design, n int) []design.Edit {
	all := d.Of(design.KindTunnel)
	o := all[n%len(all)]
	c := *o.Body.(*design.Tunnel)
	c.Ends = []design.TunnelEnd{{IKE: negotiate.Strong.IKE[n%2 : n%2+1]}, {IKE: negotiate.Strong.IKE[:1]}}
	return []design.Edit{design.PutEdit(o.With(&c))}
}

func BenchmarkOneEdit(b *testing.B) {
	s := snapshot.Of(estate(b, 300), status.Condition{})
	everything(b, s)
	for n := 0; b.Loop(); n++ {
		next, err := s.Try(edited(s.Design, n))
		require.NoError(b, err)
		next.Settle()
		for _, p := range next.Tables.Points() {
			_ = p.Routes
		}
		for j := range next.Design.Joints() {
			next.Tables.Status.Of(j.ID)
		}
		next.Proofs.All()
		next.Findings.All()
		s = next
	}
}

func BenchmarkOneTrial(b *testing.B) {
	s := snapshot.Of(estate(b, 300), status.Condition{})
	everything(b, s)
	intents := s.Design.Of(design.KindIntent)
	for n := 0; b.Loop(); n++ {
		next, err := s.Try(edited(s.Design, n))
		require.NoError(b, err)
		next.Proofs.Intent(intents[n/2%len(intents)].ID)
	}
}

func BenchmarkFirstRemedy(b *testing.B) {
	s := snapshot.Of(estate(b, 300), status.Condition{})
	all := s.Findings.All()
	n := slices.IndexFunc(all, func(f finding.Finding) bool { return f.Code == "overlap" })
	require.GreaterOrEqual(b, n, 0)
	group := s.Findings.Groups()[0]
	for b.Loop() {
		for o := range translate.Each(context.Background(), s.Proofs, group) {
			if o.Remedy != translate.Leave {
				break
			}
		}
	}
}
