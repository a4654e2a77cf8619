package store

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"dravin/core/design"
	"dravin/core/handover"
)

// Vault seals keys with AES-256-GCM. Its own key lives in a file outside the
// database.
type Vault struct{ aead cipher.AEAD }

const vaultKeySize = 32

// OpenVault reads the vault's key, or makes one (mode 0600) if there is none.
func OpenVault(path string) (*Vault, error) {
	key, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		key = make([]byte, vaultKeySize)
		_, _ = rand.Read(key) // never fails
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, fmt.Errorf("making the key file: %w", err)
		}
		err = os.WriteFile(path, key, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("the key file: %w", err)
	}
	if len(key) != vaultKeySize {
		return nil, fmt.Errorf("the key file %s has %d bytes and must have %d; restore it from where you keep it", path, len(key), vaultKeySize)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Vault{aead}, err
}

func (v *Vault) seal(plain, place string) []byte {
	nonce := make([]byte, v.aead.NonceSize())
	_, _ = rand.Read(nonce)
	return v.aead.Seal(nonce, nonce, []byte(plain), []byte(place))
}

func (v *Vault) open(sealed []byte, place string) (string, error) {
	n := v.aead.NonceSize()
	if len(sealed) < n {
		return "", errors.New("a sealed key is too short")
	}
	plain, err := v.aead.Open(nil, sealed[:n], sealed[n:], []byte(place))
	if err != nil {
		return "", errors.New("a sealed key can not be opened; is this the key file that it was made with?")
	}
	return string(plain), nil
}

// NewKey makes a pre-shared key with 256 bits of entropy.
func NewKey() string {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	return base64.StdEncoding.EncodeToString(b)
}

// Keys returns the pre-shared key of each tunnel, making those that are
// missing.
func (s *Store) Keys(ctx context.Context, v *Vault, id string, tunnels []*design.Object) (handover.Keys, error) {
	out := handover.Keys{}
	for _, t := range tunnels {
		place := id + "/" + string(t.ID)
		// Two servers may ask at once: the first key put in is the one.
		_, err := s.db.ExecContext(ctx, `insert into secrets (design, object, sealed) values ($1, $2, $3) on conflict do nothing`, id, t.ID, v.seal(NewKey(), place))
		if err != nil {
			return nil, err
		}
		var sealed []byte
		if err := s.db.GetContext(ctx, &sealed, `select sealed from secrets where design = $1 and object = $2`, id, t.ID); err != nil {
			return nil, err
		}
		if out[t.ID], err = v.open(sealed, place); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// far is what the object of a far end's key, as it was sent, is called.
func far(tunnel design.ID) string { return string(tunnel) + "#far" }

// HeldKeys opens every pre-shared key of a design that has been made: by
// tunnel, ours and what the far end sent where that is another.
func (s *Store) HeldKeys(ctx context.Context, v *Vault, id string) (ours, theirs handover.Keys, err error) {
	var rows []struct {
		Object string
		Sealed []byte
	}
	if err := s.db.SelectContext(ctx, &rows, `select object, sealed from secrets where design = $1 order by object`, id); err != nil {
		return nil, nil, err
	}
	ours, theirs = handover.Keys{}, handover.Keys{}
	for _, r := range rows {
		plain, err := v.open(r.Sealed, id+"/"+r.Object)
		if err != nil {
			return nil, nil, err
		}
		if tunnel, isFar := strings.CutSuffix(r.Object, "#far"); isFar {
			theirs[design.ID(tunnel)] = plain
		} else {
			ours[design.ID(tunnel)] = plain
		}
	}
	return ours, theirs, nil
}

// PutKey sets the key of a tunnel.
func (s *Store) PutKey(ctx context.Context, v *Vault, id string, tunnel design.ID, key string) error {
	return s.putSecret(ctx, v, id, string(tunnel), key)
}

// PutFarKey keeps the key that a far end sent beside ours; "" forgets it.
func (s *Store) PutFarKey(ctx context.Context, v *Vault, id string, tunnel design.ID, key string) error {
	if key == "" {
		_, err := s.db.ExecContext(ctx, `delete from secrets where design = $1 and object = $2`, id, far(tunnel))
		return err
	}
	return s.putSecret(ctx, v, id, far(tunnel), key)
}

func (s *Store) putSecret(ctx context.Context, v *Vault, id, object, plain string) error {
	_, err := s.db.ExecContext(ctx, `insert into secrets (design, object, sealed) values ($1, $2, $3) on conflict (design, object) do update set sealed = excluded.sealed`,
		id, object, v.seal(plain, id+"/"+object))
	return err
}
