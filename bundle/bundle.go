// Package bundle puts what a party is handed into one signed file: its files, its instructions as data and as a sheet,
// its checks, and checksums of all that with a signature. Pre-shared keys are not in it: they go by another way.
//
// A bundle is a zip. SHA256SUMS is as sha256sum writes it, SHA256SUMS.sig is its Ed25519 signature (RFC 8032), and
// signer.pem the key that made it (RFC 8410); whoever wants to know that it is from us compares that with the one that
// he has already, and can check all of it without Dravin:
//
//	openssl pkeyutl -verify -pubin -inkey signer.pem -rawin -in SHA256SUMS -sigfile SHA256SUMS.sig
//	sha256sum -c SHA256SUMS
package bundle

import (
	"archive/zip"
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"dravin/core/box"
	"dravin/core/handover"
)

// The names in a bundle of what is about it.
const (
	sums      = "SHA256SUMS"
	signature = "SHA256SUMS.sig"
	signer    = "signer.pem"
)

// mostBytes bounds what is read of a bundle.
const mostBytes = 64 << 20

// Key reads the key that signs from a file, in PKCS #8; it is made if the file is missing, readable by its owner alone.
func Key(file string) (ed25519.PrivateKey, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return makeKey(file)
	}
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("%s holds no key; give a private key in PEM, or the name of a file that is to be made", file)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	own, ok := key.(ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, fmt.Errorf("%s holds no Ed25519 key; make one with openssl genpkey -algorithm ed25519", file)
	}
	return own, nil
}

func makeKey(file string) (ed25519.PrivateKey, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return key, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600)
}

// Write writes a party's bundle. Files that hold keys are left out; files must have these masked. at is when it is
// made.
func Write(
	w io.Writer, party string, files []handover.File, told []box.Instruction, key ed25519.PrivateKey, at time.Time,
) error {
	all := map[string][]byte{}
	var checks, away strings.Builder
	for _, f := range files {
		if f.Secret {
			fmt.Fprintf(&away, "%s is not here: it holds keys, which come by another way\n", f.Path)
			continue
		}
		all["files/"+f.Path] = []byte(f.Content)
	}
	for _, i := range told {
		if i.Due {
			fmt.Fprintf(&checks, "[ ] %s: %s\n", i.Does, i.Check.Text)
		}
	}
	data, err := json.MarshalIndent(told, "", "  ")
	if err != nil {
		return err
	}
	public, err := x509.MarshalPKIXPublicKey(key.Public())
	if err != nil {
		return err
	}
	all["instructions.json"], all["checks.txt"] = append(data, '\n'), []byte(checks.String())
	all["README.txt"] = fmt.Appendf(nil, "What %s is handed, made on %s.\n\nCheck it first:\n"+
		"  openssl pkeyutl -verify -pubin -inkey signer.pem -rawin -in SHA256SUMS -sigfile SHA256SUMS.sig\n"+
		"  sha256sum -c SHA256SUMS\nsigner.pem must be the key that you know to be ours.\n\n%s",
		party, at.UTC().Format(time.DateOnly), away.String())
	all[signer] = pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})
	list := sumsOf(all)
	all[sums], all[signature] = list, ed25519.Sign(key, list)
	z := zip.NewWriter(w)
	for _, name := range sorted(all) {
		f, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: at.UTC()})
		if err != nil {
			return err
		}
		if _, err := f.Write(all[name]); err != nil {
			return err
		}
	}
	return z.Close()
}

func sorted(all map[string][]byte) []string {
	var out []string
	for name := range all {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// sumsOf are the checksums of files, as sha256sum writes them.
func sumsOf(all map[string][]byte) []byte {
	var out bytes.Buffer
	for _, name := range sorted(all) {
		sum := sha256.Sum256(all[name])
		fmt.Fprintf(&out, "%s  %s\n", hex.EncodeToString(sum[:]), name)
	}
	return out.Bytes()
}

// Verify checks a bundle against the key that is known to be ours, in PEM; without one against the key that it has
// itself, which says that it is whole and not from whom. It returns the names of the files.
func Verify(r io.ReaderAt, size int64, known []byte) ([]string, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, fmt.Errorf("this is no bundle: %w", err)
	}
	all := map[string][]byte{}
	left := int64(mostBytes)
	for _, f := range z.File {
		if path.Clean("/"+f.Name) != "/"+f.Name {
			return nil, fmt.Errorf("%q is no name of a file in a bundle", f.Name)
		}
		content, err := read(f, left)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		left -= int64(len(content))
		all[f.Name] = content
	}
	if known == nil {
		known = all[signer]
	}
	key, err := publicKey(known)
	if err != nil {
		return nil, err
	}
	if !ed25519.Verify(key, all[sums], all[signature]) {
		return nil, errors.New("its checksums are not signed by that key: it is not from its owner, or was changed")
	}
	list := all[sums]
	delete(all, sums)
	delete(all, signature)
	if now := sumsOf(all); !bytes.Equal(now, list) {
		return nil, fmt.Errorf("its files are others than those that were signed: %s", firstOther(list, now))
	}
	return sorted(all), nil
}

func read(f *zip.File, most int64) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	content, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(content)) > most {
		err = fmt.Errorf("a bundle has at most %d MiB", mostBytes>>20)
	}
	return content, err
}

func publicKey(text []byte) (ed25519.PublicKey, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, errors.New("there is no public key in PEM to check it with")
	}
	key, err := x509.ParsePKIXPublicKey(block.Bytes)
	own, ok := key.(ed25519.PublicKey)
	if err != nil || !ok {
		return nil, errors.New("the key to check it with is no Ed25519 public key")
	}
	return own, nil
}

// firstOther names the first line in which two lists of checksums part.
func firstOther(signed, now []byte) string {
	had := strings.Split(string(signed), "\n")
	for _, l := range append(strings.Split(string(now), "\n"), had...) {
		if !slices.Contains(had, l) || !bytes.Contains(now, []byte(l)) {
			if _, name, ok := strings.Cut(l, "  "); ok {
				return name
			}
		}
	}
	return "some"
}
