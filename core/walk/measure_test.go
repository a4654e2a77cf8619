package walk_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/demo"
)

func measured(t *testing.T, from, to, service string, changes ...string) (walk.Proof, walk.Measure) {
	d, err := design.Read([]byte(strings.NewReplacer(changes...).Replace(string(demo.Thistledown))))
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	s, err := design.ParseService(service)
	require.NoError(t, err)
	f, err := walk.ParseFlow(tables, from, to, s)
	require.NoError(t, err)
	p := walk.Prove(tables, f)
	return p, walk.MeasureOf(tables, f, p)
}

func TestWhatAFlowGets(t *testing.T) {
	const weather, server = "thornfield-station/weather-room/weather-mast", "plate-store/plates/plate-server"
	p, m := measured(t, weather, server, "tcp/443")
	require.True(t, p.Works)
	assert.Equal(t, 1446, m.There.MTU)
	assert.Equal(t, "Thornfield Station gateway", m.There.Large.At.Title)
	assert.True(t, m.There.Large.Home)
	assert.True(t, m.There.Large.Clamped)
	assert.Equal(t, 1406, m.There.Large.MSS)
	assert.Equal(t, 24.0, m.RTT)
	assert.Equal(t, "Thornfield to field exchange", m.Slowest)
	assert.NotZero(t, m.Mbps)

	// An MTU that is set counts where it is less than what fits.
	_, m = measured(t, weather, server, "tcp/443",
		"outside: [203.0.113.80, 192.0.2.60]", "outside: [203.0.113.80, 192.0.2.60]\n        ends: [{mtu: 1300}, {}]",
		"outside: [203.0.113.80, 192.0.2.61]", "outside: [203.0.113.80, 192.0.2.61]\n        ends: [{mtu: 9000}, {}]")
	assert.Equal(t, 1300, m.There.MTU)

	// Without a word on it the distance tells.
	_, m = measured(t, weather, server, "tcp/443", "    rtt_ms: 24\n    rtt_from: measured\n", "")
	assert.Equal(t, "distance", m.There.Legs[0].RTTFrom)
	assert.InDelta(t, 5, m.RTT, 2)

	// A box of a site says that a packet is too large; a filter that remembers nothing may keep that from its sender.
	desk, logger := "marrow-hill/data-room/controls-desk", "catalogue/shelf-a/logger"
	_, m = measured(t, desk, logger, "tcp/6514")
	assert.True(t, m.There.Large.Home, m.There.Large.Why)
	_, m = measured(t, desk, logger, "tcp/6514", "filters:\n", `filters:
  - name: desk's own
    at: marrow-hill/data-room/controls-desk
    stateless: true
    default_out: allow
    rules:
      - services: tcp/6514
        replies: true
`)
	assert.False(t, m.There.Large.Home)
	assert.Contains(t, m.There.Large.Why, "desk's own refuses its word for that")
}

func TestAnIntentHasABudget(t *testing.T) {
	d, err := design.Read([]byte(strings.Replace(string(demo.Thistledown), "rtt_ms: 60", "rtt_ms: 20", 1)))
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	f, err := walk.FlowBetween(
		tables, d.Find("weather mast", design.KindEndpoint)[0].ID, d.Find("plate server", design.KindEndpoint)[0].ID,
		design.Service{Proto: "tcp", Port: 443},
	)
	require.NoError(t, err)
	assert.Greater(t, walk.MeasureOf(tables, f, walk.Prove(tables, f)).RTT, 20.0)
}

// A box sends from the address that its kernel gives, is answered, and answers pings itself.
func TestWalksFromAndToBoxes(t *testing.T) {
	for _, c := range []struct {
		from, to, service, source string
		code                      walk.Code
	}{
		{"marrow-hill/gateway", "rowan-hut/relay", "icmp", "169.254.140.17", ""},
		// Into a link it prefers an address of its own ranges, to which the far end knows the way back.
		{"marrow-hill/gateway", "catalogue/shelf-a/logger", "tcp/6514", "10.214.3.254", ""},
		{
			"marrow-hill/gateway via marrow-hill-to-the-relay-at-rowan-hut", "169.254.140.18", "icmp", "169.254.140.17",
			"",
		},
		{"rain-gauge-in-the-data-room", "rowan-hut/hut/rain-gauge", "tcp/502", "169.254.140.17", ""},
		{"catalogue/shelf-a/logger", "marrow-hill/gateway", "icmp", "10.208.1.10", ""},
	} {
		p, _ := measured(t, c.from, c.to, c.service)
		require.NotEmpty(t, p.Forward, c.from)
		assert.Equal(t, c.source, p.Forward[0].Header.Src.String(), c.from)
		if c.code == "" {
			assert.True(t, p.Works, "%s: %v", c.from, p.Stop)
		} else {
			assert.Equal(t, c.code, p.Stop.Code, c.from)
		}
	}
}
