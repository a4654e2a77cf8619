package bundle_test

import (
	"archive/zip"
	"bytes"
	"crypto/ed25519"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

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
	about := bundle.About{Design: d.Name, Party: party.Name, Made: at}
	require.NoError(t, bundle.Write(
		&out, about, handover.Render(tables, party.ID, keys), box.Instructions(tables, party.ID), key,
	))
	return out.Bytes(), keyFile
}

func TestBundlesAreCheckedWithoutDravin(t *testing.T) {
	file, _ := made(t)
	assert.NotContains(t, string(file), "badgers")
	b, err := bundle.Verify(bytes.NewReader(file), int64(len(file)), nil)
	require.NoError(t, err)
	names := b.Names
	assert.Equal(t, "Marrow Hill", b.Party)
	assert.Equal(t, "2026-11-30", b.Made.Format(time.DateOnly))
	assert.Contains(t, names, "files/gateway/nftables.d/dravin.nft")
	assert.Contains(t, names, "instructions.json")
	assert.NotContains(t, names, "files/gateway/swanctl/conf.d/dravin-keys.conf")

	dir := t.TempDir()
	z, err := zip.NewReader(bytes.NewReader(file), int64(len(file)))
	require.NoError(t, err)
	require.NoError(t, os.CopyFS(dir, z))
	readme, err := os.ReadFile(filepath.Join(dir, "README.txt"))
	require.NoError(t, err)
	checks := regexp.MustCompile(`(?m)^  (\S.*)$`).FindAllStringSubmatch(string(readme), -1)
	require.Len(t, checks, 3)
	said := ""
	check := func(line string) {
		cmd := exec.Command("/bin/sh", "-c", line)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err, "%s: %s", line, out)
		said = string(out)
	}
	for _, c := range checks {
		check(c[1])
	}
	assert.Empty(t, said)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "files/more.sh"), nil, 0o644))
	check(checks[2][1])
	assert.Equal(t, "not ours: files/more.sh\n", said)
}

// What other programs would unpack otherwise than we have read it is refused.
func TestBundlesHoldNothingElse(t *testing.T) {
	file, _ := made(t)
	for name, c := range map[string]struct {
		file []byte
		why  string
	}{
		"bytes before it": {append([]byte("PK\x03\x04 another"), file...), "bytes that belong to none"},
		"bytes after it":  {append(bytes.Clone(file), "more"...), "bytes that belong to none"},
		"a name twice": {zipped(t, func(z *zip.Writer) {
			for range 2 {
				entry(t, z, "checks.txt", 0o644)
			}
		}), "twice"},
		"one that runs as its owner": {
			zipped(t, func(z *zip.Writer) { entry(t, z, "checks.txt", 0o755|os.ModeSetuid) }), "mode",
		},
		"a link": {zipped(t, func(z *zip.Writer) { entry(t, z, "checks.txt", 0o777|os.ModeSymlink) }), "mode"},
		"a way out of the folder": {
			zipped(t, func(z *zip.Writer) { entry(t, z, "../checks.txt", 0o644) }), "no name of a file",
		},
	} {
		_, err := bundle.Verify(bytes.NewReader(c.file), int64(len(c.file)), nil)
		assert.ErrorContains(t, err, c.why, name)
	}
}

func zipped(t *testing.T, fill func(*zip.Writer)) []byte {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	fill(z)
	require.NoError(t, z.Close())
	return out.Bytes()
}

func entry(t *testing.T, z *zip.Writer, name string, mode os.FileMode) {
	h := &zip.FileHeader{Name: name}
	h.SetMode(mode)
	_, err := z.CreateHeader(h)
	require.NoError(t, err)
}

// Of many that make the key at once all sign by one, and a key that others may read is none.
func TestOneKeyIsMadeAtOnce(t *testing.T) {
	file := filepath.Join(t.TempDir(), "signing.pem")
	keys := make([]ed25519.PrivateKey, 13)
	var all errgroup.Group
	for n := range keys {
		all.Go(func() (err error) {
			keys[n], err = bundle.Key(file)
			return err
		})
	}
	require.NoError(t, all.Wait())
	for _, k := range keys {
		assert.Equal(t, keys[0], k)
	}
	require.NoError(t, os.Chmod(file, 0o644))
	_, err := bundle.Key(file)
	assert.ErrorContains(t, err, "others may read")
}

// What all parties are handed is one archive with a folder for each, without a key or what stands for one; of two files
// of one name none is lost without a word.
func TestArchivesHaveAFolderForEachParty(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	var all []bundle.Handed
	for _, o := range d.Inside("", handover.Parties...) {
		all = append(all, bundle.Handed{Party: o.Name, Files: handover.Render(tables, o.ID, nil)})
	}
	var out bytes.Buffer
	require.NoError(t, bundle.Archive(&out, d.Name, all, time.Now()))
	z, err := zip.NewReader(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	var names []string
	for _, f := range z.File {
		names = append(names, f.Name)
	}
	assert.Contains(t, names, "marrow-hill/gateway/dravin/routes.sh")
	assert.Contains(t, names, "peatside-nursery/gateway/dravin/routes.sh")
	assert.NotContains(t, strings.Join(names, " "), "-keys")
	twice := bundle.Handed{Party: "Marrow Hill", Files: []handover.File{{Path: "a/b"}, {Path: "a/b"}}}
	assert.ErrorContains(t, bundle.Archive(io.Discard, d.Name, []bundle.Handed{twice}, time.Now()), "two files")
}

func TestBundlesThatWereChangedAreRefused(t *testing.T) {
	file, _ := made(t)
	other, err := bundle.Key(filepath.Join(t.TempDir(), "other.pem"))
	require.NoError(t, err)
	var small bytes.Buffer
	require.NoError(t, bundle.Write(&small, bundle.About{Party: "Fern Lodge", Made: time.Now()}, nil, nil, other))
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
		h := &zip.FileHeader{Name: f.Name}
		h.SetMode(0o644)
		w, err := z.CreateHeader(h)
		require.NoError(t, err)
		_, err = w.Write(change(f.Name, content))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return out.Bytes()
}
