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
	"cmp"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
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
	aboutName = "about.json"
)

// fileMode is that of every file in an archive of ours.
const fileMode = os.FileMode(0o644)

// mostBytes bounds what is read of a bundle.
const mostBytes = 64 << 20

// Key reads the key that signs from a file, in PKCS #8; it is made if the file is missing, readable by its owner alone.
// A file that others may read is refused: whoever has read it can sign as we do. Of several that make it at once one
// does, and all sign by it.
func Key(file string) (ed25519.PrivateKey, error) {
	info, err := os.Stat(file)
	if errors.Is(err, os.ErrNotExist) {
		if err := makeKey(file); err != nil {
			return nil, err
		}
		info, err = os.Stat(file)
	}
	if err != nil {
		return nil, err
	}
	if mode := info.Mode().Perm(); mode&0o077 != 0 {
		return nil, fmt.Errorf(
			"others may read %s (mode %04o); chmod 600 it, and make a new key if somebody may have", file, mode,
		)
	}
	text, err := os.ReadFile(file)
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

// makeKey makes the file whole or not at all; one that is there by now stays.
func makeKey(file string) error {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	whole, err := os.CreateTemp(filepath.Dir(file), ".signing-*") // mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(whole.Name())
	_, err = whole.Write(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
	if err = errors.Join(err, whole.Sync(), whole.Close()); err != nil {
		return err
	}
	if err = os.Link(whole.Name(), file); errors.Is(err, os.ErrExist) {
		return nil
	}
	return err
}

// About says what a bundle is, signed with the rest.
type About struct {
	Design string    `json:"design"`
	Party  string    `json:"party"`
	Made   time.Time `json:"made"`
}

// Write writes a party's bundle. Files that hold keys are left out; files must have these masked.
func Write(
	w io.Writer, about About, files []handover.File, told []box.Instruction, key ed25519.PrivateKey,
) error {
	about.Made = about.Made.UTC().Truncate(time.Second)
	all := map[string][]byte{}
	var checks, away strings.Builder
	for _, f := range files {
		if f.Secret {
			fmt.Fprintf(&away, "%s is not here: it holds keys, which come by another way\n", f.Path)
			continue
		}
		if err := once(all, "files/"+f.Path, f.Content); err != nil {
			return err
		}
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
	what, err := json.MarshalIndent(about, "", "  ")
	if err != nil {
		return err
	}
	all[aboutName] = append(what, '\n')
	public, err := x509.MarshalPKIXPublicKey(key.Public())
	if err != nil {
		return err
	}
	all["instructions.json"], all["checks.txt"] = append(data, '\n'), []byte(checks.String())
	all["README.txt"] = fmt.Appendf(nil, readme, about.Party, about.Made.Format(time.RFC3339), away.String())
	all[signer] = pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})
	list := sumsOf(all)
	all[sums], all[signature] = list, ed25519.Sign(key, list)
	return Zip(w, all, about.Made)
}

// readme tells how a bundle is checked without Dravin.
const readme = `What %s is handed, made at %s.

Check it first, in the folder into which it was unpacked:
  openssl pkeyutl -verify -pubin -inkey signer.pem -rawin -in SHA256SUMS -sigfile SHA256SUMS.sig
  sha256sum -c SHA256SUMS
  find . -type f | cut -c3- | grep -vxE 'SHA256SUMS(.sig)?' | sort | while read -r f; do grep -qF "  $f" SHA256SUMS || echo "not ours: $f"; done
The last one must print nothing. signer.pem must be the key that you know to be ours, and about.json must name you.

%s`

// Zip writes files as an archive, each readable by everybody and nothing more.
func Zip(w io.Writer, all map[string][]byte, at time.Time) error {
	z := zip.NewWriter(w)
	for _, name := range sorted(all) {
		h := &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: at.UTC()}
		h.SetMode(fileMode)
		f, err := z.CreateHeader(h)
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

// Bundle is what was found in one that is whole.
type Bundle struct {
	About
	Names []string `json:"names"`
}

// Verify checks a bundle against the key that is known to be ours, in PEM; without one against the key that it has
// itself, which says that it is whole and not from whom.
func Verify(r io.ReaderAt, size int64, known []byte) (*Bundle, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, fmt.Errorf("this is no bundle: %w", err)
	}
	if err := nothingElse(r, size, z); err != nil {
		return nil, err
	}
	all := map[string][]byte{}
	left := int64(mostBytes)
	for _, f := range z.File {
		if path.Clean("/"+f.Name) != "/"+f.Name {
			return nil, fmt.Errorf("%q is no name of a file in a bundle", f.Name)
		}
		if _, twice := all[f.Name]; twice {
			return nil, fmt.Errorf("%s is in it twice: programs differ in which of them they unpack", f.Name)
		}
		if f.Mode() != fileMode {
			return nil, fmt.Errorf(
				"%s would be unpacked with the mode %v; files of a bundle have %v", f.Name, f.Mode(), fileMode,
			)
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
	out := &Bundle{Names: sorted(all)}
	if err := json.Unmarshal(all[aboutName], &out.About); err != nil {
		return nil, fmt.Errorf("it does not say for whom it is: %s: %w", aboutName, err)
	}
	return out, nil
}

// nothingElse refuses a file that holds more than the entries which its directory names: bytes before them or between
// them are seen by other programs only.
func nothingElse(r io.ReaderAt, size int64, z *zip.Reader) error {
	const header, directoryEnd = 30, 22 // bytes, without names (APPNOTE 4.3.7, 4.3.16)
	more := errors.New("it holds bytes that belong to none of its files: it was not written as bundles are")
	list := slices.Clone(z.File)
	at := func(f *zip.File) int64 {
		n, err := f.DataOffset()
		if err != nil {
			return -1
		}
		return n
	}
	slices.SortStableFunc(list, func(a, b *zip.File) int { return cmp.Compare(at(a), at(b)) })
	var next int64
	for _, f := range list {
		local := make([]byte, header)
		if _, err := r.ReadAt(local, next); err != nil {
			return more
		}
		long := int64(binary.LittleEndian.Uint16(local[26:])) + int64(binary.LittleEndian.Uint16(local[28:]))
		if string(local[:4]) != "PK\x03\x04" || next+header+long != at(f) {
			return more
		}
		next = at(f) + int64(f.CompressedSize64)
		if f.Flags&8 != 0 {
			next += 16 // the data descriptor
		}
	}
	end := make([]byte, directoryEnd)
	if _, err := r.ReadAt(end, size-directoryEnd); err != nil || string(end[:4]) != "PK\x05\x06" {
		return more
	}
	long, from := int64(binary.LittleEndian.Uint32(end[12:])), int64(binary.LittleEndian.Uint32(end[16:]))
	if from != next || from+long+directoryEnd != size {
		return more
	}
	return nil
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
