package ingest

import (
	"bufio"
	"bytes"
	"io"
	"slices"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// encodings are those that a file's text may be in, by name.
var encodings = map[string]encoding.Encoding{
	"utf-8":        nil,
	"utf-16le":     unicode.UTF16(unicode.LittleEndian, unicode.UseBOM),
	"utf-16be":     unicode.UTF16(unicode.BigEndian, unicode.UseBOM),
	"windows-1252": charmap.Windows1252, "iso-8859-1": charmap.ISO8859_1, "iso-8859-15": charmap.ISO8859_15,
	"windows-1250": charmap.Windows1250, "iso-8859-2": charmap.ISO8859_2,
	"windows-1251": charmap.Windows1251, "windows-1253": charmap.Windows1253, "windows-1254": charmap.Windows1254,
}

// Encodings are the names of the encodings that can be chosen, in order.
func Encodings() []string {
	out := []string{}
	for name := range encodings {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// encodingOf tells by its beginning in which encoding text is; utf-8 for what is no text, too.
func encodingOf(head []byte) string {
	switch {
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}):
		return "utf-16le"
	case bytes.HasPrefix(head, []byte{0xfe, 0xff}):
		return "utf-16be"
	}
	even, odd := 0, 0
	for n, b := range head[:min(len(head), 512)] {
		if b == 0 && n%2 == 0 {
			even++
		} else if b == 0 {
			odd++
		}
	}
	switch half := min(len(head), 512) / 4; {
	case half > 2 && odd > half && even == 0:
		return "utf-16le"
	case half > 2 && even > half && odd == 0:
		return "utf-16be"
	}
	for n := range min(utf8.UTFMax, len(head)) { // the beginning may end inside a character
		if utf8.Valid(head[:len(head)-n]) {
			return "utf-8"
		}
	}
	if bytes.IndexByte(head, 0) >= 0 {
		return "utf-8"
	}
	return "windows-1252"
}

// decoded is a file's text as UTF-8, and the name of what it was in.
func decoded(b *bufio.Reader, head []byte, asked string) (*bufio.Reader, string, error) {
	name := asked
	if name == "" {
		name = encodingOf(head)
	}
	e, ok := encodings[name]
	if !ok {
		return nil, "", &Error{Why: "the encoding " + name + " is not known", Want: "choose one that is"}
	}
	if e == nil {
		return b, name, nil
	}
	return bufio.NewReaderSize(io.Reader(transform.NewReader(b, e.NewDecoder())), peek), name, nil
}
