package main_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/handover"
	"dravin/core/rehearsal"
	"dravin/core/runbook"
	"dravin/lab/stage"
)

// edited is a copy of the small estate with one piece of its text replaced.
func edited(t *testing.T, old, now string) string {
	text, err := os.ReadFile(estate)
	require.NoError(t, err)
	require.Contains(t, string(text), old)
	path := filepath.Join(t.TempDir(), "edited.yaml")
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), old, now, 1)), 0o644))
	return path
}

// A bundle is taken by who knows the signer and by nobody else's key, and not once a byte of it is another.
func TestBundlesOnTheCommandLine(t *testing.T) {
	dir := t.TempDir()
	key, out := filepath.Join(dir, "ours.pem"), filepath.Join(dir, "out")
	code, told, _ := run(t, "handover", estate, "--bundle", out, "--sign", key)
	require.Equal(t, 0, code)
	assert.Contains(t, told, "3 bundles are in "+out)
	info, err := os.Stat(key)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "nobody else reads the key")

	zips, err := filepath.Glob(out + "/*.zip")
	require.NoError(t, err)
	require.Len(t, zips, 3)
	public := filepath.Join(dir, "public.pem")
	text, err := exec.Command("openssl", "pkey", "-in", key, "-pubout").Output()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(public, text, 0o644))
	other := filepath.Join(dir, "other.pem")
	require.NoError(t, exec.Command("openssl", "genpkey", "-algorithm", "ed25519", "-out", other).Run())
	otherPublic, err := exec.Command("openssl", "pkey", "-in", other, "-pubout").Output()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(other, otherPublic, 0o644))
	for _, zip := range zips {
		code, told, _ = run(t, "bundle", zip, "--signer", public)
		assert.Equal(t, 0, code)
		assert.Contains(t, told, "whole, and signed by "+public)
		code, _, told = run(t, "bundle", zip, "--signer", other)
		assert.Equal(t, 1, code, told)
		whole, err := os.ReadFile(zip)
		require.NoError(t, err)
		whole[len(whole)/2] ^= 1
		broken := filepath.Join(dir, "broken.zip")
		require.NoError(t, os.WriteFile(broken, whole, 0o644))
		code, _, told = run(t, "bundle", broken, "--signer", public)
		assert.Equal(t, 1, code, told)
		assert.NotEmpty(t, told)
	}
	code, _, told = run(t, "bundle", estate)
	assert.Equal(t, 1, code)
	assert.Contains(t, told, "zip")
	code, _, _ = run(t, "bundle", filepath.Join(dir, "nowhere.zip"))
	assert.Equal(t, 2, code)
	code, _, told = run(t, "handover", estate, "--bundle", out, "--sign", estate)
	assert.Equal(t, 2, code)
	assert.Contains(t, told, "--sign")
}

// What is another than by an older design is told by party and file, as diff -u would, with no key in it.
func TestWhatChangedSince(t *testing.T) {
	keys := filepath.Join(t.TempDir(), "keys.json")
	code, told, _ := run(t, "handover", estate, "--since", estate, "--keys", keys)
	assert.Equal(t, 0, code)
	assert.Equal(t, "everybody has what there is now\n", told)

	now := edited(t, "[169.254.140.6/30, 169.254.140.5/30]", "[169.254.140.10/30, 169.254.140.9/30]")
	var all map[string][]handover.Change
	code, told, failed := run(t, "handover", now, "--since", estate, "--keys", keys, "--format", "json", "--target", "frr")
	require.Equal(t, 0, code, failed)
	require.NoError(t, json.Unmarshal([]byte(told), &all))
	require.NotEmpty(t, all)
	for party, changes := range all {
		for _, c := range changes {
			assert.NotContains(t, c.Path, "keys", party)
			assert.Contains(t, c.Diff, "@@", c.Path)
			assert.Regexp(t, `169\.254\.140\.(9|10)`, c.Diff, "%s %s", party, c.Path)
		}
	}
	code, told, _ = run(t, "handover", now, "--since", estate, "--party", "marrow-hill")
	assert.Equal(t, 0, code)
	for _, line := range strings.Split(told, "\n") {
		if rest, ok := strings.CutPrefix(line, "==> "); ok {
			assert.True(t, strings.HasPrefix(rest, "marrow-hill: "), line)
		}
	}
	code, _, told = run(t, "handover", estate, "--since", "nowhere.yaml")
	assert.Equal(t, 2, code)
	assert.Contains(t, told, "no such file")
}

// Other targets come beside the usual files, and what is none is refused with those that there are.
func TestTargetsOnTheCommandLine(t *testing.T) {
	paths := func(args ...string) (out []string) {
		code, told, failed := run(t, append([]string{"handover", estate, "--format", "json"}, args...)...)
		require.Equal(t, 0, code, failed)
		var all []struct{ Files []handover.File }
		require.NoError(t, json.Unmarshal([]byte(told), &all))
		for _, p := range all {
			for _, f := range p.Files {
				out = append(out, f.Path)
			}
		}
		return out
	}
	usual := paths()
	for _, target := range handover.Targets {
		with := paths("--target", string(target.Code))
		assert.Subset(t, with, usual, target.Code)
		if !slices.Contains([]handover.Target{handover.FRR, handover.Zones}, target.Code) {
			assert.Greater(t, len(with), len(usual), target.Code)
		}
	}
	code, _, told := run(t, "handover", estate, "--target", "crayon")
	assert.Equal(t, 2, code)
	assert.Contains(t, told, `"crayon" is no target; give frr, keyed, networkd, zones, models, device`)

	code, told, _ = run(t, "model", estate)
	require.Equal(t, 0, code)
	var model map[string]any
	require.NoError(t, json.Unmarshal([]byte(told), &model))
	assert.Contains(t, model, "ietf-network:networks")
}

// The runbook of one party is of the same steps and numbers as that of all.
func TestRunbooksOnTheCommandLine(t *testing.T) {
	book := func(args ...string) (b runbook.Runbook) {
		code, told, failed := run(t, append([]string{"runbook", "--format", "json"}, args...)...)
		require.Equal(t, 0, code, failed)
		require.NoError(t, json.Unmarshal([]byte(told), &b))
		return b
	}
	const trust = "../../demo/thistledown.yaml"
	all := book(trust)
	require.NotEmpty(t, all.Steps)
	var party string
	for _, s := range all.Steps {
		if party == "" {
			party = s.Where
		}
	}
	party, _, _ = strings.Cut(party, ",")
	one := book(trust, "--party", strings.ReplaceAll(strings.ToLower(party), " ", "-"))
	require.NotEmpty(t, one.Steps)
	for _, s := range one.Steps {
		assert.Equal(t, s.Does, all.Steps[s.N-1].Does)
	}
	code, told, _ := run(t, "runbook", trust)
	assert.Equal(t, 0, code)
	for _, s := range all.Steps {
		assert.Contains(t, told, s.Where)
	}
	code, _, told = run(t, "runbook", trust, "--party", "ghost")
	assert.Equal(t, 2, code)
	assert.Contains(t, told, "is no party of this design")
}

// A rehearsal on the command line tells how it goes, keeps its report, and refuses before anything runs what it could
// not keep or take away.
func TestRehearsingOnTheCommandLine(t *testing.T) {
	if err := stage.Possible(); err != nil && os.Getenv("CI") == "" {
		t.Skipf("NOT REHEARSED: %v", err)
	}
	there := t.TempDir()
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"--drill", "ghost"}, "ghost"},
		{[]string{"--out", there}, "give the name of a folder that does not exist yet"},
		{[]string{"--out", filepath.Join(there, "none", "below")}, "no such file or directory"},
	} {
		code, out, told := run(t, append([]string{"rehearse", estate}, c.args...)...)
		assert.Equal(t, 2, code)
		assert.Contains(t, told, c.says)
		assert.Empty(t, out)
	}
	code, _, told := run(t, "rehearse", estate, "--limit", "1ms", "--out", filepath.Join(there, "short"))
	assert.Equal(t, 1, code)
	assert.Contains(t, told, "broken off: it took longer than 1ms")
	assert.NoDirExists(t, filepath.Join(there, "short"))

	folder := filepath.Join(there, "kept")
	code, out, told := run(t, "rehearse", estate, "--sample", "10", "--capture", "--out", folder)
	require.Equal(t, 0, code, told)
	assert.Contains(t, told, "tunnel ")
	assert.Contains(t, out, "0 of which differ")
	text, err := os.ReadFile(filepath.Join(folder, "report.json"))
	require.NoError(t, err)
	var report rehearsal.Report
	require.NoError(t, json.Unmarshal(text, &report))
	assert.Empty(t, report.Differences())
	for _, pattern := range []string{"logs/*.log", "captures/*.pcapng", "design.yaml"} {
		found, err := filepath.Glob(filepath.Join(folder, pattern))
		require.NoError(t, err)
		assert.NotEmpty(t, found, pattern)
	}
}
