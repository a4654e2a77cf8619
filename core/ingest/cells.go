package ingest

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
)

// record is a row by the meaning of its cells.
type record struct {
	line  int
	cells map[Column]string
	raw   []string // as they stand
	// ranges are those of its prefix, mask and span.
	ranges  []netip.Prefix
	heading bool // it says nothing but whose the rows below are
	hosted  bool // one of them was told by a host's address
	// said tells what was understood that is not as it is written, in sentences.
	said []string
}

func (r *record) get(c Column) string { return r.cells[c] }

func (r *record) say(text string) {
	if text != "" && !slices.Contains(r.said, text) {
		r.said = append(r.said, text)
	}
}

// recordOf is a row by the meaning of its cells, mended where a person mended it.
func (m *maker) recordOf(row Row) *record {
	if cells := m.how.Mended[row.Line]; cells != nil {
		row.Cells = cells
	}
	r := &record{line: row.Line, cells: map[Column]string{}, raw: row.Cells}
	for i, c := range m.plan.Columns {
		if c != Ignored && i < len(row.Cells) {
			r.cells[c] = plain(row.Cells[i])
		}
	}
	if r.heading = m.heads(r); r.heading {
		m.above = r
		return r
	}
	m.whose(r)
	return r
}

// heads reports whether a row is but a party's name above what that has.
func (m *maker) heads(r *record) bool {
	at := slices.IndexFunc(r.raw, func(cell string) bool { return strings.TrimSpace(cell) != "" })
	if at < 0 || at >= len(m.plan.Columns) || filled(r.raw) > 1 || kindOfCell(r.raw[at]) != cellText {
		return false
	}
	c := m.plan.Columns[at]
	if c == Ignored || c == ColumnName {
		if slices.Contains(m.plan.Columns, ColumnParty) {
			return false
		}
		r.cells[ColumnParty] = plain(r.raw[at])
		delete(r.cells, ColumnName)
		return true
	}
	return c == ColumnParty
}

// whose fills the party of a row in that does not say: as it was given beside the file; else, in a table
// that says it somewhere, the party of the row above, as merged and empty cells mean it.
func (m *maker) whose(r *record) {
	switch {
	case r.get(ColumnParty) != "":
		m.above = r
	case m.how.Party != "":
		r.cells[ColumnParty] = m.how.Party
	case m.above != nil && kinds[strings.ToLower(r.get(ColumnKind))] != design.KindReservation:
		r.cells[ColumnParty] = m.above.get(ColumnParty)
		r.say(fmt.Sprintf("the party is that of line %d", m.above.line))
	}
}

// errNobodys is why a row is refused that is nobody's.
var errNobodys = errors.New("it does not say whose it is; name the party beside the file, or in a column of its own")

// readRanges reads the ranges of a row: several in a cell, with masks, as spans, short, or by a host.
func (m *maker) readRanges(r *record) error {
	cell, mask := r.get(ColumnPrefix), r.get(ColumnMask)
	parts := prefix.SplitRanges(cell)
	if len(parts) == 0 {
		return errors.New("there is no range; write one such as 10.212.4.0/22")
	}
	if len(parts) > mostRanges {
		return fmt.Errorf("there are %d ranges in one cell; %d may stand there", len(parts), mostRanges)
	}
	for _, part := range parts {
		l, err := prefix.ReadLoose(part, mask)
		if err != nil {
			return err
		}
		if l.Host.IsValid() && !r.hosted {
			r.hosted = true
			m.plan.Hosts++
		}
		if l.Host.IsValid() && m.how.RefuseHosts {
			return fmt.Errorf("%s; write the range, or choose that it is taken", l.Said)
		}
		r.say(l.Said)
		for _, p := range l.Prefixes {
			if !slices.Contains(r.ranges, p) {
				r.ranges = append(r.ranges, p)
			}
		}
	}
	if mask != "" && len(parts) == 1 {
		return masksAgree(cell, mask, r.ranges)
	}
	return nil
}

// mostRanges bounds the ranges that one cell may hold.
const mostRanges = 200

// masksAgree refuses a range that says its length twice, and not alike.
func masksAgree(cell, mask string, ranges []netip.Prefix) error {
	if len(ranges) != 1 {
		return nil
	}
	l, err := prefix.ReadLoose(ranges[0].Addr().String(), mask)
	if err != nil || len(l.Prefixes) == 1 && l.Prefixes[0].Bits() != ranges[0].Bits() {
		return fmt.Errorf("the range is %s and its mask %s; let them say the same, or empty one", cell, mask)
	}
	return nil
}

// written writes ranges as a person reads them.
func written(list []netip.Prefix) string {
	words := make([]string, len(list))
	for n, p := range list {
		words[n] = p.String()
	}
	return strings.Join(words, ", ")
}

// number reads a number as spreadsheets leave it: 64512, 64512.0, or 64,512.
func number(text string, bits int) (uint64, error) {
	text = strings.TrimSuffix(strings.ReplaceAll(text, ",", ""), ".0")
	return strconv.ParseUint(text, 10, bits)
}

// vlan is a row's VLAN tag, 0 if it has none.
func vlan(r *record) (uint16, error) {
	text := strings.TrimSpace(strings.TrimPrefix(strings.ToLower(r.get(ColumnVLAN)), "vlan"))
	if text == "" || text == "-" || text == "untagged" || text == "native" {
		return 0, nil
	}
	n, err := number(text, 16)
	if err != nil || n < 1 || n > 4094 {
		return 0, fmt.Errorf("the VLAN %q is not a number from 1 to 4094", text)
	}
	return uint16(n), nil
}

// remark is what a row notes, with the gateway that it names for its hosts; the gateway alone does not
// take the place of a note that is there.
func remark(r *record, old string) string {
	own, router := r.get(ColumnNote), r.get(ColumnRouter)
	if router == "" || len(r.ranges) == 0 || own == "" && old != "" {
		return or(own, old)
	}
	a, ok := short(router, r.ranges[0])
	if !ok {
		r.say(fmt.Sprintf("the gateway %q is no address and is not taken", router))
		return or(own, old)
	}
	if !slices.ContainsFunc(r.ranges, func(p netip.Prefix) bool { return p.Contains(a) }) {
		r.say(fmt.Sprintf("the gateway %s lies outside the range", a))
	}
	text := "its hosts' gateway is " + a.String()
	if own != "" {
		text = own + "; " + text
	}
	return text
}

// short reads an address of which only the end may be written, such as .1.
func short(text string, in netip.Prefix) (netip.Addr, bool) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Addr(), true
	}
	if a, err := netip.ParseAddr(text); err == nil {
		return a, true
	}
	ends := strings.Split(strings.TrimPrefix(strings.TrimSuffix(text, ".0"), "."), ".")
	if !in.Addr().Is4() || len(ends) > 3 {
		return netip.Addr{}, false
	}
	b := in.Addr().As4()
	for n, end := range ends {
		v, err := strconv.ParseUint(end, 10, 8)
		if err != nil {
			return netip.Addr{}, false
		}
		b[4-len(ends)+n] = byte(v)
	}
	return netip.AddrFrom4(b), true
}

// address reads a host's address, with a length or not.
func address(text string) (netip.Addr, error) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Addr(), nil
	}
	a, err := netip.ParseAddr(text)
	if err != nil {
		return a, fmt.Errorf("the address %q is not one; write one such as 10.214.0.20", text)
	}
	return a, nil
}

// answersAndASN are the services and the ASN that a row names, none and 0 if it
// names none.
func answersAndASN(r *record) (answers []design.Service, asn uint32, err error) {
	if answers, err = services(r.get(ColumnAnswers)); err != nil {
		return nil, 0, err
	}
	if text := r.get(ColumnASN); text != "" {
		n, err := number(strings.TrimPrefix(strings.ToUpper(text), "AS"), 32)
		if err != nil {
			return nil, 0, fmt.Errorf("the ASN %q is not a number up to 4294967295", text)
		}
		asn = uint32(n)
	}
	return answers, asn, nil
}

// truth reads a yes or a no; an empty cell is a no.
func truth(text string) (bool, error) {
	switch strings.ToLower(text) {
	case "", "no", "n", "false", "0":
		return false, nil
	case "yes", "y", "true", "1", "x":
		return true, nil
	}
	return false, fmt.Errorf("fixed is %q; write yes or no", text)
}
