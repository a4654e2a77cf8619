package ingest

import (
	"encoding/csv"
	"fmt"
	"io"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"dravin/core/design"
)

// Export lists the stock of a design as a table, one row for each range and
// host, in canonical order. Bringing it in again changes nothing.
func Export(d *design.Design) (header []string, rows [][]string) {
	columns := slices.DeleteFunc(Columns(), func(c Column) bool { return c == ColumnMask || c == ColumnRouter })
	for _, c := range columns {
		header = append(header, string(c))
	}
	add := func(cells map[Column]string) {
		row := make([]string, len(header))
		for n, c := range columns {
			row[n] = cells[c]
		}
		rows = append(rows, row)
	}
	// What is named by hand must come before what lies in it.
	for _, o := range d.All() {
		for _, cells := range exported(d, o) {
			add(cells)
		}
	}
	return header, rows
}

func exported(d *design.Design, o *design.Object) []map[Column]string {
	base := map[Column]string{ColumnKind: string(o.Kind), ColumnName: o.Name}
	if p := d.Party(o.ID); p != nil {
		base[ColumnParty] = p.Name
		base[ColumnOwner] = nameOf(d, ownerOf(p))
	}
	switch b := o.Body.(type) {
	case *design.Site:
		base[ColumnName], base[ColumnNote] = "", b.Note
		return []map[Column]string{base}
	case *design.LAN:
		base[ColumnSegment], base[ColumnFixed], base[ColumnNote] = nameOf(d, b.Segment), yes(b.Fixed), b.Note
		if b.VLAN != 0 {
			base[ColumnVLAN] = fmt.Sprint(b.VLAN)
		}
	case *design.InnerRoute:
		base[ColumnSegment], base[ColumnFixed], base[ColumnNote] = nameOf(d, b.Segment), yes(b.Fixed), b.Note
		if b.Via.IsValid() {
			base[ColumnVia] = b.Via.String()
		}
	case *design.Network:
		base[ColumnSegment], base[ColumnCloud], base[ColumnRegion], base[ColumnNote] = nameOf(
			d, b.Segment,
		), b.Cloud, b.Region, b.Note
	case *design.Outside:
		base[ColumnSegment], base[ColumnNote] = nameOf(d, b.Segment), b.Note
	case *design.Subnet:
		base[ColumnZone], base[ColumnNote] = b.Zone, b.Note
	case *design.Endpoint:
		var words []string
		for _, s := range b.Answers {
			words = append(words, s.String())
		}
		base[ColumnAnswers], base[ColumnNote] = strings.Join(words, " "), b.Note
		return expanded(base, ColumnAddress, b.Addresses)
	case *design.Gateway:
		if b.ASN != 0 {
			base[ColumnASN] = fmt.Sprint(b.ASN)
		}
		return expanded(base, ColumnAddress, b.Addresses)
	case *design.Reservation:
		base[ColumnKind] = or(wordOfUse(b.Use), string(o.Kind))
		base[ColumnParty], base[ColumnNote] = nameOf(d, b.Party), b.Note
		return expanded(base, ColumnPrefix, []netip.Prefix{b.Prefix})
	default:
		return nil
	}
	return expanded(base, ColumnPrefix, d.Ranges(o.ID))
}

func wordOfUse(use string) string {
	for word, u := range reservationUses {
		if u == use {
			return word
		}
	}
	return ""
}

// expanded makes a row for each value.
func expanded[T fmt.Stringer](base map[Column]string, c Column, values []T) []map[Column]string {
	var out []map[Column]string
	for _, v := range values {
		row := map[Column]string{c: v.String()}
		for k, cell := range base {
			row[k] = cell
		}
		out = append(out, row)
	}
	return out
}

func ownerOf(party *design.Object) design.ID {
	switch b := party.Body.(type) {
	case *design.Site:
		return b.Owner
	case *design.Network:
		return b.Owner
	case *design.Outside:
		return b.Owner
	}
	return ""
}

func nameOf(d *design.Design, id design.ID) string {
	if o := d.Get(id); o != nil {
		return o.Name
	}
	return ""
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

// formula is how a cell begins that a spreadsheet takes for one, perhaps after
// apostrophes that keep it from doing so.
var formula = regexp.MustCompile("^'*[=+\\-@\uff1d\uff0b\uff0d\uff20\t\r\n]")

// neutral is a cell that no spreadsheet takes for a formula: with one more
// apostrophe in front where it could.
func neutral(cell string) string {
	if formula.MatchString(cell) {
		return "'" + cell
	}
	return cell
}

// plain is what [neutral] was given, or the cell without blanks around it where
// nobody made it neutral.
func plain(cell string) string {
	if rest, ok := strings.CutPrefix(cell, "'"); ok && formula.MatchString(rest) {
		return rest
	}
	return strings.TrimSpace(cell)
}

// WriteCSV writes a table as CSV, with every cell neutral.
func WriteCSV(w io.Writer, header []string, rows [][]string) error {
	c := csv.NewWriter(w)
	if err := c.Write(header); err != nil {
		return err
	}
	for _, row := range rows {
		safe := make([]string, len(row))
		for n, cell := range row {
			safe[n] = neutral(cell)
		}
		if err := c.Write(safe); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// WriteXLSX writes a table as a workbook with one sheet, every cell as text.
func WriteXLSX(w io.Writer, header []string, rows [][]string) error {
	book := excelize.NewFile()
	defer book.Close()
	sheet := book.GetSheetName(0)
	s, err := book.NewStreamWriter(sheet)
	if err != nil {
		return err
	}
	for n, row := range append([][]string{header}, rows...) {
		cells := make([]any, len(row))
		for i, cell := range row {
			cells[i] = cell
		}
		if err := s.SetRow(fmt.Sprintf("A%d", n+1), cells); err != nil {
			return err
		}
	}
	if err := s.Flush(); err != nil {
		return err
	}
	return book.Write(w)
}
