package proof_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
)

// held reads the demo with one more intent, and holds it against the whole.
func held(t *testing.T, intent string, changes ...string) proof.Result {
	t.Helper()
	file := strings.NewReplacer(changes...).Replace(string(demo.Thistledown)) + "  - {name: asked, " + intent + "}\n"
	d, err := design.Read([]byte(file))
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	return proof.Of(tables).Intent(d.Find("asked", design.KindIntent)[0].ID)
}

func TestIntentsOfManyKinds(t *testing.T) {
	for _, c := range []struct {
		name, intent string
		holds        bool
		says         string
	}{
		{"a LAN reaches a subnet", "from: marrow-hill/data-room, to: catalogue/shelf-b, service: tcp/443", true, ""},
		{"a party reaches a party", "from: marrow-hill, to: catalogue, service: tcp/443", false, ""},
		// its other LANs are unknown there
		{"never, for every service", "from: visitors, to: science, never: true", true, ""},
		{"never, and it does", "from: catalogue, to: marrow-hill/data-room, never: true", false, ""},
		{
			"two tunnels survive one, one gateway does not",
			"from: catalogue/shelf-b, to: marrow-hill/data-room, service: tcp/443, survives: true", false,
			"Marrow Hill gateway",
		},
		{
			"a hub has nothing that fails alone",
			"from: catalogue/shelf-b, to: herbarium-scans/racks-a, service: tcp/443, survives: true", true, "",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := held(t, c.intent)
			assert.Equal(t, c.holds, r.Holds, fmt.Sprintf("%+v", r))
			assert.Equal(t, c.says, r.WithoutTitle)
		})
	}
}

func TestATunnelAloneIsMissed(t *testing.T) {
	second := `      - name: tunnel 2
        outside: [198.51.100.10, 192.0.2.11]
        inside: [169.254.140.6/30, 169.254.140.5/30]
`
	r := held(t, "from: catalogue/shelf-b, to: marrow-hill/data-room, service: tcp/443, survives: true", second, "")
	assert.False(t, r.Holds)
	assert.Contains(t, r.WithoutTitle, "tunnel 1")
}

func TestIntentsThatSayTooLittle(t *testing.T) {
	for _, c := range []struct{ intent, says string }{
		{"from: marrow-hill, to: catalogue", "service: is missing"},
		{"from: marrow-hill, to: catalogue, never: true, survives: true", "survives"},
	} {
		_, err := design.Read([]byte(string(demo.Thistledown) + "  - {name: asked, " + c.intent + "}\n"))
		assert.ErrorContains(t, err, c.says)
	}
}
