package ingest

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"
)

// What a workbook may at most hold. Its parts are looked through before the
// library reads them: what it makes of a part takes many times its size, by the
// number of elements.
const (
	maxPacked   = 16 << 20 // bytes, packed
	maxUnpacked = 96 << 20 // bytes of all parts
	maxPart     = 4 << 20  // bytes of a part other than sheets and shared strings
	maxShared   = 24 << 20 // bytes of shared strings
	maxElements = 300_000  // tags of all parts other than sheets
	maxParts    = 2000
	streamed    = 1 << 20 // sheets above are read from a file of their own
)

func readXLSX(ctx context.Context, r io.Reader, o Options) (*Table, error) {
	packed, err := io.ReadAll(io.LimitReader(r, maxPacked+1))
	if err != nil {
		return nil, err
	}
	if len(packed) > maxPacked {
		return nil, &Error{
			Why: fmt.Sprintf("the workbook is larger than %d MiB", maxPacked>>20), Want: "save the sheet as CSV",
		}
	}
	if err := unpacksWell(packed); err != nil {
		return nil, err
	}
	book, err := excelize.OpenReader(
		bytes.NewReader(packed), excelize.Options{UnzipSizeLimit: maxUnpacked, UnzipXMLSizeLimit: streamed},
	)
	if err != nil {
		return nil, &Error{
			Why: "this workbook can not be read: " + err.Error(), Want: "save it again as .xlsx, or as CSV",
		}
	}
	defer book.Close()
	return readSheet(ctx, book, o)
}

// AllSheets asks for all sheets of a workbook at once.
const AllSheets = "*"

// readSheet reads the sheet that was asked for, or the first; or all, of which each is one party's where
// its rows do not say whose they are.
func readSheet(ctx context.Context, book *excelize.File, o Options) (*Table, error) {
	t := &Table{Format: "workbook", Sheets: book.GetSheetList(), Sheet: o.Sheet}
	if len(t.Sheets) == 0 {
		return nil, &Error{Why: "the workbook has no sheet", Want: "save it again as .xlsx"}
	}
	if t.Sheet == AllSheets {
		return allSheets(ctx, book, t, o)
	}
	if t.Sheet == "" {
		t.Sheet = t.Sheets[0]
	}
	if !slices.Contains(t.Sheets, t.Sheet) {
		return nil, &Error{
			Why: fmt.Sprintf("there is no sheet %q", t.Sheet), Want: "the sheets are " + strings.Join(t.Sheets, ", "),
		}
	}
	if err := sheetRows(ctx, book, t, o, 0); err != nil {
		return nil, err
	}
	if len(t.Rows) == 0 {
		return nil, &Error{Why: fmt.Sprintf("the sheet %q is empty", t.Sheet), Want: "its first row names the columns"}
	}
	t.head()
	return t, nil
}

// sheetRows adds the rows of a table's sheet, with so many lines before them.
func sheetRows(ctx context.Context, book *excelize.File, t *Table, o Options, before int) error {
	rows, err := book.Rows(t.Sheet)
	if err != nil {
		return &Error{Why: "the sheet can not be read: " + err.Error(), Want: "save it as CSV"}
	}
	defer rows.Close()
	f := filling{ctx: ctx, table: t, options: o}
	for line := 1; rows.Next(); line++ {
		cells, err := rows.Columns()
		if err != nil {
			return &Error{Line: line, Why: "the row can not be read: " + err.Error(), Want: "save the sheet as CSV"}
		}
		if len(cells) > maxColumns {
			if last := lastFilled(cells); last > maxColumns {
				return tooWide(line, last)
			}
			cells = slices.Clone(cells[:maxColumns]) // cells that are formatted and empty
		}
		if err := f.add(before+line, cells); err != nil {
			return err
		}
	}
	return nil
}

// allSheets puts the rows of all sheets into one table of the columns that are understood.
func allSheets(ctx context.Context, book *excelize.File, t *Table, o Options) (*Table, error) {
	for _, c := range Columns() {
		t.Header = append(t.Header, string(c))
	}
	before := 0
	for _, name := range t.Sheets {
		one := &Table{Sheet: name}
		if err := sheetRows(ctx, book, one, o, before); err != nil {
			return nil, err
		}
		if len(one.Rows) == 0 {
			continue
		}
		before = one.Rows[len(one.Rows)-1].Line
		one.head()
		columns := GuessBy(one.Header, one.Rows)
		own := !slices.Contains(columns, ColumnParty)
		for k, r := range one.Rows {
			cells := make([]string, len(t.Header))
			for n, c := range columns {
				if c != Ignored && n < len(r.Cells) {
					cells[slices.Index(Columns(), c)] = r.Cells[n]
				}
			}
			if own || k == 0 && cells[0] == "" { // a sheet continues no party of the one before
				cells[0] = name
			}
			t.Rows = append(t.Rows, Row{r.Line, cells})
		}
	}
	if len(t.Rows) == 0 {
		return nil, &Error{Why: "all sheets are empty", Want: "the first row of each names the columns"}
	}
	t.note(
		fmt.Sprintf(
			"All %d sheets were read; where rows do not say whose they are, their sheet's name does.", len(t.Sheets),
		),
	)
	return t, nil
}

func lastFilled(cells []string) int {
	for n := len(cells); n > 0; n-- {
		if cells[n-1] != "" {
			return n
		}
	}
	return 0
}

// unpacksWell looks through the parts of a zip file, without keeping them.
func unpacksWell(packed []byte) error {
	z, err := zip.NewReader(bytes.NewReader(packed), int64(len(packed)))
	if err != nil {
		return &Error{Why: "this is a broken zip file, not a workbook", Want: "save it again as .xlsx, or as CSV"}
	}
	tooLarge := func(what string, args ...any) error {
		return &Error{Why: "the workbook " + fmt.Sprintf(what, args...), Want: "save the sheet as CSV"}
	}
	if len(z.File) > maxParts {
		return tooLarge("has %d parts; %d are allowed", len(z.File), maxParts)
	}
	total, elements := int64(0), 0
	for _, f := range z.File {
		most := int64(maxPart)
		sheet := strings.Contains(f.Name, "worksheets/") && !strings.HasSuffix(f.Name, ".rels")
		if f.Name == "_rels/.rels" && misleads(f) {
			return tooLarge("has no usual order of parts")
		}
		switch {
		case sheet:
			most = maxUnpacked
		case strings.HasSuffix(strings.ToLower(f.Name), "sharedstrings.xml"):
			most = maxShared
		}
		size, tags, err := lookThrough(f, most)
		if err != nil {
			return &Error{
				Why:  "a part of the workbook can not be unpacked: " + err.Error(),
				Want: "save it again as .xlsx, or as CSV",
			}
		}
		if total += size; size > most || total > maxUnpacked {
			return tooLarge(
				"unpacks to more than %d MiB, or its part %.40q to more than %d MiB", maxUnpacked>>20, f.Name, most>>20,
			)
		}
		if sheet {
			continue
		}
		if elements += tags; elements > maxElements {
			return tooLarge("has more than %d elements beside its sheets", maxElements)
		}
	}
	return nil
}

// misleads reports whether what names the parts takes a sheet for another: sheets
// may be larger than the rest.
func misleads(f *zip.File) bool {
	r, err := f.Open()
	if err != nil {
		return true
	}
	defer r.Close()
	var parts struct {
		Relationship []struct {
			Target string `xml:",attr"`
		}
	}
	if err := xml.NewDecoder(io.LimitReader(r, 64<<10)).Decode(&parts); err != nil {
		return true
	}
	for _, p := range parts.Relationship {
		if strings.Contains(strings.ToLower(p.Target), "worksheets") {
			return true
		}
	}
	return false
}

// lookThrough counts the bytes and tags of a part, and stops where there are more
// bytes than most.
func lookThrough(f *zip.File, most int64) (size int64, tags int, err error) {
	r, err := f.Open()
	if err != nil {
		return 0, 0, err
	}
	defer r.Close()
	b := make([]byte, 64<<10)
	for {
		n, err := r.Read(b)
		size += int64(n)
		tags += bytes.Count(b[:n], []byte{'<'})
		if errors.Is(err, io.EOF) || size > most {
			return size, tags, nil
		}
		if err != nil {
			return size, tags, err
		}
	}
}
