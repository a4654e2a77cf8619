package store_test

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/store"
	"dravin/store/cluster"
)

// alone is a store on an empty database of its own, with a design and its tunnels.
func alone(t *testing.T) (s *store.Store, url, id string, tunnels []*design.Object) {
	url = database(t)
	s, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	id = create(t, s)
	d, _, err := s.Load(t.Context(), id)
	require.NoError(t, err)
	return s, url, id, d.Of(design.KindTunnel)
}

// database makes an empty database in the cluster of the tests.
func database(t *testing.T) string {
	admin, err := sqlx.Open("pgx", pg.URL)
	require.NoError(t, err)
	name := "t" + store.NewID()
	admin.MustExec("create database " + name)
	t.Cleanup(func() { admin.MustExec("drop database " + name + " with (force)"); admin.Close() })
	return cluster.Database(pg.URL, name)
}

func open2(t *testing.T, s *store.Store, file string) (*store.Vault, []store.Unopened) {
	v, unopened, err := s.OpenVault(t.Context(), file)
	require.NoError(t, err)
	return v, unopened
}

func TestKeysAreSealedAndStay(t *testing.T) {
	s, url, id, tunnels := alone(t)
	file := filepath.Join(t.TempDir(), "sub", "key")
	vault, unopened := open2(t, s, file)
	assert.Nil(t, vault.Closed())
	assert.Empty(t, unopened)
	mode, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), mode.Mode().Perm())
	keys, err := s.Keys(t.Context(), vault, id, tunnels)
	require.NoError(t, err)
	require.Len(t, keys, 3)
	seen := map[string]bool{}
	for _, k := range keys {
		assert.GreaterOrEqual(t, len(k), 40)
		seen[k] = true
	}
	assert.Len(t, seen, 3)
	again, _ := open2(t, s, file)
	same, err := s.Keys(t.Context(), again, id, tunnels)
	require.NoError(t, err)
	assert.Equal(t, keys, same)

	db, err := sqlx.Open("pgx", url)
	require.NoError(t, err)
	defer db.Close()
	var stored [][]byte
	require.NoError(
		t,
		db.SelectContext(t.Context(), &stored, `select sealed from secrets union all select fingerprint from secrets`),
	)
	require.Len(t, stored, 6)
	for _, sealed := range stored {
		for k := range seen {
			assert.NotContains(t, string(sealed), k)
		}
	}
	require.NoError(t, s.Delete(t.Context(), id))
	own, _, err := s.Fingerprints(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, own, 3, "deleting can be taken back, keys and all")
	db.MustExec(`update designs set deleted_at = now() - interval '31 days'`)
	_, err = s.Purge(t.Context())
	require.NoError(t, err)
	own, _, err = s.Fingerprints(t.Context(), id)
	require.NoError(t, err)
	assert.Empty(t, own, "keys go with their design")
}

// Whether keys are equal is known without opening any; bytes that are written in
// two ways are one key.
func TestEqualKeysAreKnownSealed(t *testing.T) {
	s, _, id, tunnels := alone(t)
	vault, _ := open2(t, s, filepath.Join(t.TempDir(), "key"))
	put := func(n int, key string) {
		require.NoError(t, s.PutKey(t.Context(), vault, id, tunnels[n].ID, key))
	}
	put(0, "badgers and moss")
	put(1, "0x6261646765727320616e64206d6f7373")
	put(2, "0s"+base64.StdEncoding.EncodeToString([]byte("badgers and mosses")))
	require.NoError(t, s.PutFarKey(t.Context(), vault, id, tunnels[2].ID, "badgers and moss"))
	own, far, err := s.Fingerprints(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, own[tunnels[0].ID], own[tunnels[1].ID])
	assert.NotEqual(t, own[tunnels[0].ID], own[tunnels[2].ID])
	assert.Equal(t, own[tunnels[0].ID], far[tunnels[2].ID])
	assert.Len(t, far, 1)

	taken, err := s.TakeFarKey(t.Context(), id, tunnels[2].ID)
	require.NoError(t, err)
	assert.True(t, taken)
	keys, err := s.Keys(t.Context(), vault, id, tunnels)
	require.NoError(t, err)
	assert.Equal(t, "badgers and moss", keys[tunnels[2].ID])
	require.NoError(t, s.PutFarKey(t.Context(), vault, id, tunnels[2].ID, ""))
	taken, err = s.TakeFarKey(t.Context(), id, tunnels[2].ID)
	require.NoError(t, err)
	assert.False(t, taken)
}

// A far key that comes without another change is kept with a line in the history,
// and is nothing that undo would take back.
func TestAKeyAloneIsNoUndoStep(t *testing.T) {
	s, _, id, tunnels := alone(t)
	vault, _ := open2(t, s, filepath.Join(t.TempDir(), "key"))
	require.NoError(t, commit(t, s, id, "yew"))
	in, err := s.Commit(
		t.Context(), id,
		store.ChangeSet{
			Base: 1, Author: "a", Reason: "they sent a key",
			FarKey: &store.FarKey{Vault: vault, Tunnel: tunnels[0].ID, Key: "badgers"},
		},
	)
	require.NoError(t, err)
	assert.Equal(t, int64(2), in.Position)
	_, far, err := s.Fingerprints(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, far, 1)
	undo, _, err := s.Steps(t.Context(), id, "a")
	require.NoError(t, err)
	assert.Equal(t, "r", undo, "the change before it")
	// A stale writer's key is not kept.
	_, err = s.Commit(
		t.Context(), id,
		store.ChangeSet{
			Base: 1, Author: "a", Reason: "stale",
			FarKey: &store.FarKey{Vault: vault, Tunnel: tunnels[1].ID, Key: "moss"},
		},
	)
	require.Error(t, err)
	_, far, err = s.Fingerprints(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, far, 1)
}

// A key file that is lost, wrong or read by others leaves its keys shut and says
// which; nothing is made in its place, and the right one opens them again.
func TestKeyFilesThatDoNotFit(t *testing.T) {
	s, _, id, tunnels := alone(t)
	dir := t.TempDir()
	file, kept := filepath.Join(dir, "key"), filepath.Join(dir, "kept")
	vault, _ := open2(t, s, file)
	keys, err := s.Keys(t.Context(), vault, id, tunnels)
	require.NoError(t, err)
	require.NoError(t, os.Rename(file, kept))

	shut := func(why string) {
		v, unopened := open2(t, s, file)
		require.NotNil(t, v.Closed())
		assert.Contains(t, v.Closed().Error(), why)
		require.Len(t, unopened, 3)
		assert.Equal(t, "Two gardens: Marrow Hill to catalogue, tunnel 1", unopened[0].String())
		_, err := s.Keys(t.Context(), v, id, tunnels)
		assert.ErrorContains(t, err, why)
		assert.ErrorContains(t, s.PutKey(t.Context(), v, id, tunnels[0].ID, "another"), why)
		_, _, err = s.Fingerprints(t.Context(), id)
		assert.NoError(t, err, "the rest works")
	}
	shut("there is no key file")
	assert.NoFileExists(t, file)
	require.NoError(t, os.WriteFile(file, []byte("short"), 0o600))
	shut("5 bytes and must have 32")
	require.NoError(t, os.WriteFile(file, make([]byte, 32), 0o600))
	shut("is not the one")
	good, err := os.ReadFile(kept)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, good, 0o600))
	require.NoError(t, os.Chmod(file, 0o640))
	shut("others may read")
	require.NoError(t, os.Chmod(file, 0o400))
	v, unopened := open2(t, s, file)
	assert.Nil(t, v.Closed())
	assert.Empty(t, unopened)
	same, err := s.Keys(t.Context(), v, id, tunnels)
	require.NoError(t, err)
	assert.Equal(t, keys, same)

	// Lost for good: they are forgotten when told so, and new ones are made.
	require.NoError(t, os.Remove(file))
	gone, err := s.ForgetKeys(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, gone, 3)
	v, unopened = open2(t, s, file)
	assert.Nil(t, v.Closed())
	assert.Empty(t, unopened)
	fresh, err := s.Keys(t.Context(), v, id, tunnels)
	require.NoError(t, err)
	assert.NotEqual(t, keys, fresh)
}

func TestServersThatStartAtOnceAgreeOnOneKeyFile(t *testing.T) {
	for round := range min(faults(4), 100) {
		t.Run(fmt.Sprint(round), startAtOnce)
	}
}

func startAtOnce(t *testing.T) {
	url, file := database(t), filepath.Join(t.TempDir(), "new", "key")
	var wait sync.WaitGroup
	var stores [4]*store.Store
	var vaults [4]*store.Vault
	for n := range vaults {
		wait.Go(func() {
			s, err := store.Open(t.Context(), url)
			if assert.NoError(t, err) {
				stores[n] = s
				vaults[n], _, err = s.OpenVault(t.Context(), file)
				assert.NoError(t, err)
			}
		})
	}
	wait.Wait()
	var first []byte
	for n := range vaults {
		require.NotNil(t, vaults[n])
		assert.Nil(t, vaults[n].Closed())
		mark, err := vaults[n].Fingerprint("d", "k")
		require.NoError(t, err)
		if first == nil {
			first = mark
		}
		assert.Equal(t, first, mark)
		stores[n].Close()
	}
}
