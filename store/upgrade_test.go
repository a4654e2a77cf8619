package store_test

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/demo"
	"dravin/store"
)

// sealedBefore seals as the first version did.
func sealedBefore(t *testing.T, key []byte, plain, place string) []byte {
	block, err := aes.NewCipher(key)
	require.NoError(t, err)
	aead, err := cipher.NewGCM(block)
	require.NoError(t, err)
	nonce := make([]byte, aead.NonceSize())
	_, _ = rand.Read(nonce)
	return aead.Seal(nonce, nonce, []byte(plain), []byte(place))
}

// A database of the first version is brought up to date with its keys, those of
// far ends too, which it told apart by what their tunnels' IDs ended with.
func TestADatabaseOfTheFirstVersionKeepsItsKeys(t *testing.T) {
	url := database(t)
	db, err := sqlx.Open("pgx", url)
	require.NoError(t, err)
	defer db.Close()
	first, err := os.ReadFile("migrations/00001_designs.sql")
	require.NoError(t, err)
	steps, err := goose.NewProvider(goose.DialectPostgres, db.DB, fstest.MapFS{"00001_designs.sql": {Data: first}})
	require.NoError(t, err)
	_, err = steps.Up(t.Context())
	require.NoError(t, err)
	file, key := filepath.Join(t.TempDir(), "key"), make([]byte, 32)
	_, _ = rand.Read(key)
	require.NoError(t, os.WriteFile(file, key, 0o600))
	db.MustExec(`insert into designs (id, name) values ('d', 'Huts')`)
	for _, tunnel := range []string{"one", "odd#far"} {
		db.MustExec(
			`insert into objects (design, id, kind, parent, name, body) values ('d', $1, 'tunnel', '', 'tunnel', '{}')`,
			tunnel,
		)
	}
	for object, plain := range map[string]string{
		"one": "ours of one", "one#far": "theirs of one", "odd#far": "ours of odd",
	} {
		db.MustExec(
			`insert into secrets (design, object, sealed) values ('d', $1, $2)`, object,
			sealedBefore(t, key, plain, "d/"+object),
		)
	}

	s, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	defer s.Close()
	tunnels := []*design.Object{{ID: "one"}, {ID: "odd#far"}}
	for range 2 { // and again at the next start
		vault, unopened := open2(t, s, file)
		require.Nil(t, vault.Closed())
		assert.Empty(t, unopened)
		keys, err := s.Keys(t.Context(), vault, "d", tunnels)
		require.NoError(t, err)
		assert.Equal(t, "ours of one", keys["one"])
		assert.Equal(t, "ours of odd", keys["odd#far"])
		own, far, err := s.Fingerprints(t.Context(), "d")
		require.NoError(t, err)
		assert.Len(t, own, 2)
		assert.Len(t, far, 1)
	}
	taken, err := s.TakeFarKey(t.Context(), "d", "one")
	require.NoError(t, err)
	assert.True(t, taken)
	vault, _ := open2(t, s, file)
	keys, err := s.Keys(t.Context(), vault, "d", tunnels[:1])
	require.NoError(t, err)
	assert.Equal(t, "theirs of one", keys["one"])
	other := filepath.Join(t.TempDir(), "other")
	require.NoError(t, os.WriteFile(other, make([]byte, 32), 0o600))
	shut, unopened := open2(t, s, other)
	assert.NotNil(t, shut.Closed())
	assert.Len(t, unopened, 3)
}

// A design that was kept as one, in which things had states, becomes two: what was drafted is planned and not there,
// what is being built is there and done in the plan, and all else is both. What was done until then is told, and not
// undone.
func TestADesignOfBeforeIsDivided(t *testing.T) {
	url := database(t)
	db, err := sqlx.Open("pgx", url)
	require.NoError(t, err)
	defer db.Close()
	steps, err := goose.NewProvider(goose.DialectPostgres, db.DB, os.DirFS("migrations"))
	require.NoError(t, err)
	_, err = steps.UpTo(t.Context(), 7)
	require.NoError(t, err)
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	drafted := d.Find("marrow-hill-to-catalogue", design.KindLink)[0]
	making := d.Find("peatside-to-marrow-hill", design.KindLink)[0]
	db.MustExec(`insert into designs (id, name, position) values ('d', 'Trust', 1)`)
	for _, o := range d.All() {
		values := design.Values(o)
		switch o.ID {
		case drafted.ID:
			values["state"] = "drafted"
		case making.ID:
			values["state"] = design.Making
		}
		body, err := json.Marshal(values)
		require.NoError(t, err)
		db.MustExec(`insert into objects (design, id, kind, parent, name, body) values ('d', $1, $2, $3, $4, $5)`,
			o.ID, o.Kind, o.Parent, o.Name, body)
	}
	db.MustExec(`insert into changes (design, position, author, reason, act, edits, inverse)
		values ('d', 1, 'ada', 'Draft it', 'edit', '[]', '[]')`)

	for range 2 { // and nothing more at the next start
		s, err := store.Open(t.Context(), url)
		require.NoError(t, err)
		now, in, err := s.Load(t.Context(), "d")
		require.NoError(t, err)
		assert.EqualValues(t, 1, in.Position)
		assert.Equal(t, d.Len(), now.Len(), "nothing is lost")
		assert.Equal(t, design.NotBegun, now.StateOf(drafted.ID))
		assert.Equal(t, design.Making, now.StateOf(making.ID))
		for _, id := range []design.ID{drafted.ID, making.ID} {
			assert.Equal(t, design.Ready, design.StateOf(now.Get(id)))
		}
		for _, tunnel := range now.Tunnels(drafted.ID) {
			assert.Nil(t, now.Built().Get(tunnel.ID), "what stands in it is not there")
		}
		undo, _, err := s.Steps(t.Context(), "d", "ada")
		require.NoError(t, err)
		assert.Empty(t, undo)
		history, err := s.History(t.Context(), "d", 0, 0)
		require.NoError(t, err)
		assert.Len(t, history, 1)
		require.NoError(t, s.Close())
	}
}

// Edits of either side are kept, undone and followed by other servers.
func TestBothSidesAreKept(t *testing.T) {
	url := database(t)
	s, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	defer s.Close()
	d, err := design.Read(demo.TwoGardens)
	require.NoError(t, err)
	in, err := s.Create(t.Context(), d)
	require.NoError(t, err)
	link := d.Of(design.KindLink)[0]
	gone := d.Removal(link.ID).Edits
	for n := range gone {
		gone[n].Side = design.Built
	}
	commit := func(edits []design.Edit) {
		in, err = s.Commit(t.Context(), in.ID, store.ChangeSet{Base: in.Position, Author: "ada", Reason: "x", Edits: edits})
		require.NoError(t, err)
	}
	begun, then, err := s.Load(t.Context(), in.ID)
	require.NoError(t, err)
	commit(gone)
	now, _, err := s.Load(t.Context(), in.ID)
	require.NoError(t, err)
	assert.Nil(t, now.Built().Get(link.ID))
	assert.NotNil(t, now.Get(link.ID))
	followed, _, _, ok, err := s.Follow(t.Context(), in.ID, begun, then)
	require.NoError(t, err)
	require.True(t, ok)
	assert.Empty(t, now.EditsTo(followed))
	commit([]design.Edit{design.PutEdit(design.Edited(link, func(b *design.Link) { b.Note = "planned anew" }))})
	for range 2 {
		in, err = s.Undo(t.Context(), in.ID, in.Position, "ada")
		require.NoError(t, err)
	}
	back, _, err := s.Load(t.Context(), in.ID)
	require.NoError(t, err)
	assert.Empty(t, back.Unlike())
	assert.Empty(t, back.EditsTo(begun))
}
