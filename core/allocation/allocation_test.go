package allocation_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/demo"
)

func trust(t *testing.T) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}

func covered(list []netip.Prefix, text string) bool {
	p := netip.MustParsePrefix(text)
	return slices.ContainsFunc(list, p.Overlaps)
}

// What is taken depends on what it is asked for: who maps keeps clear of all that is
// held or named, who tunnels of what is held, who holds of what meets there.
func TestTakenForWhat(t *testing.T) {
	d := trust(t)
	for text, want := range map[string][3]bool{ // mapping, inside, holding by anybody
		"192.168.216.0/24":  {true, true, true},  // LANs
		"10.219.0.0/16":     {true, true, true},  // an outside party, and a network
		"192.168.223.0/28":  {true, true, true},  // within the controllers
		"169.254.140.0/30":  {true, true, true},  // inside a tunnel
		"169.254.140.16/30": {true, true, true},  // the relay's
		"10.223.240.0/24":   {false, true, true}, // reserved for mapped ranges
		"10.208.9.20/32":    {true, true, true},  // listened on
		"10.222.0.0/16":     {false, false, false},
	} {
		assert.Equal(
			t, want,
			[3]bool{
				covered(allocation.ForMapping(d), text), covered(allocation.ForInside(d), text),
				covered(allocation.ForHolding(d, nil, ""), text),
			},
			text,
		)
	}
	id := func(path string, k design.Kind) design.ID { return d.Find(path, k)[0].ID }
	alone := allocation.ForHolding(d, []design.ID{id("alder-hut", design.KindSite)}, "")
	assert.True(t, covered(alone, "192.168.211.0/24"))
	assert.False(t, covered(alone, "10.214.0.0/22"), "Marrow Hill's is no matter at a hut")
	visitors := allocation.ForHolding(d, nil, id("visitors", design.KindSegment))
	assert.True(t, covered(visitors, "172.29.0.0/20"))
	assert.False(t, covered(visitors, "10.213.0.0/20"), "science and visitors do not meet")
}

// Whoever has an address among hosts keeps the next from getting it.
func TestWhoHasAnAddressAmongHosts(t *testing.T) {
	d := trust(t)
	for path, taken := range map[string][]string{
		"marrow-hill/data-room": {"10.214.0.20", "10.214.0.254", "10.214.0.253", "10.214.1.250"},
		// a host, inner routers, a listener
		"rowan-hut/hut":    {"192.168.211.40", "192.168.211.250"}, // a host, the relay
		"catalogue/border": {"10.208.9.4", "10.208.9.20"},         // a box, what it listens on
	} {
		place := d.Find(path, design.KindLAN, design.KindSubnet)[0]
		got := allocation.Hosts(d, place.ID)
		for _, a := range taken {
			assert.True(t, got[netip.MustParseAddr(a)], "%s in %s", a, path)
		}
		assert.False(t, got[netip.MustParseAddr("10.214.0.77")])
	}
	for _, g := range d.Of(design.KindGateway) { // a cloud's gateway in a subnet of its own has its first address
		if b := g.Body.(*design.Gateway); b.Subnet != "" {
			assert.NotEmpty(t, allocation.Hosts(d, b.Subnet), d.Title(g.ID))
		}
	}
	assert.Empty(t, allocation.Hosts(d, "nowhere")[netip.MustParseAddr("10.214.0.20")])
}

func TestASNsAndTags(t *testing.T) {
	d := trust(t)
	asns := allocation.ASNs(d)
	hill := d.Find("marrow-hill", design.KindSite)[0].ID
	assert.Equal(t, []design.ID{hill}, asns[64501])
	assert.NotContains(t, asns, uint32(0), "who speaks no BGP has none")
	millrace := d.Find("millrace", design.KindEdgeRouter)[0].ID
	tags := allocation.Tags(d, millrace)
	assert.True(t, tags[100] && tags[101])
	assert.False(t, tags[999])
}
