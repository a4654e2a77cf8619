package defaults_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/defaults"
	"dravin/core/design"
	"dravin/demo"
)

func trust(t *testing.T) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}

// Whatever is suggested can be put: a host's address, a range, a name, again and again.
func TestWhatIsSuggestedCanBePut(t *testing.T) {
	d := trust(t)
	for _, path := range []string{
		"marrow-hill/data-room", "rowan-hut/hut", "catalogue/border", "catalogue/shelf-a",
		"marrow-hill/herbarium-building",
	} {
		place := d.Find(path, design.HostPlaces...)[0]
		for n := range 5 {
			a, why, err := defaults.New(d).Host(place.ID)
			require.NoError(t, err, path)
			assert.NotEmpty(t, why)
			o := &design.Object{
				ID: design.ID(fmt.Sprint(path, n)), Kind: design.KindEndpoint, Parent: place.ID,
				Name: defaults.New(d).Name(design.KindEndpoint, place.ID),
				Body: &design.Endpoint{Addresses: []netip.Addr{a}},
			}
			next, _, err := d.Apply([]design.Edit{design.PutEdit(o)})
			require.NoError(t, err, "%s in %s", a, path)
			d = next
		}
	}
	network := d.Find("catalogue", design.KindNetwork)[0]
	for n := range 4 {
		p, _, err := defaults.New(d).Range(defaults.Wanted{Kind: design.KindSubnet, Parent: network.ID, Bits: 26})
		require.NoError(t, err)
		zone, _ := defaults.New(d).Zone(network.ID)
		table := d.Inside(network.ID, design.KindTable)[0].ID
		o := &design.Object{
			ID: design.ID(fmt.Sprint("s", n)), Kind: design.KindSubnet, Parent: network.ID,
			Name: defaults.New(d).Name(design.KindSubnet, network.ID),
			Body: &design.Subnet{Zone: zone, Prefixes: []netip.Prefix{p}, Table: table},
		}
		next, _, err := d.Apply([]design.Edit{design.PutEdit(o)})
		require.NoError(t, err)
		d = next
	}
}

func TestRangesThatAreAskedFor(t *testing.T) {
	d := trust(t)
	site := d.Find("saltmarsh-station", design.KindSite)[0].ID
	within := netip.MustParsePrefix("10.215.128.0/20")
	p, why, err := defaults.New(d).Range(defaults.Wanted{Kind: design.KindLAN, Parent: site, Bits: 26, Within: within})
	require.NoError(t, err)
	assert.Equal(t, "10.215.128.0/26", p.String())
	assert.Equal(t, "the next free /26 of 10.215.128.0/20", why)
	six, _, err := defaults.New(d).Range(
		defaults.Wanted{
			Kind: design.KindLAN, Parent: site, Bits: 64, Within: netip.MustParsePrefix("2001:db8:40::/48"),
		},
	)
	require.NoError(t, err)
	assert.Equal(t, "2001:db8:40::/64", six.String())
	_, _, err = defaults.New(d).Range(defaults.Wanted{Kind: design.KindLAN, Parent: site, Bits: 16, Within: within})
	assert.ErrorContains(t, err, "no /16 is free in 10.215.128.0/20")
	usual, _, err := defaults.New(d).Range(defaults.Wanted{Kind: design.KindLAN, Parent: site})
	require.NoError(t, err)
	for _, lan := range d.Of(design.KindLAN) {
		for _, own := range design.RangesOf(lan) {
			assert.False(t, own.Overlaps(usual), "%s is %s's", usual, d.Title(lan.ID))
		}
	}
}

func TestWhatACloudGives(t *testing.T) {
	d := trust(t)
	for cloud, region := range map[string]string{
		"Tarn": "tarn-north", "Osier": "osier-west", "Sedge": "sedge-coast", "Nowhere": "",
	} {
		name, _ := defaults.New(d).Region(cloud)
		assert.Equal(t, region, name, cloud)
	}
	site := d.Find("marrow-hill", design.KindSite)[0].ID
	zone, _ := defaults.New(d).Zone(site)
	assert.Empty(t, zone, "a site has no zones")
	asn, err := defaults.New(d).ASN()
	require.NoError(t, err)
	assert.NotEmpty(t, asn.Why)
	for _, g := range d.Of(design.KindGateway) {
		assert.NotEqual(t, asn.Value, fmt.Sprint(g.Body.(*design.Gateway).ASN))
	}
	s := defaults.New(d).Suggestions(
		&design.Object{
			Kind: design.KindSubnet, Parent: d.Find("catalogue", design.KindNetwork)[0].ID, Body: &design.Subnet{},
		},
	)
	require.NotEmpty(t, s["prefixes"])
	assert.Len(t, s["zone"], 3, "each zone of the region, once")
	g := defaults.New(d).Suggestions(
		&design.Object{
			Kind: design.KindGateway, Parent: d.Find("image-analysis", design.KindNetwork)[0].ID,
			Body: &design.Gateway{},
		},
	)
	var kinds []string
	for _, v := range g["vpn"] {
		kinds = append(kinds, v.Value)
	}
	assert.Equal(t, []string{"twin", "lone"}, kinds)
}
