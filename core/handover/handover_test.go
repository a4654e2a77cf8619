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

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/handover"
	"dravin/core/lifecycle"
	"dravin/core/overlap"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/translate"
	"dravin/demo"
)

var update = flag.Bool("update", false, "write the golden files anew")

func TestGoldenFiles(t *testing.T) {
	before, err := design.Read(demo.TwoGardens)
	require.NoError(t, err)
	options, err := translate.ForGroup(
		t.Context(), proof.Of(route.Solve(before, status.Condition{})), overlap.Find(before)[0],
	)
	require.NoError(t, err)
	after, _, err := before.Apply(options[0].Edits)
	require.NoError(t, err)
	for stage, d := range map[string]*design.Design{"before": before, "after": after} {
		tables := route.Solve(d, status.Condition{})
		keys := handover.Keys{}
		for _, tunnel := range d.Of(design.KindTunnel) {
			keys[tunnel.ID] = handover.Masked
		}
		for _, party := range d.Inside("", design.KindSite, design.KindNetwork) {
			for _, f := range handover.Render(tables, party.ID, keys) {
				if strings.HasSuffix(f.Path, "-sheet.txt") {
					continue // no program reads it: what it holds is a property of instructions
				}
				golden := filepath.Join(
					"testdata", stage, design.Slug(party.Name), strings.ReplaceAll(f.Path, "/", "_"),
				)
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
	for _, f := range handover.Render(
		route.Solve(d, status.Condition{}), d.Find("peatside-nursery", design.KindSite)[0].ID, nil,
	) {
		if f.Secret {
			assert.Contains(t, f.Content, "agree on one with Marrow Hill gateway")
			assert.Contains(t, f.Content, `"FILL-IN"`)
		}
	}
}

// accepted answers all open requests.
func accepted(t *testing.T, d *design.Design) *design.Design {
	for _, r := range d.Of(design.KindRequest) {
		if r.Body.(*design.Request).Answer == "" {
			edits, err := lifecycle.Answer(d, r, true, "welcome")
			require.NoError(t, err)
			d, _, err = d.Apply(edits)
			require.NoError(t, err)
		}
	}
	return d
}

// A cloud waits to be asked, so the site's end starts even where it is the
// second; between two sites only the first does.
func TestOneEndStarts(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	site, network := d.Find("dunmoss-arboretum", design.KindSite)[0], d.Find("ticketing", design.KindNetwork)[0]
	shapes, err := draft.Shapes(allocation.NewBooks(d), draft.Options{A: network.ID, B: site.ID})
	require.NoError(t, err)
	i := slices.IndexFunc(shapes, func(s draft.Shape) bool { return s.Key == "vpn-bgp-doubled" })
	d, _, err = d.Apply(shapes[i].Edits)
	require.NoError(t, err)
	d = accepted(t, d)
	conf := func(d *design.Design, party design.ID) string {
		return handover.Render(route.Solve(d, status.Condition{}), party, nil)[0].Content
	}
	drafted := conf(d, site.ID)
	assert.Equal(t, 2, strings.Count(drafted, "start_action = start\n"), drafted)
	assert.Contains(t, drafted, "The far end's public address is not known yet")
	assert.Contains(t, drafted, "remote_addrs = FILL-IN")
	assert.Contains(t, conf(d, d.Find("peatside-nursery", design.KindSite)[0].ID), "start_action = start\n")
	// Where the profile says that a cloud starts by itself, the site does not.
	osier := d.Find("image-analysis", design.KindNetwork)[0]
	shapes, err = draft.Shapes(allocation.NewBooks(d), draft.Options{A: osier.ID, B: site.ID})
	require.NoError(t, err)
	i = slices.IndexFunc(shapes, func(s draft.Shape) bool { return s.Key == "vpn-bgp-twin" })
	both, _, err := d.Apply(shapes[i].Edits)
	require.NoError(t, err)
	assert.NotContains(t, conf(both, site.ID), "image-analysis", "nothing is handed over for what nobody has accepted")
	both = accepted(t, both)
	assert.Equal(t, 2, strings.Count(conf(both, site.ID), "start_action = none"))
	marrow := conf(d, d.Find("marrow-hill", design.KindSite)[0].ID)
	assert.Contains(t, marrow[strings.Index(marrow, "peatside-to-marrow-hill"):], "start_action = none")
}
