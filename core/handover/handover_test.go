package handover_test

import (
	"flag"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/link"
	"dravin/core/overlap"
	"dravin/core/route"
	"dravin/core/translate"
	"dravin/demo"
)

var update = flag.Bool("update", false, "write the golden files anew")

func TestGoldenFiles(t *testing.T) {
	before, err := design.Read(demo.TwoGardens)
	require.NoError(t, err)
	after, _, err := before.Apply(translate.ForGroup(before, overlap.Find(before)[0])[0].Edits)
	require.NoError(t, err)
	for stage, d := range map[string]*design.Design{"before": before, "after": after} {
		tables := route.Solve(d)
		keys := handover.Keys{}
		for _, tunnel := range d.Of(design.KindTunnel) {
			keys[tunnel.ID] = handover.Masked
		}
		for _, party := range d.Inside("", design.KindSite, design.KindNetwork) {
			for _, f := range handover.Render(tables, party.ID, keys) {
				golden := filepath.Join("testdata", stage, design.Slug(party.Name), strings.ReplaceAll(f.Path, "/", "_"))
				if *update {
					require.NoError(t, os.MkdirAll(filepath.Dir(golden), 0o755))
					require.NoError(t, os.WriteFile(golden, []byte(f.Content), 0o644))
				}
				want, err := os.ReadFile(golden)
				require.NoError(t, err, "run go test ./core/handover -update, and read what changed")
				assert.Equal(t, string(want), f.Content, golden)
			}
		}
	}
}

func TestAKeyThatIsNotKnownIsLeftToFillIn(t *testing.T) {
	d, err := design.Read(demo.TwoGardens)
	require.NoError(t, err)
	for _, f := range handover.Render(route.Solve(d), d.Find("peatside-nursery", design.KindSite)[0].ID, nil) {
		if f.Secret {
			assert.Contains(t, f.Content, "agree on one with Marrow Hill gateway")
			assert.Contains(t, f.Content, `"FILL-IN"`)
		}
	}
}

// A cloud waits to be asked, so the site's end starts even where it is the
// second; between two sites only the first does.
func TestOneEndStarts(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	site, network := d.Find("dunmoss-arboretum", design.KindSite)[0], d.Find("ticketing", design.KindNetwork)[0]
	shapes, err := link.Shapes(d, link.Question{A: network.ID, B: site.ID})
	require.NoError(t, err)
	i := slices.IndexFunc(shapes, func(s link.Shape) bool { return s.Key == "vpn-bgp-doubled" })
	d, _, err = d.Apply(shapes[i].Edits)
	require.NoError(t, err)
	conf := func(d *design.Design, party design.ID) string {
		return handover.Render(route.Solve(d), party, nil)[0].Content
	}
	drafted := conf(d, site.ID)
	assert.Equal(t, 2, strings.Count(drafted, "start_action = start\n"), drafted)
	assert.Contains(t, drafted, "The far end's public address is not known yet")
	assert.Contains(t, drafted, "remote_addrs = FILL-IN")
	assert.Contains(t, conf(d, d.Find("peatside-nursery", design.KindSite)[0].ID), "start_action = start\n")
	// Where the profile says that a cloud starts by itself, the site does not.
	osier := d.Find("image-analysis", design.KindNetwork)[0]
	shapes, err = link.Shapes(d, link.Question{A: osier.ID, B: site.ID})
	require.NoError(t, err)
	i = slices.IndexFunc(shapes, func(s link.Shape) bool { return s.Key == "vpn-bgp-twin" })
	both, _, err := d.Apply(shapes[i].Edits)
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(conf(both, site.ID), "start_action = none"))
	marrow := conf(d, d.Find("marrow-hill", design.KindSite)[0].ID)
	assert.Contains(t, marrow[strings.Index(marrow, "peatside-to-marrow-hill"):], "start_action = none")
}
