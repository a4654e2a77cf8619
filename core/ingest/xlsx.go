package ingest

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"
)

// What a workbook may at most hold: packed, and unpacked. A small file that
// unpacks to an enormous one is refused before it does.
const (
	maxPacked   = 32 << 20
	maxUnpacked = 256 << 20
)

func readXLSX(ctx context.Context, r io.Reader, o Options) (*Table, error) {
	packed, err := io.ReadAll(io.LimitReader(r, maxPacked+1))
	if err != nil {
		return nil, err
	}
	if len(packed) > maxPacked {
		return nil, &Error{Why: fmt.Sprintf("the workbook is larger than %d MiB", maxPacked>>20), Want: "save the sheet as CSV"}
	}
	if err := unpacksWell(packed); err != nil {
		return nil, err
	}
	book, err := excelize.OpenReader(bytes.NewReader(packed), excelize.Options{UnzipSizeLimit: maxUnpacked, UnzipXMLSizeLimit: maxUnpacked})
	if err != nil {
		return nil, &Error{Why: "this workbook can not be read: " + err.Error(), Want: "save it again as .xlsx, or as CSV"}
	}
	defer book.Close()
	t := &Table{Format: "workbook", Sheets: book.GetSheetList(), Sheet: o.Sheet}
	if len(t.Sheets) == 0 {
		return nil, &Error{Why: "the workbook has no sheet", Want: "save it again as .xlsx"}
	}
	if t.Sheet == "" {
		t.Sheet = t.Sheets[0]
	}
	if !slices.Contains(t.Sheets, t.Sheet) {
		return nil, &Error{Why: fmt.Sprintf("there is no sheet %q", t.Sheet), Want: "the sheets are " + strings.Join(t.Sheets, ", ")}
	}
	rows, err := book.Rows(t.Sheet)
	if err != nil {
		return nil, &Error{Why: "the sheet can not be read: " + err.Error(), Want: "save it as CSV"}
	}
	defer rows.Close()
	f := filling{ctx, t, o}
	for line := 1; rows.Next(); line++ {
		cells, err := rows.Columns()
		if err != nil {
			return nil, &Error{Line: line, Why: "the row can not be read: " + err.Error(), Want: "save the sheet as CSV"}
		}
		if t.Header == nil {
			if !blank(cells) {
				t.Header = cells
			}
			continue
		}
		if err := f.add(line, cells); err != nil {
			return nil, err
		}
	}
	if t.Header == nil {
		return nil, &Error{Why: fmt.Sprintf("the sheet %q is empty", t.Sheet), Want: "its first row names the columns"}
	}
	return t, nil
}

// unpacksWell looks at what a zip file says that it unpacks to. The reader of
// each part stops at what was said.
func unpacksWell(packed []byte) error {
	z, err := zip.NewReader(bytes.NewReader(packed), int64(len(packed)))
	if err != nil {
		return &Error{Why: "this is a broken zip file, not a workbook", Want: "save it again as .xlsx, or as CSV"}
	}
	total := uint64(0)
	for _, f := range z.File {
		total += f.UncompressedSize64
		if total > maxUnpacked || f.UncompressedSize64 > maxUnpacked {
			return &Error{Why: fmt.Sprintf("the workbook unpacks to more than %d MiB", maxUnpacked>>20), Want: "save the sheet as CSV"}
		}
	}
	return nil
}
