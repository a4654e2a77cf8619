package main_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/capture"
)

const thistledown = "../../demo/thistledown.yaml"

// mast asks for the walk of a flow of the demo estate that works.
var mast = []string{
	"walk", thistledown, "--from", "thornfield-station/weather-room/weather-mast", "--to",
	"plate-store/plates/plate-server", "--port", "443",
}

// What is proven of a whole estate is asked for on the command line: the code is 1 where something is not as meant, 2
// where the question can not be answered.
func TestProofOnTheCommandLine(t *testing.T) {
	walk := func(more ...string) []string { return append(slices.Clone(mast), more...) }
	for name, c := range map[string]struct {
		args []string
		code int
		says string
	}{
		"the matrix":     {[]string{"matrix", thistledown}, 1, "  9 plate store        "},
		"of one service": {[]string{"matrix", thistledown, "--service", "tcp/443"}, 0, "for tcp/443"},
		"by owners":      {[]string{"matrix", thistledown, "--by", "owner"}, 1, "missing"},
		"by nothing": {[]string{"matrix", thistledown, "--by", "colour"}, 2,
			"host, place, group, party, segment"},
		"what is not in use": {[]string{"matrix", thistledown, "--service", "tcp/9"}, 2,
			"tcp/9 is not in use; in use are"},
		"with itself": {[]string{"matrix", thistledown, "--before", thistledown}, 0,
			"g opened: 0 flows; l closed: 0"},
		"without a gateway": {[]string{"matrix", thistledown, "--without", "marrow-hill/gateway"}, 1,
			"closed  Marrow Hill data room controls desk to Rowan Hut hut rain gauge"},
		"without nobody":    {[]string{"matrix", thistledown, "--without", "ghost"}, 2, "--without: "},
		"intents":           {[]string{"intents", thistledown}, 1, "5 of 8 hold"},
		"intents that hold": {[]string{"intents", "../../demo/remedies/way-out.yaml"}, 1, "hold"},
		"one drill": {[]string{"drill", thistledown, "--without", "marrow-hill/gateway"}, 1,
			"1 drill, 1 of which kills an intent"},
		"a drill of nobody": {[]string{"drill", thistledown, "--without", "ghost"}, 2, "--without: "},
		"a drill that hurts nobody": {[]string{"drill", thistledown, "--without", "ticketing"}, 0,
			"nothing dies and nothing moves\n1 drill, 0 of which kill an intent"},
		"the wire":          {walk("--wire"), 0, "esp and host 192.0.2.60 and host 203.0.113.80"},
		"measured":          {walk("--wire"), 0, "1446 bytes fit there and 1446 back"},
		"a capture nowhere": {walk("--capture", "/nowhere/at/all.pcapng"), 2, "--capture: "},
		"seen nowhere":      {walk("--seen", "/nowhere/at/all"), 2, "--seen: "},
		"seen in a design":  {walk("--seen", thistledown), 2, "nothing of this is known"},
	} {
		t.Run(name, func(t *testing.T) {
			code, out, err := run(t, c.args...)
			assert.Equal(t, c.code, code, out+err)
			assert.Contains(t, out+err, c.says)
		})
	}
}

// What is too large to be printed is counted, and its lines can be folded.
func TestAMatrixOfMany(t *testing.T) {
	text := strings.Builder{}
	text.WriteString("dravin: 1\nname: crowded\nsites:\n  - name: Garden\n    lans:\n      - name: beds\n" +
		"        prefixes: 10.214.0.0/16\n        endpoints:\n")
	for h := range 2600 {
		fmt.Fprintf(&text, "          - {name: sensor %d, addresses: 10.214.%d.%d}\n", h, 1+h/200, 1+h%200)
	}
	file := filepath.Join(t.TempDir(), "crowded.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text.String()), 0o644))
	code, out, err := run(t, "matrix", file, "--by", "host")
	assert.Zero(t, code, out+err)
	assert.Contains(t, out, "2500 lines are too many to print; fold them by --by place or party.")
	assert.Contains(t, out, "100 hosts are left out")
	code, out, err = run(t, "matrix", file)
	assert.Zero(t, code, out+err)
	assert.Contains(t, out, "  1 Garden o\n")
}

// What other programs read of failing intents is whole, and points into the file.
func TestIntentsForOtherPrograms(t *testing.T) {
	code, out, _ := run(t, "intents", thistledown, "--format", "sarif")
	assert.Equal(t, 1, code)
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID    string
				Message   struct{ Text string }
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine int }
					}
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &log))
	assert.Equal(t, "2.1.0", log.Version)
	require.Len(t, log.Runs, 1)
	require.Len(t, log.Runs[0].Results, 3)
	file, err := os.ReadFile(thistledown)
	require.NoError(t, err)
	lines := bytes.Split(file, []byte("\n"))
	rules := map[string]bool{}
	for _, r := range log.Runs[0].Tool.Driver.Rules {
		rules[r.ID] = true
	}
	for _, r := range log.Runs[0].Results {
		assert.True(t, rules[r.RuleID], r.RuleID)
		assert.NotEmpty(t, r.Message.Text)
		require.Len(t, r.Locations, 1)
		at := r.Locations[0].PhysicalLocation
		assert.Contains(t, at.ArtifactLocation.URI, "thistledown.yaml")
		assert.Contains(t, string(lines[at.Region.StartLine-1]), "name:", "the line of the intent")
	}
}

// A capture that was written is read again, and agrees with the walk that made it; with another walk it does not.
func TestACaptureIsHeldAgainstItsWalk(t *testing.T) {
	file := filepath.Join(t.TempDir(), "mast.pcapng")
	code, out, err := run(t, append(slices.Clone(mast), "--capture", file)...)
	require.Zero(t, code, out+err)
	content, readErr := os.ReadFile(file)
	require.NoError(t, readErr)
	seen, readErr := capture.ReadAny(content)
	require.NoError(t, readErr)
	assert.NotEmpty(t, seen.Packets)

	code, out, err = run(t, append(slices.Clone(mast), "--seen", file)...)
	assert.Zero(t, code, out+err)
	assert.Contains(t, out, "agrees")
	code, out, err = run(
		t, "walk", thistledown, "--from", "catalogue/shelf-a/logger", "--to", "marrow-hill/data-room/controls-desk",
		"--proto", "icmp", "--seen", file,
	)
	assert.Equal(t, 1, code, out+err)
	code, _, err = run(t, append(slices.Clone(mast), "--capture", file, "--from", "ghost")...)
	assert.Equal(t, 2, code, err)
}
