package bundle_test

import (
	"archive/zip"
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/bundle"
	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
)

// made is the bundle of Marrow Hill, and the key that signed it.
func made(t *testing.T) (file []byte, keyFile string) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	party := d.Find("marrow-hill", design.KindSite)[0]
	keys := handover.Keys{}
	for _, x := range d.Of(design.KindTunnel) {
		keys[x.ID] = "a key of badgers and moss"
	}
	keyFile = filepath.Join(t.TempDir(), "signing.pem")
	key, err := bundle.Key(keyFile)
	require.NoError(t, err)
	again, err := bundle.Key(keyFile)
	require.NoError(t, err)
	require.Equal(t, key, again)
	var out bytes.Buffer
	at := time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC)
	require.NoError(t, bundle.Write(
		&out, party.Name, handover.Render(tables, party.ID, keys), box.Instructions(tables, party.ID), key, at,
	))
	return out.Bytes(), keyFile
}

func TestBundlesAreCheckedWithoutDravin(t *testing.T) {
	file, _ := made(t)
	assert.NotContains(t, string(file), "badgers")
	names, err := bundle.Verify(bytes.NewReader(file), int64(len(file)), nil)
	require.NoError(t, err)
	assert.Contains(t, names, "files/gateway/nftables.d/dravin.nft")
	assert.Contains(t, names, "instructions.json")
	assert.NotContains(t, names, "files/gateway/swanctl/conf.d/dravin-keys.conf")

	dir := t.TempDir()
	z, err := zip.NewReader(bytes.NewReader(file), int64(len(file)))
	require.NoError(t, err)
	require.NoError(t, os.CopyFS(dir, z))
	for _, line := range []string{
		"openssl pkeyutl -verify -pubin -inkey signer.pem -rawin -in SHA256SUMS -sigfile SHA256SUMS.sig",
		"sha256sum -c SHA256SUMS",
	} {
		cmd := exec.Command("/bin/sh", "-c", line)
		cmd.Dir = dir
		said, err := cmd.CombinedOutput()
		assert.NoError(t, err, "%s: %s", line, said)
	}
}

func TestBundlesThatWereChangedAreRefused(t *testing.T) {
	file, _ := made(t)
	other, err := bundle.Key(filepath.Join(t.TempDir(), "other.pem"))
	require.NoError(t, err)
	var small bytes.Buffer
	require.NoError(t, bundle.Write(&small, "Fern Lodge", nil, nil, other, time.Now()))
	z, err := zip.NewReader(bytes.NewReader(small.Bytes()), int64(small.Len()))
	require.NoError(t, err)
	pem, err := z.Open("signer.pem")
	require.NoError(t, err)
	known, err := io.ReadAll(pem)
	require.NoError(t, err)
	_, err = bundle.Verify(bytes.NewReader(file), int64(len(file)), known)
	assert.ErrorContains(t, err, "not signed by that key")

	changed := rewritten(t, file, func(name string, content []byte) []byte {
		if name == "checks.txt" {
			return append(content, "nothing more\n"...)
		}
		return content
	})
	_, err = bundle.Verify(bytes.NewReader(changed), int64(len(changed)), nil)
	assert.ErrorContains(t, err, "others than those that were signed: checks.txt")
	_, err = bundle.Verify(bytes.NewReader([]byte("PK")), 2, nil)
	assert.ErrorContains(t, err, "no bundle")
}

func rewritten(t *testing.T, file []byte, change func(string, []byte) []byte) []byte {
	in, err := zip.NewReader(bytes.NewReader(file), int64(len(file)))
	require.NoError(t, err)
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, f := range in.File {
		r, err := f.Open()
		require.NoError(t, err)
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		w, err := z.Create(f.Name)
		require.NoError(t, err)
		_, err = w.Write(change(f.Name, content))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return out.Bytes()
}
