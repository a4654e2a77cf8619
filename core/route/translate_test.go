package route_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
)

func read(t *testing.T, file []byte) *design.Design {
	d, err := design.Read(file)
	require.NoError(t, err)
	return d
}

func remedy(t *testing.T, name string) *design.Design {
	file, err := demo.Remedies.ReadFile("remedies/" + name + ".yaml")
	require.NoError(t, err)
	return read(t, file)
}

func changed(t *testing.T, d *design.Design, objects ...*design.Object) *design.Design {
	var edits []design.Edit
	for _, o := range objects {
		edits = append(edits, design.PutEdit(o))
	}
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	return next
}

// A cloud's gateway does what its profile offers, and no more; a gateway or box of
// one's own does all.
func TestWhoTranslatesWhat(t *testing.T) {
	d := read(t, demo.Thistledown)
	every := []string{design.OneToOne, design.FromPool, design.OwnAddress, design.ToTarget, design.Nothing}
	for path, does := range map[string][]string{
		"marrow-hill/gateway":         every,
		"catalogue/rented-box":        every,
		"catalogue/cloud-gateway":     {}, // Tarn has no rules there
		"image-analysis/twin-gateway": {design.OneToOne, design.FromPool, design.ToTarget, design.Nothing},
	} {
		o := d.Find(path, design.KindGateway, design.KindBox)[0]
		for _, what := range every {
			assert.Equal(t, slices.Contains(does, what), route.NotOffered(d, o.ID, what) == "", "%s, %s", path, what)
		}
	}
	millrace := d.Find("millrace", design.KindEdgeRouter)[0]
	assert.Empty(t, route.Translations(d, millrace.ID), "an edge router translates nothing")

	o := d.Find("image-analysis/twin-gateway", design.KindGateway)[0]
	g := *o.Body.(*design.Gateway)
	g.Translate = []design.Rule{
		{Hook: design.Postrouting, Does: design.OwnAddress},
		{Hook: design.Postrouting, Does: design.FromPool, Into: netip.MustParsePrefix("10.223.9.0/28")},
	}
	d = changed(t, d, o.With(&g))
	list := route.Translations(d, o.ID)
	require.Len(t, list, 1, "what is not offered does nothing")
	assert.Equal(t, design.FromPool, list[0].Does)
	told, takes := route.RulesTaken(d, o.ID)
	assert.Equal(t, 2, told)
	assert.Equal(t, 90, takes)
}

// The order of a box: mappings, then what it publishes by rewriting, then its list;
// who hides does so for what came for the listener alone.
func TestTheOrderOfTranslations(t *testing.T) {
	d := read(t, demo.Thistledown)
	hill := d.Find("marrow-hill/gateway", design.KindGateway)[0]
	link := d.Find("marrow-hill-to-catalogue", design.KindLink)[0]
	mapping := &design.Object{
		ID: "m", Kind: design.KindMapping, Name: "store",
		Body: &design.Mapping{
			Gateway: hill.ID, Link: link.ID, Real: netip.MustParsePrefix("192.168.216.0/24"),
			Mapped: netip.MustParsePrefix("10.223.99.0/24"),
		},
	}
	published := &design.Object{
		ID:   "p",
		Kind: design.KindListener,
		Name: "cabinet",
		Body: &design.Listener{
			At:      hill.ID,
			Address: netip.MustParseAddr("10.223.98.1"),
			Service: design.Service{Proto: "tcp", Port: 443},
			Target:  d.Find("humidity-cabinet")[0].ID,
			Does:    design.Rewriting,
			Hides:   true,
		},
	}
	var did []string
	for _, x := range route.Translations(changed(t, d, mapping, published), hill.ID) {
		did = append(did, x.Hook+" "+x.Does)
		if x.Of == "p" && x.Hook == design.Postrouting {
			assert.Equal(t, "10.223.98.1", x.Dialled.String())
		}
	}
	assert.Equal(
		t,
		[]string{
			"arriving one-to-one", "leaving one-to-one", "arriving target", "leaving own-address", "leaving nothing",
			"leaving own-address",
		},
		did,
	)
}

// Who answers for an address among hosts: a box, its listeners and pools, of IPv6 no
// more than can be told to neighbours one by one.
func TestWhoAnswersAmongHosts(t *testing.T) {
	d := read(t, demo.Thistledown)
	hill := d.Find("marrow-hill/gateway", design.KindGateway)[0]
	room := d.Find("marrow-hill/data-room", design.KindLAN)[0]
	g := *hill.Body.(*design.Gateway)
	g.Stands = []netip.Addr{netip.MustParseAddr("10.214.0.1"), netip.MustParseAddr("2001:db8:20::1")}
	four, few, many := netip.MustParsePrefix(
		"10.214.2.0/28",
	),
		netip.MustParsePrefix("2001:db8:20::f0/124"),
		netip.MustParsePrefix("2001:db8:20:0:1::/80")
	for _, into := range []netip.Prefix{four, few, many} {
		g.Translate = append(g.Translate, design.Rule{Hook: design.Postrouting, Does: design.FromPool, Into: into})
	}
	d = changed(t, d, hill.With(&g))
	tables := route.Solve(d, status.Condition{})
	for a, by := range map[string]design.ID{
		"10.214.0.1": hill.ID, "10.214.1.250": hill.ID, "10.214.2.9": hill.ID, "2001:db8:20::f3": hill.ID,
		"2001:db8:20:0:1::9": "", "10.214.0.99": "",
	} {
		assert.Equal(t, by, tables.Bearer(room.ID, netip.MustParseAddr(a)), a)
	}
	assert.Equal(t, []netip.Prefix{four, few}, route.Among(d, d.Get(hill.ID)))
	assert.Empty(t, tables.Bearer("", netip.MustParseAddr("10.214.0.1")), "no place has no bearer")
}

// A source pool serves what is not exported, and where the profile says so only what
// is bound for the hub's own region.
func TestASourcePoolServesItsRegion(t *testing.T) {
	d := remedy(t, "hub-refusal")
	at := d.Find("visitor-hub/ticketing", design.KindAttachment)[0]
	network := at.Body.(*design.Attachment).What
	pool := &design.Object{
		ID: "pool", Kind: design.KindSubnet, Parent: network, Name: "pool",
		Body: &design.Subnet{
			Zone: "sedge-coast-a", Prefixes: []netip.Prefix{netip.MustParsePrefix("172.29.17.0/28")},
			Table: d.Find("ticketing/main-table")[0].ID,
		},
	}
	a := *at.Body.(*design.Attachment)
	a.KeepOut, a.Pool = []netip.Prefix{netip.MustParsePrefix("172.29.31.0/24")}, "pool"
	d = changed(t, d, pool, at.With(&a))
	ask := func(d *design.Design, src, dst string) string {
		p, ok := route.Solve(d, status.Condition{}).SourcePool(
			d.Get(at.ID), netip.MustParseAddr(src), netip.MustParseAddr(dst),
		)
		if !ok {
			return ""
		}
		return p.String()
	}
	assert.Equal(t, "172.29.17.1", ask(d, "172.29.31.10", "172.29.32.10"))
	assert.Empty(t, ask(d, "172.29.16.10", "172.29.32.10"), "what is exported goes as it is")
	assert.Empty(t, ask(d, "172.29.31.10", "10.210.9.9"), "the hub knows no way there")

	far := []*design.Object{
		{
			ID: "inland", Kind: design.KindHub, Name: "inland hub",
			Body: &design.Hub{Cloud: "Sedge", Region: "sedge-inland", ASN: 4200000901},
		},
		{ID: "it", Kind: design.KindHubTable, Parent: "inland", Name: "main", Body: &design.HubTable{}},
		{
			ID: "n", Kind: design.KindNetwork, Name: "seed bank",
			Body: &design.Network{
				Cloud: "Sedge", Region: "sedge-inland", Blocks: []netip.Prefix{netip.MustParsePrefix("172.29.64.0/20")},
			},
		},
		{
			ID: "na", Kind: design.KindAttachment, Parent: "inland", Name: "seed bank",
			Body: &design.Attachment{What: "n", Bound: "it", Feeds: []design.Ref{"it"}},
		},
		{
			ID: "there", Kind: design.KindAttachment, Parent: at.Parent, Name: "inland",
			Body: &design.Attachment{What: "inland", Bound: a.Bound, Feeds: a.Feeds},
		},
		{
			ID: "back", Kind: design.KindAttachment, Parent: "inland", Name: "coast",
			Body: &design.Attachment{What: at.Parent, Bound: "it", Feeds: []design.Ref{"it"}},
		},
	}
	hub := d.Get(at.Parent)
	h := *hub.Body.(*design.Hub)
	h.ASN = 4200000902
	d = changed(t, d, append(far, hub.With(&h))...)
	known := route.Solve(d, status.Condition{}).Point(a.Bound).Lookup(netip.MustParseAddr("172.29.64.9"))
	require.NotNil(t, known.Winner, "the hubs tell each other")
	assert.Empty(t, ask(d, "172.29.31.10", "172.29.64.9"), "Sedge's pools serve their own region")
	profile := *d.ProfileOf(at.Parent)
	own := *profile.Hub
	own.PoolInRegion, profile.Hub = false, &own
	body := design.Profile(profile)
	d = changed(t, d, &design.Object{ID: "sedge", Kind: design.KindProfile, Name: "Sedge", Body: &body})
	assert.Equal(
		t, "172.29.17.1", ask(d, "172.29.31.10", "172.29.64.9"), "where the profile does not say so, all of it",
	)
}
