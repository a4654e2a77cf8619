package ingest

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
)

// mostAbove is how many lines may stand above the header.
const mostAbove = 15

// head finds the line that names the columns: the first of those that name most, above the first that
// holds a range or an address; or, in a language that is not known here, the line right above that. What
// stands above it is passed over. A table without such a line gets numbers for names.
func (t *Table) head() {
	data := slices.IndexFunc(t.Rows[:min(len(t.Rows), mostAbove+1)], func(r Row) bool { return holdsRange(r.Cells) })
	if data < 0 {
		data = min(len(t.Rows), mostAbove)
	}
	best, most := -1, 0
	for n, r := range t.Rows[:min(data+1, len(t.Rows))] {
		known := 0
		for _, c := range r.Cells {
			if columnOf(c) != Ignored {
				known++
			}
		}
		if known > most && !holdsRange(r.Cells) {
			best, most = n, known
		}
	}
	if best < 0 && data > 0 && data < len(t.Rows) && filled(t.Rows[data-1].Cells) > 1 {
		best = data - 1
	}
	if best < 0 {
		widest := 0
		for _, r := range t.Rows {
			widest = max(widest, len(r.Cells))
		}
		for n := range widest {
			t.Header = append(t.Header, fmt.Sprintf("column %d", n+1))
		}
		t.note("No line names the columns: what they are was told by what they hold.")
		return
	}
	t.Header = t.Rows[best].Cells
	if best > 0 {
		t.note(fmt.Sprintf("The columns are named in line %d; what stands above it is passed over.", t.Rows[best].Line))
	}
	t.Rows = t.Rows[best+1:]
}

func (t *Table) note(text string) { t.Notes = append(t.Notes, text) }

func filled(cells []string) (n int) {
	for _, c := range cells {
		if strings.TrimSpace(c) != "" {
			n++
		}
	}
	return n
}

func holdsRange(cells []string) bool {
	return slices.ContainsFunc(cells, func(c string) bool {
		k := kindOfCell(c)
		return k == cellRange || k == cellHost || k == cellAddress
	})
}

// cellKind is what a cell holds, as far as its form tells.
type cellKind int

const (
	cellText cellKind = iota
	cellRange
	cellHost // an address with a length, by which its range may be meant
	cellAddress
	cellMask
	cellLength
	cellNumber
	cellService
	cellHardware // an address of an interface (IEEE 802)
)

// hardware are the ways in which such addresses are written.
var hardware = regexp.MustCompile(
	`^(?:[0-9A-Fa-f]{2}([:-]))(?:[0-9A-Fa-f]{2}[:-]){4}[0-9A-Fa-f]{2}$|^(?:[0-9A-Fa-f]{4}\.){2}[0-9A-Fa-f]{4}$|^[0-9A-Fa-f]{12}$`,
)

func kindOfCell(cell string) cellKind {
	cell = plain(strings.TrimSpace(cell))
	if cell == "" {
		return cellText
	}
	if hardware.MatchString(cell) {
		return cellHardware
	}
	first := cell
	if parts := prefix.SplitRanges(cell); len(parts) > 0 {
		first = parts[0]
	}
	if a, err := netip.ParseAddr(first); err == nil {
		if _, err := prefix.ReadLoose("0.0.0.0", first); err == nil && a.Is4() &&
			(a.As4()[0] == 255 || a.As4()[0] == 0) {
			return cellMask
		}
		return cellAddress
	}
	if n, err := strconv.Atoi(strings.TrimSuffix(cell, ".0")); err == nil {
		if n >= 8 && n <= 32 {
			return cellLength
		}
		return cellNumber
	}
	if strings.HasPrefix(cell, "/") {
		if _, err := strconv.Atoi(cell[1:]); err == nil {
			return cellLength
		}
	}
	if l, err := prefix.ReadLoose(first, ""); err == nil && l.Host.IsValid() {
		return cellHost
	} else if err == nil {
		return cellRange
	}
	if _, err := services(cell); err == nil {
		return cellService
	}
	return cellText
}

// mostSampled is how many rows are looked at to tell what columns hold.
const mostSampled = 300

// GuessBy is as [Guess], and tells what the header does not by what the columns hold.
func GuessBy(header []string, rows []Row) []Column {
	out := Guess(header)
	taken := func(c Column) bool { return slices.Contains(out, c) }
	counts := make([]map[cellKind]int, len(header))
	distinct, gaps := make([]map[string]bool, len(header)), make([]int, len(header))
	for n := range header {
		counts[n], distinct[n] = map[cellKind]int{}, map[string]bool{}
	}
	for _, r := range rows[:min(len(rows), mostSampled)] {
		for n := range header {
			if n >= len(r.Cells) || strings.TrimSpace(r.Cells[n]) == "" {
				gaps[n]++
				continue
			}
			counts[n][kindOfCell(r.Cells[n])]++
			distinct[n][strings.TrimSpace(r.Cells[n])] = true
		}
	}
	mostly := func(n int, kinds ...cellKind) bool {
		sum, all := 0, 0
		for k, c := range counts[n] {
			all += c
			if slices.Contains(kinds, k) {
				sum += c
			}
		}
		return all > 0 && sum*3 >= all*2
	}
	take := func(c Column, kinds ...cellKind) int {
		for n := range header {
			if out[n] == Ignored && !taken(c) && mostly(n, kinds...) {
				out[n] = c
				return n
			}
		}
		return -1
	}
	// A column that is headed as a range and holds bare addresses is one only beside a mask.
	if at := slices.Index(out, ColumnAddress); at >= 0 && !taken(ColumnPrefix) && mostly(at, cellRange) {
		out[at] = ColumnPrefix
	}
	if !taken(ColumnPrefix) {
		take(ColumnPrefix, cellRange, cellHost)
	}
	for n := range header {
		if out[n] == Ignored && !taken(ColumnMask) && counts[n][cellMask] > 0 && mostly(n, cellMask, cellLength) {
			out[n] = ColumnMask
		}
	}
	if !taken(ColumnMask) && !(taken(ColumnPrefix) && mostly(slices.Index(out, ColumnPrefix), cellRange, cellHost)) {
		take(ColumnMask, cellLength) // beside whole ranges a number means something else
	}
	if taken(ColumnMask) && !taken(ColumnPrefix) {
		take(ColumnPrefix, cellAddress, cellRange, cellHost)
		if at := slices.Index(out, ColumnAddress); !taken(ColumnPrefix) && at >= 0 && mostly(at, cellAddress) {
			out[at] = ColumnPrefix
		}
	}
	if !taken(ColumnMask) {
		// Headed as a range, it holds hosts' addresses: a list of hosts.
		if at := slices.Index(out, ColumnPrefix); at >= 0 && !taken(ColumnAddress) && mostly(at, cellAddress) {
			out[at] = ColumnAddress
		}
	}
	if !taken(ColumnAddress) && !taken(ColumnPrefix) && take(ColumnAddress, cellAddress) < 0 {
		take(ColumnPrefix, cellRange, cellHost, cellAddress)
	}
	take(ColumnAnswers, cellService)
	guessNames(out, header, mostly, distinct, gaps, filledFirst(len(header), rows))
	return out
}

// unread tells of columns that hold ranges or addresses and are read as nothing: a second family, a management
// network, a table that stands beside.
func unread(header []string, columns []Column, rows []Row) (out []string) {
	for n, name := range header {
		if n >= len(columns) || columns[n] != Ignored {
			continue
		}
		ranges, all := 0, 0
		first := ""
		for _, r := range rows[:min(len(rows), mostSampled)] {
			if n >= len(r.Cells) || strings.TrimSpace(r.Cells[n]) == "" {
				continue
			}
			all++
			if k := kindOfCell(r.Cells[n]); k == cellRange || k == cellHost || k == cellAddress {
				if ranges++; first == "" {
					first = strings.TrimSpace(r.Cells[n])
				}
			}
		}
		if ranges*2 > all && ranges > 0 {
			out = append(out, fmt.Sprintf(
				"Column %d (%s) holds ranges or addresses, such as %s, and is not read: bring the file in once more with "+
					"that column as the range, or as the address of hosts.", n+1, strings.TrimSpace(name), first,
			))
		}
	}
	return out
}

// filledFirst tells which columns are filled in the first row: what is not there heads nothing below it.
func filledFirst(columns int, rows []Row) []bool {
	out := make([]bool, columns)
	for _, r := range rows[:min(len(rows), 1)] {
		for n, cell := range r.Cells[:min(len(r.Cells), columns)] {
			out[n] = out[n] || strings.TrimSpace(cell) != ""
		}
	}
	return out
}

// guessNames tells which columns of words say whose a row is and what it is called: of two the first that
// has gaps or says one thing in several rows is the party's.
func guessNames(
	out []Column,
	header []string,
	mostly func(int, ...cellKind) bool,
	distinct []map[string]bool,
	gaps []int,
	first []bool,
) {
	var texts []int
	for n := range header {
		if out[n] == Ignored && mostly(n, cellText) && first[n] {
			texts = append(texts, n)
		}
	}
	party, name := slices.Contains(out, ColumnParty), slices.Contains(out, ColumnName)
	if !party && len(texts) > 0 {
		at := 0
		for k, n := range texts {
			if gaps[n] > gaps[texts[at]] && k > at ||
				len(distinct[n]) < len(distinct[texts[at]]) && gaps[texts[at]] == 0 && k == 0 {
				at = k
			}
		}
		out[texts[at]] = ColumnParty
		texts = slices.Delete(texts, at, at+1)
	}
	if !name && len(texts) > 0 {
		out[texts[0]] = ColumnName
	}
}

// known are names of services, as people write them, with what they are.
var known = map[string]string{
	"http": "tcp/80", "https": "tcp/443", "ssh": "tcp/22", "dns": "udp/53", "ntp": "udp/123", "snmp": "udp/161",
	"syslog": "udp/514", "modbus": "tcp/502", "ldap": "tcp/389", "ldaps": "tcp/636", "smtp": "tcp/25", "rdp": "tcp/3389",
	"postgresql": "tcp/5432", "postgres": "tcp/5432", "ping": "icmp", "icmp": "icmp",
}

// services reads what a host answers as people write it: tcp/443, 443/tcp, tcp 443, tcp:443, https, or a
// port alone, which is of TCP.
func services(text string) ([]design.Service, error) {
	text = strings.ToLower(text)
	for _, proto := range []string{"tcp", "udp"} {
		text = strings.NewReplacer(proto+" ", proto+"/", proto+":", proto+"/", proto+"-", proto+"/").Replace(text)
	}
	var out []design.Service
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" ,;+&\n", r) }) {
		if port, proto, ok := strings.Cut(word, "/"); ok && (proto == "tcp" || proto == "udp") {
			word = proto + "/" + port
		}
		if as := known[word]; as != "" {
			word = as
		}
		if n, err := strconv.Atoi(strings.TrimSuffix(word, ".0")); err == nil && n > 0 && n < 65536 {
			word = fmt.Sprintf("tcp/%d", n)
		}
		s, err := design.ParseService(word)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}
