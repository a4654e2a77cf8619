package store_test

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
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
