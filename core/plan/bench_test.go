package plan_test

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dravin/core/command"
	"dravin/core/design"
	"dravin/core/plan"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
)

// merger is n sites that nothing joins, of which some have one and the same range, with intents of each
// with the head and of the head with each.
func merger(tb testing.TB, n, alike int) (*design.Design, []design.ID) {
	var edits []design.Edit
	add := func(k design.Kind, parent design.ID, name string, b design.Body) design.ID {
		o := &design.Object{ID: design.IDFor(k, string(parent)+"/"+name), Kind: k, Parent: parent, Name: name, Body: b}
		edits = append(edits, design.PutEdit(o))
		return o.ID
	}
	var sites, hosts []design.ID
	for k := range n {
		site := add(design.KindSite, "", fmt.Sprintf("garden %d", k), &design.Site{})
		add(design.KindGateway, site, "gateway", &design.Gateway{
			Addresses: []netip.Addr{netip.AddrFrom4([4]byte{203, 0, byte(113 + k/250), byte(k%250 + 1)})},
		})
		r := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(212 + k/256), byte(k), 0}), 24)
		if k > 0 && k <= alike {
			r = netip.MustParsePrefix("192.168.216.0/24")
		}
		lan := add(design.KindLAN, site, "glasshouse", &design.LAN{Prefixes: []netip.Prefix{r}})
		sites, hosts = append(sites, site), append(hosts, add(design.KindEndpoint, lan, "controller", &design.Endpoint{
			Addresses: []netip.Addr{r.Addr().Next().Next()},
		}))
	}
	for k := 1; k < n; k++ {
		for _, way := range [2][2]design.ID{{hosts[0], hosts[k]}, {hosts[k], hosts[0]}} {
			add(design.KindIntent, "", fmt.Sprintf("intent %d %s", k, way[0][:4]), &design.Intent{
				From: way[0], To: way[1], Service: design.Service{Proto: "tcp", Port: 502},
			})
		}
	}
	d, _, err := design.New("merger", nil).Apply(edits)
	require.NoError(tb, err)
	return d, sites
}

func planning(b *testing.B, d *design.Design, q plan.Question, first bool) {
	built := proof.Of(route.Solve(d, status.Condition{}))
	built.All()
	for b.Loop() {
		ctx, stop := context.WithCancel(context.Background())
		found := false
		p, err := plan.For(ctx, built, q, func(p plan.Progress) {
			if first && p.Answers > 0 {
				found = true
				stop()
			}
		})
		if !found {
			require.NoError(b, err)
			require.NotEmpty(b, p.Options)
			require.Empty(b, p.Options[0].Refused)
		}
		stop()
	}
}

// BenchmarkFirstAnswer is for two gardens with one range beside 300 sites that are joined.
func BenchmarkFirstAnswer(b *testing.B) {
	d, sites := huts(b, 300)
	p := planned(b, d, plan.Question{Parties: sites})
	d = apply(b, d, p.Options[0].Edits)
	u, err := command.Understand(context.Background(), d, strings.ReplaceAll(gardens, "catalogue", "seed index"), "")
	require.NoError(b, err)
	d = apply(b, d, u.Edits)
	planning(b, d, plan.Question{Parties: parties(b, d, "old-orangery", "peatside-nursery")}, true)
}

func BenchmarkMerger40(b *testing.B) {
	d, sites := merger(b, 40, 25)
	planning(b, d, plan.Question{Parties: sites}, false)
}

// huts are n with one and the same range, beside a network at a hub.
func huts(tb testing.TB, n int) (*design.Design, []design.ID) {
	d := said(tb, `network catalogue in Tarn 10.208.0.0/20, subnet shelf 10.208.0.0/24
hub Tarn hub in Tarn tarn-north asn 4200000640
join catalogue and Tarn hub by hub
host logger in catalogue shelf 10.208.0.20 answers tcp/6514
reserve 10.223.0.0/16 for mapped ranges use mapping`)
	logger := d.Find("catalogue/shelf/logger")[0].ID
	var edits []design.Edit
	add := func(k design.Kind, parent design.ID, name string, b design.Body) design.ID {
		o := &design.Object{ID: design.IDFor(k, string(parent)+"/"+name), Kind: k, Parent: parent, Name: name, Body: b}
		edits = append(edits, design.PutEdit(o))
		return o.ID
	}
	sites := []design.ID{d.Find("tarn-hub")[0].ID}
	for k := range n {
		site := add(design.KindSite, "", fmt.Sprintf("hut %d", k), &design.Site{})
		add(design.KindGateway, site, "gateway", &design.Gateway{
			Addresses: []netip.Addr{netip.AddrFrom4([4]byte{203, 0, byte(113 + k/250), byte(k%250 + 1)})},
			ASN:       4200001000 + uint32(k),
		})
		r := netip.MustParsePrefix("192.168.211.0/24")
		lan := add(design.KindLAN, site, "house", &design.LAN{Prefixes: []netip.Prefix{r}})
		host := add(
			design.KindEndpoint, lan, "meter", &design.Endpoint{Addresses: []netip.Addr{r.Addr().Next().Next()}},
		)
		add(design.KindIntent, "", fmt.Sprintf("intent %d", k), &design.Intent{
			From: host, To: logger, Service: design.Service{Proto: "tcp", Port: 6514},
		})
		sites = append(sites, site)
	}
	return apply(tb, d, edits), sites
}

func BenchmarkHuts300(b *testing.B) {
	d, sites := huts(b, 300)
	planning(b, d, plan.Question{Parties: sites}, false)
}
