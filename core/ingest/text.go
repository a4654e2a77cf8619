// Package ingest reads what people have: spreadsheets, router output, lists of
// prefixes. It never changes a design; it proposes edits, line by line, with
// the reason for each that can not be taken.
package ingest

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// Error says what is wrong with a file, and where.
type Error struct {
	Line   int // from 1; 0: the file as a whole
	Column int // from 1; 0: the line as a whole
	Why    string
	Want   string
}

func (e *Error) Error() string {
	var b strings.Builder
	if e.Line > 0 {
		fmt.Fprintf(&b, "line %d", e.Line)
		if e.Column > 0 {
			fmt.Fprintf(&b, ", column %d", e.Column)
		}
		b.WriteString(": ")
	}
	b.WriteString(e.Why)
	if e.Want != "" {
		b.WriteString("; " + e.Want)
	}
	return b.String()
}

// delimiters are tried in this order; the first that divides most lines is taken.
var delimiters = []rune{',', ';', '\t', '|'}

// peek is how much of a file is looked at to tell what it is.
const peek = 64 << 10

// csvReader prepares to read delimited text of any usual kind: it tells the
// delimiter by the first line and passes over a byte-order mark.
func csvReader(r io.Reader) (*records, error) {
	g := &guard{reader: r}
	b := bufio.NewReaderSize(g, ahead)
	if mark, err := b.Peek(3); err == nil && string(mark) == "\ufeff" {
		_, _ = b.Discard(3)
	}
	head, err := b.Peek(peek)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, bufio.ErrBufferFull) {
		return nil, err
	}
	if err := isText(head); err != nil {
		return nil, err
	}
	best := delimiterOf(head)
	c := csv.NewReader(b)
	c.Comma = best
	c.FieldsPerRecord = -1
	c.ReuseRecord = true
	c.LazyQuotes = true
	c.TrimLeadingSpace = best != '\t'
	return &records{c, g}, nil
}

// delimiterOf is what divides the first lines most often, a line above the header counted as little as any.
func delimiterOf(head []byte) rune {
	best, most := delimiters[0], 0
	for _, d := range delimiters {
		lines, all := 0, 0
		for n, line := range bytes.Split(head, []byte{'\n'}) {
			if n > 2*mostAbove {
				break
			}
			if c := bytes.Count(line, []byte(string(d))); c > 0 {
				lines++
				all += c
			}
		}
		if score := lines*1000 + all; lines > 0 && score > most {
			best, most = d, score
		}
	}
	return best
}

// What one record of delimited text may at most hold.
const (
	maxColumns = 100
	maxRecord  = 256 << 10 // bytes
	ahead      = 1 << 20   // bytes that are read ahead
)

// records reads delimited text record by record, within limits.
type records struct {
	*csv.Reader
	guard *guard
}

// Read is as [csv.Reader.Read].
func (r *records) Read() ([]string, error) {
	record, err := r.Reader.Read()
	r.guard.done = r.InputOffset()
	if err == nil && len(record) > maxColumns {
		line, _ := r.FieldPos(0)
		return nil, tooWide(line, len(record))
	}
	for n, field := range record {
		if !utf8.ValidString(field) {
			line, column := r.FieldPos(n)
			return nil, &Error{
				Line: line, Column: column, Why: "this is not text in UTF-8",
				Want: "choose its encoding, or save it as UTF-8",
			}
		}
	}
	return record, err
}

func tooWide(line, columns int) error {
	return &Error{
		Line: line,
		Why:  fmt.Sprintf("there are %d columns", columns),
		Want: fmt.Sprintf("a table may have %d; remove those that mean nothing here", maxColumns),
	}
}

// guard ends a record that does not end: a quote that is never closed, or a line
// without an end.
type guard struct {
	reader       io.Reader
	handed, done int64 // bytes: given out, and of whole records
}

func (g *guard) Read(p []byte) (int, error) {
	if g.handed-g.done > maxRecord+ahead {
		return 0, &Error{
			Why:  fmt.Sprintf("a record is longer than %d KiB", maxRecord>>10),
			Want: "look for a quote that is never closed, or a line without an end",
		}
	}
	n, err := g.reader.Read(p)
	g.handed += int64(n)
	return n, err
}

// isText refuses what is plainly not text, by its beginning.
func isText(head []byte) error {
	if len(bytes.TrimSpace(head)) == 0 {
		return &Error{Why: "the file is empty", Want: "the first line names the columns"}
	}
	if n := bytes.IndexByte(head, 0); n >= 0 {
		return &Error{
			Line: bytes.Count(head[:n], []byte{'\n'}) + 1, Why: "this is not text",
			Want: "give CSV, a spreadsheet, YAML, JSON or plain text in UTF-8",
		}
	}
	// The peek may end inside a character.
	for n := range min(utf8.UTFMax, len(head)) {
		if utf8.Valid(head[:len(head)-n]) {
			return nil
		}
	}
	return &Error{Line: 1, Why: "this is not text in UTF-8", Want: "choose its encoding, or save it as UTF-8"}
}
