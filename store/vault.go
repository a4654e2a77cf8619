package store

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Vault seals keys with AES-256-GCM. Its own key lives in a file outside the
// database. A vault that is closed neither seals nor opens; all else works.
type Vault struct {
	aead   cipher.AEAD
	mac    []byte // keys the fingerprints
	closed *Closed
}

// Closed says why a vault can not be used.
type Closed struct{ Why, Want string }

func (c *Closed) Error() string { return c.Why + "; " + c.Want }

// Closed is why the vault can not be used, nil if it can.
func (v *Vault) Closed() *Closed { return v.closed }

const vaultKeySize = 32

// ErrNoKeyFile means that there is no key file yet.
var ErrNoKeyFile = errors.New("there is no key file")

// ReadKeyFile opens the vault of a key file. One that others may read, or that is
// none, is an error of type [*Closed]; none at all is [ErrNoKeyFile].
func ReadKeyFile(path string) (*Vault, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, ErrNoKeyFile
	case err != nil:
		return nil, &Closed{"the key file can not be read: " + err.Error(), "give the server's user the right to"}
	case !info.Mode().IsRegular():
		return nil, &Closed{"the key file " + path + " is no file", "name the file with --key-file"}
	case info.Mode().Perm()&0o077 != 0:
		return nil, &Closed{
			fmt.Sprintf("others may read the key file %s (mode %04o)", path, info.Mode().Perm()),
			"chmod 600 it, and make new keys if somebody may have",
		}
	case info.Size() != vaultKeySize:
		return nil, &Closed{
			fmt.Sprintf("the key file %s has %d bytes and must have %d", path, info.Size(), vaultKeySize),
			"restore it from where you keep it",
		}
	}
	key, err := os.ReadFile(path)
	if err != nil {
		return nil, &Closed{"the key file can not be read: " + err.Error(), "give the server's user the right to"}
	}
	return vaultOf(key)
}

func vaultOf(key []byte) (*Vault, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Vault{aead: aead, mac: keyed(key, "fingerprints of keys")}, err
}

// MakeKeyFile makes a key file (mode 0600), whole or not at all and never over
// another: of several who make one at once all get the first.
func MakeKeyFile(path string) (*Vault, error) {
	dir := filepath.Dir(path)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the key file: %w", err)
	}
	f, err := os.CreateTemp(dir, ".key-*") // mode 0600
	if err != nil {
		return nil, fmt.Errorf("making the key file: %w", err)
	}
	defer os.Remove(f.Name())
	key := make([]byte, vaultKeySize)
	_, _ = rand.Read(key) // never fails
	_, err = f.Write(key)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, fmt.Errorf("making the key file: %w", err)
	}
	if err := os.Link(f.Name(), path); err != nil && !errors.Is(err, os.ErrExist) {
		return nil, fmt.Errorf("making the key file: %w", err)
	}
	return ReadKeyFile(path)
}

func keyed(key []byte, parts ...string) []byte {
	h := hmac.New(sha256.New, key)
	for _, p := range parts {
		fmt.Fprintf(h, "%d:%s", len(p), p)
	}
	return h.Sum(nil)
}

// itself is the fingerprint of the vault's own key.
func (v *Vault) itself() []byte { return keyed(v.mac, "the key file") }

// Fingerprint tells equal keys of a design from others, to those alone who have
// the key file.
func (v *Vault) Fingerprint(design, key string) ([]byte, error) {
	if v.closed != nil {
		return nil, v.closed
	}
	return keyed(v.mac, design, string(keyBytes(key))), nil
}

// keyBytes are what the IPsec daemon takes a key for: text, or bytes written in
// hexadecimal after 0x or in base64 after 0s.
func keyBytes(key string) []byte {
	lower := strings.ToLower(key)
	if b, err := hex.DecodeString(strings.TrimPrefix(lower, "0x")); err == nil && strings.HasPrefix(lower, "0x") {
		return b
	}
	if b, err := base64.StdEncoding.DecodeString(key[min(2, len(key)):]); err == nil && strings.HasPrefix(lower, "0s") {
		return b
	}
	return []byte(key)
}

func (v *Vault) seal(plain, place string) ([]byte, error) {
	if v.closed != nil {
		return nil, v.closed
	}
	nonce := make([]byte, v.aead.NonceSize())
	_, _ = rand.Read(nonce)
	return v.aead.Seal(nonce, nonce, []byte(plain), []byte(place)), nil
}

func (v *Vault) open(sealed []byte, place string) (string, error) {
	if v.closed != nil {
		return "", v.closed
	}
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

// NewKey makes a pre-shared key with 256 bits of entropy, whose text stands for
// itself.
func NewKey() string {
	for {
		b := make([]byte, 32)
		_, _ = rand.Read(b) // never fails
		if key := base64.StdEncoding.EncodeToString(b); bytes.Equal(keyBytes(key), []byte(key)) {
			return key
		}
	}
}
