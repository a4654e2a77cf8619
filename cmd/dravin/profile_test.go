package main_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestProfileIsCheckedAndPutIntoADesign(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	tarn, err := os.ReadFile("../../core/provider/tarn.yaml")
	require.NoError(t, err)
	demo, err := os.ReadFile(estate)
	require.NoError(t, err)
	into := write("estate.yaml", string(demo))

	code, out, _ := run(
		t, "profile", write("rush.yaml", strings.Replace(string(tarn), "name: Tarn", "name: Rush", 1)), "--into", into,
	)
	assert.Zero(t, code)
	assert.Contains(t, out, "Rush can be used")
	// Again, and another under the shipped one's name: each stands there once.
	run(t, "profile", filepath.Join(dir, "rush.yaml"), "--into", into)
	code, _, _ = run(t, "profile", "../../core/provider/tarn.yaml", "--into", into)
	assert.Zero(t, code)
	file, err := os.ReadFile(into)
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(file), "name: Rush"))
	assert.Equal(t, 1, strings.Count(string(file), "name: Tarn\n"))
	code, _, _ = run(t, "walk", into, "--from", "logger", "--to", "controls-desk", "--port", "22")
	assert.Zero(t, code, "the design works on with its own profiles")

	bad := write("bad.yaml", strings.Replace(string(tarn), "tunnels: 2", "tunnels: two", 1))
	code, _, stderr := run(t, "profile", bad, "--into", into)
	assert.Equal(t, 2, code)
	assert.Contains(t, stderr, "line 26, column 14: profile: vpn[0].tunnels")
	after, err := os.ReadFile(into)
	require.NoError(t, err)
	assert.Equal(t, string(file), string(after), "nothing was half-applied")
	code, _, stderr = run(t, "profile", filepath.Join(dir, "nowhere.yaml"))
	assert.Equal(t, 2, code)
	assert.Contains(t, stderr, "no such file")
}

// The whole trust is read without a database, with every kind of link in it.
func TestCheckSpeaksOfLinks(t *testing.T) {
	code, out, _ := run(t, "check", "../../demo/thistledown.yaml")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "half-made-peering: the peering sequencing with image analysis waits for ever")
	assert.Contains(t, out, "fix: The half of image analysis is made")
	code, out, _ = run(
		t, "handover", "../../demo/thistledown.yaml", "--party", "saltmarsh-station", "--keys",
		filepath.Join(t.TempDir(), "keys.json"),
	)
	assert.Zero(t, code)
	assert.Contains(t, out, "bird.conf")
}
