package ingest

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// What a file may at most hold.
const (
	MaxBytes = 256 << 20
	MaxRows  = 75_000
	maxCell  = 32 << 10  // bytes of one cell
	maxCells = 2_000_000 // that are not empty
	maxText  = 24 << 20  // bytes of all cells, as often as each stands there
)

// Row is one line of a table.
type Row struct {
	Line  int // in the file, from 1
	Cells []string
}

// Table is what every reader makes of a file: named columns and rows.
type Table struct {
	Format string   // what the file was taken for
	Sheets []string // of a workbook: all its sheets
	Sheet  string   // of a workbook: the one read
	Header []string
	Rows   []Row
	// Encoding is what text was in; empty for what is none.
	Encoding string
	Notes    []string // what was passed over or understood, in sentences
	// Design is the file's text if it is a design file; then there are no rows.
	Design []byte
}

// Options direct a reader.
type Options struct {
	Sheet    string         // of a workbook; empty: the first; [AllSheets]: all of them
	Encoding string         // of text; empty: told by its beginning
	Progress func(rows int) // called now and then, if not nil
}

// Read reads a file of any kind that is understood; what it is is told by its
// content. It stops when ctx ends. Errors are of type [*Error] where the file
// is to blame.
func Read(ctx context.Context, r io.Reader, o Options) (*Table, error) {
	limited := &limitedReader{reader: r, left: MaxBytes}
	b := bufio.NewReaderSize(limited, peek)
	head, err := b.Peek(peek)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	text := bytes.TrimSpace(bytes.TrimPrefix(head, []byte("\ufeff")))
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		return readXLSX(ctx, b, o)
	case bytes.HasPrefix(text, []byte("dravin:")) || bytes.Contains(head, []byte("\ndravin:")):
		file, err := io.ReadAll(b)
		return &Table{Format: "design file", Design: file}, err
	case bytes.HasPrefix(text, []byte("[")) || bytes.HasPrefix(text, []byte("{")):
		return readJSON(ctx, b)
	}
	b, name, err := decoded(b, head, o.Encoding)
	if err != nil {
		return nil, err
	}
	if head, err = b.Peek(peek); err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, bufio.ErrBufferFull) {
		return nil, err
	}
	if err := isText(head); err != nil {
		return nil, err
	}
	t, err := readText(ctx, b, bytes.TrimSpace(bytes.TrimPrefix(head, []byte("\ufeff"))), o)
	if err != nil {
		return nil, err
	}
	if t.Encoding = name; name != "utf-8" {
		t.note("The text was read as " + name + "; choose another encoding if letters are wrong.")
	}
	return t, nil
}

// readText reads text of whatever kind its beginning tells.
func readText(ctx context.Context, b *bufio.Reader, text []byte, o Options) (*Table, error) {
	switch {
	case looksHosts(text):
		return readHosts(ctx, b, o)
	case looksRouter(text):
		return readRouterText(ctx, b, o)
	case looksDelimited(text):
		return readCSV(ctx, b, o)
	}
	return readPasted(ctx, b, o)
}

// limitedReader refuses what is longer than a file may be.
type limitedReader struct {
	reader io.Reader
	left   int64
}

func (l *limitedReader) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, &Error{Why: fmt.Sprintf("the file is larger than %d MiB", MaxBytes>>20), Want: "split it"}
	}
	n, err := l.reader.Read(p[:min(int64(len(p)), l.left)])
	l.left -= int64(n)
	return n, err
}

// looksDelimited tells whether one of the first lines heads columns that we know, or several are parted
// alike.
func looksDelimited(text []byte) bool {
	parted := 0
	for n, line := range bytes.Split(text, []byte{'\n'}) {
		if n > mostAbove {
			break
		}
		fields := strings.FieldsFunc(string(line), func(r rune) bool { return slices.Contains(delimiters, r) })
		known := 0
		for _, f := range fields {
			if columnOf(strings.Trim(strings.TrimSpace(f), `"`)) != Ignored {
				known++
			}
		}
		if known > 1 || known == 1 && n == 0 {
			return true
		}
		// One unknown word alone may be prose; several columns are a table even if
		// their names must be mapped by hand.
		if len(fields) > 2 && (n == 0 && !bytes.ContainsAny(line, "/") || n > 0) {
			parted++
		}
		if n == 0 && len(fields) > 2 && !bytes.ContainsAny(line, "/") {
			return true
		}
	}
	return parted > 1
}

// each is how often readers look at ctx and tell their progress.
const each = 2048

// filling adds rows to a table, within limits.
type filling struct {
	ctx     context.Context
	table   *Table
	options Options
	cells   int
	text    int // bytes
}

func (f *filling) add(line int, cells []string) error {
	if blank(cells) {
		return nil
	}
	if len(f.table.Rows) == MaxRows {
		return &Error{Line: line, Why: fmt.Sprintf("there are more than %d lines", MaxRows), Want: "split the file"}
	}
	for _, c := range cells {
		if c != "" {
			f.cells++
		}
		f.text += len(c)
		if len(c) > maxCell {
			return &Error{
				Line: line, Why: fmt.Sprintf("a cell has %d bytes", len(c)),
				Want: fmt.Sprintf("a cell may have %d", maxCell),
			}
		}
	}
	if f.cells > maxCells || f.text > maxText {
		return &Error{
			Line: line,
			Why:  fmt.Sprintf("up to here the table has %d cells with %d MiB of text", f.cells, f.text>>20),
			Want: fmt.Sprintf(
				"it may have %d with %d MiB; split the file, or remove columns that mean nothing here",
				maxCells,
				maxText>>20,
			),
		}
	}
	f.table.Rows = append(f.table.Rows, Row{line, cells})
	if len(f.table.Rows)%each == 0 {
		if f.options.Progress != nil {
			f.options.Progress(len(f.table.Rows))
		}
		return f.ctx.Err()
	}
	return nil
}

func blank(cells []string) bool {
	return !slices.ContainsFunc(cells, func(c string) bool { return strings.TrimSpace(c) != "" })
}

func readCSV(ctx context.Context, r io.Reader, o Options) (*Table, error) {
	c, err := csvReader(r)
	if err != nil {
		return nil, err
	}
	f := filling{ctx: ctx, table: &Table{Format: "delimited text"}, options: o}
	for {
		record, err := c.Read()
		if errors.Is(err, io.EOF) {
			f.table.head()
			return f.table, nil
		}
		if err != nil {
			return nil, lineError(err)
		}
		line, _ := c.FieldPos(0)
		if err := f.add(line, slices.Clone(record)); err != nil {
			return nil, err
		}
	}
}
