package walk_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/demo"
)

func proven(t *testing.T, d *design.Design, from, to, service string) walk.Proof {
	s, err := design.ParseService(service)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	f, err := walk.ParseFlow(tables, from, to, s)
	require.NoError(t, err)
	return walk.Prove(tables, f)
}

// What a packet leaves behind at each box that translates or proxies: how it came, and
// as what its answer comes. A box that leaves it as it is has nothing to tell.
func TestWhatBoxesRemember(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	relayed := proven(t, d, "controls-desk", "rain-gauge", "tcp/502")
	require.True(t, relayed.Works, relayed.Stop)
	require.Len(t, relayed.Remembered, 2)
	first, second := relayed.Remembered[0], relayed.Remembered[1]
	assert.Equal(t, "Marrow Hill gateway", first.At.Title)
	assert.Equal(t, "Rowan Hut relay", second.At.Title)
	assert.True(t, first.Proxied && second.Proxied)
	assert.Equal(t, "10.214.1.250", first.First.Dst.String())
	assert.Equal(t, first.Reply.Src, second.First.Dst, "the answer to the first is from whom the second was dialled at")
	for _, s := range relayed.Forward {
		if s.Act == walk.Proxies {
			assert.Equal(t, walk.Listening, s.Hook)
		}
	}
	plain := proven(t, d, "controls-desk", "logger", "tcp/6514")
	require.True(t, plain.Works, plain.Stop)
	assert.Empty(t, plain.Remembered, "it is exempt, and left as it is")

	out := proven(t, d, "controls-desk", "192.0.2.80", "tcp/443")
	require.True(t, out.Works, out.Stop)
	assert.Equal(t, "the internet", out.To.Title)
	require.Len(t, out.Remembered, 1)
	assert.Equal(
		t,
		walk.Header{
			Src: netip.MustParseAddr("192.0.2.80"), Dst: netip.MustParseAddr("198.51.100.10"), Proto: "tcp", SPort: 443,
			DPort: 49152,
		},
		out.Remembered[0].Reply,
	)
	var hooks []walk.Hook
	for _, s := range append(out.Forward, out.Reply...) {
		if s.Hook != "" {
			hooks = append(hooks, s.Hook)
		}
	}
	assert.Equal(t, []walk.Hook{walk.Postrouting, walk.Prerouting}, hooks)
}

// What may be somewhere on the internet: no private range, nobody's here, no gateway's.
func TestWhatIsOnTheInternet(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	for to, out := range map[string]bool{
		"192.0.2.80": true, "10.222.9.9": false, "100.64.0.9": false, "198.51.100.40": false, "169.254.200.1": false,
	} {
		p := proven(t, d, "controls-desk", to, "tcp/443")
		assert.Equal(t, out, p.Works, "%s: %+v", to, p.Stop)
	}
	six := proven(t, d, "marrow-hill/data-room", "2001:db8:99::1", "tcp/443")
	assert.True(t, six.Works, "its own range is routed on the internet: %+v", six.Stop)
	p := proven(t, d, "tide-recorder", "192.0.2.80", "udp/53")
	require.NotNil(t, p.Stop)
	assert.Equal(t, walk.NoWayBack, p.Stop.Code)
	assert.Equal(t, "translate", p.Stop.Line)
	assert.Contains(t, p.Stop.Fix, "own-address")
}

// Under which names each party reaches a host: the mapped one first, services last, and
// its own to itself.
func TestNamesForAViewer(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	names := func(viewer, host string) (out []string) {
		e := d.Find(host, design.KindEndpoint)[0]
		v := d.Find(viewer, design.KindSite, design.KindNetwork)[0]
		for _, n := range walk.NamesFor(tables, v.ID, e, e.Body.(*design.Endpoint).Addresses[0]) {
			out = append(out, n.Address.String())
		}
		return out
	}
	assert.Equal(
		t, []string{"10.214.1.250", "169.254.140.18"}, names("marrow-hill", "rain-gauge"),
		"of a chain the first listener first",
	)
	assert.Equal(t, []string{"192.168.211.40"}, names("rowan-hut", "rain-gauge"))
	assert.Equal(t, []string{"10.208.2.20", "10.208.9.20"}, names("marrow-hill", "catalogue/shelf-b/search"))
	assert.Empty(t, names("alder-hut", "rain-gauge"), "its own hosts have that range")
}
