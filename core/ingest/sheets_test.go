package ingest_test

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"dravin/core/design"
	"dravin/core/ingest"
)

// held is what a person reads in a sheet: the ranges of parties, by party and LAN.
var held = [][3]string{
	{"Dunmoss Arboretum", "house", "192.168.211.0/24"},
	{"Dunmoss Arboretum", "seed bank", "10.212.4.0/22"},
	{"Dunmoss Arboretum", "bothy", "10.212.24.0/25"},
	{"Fern Gully", "ticket desk", "10.213.8.0/24"},
	{"Fern Gully", "glasshouse five", "10.213.64.0/18"},
	{"Yew Hut", "weather mast", "10.213.200.128/26"},
}

// writings are the ways in which people write a range: the cell and, where it is of its own, the mask.
var writings = map[string]func(p netip.Prefix) (cell, mask string){
	"length":       func(p netip.Prefix) (string, string) { return p.String(), "" },
	"mask behind":  func(p netip.Prefix) (string, string) { return p.Addr().String() + " " + dotted(p, false), "" },
	"slash mask":   func(p netip.Prefix) (string, string) { return p.Addr().String() + "/" + dotted(p, false), "" },
	"mask column":  func(p netip.Prefix) (string, string) { return p.Addr().String(), dotted(p, false) },
	"wildcard":     func(p netip.Prefix) (string, string) { return p.Addr().String(), dotted(p, true) },
	"bits column":  func(p netip.Prefix) (string, string) { return p.Addr().String(), fmt.Sprint(p.Bits()) },
	"number":       func(p netip.Prefix) (string, string) { return p.Addr().String(), fmt.Sprintf("%d.0", p.Bits()) },
	"slash column": func(p netip.Prefix) (string, string) { return p.Addr().String(), fmt.Sprintf("/%d", p.Bits()) },
	"span":         func(p netip.Prefix) (string, string) { return p.Addr().String() + " - " + lastOf(p), "" },
	"host":         func(p netip.Prefix) (string, string) { return fmt.Sprintf("%s/%d", p.Addr().Next(), p.Bits()), "" },
}

func dotted(p netip.Prefix, wild bool) string {
	m := ^uint32(0) << (32 - p.Bits())
	if wild {
		m = ^m
	}
	return netip.AddrFrom4([4]byte{byte(m >> 24), byte(m >> 16), byte(m >> 8), byte(m)}).String()
}

func lastOf(p netip.Prefix) string {
	a := p.Addr()
	for p.Contains(a.Next()) {
		a = a.Next()
	}
	return a.String()
}

// layouts are the ways in which people lay a sheet out, given its rows of party, LAN, range and mask.
var layouts = map[string]func(rows [][]string) (header []string, out [][]string){
	"plain":  func(rows [][]string) ([]string, [][]string) { return []string{"Site", "LAN", "Subnet", "Mask"}, rows },
	"titled": titled,
	"merged": merged,
	"foreign": func(rows [][]string) ([]string, [][]string) {
		return []string{"Standort", "Netzname", "Netz", "Maske"}, merge(rows)
	},
	"headless": func(rows [][]string) ([]string, [][]string) { return nil, rows },
	"headings": headings,
}

func titled(rows [][]string) ([]string, [][]string) {
	above := [][]string{
		{"Address plan of the botanic gardens"}, {"as of spring, ask the grounds team"}, {""},
		{"Location", "Network name", "IP range", "Netmask"},
	}
	return nil, append(above, rows...)
}

func merged(rows [][]string) ([]string, [][]string) {
	return []string{"Garden", "Name", "Network", "Subnet mask"}, merge(rows)
}

func merge(rows [][]string) (out [][]string) {
	last := ""
	for _, r := range rows {
		r = slices.Clone(r)
		if r[0] == last {
			r[0] = ""
		} else {
			last = r[0]
		}
		out = append(out, r)
	}
	return out
}

func headings(rows [][]string) ([]string, [][]string) {
	last := ""
	out := [][]string{{"VLAN name", "IP subnet", "Mask"}}
	for _, r := range rows {
		if r[0] != last {
			last = r[0]
			out = append(out, []string{last, "", ""})
		}
		out = append(out, r[1:])
	}
	return nil, out
}

// files are the kinds of file, given the rows.
var files = []func(t *testing.T, rows [][]string) []byte{
	func(_ *testing.T, rows [][]string) []byte { return delimited(rows, ";", "\r\n") },
	func(_ *testing.T, rows [][]string) []byte { return delimited(rows, "\t", "\n") },
	spread,
	func(t *testing.T, rows [][]string) []byte {
		out, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().Bytes(delimited(rows, ";", "\r\n"))
		require.NoError(t, err)
		return out
	},
	func(t *testing.T, rows [][]string) []byte {
		out, err := charmap.Windows1252.NewEncoder().Bytes(
			delimited(append(rows, []string{"", "", "", "", "Gärten"}), ",", "\n"),
		)
		require.NoError(t, err)
		return out
	},
}

func delimited(rows [][]string, by, end string) []byte {
	var b strings.Builder
	for _, r := range rows {
		b.WriteString(strings.Join(r, by) + end)
	}
	return []byte(b.String())
}

func spread(t *testing.T, rows [][]string) []byte {
	book := excelize.NewFile()
	defer book.Close()
	for n, r := range rows {
		cells := make([]any, len(r))
		for i, c := range r {
			cells[i] = c
		}
		require.NoError(t, book.SetSheetRow("Sheet1", fmt.Sprintf("A%d", n+1), &cells))
	}
	var b bytes.Buffer
	require.NoError(t, book.Write(&b))
	return b.Bytes()
}

// stock is what a design has of LANs, as a person reads it.
func stock(d *design.Design) (out [][3]string) {
	for _, o := range d.Of(design.KindLAN) {
		for _, p := range d.Ranges(o.ID) {
			out = append(out, [3]string{d.Party(o.ID).Name, o.Name, p.String()})
		}
	}
	slices.SortFunc(out, func(a, b [3]string) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
	return out
}

func read(t *testing.T, file []byte, o ingest.Options, how ingest.How) (*design.Design, *ingest.Plan) {
	table, err := ingest.Read(t.Context(), bytes.NewReader(file), o)
	require.NoError(t, err)
	p, err := ingest.Make(t.Context(), design.New("", nil), table, how)
	require.NoError(t, err)
	return accept(t, design.New("", nil), p), p
}

// Sixty sheets, each way of writing a range in each layout, in kinds of files by turns, come to what a
// person reads in them, at once and without a question.
func TestSheetsAsPeopleHaveThemComeToWhatAPersonReads(t *testing.T) {
	want := slices.Clone(held)
	slices.SortFunc(want, func(a, b [3]string) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
	n := 0
	for layout, lay := range layouts {
		for writing, write := range writings {
			file := files[n%len(files)]
			n++
			t.Run(layout+", "+writing, func(t *testing.T) {
				var rows [][]string
				for _, h := range held {
					cell, mask := write(netip.MustParsePrefix(h[2]))
					rows = append(rows, []string{h[0], h[1], cell, mask})
				}
				header, rows := lay(rows)
				if header != nil {
					rows = append([][]string{header}, rows...)
				}
				d, p := read(t, file(t, rows), ingest.Options{}, ingest.How{})
				assert.Equal(t, want, stock(d), "%q %v\n%s", p.Header, p.Columns, lines(p))
			})
		}
	}
	assert.Equal(t, 60, n)
}

// Single things that people write come to what they mean, and it is said.
func TestWhatPeopleWrite(t *testing.T) {
	for name, c := range map[string]struct {
		file string
		how  ingest.How
		want string
	}{
		"short forms, a short gateway, VLANs": {
			"site,name,network,gateway,vlan\nFern Gully,desk,10.212.24/22,.1,216\nFern " +
				"Gully,mast,10.212.30.0/24,10.212.30.254,VLAN 217\n",
			ingest.How{},
			"2 new Fern Gully desk 10.212.24.0/22 10.212.24/22 is read as 10.212.24.0/22\n3 new Fern Gully mast " +
				"10.212.30.0/24 \n",
		},
		"several ranges in a cell": {
			"site,subnet\nFern Gully,\"10.212.8.0/24, 10.212.9.0/24\n192.168.211.0/24\"\n", ingest.How{},
			"2 new Fern Gully 10.212.8.0/24 10.212.8.0/24, 10.212.9.0/24, 192.168.211.0/24 \n",
		},
		"a span of several": {
			"site,subnet\nFern Gully,10.212.2.0-10.212.4.255\n", ingest.How{},
			"2 new Fern Gully 10.212.2.0/23 10.212.2.0/23, 10.212.4.0/24 10.212.2.0-10.212.4.255 is made up of " +
				"10.212.2.0/23, 10.212.4.0/24\n",
		},
		"hosts whose party their range tells": {
			"site,lan,prefix\nFern Gully,desk,10.212.8.0/24\n\x00name,address,service\ntill,10.212.8.20,https\n" +
				"lost,10.9.9.9,ssh\n",
			ingest.How{},
			"2 new Fern Gully till 10.212.8.20 the party is Fern Gully, which has 10.212.8.20\n3 refused lost " +
				"10.9.9.9 10.9.9.9 is " +
				"in no LAN, inner route or subnet; bring its range in first, or name its party\n",
		},
		"a box's ip addr": {
			"1: lo: <LOOPBACK,UP> mtu 65536\n    inet 127.0.0.1/8 scope host lo\n2: eth0: <BROADCAST,UP> mtu " +
				"1500\n    inet " +
				"10.212.8.1/22 brd 10.212.11.255 scope global eth0\n    inet6 fe80::1/64 scope link\n",
			ingest.How{Party: "Fern Gully"},
			"4 new Fern Gully eth0 10.212.8.0/22 \n",
		},
		"a box's ip route": {
			"default via 10.212.8.254 dev eth0 \n10.212.8.0/22 dev eth0 proto kernel scope link src 10.212.8.1 \n" +
				"10.213.0.0/16 via " +
				"10.212.8.2 dev eth0 proto static \n",
			ingest.How{Party: "Fern Gully"},
			"2 new Fern Gully eth0 10.212.8.0/22 \n3 new Fern Gully 10.213.0.0/16 10.213.0.0/16 \n",
		},
		"a mail": {
			"At Fern Gully we have\n - desk 10.212.8.0 255.255.252.0 (old)\n - mast 10.212.30.0 - 10.212.30.127, " +
				"soon\nYew Hut: pond " +
				"10.212.40/24.\n", ingest.How{Party: "Fern Gully"},
			"2 new At Fern Gully we have desk 10.212.8.0/22 10.212.8.0 255.255.252.0 is read as 10.212.8.0/22\n3 " +
				"new At Fern Gully " +
				"we have mast 10.212.30.0/25 10.212.30.0 - 10.212.30.127 is made up of 10.212.30.0/25\n4 new Yew " +
				"Hut pond " +
				"10.212.40.0/24 10.212.40/24 is read as 10.212.40.0/24\n",
		},
		"masks that do not agree": {
			"site,subnet,mask\nFern Gully,10.212.8.0/24,255.255.252.0\nFern Gully,10.212.9.0,255.0.255.0\n" +
				"", ingest.How{},
			"2 refused Fern Gully 10.212.8.0/24 the range is 10.212.8.0/24 and its mask 255.255.252.0; let them " +
				"say the same, or " +
				"empty one\n3 refused Fern Gully 10.212.9.0 \"10.212.9.0 255.0.255.0\" has a mask with holes; " +
				"write a length such as " +
				"/24, or a mask such as 255.255.255.0\n",
		},
	} {
		t.Run(name, func(t *testing.T) {
			d := design.New("", nil)
			before, text, ok := strings.Cut(c.file, "\x00")
			if ok {
				d, _ = read(t, []byte(before), ingest.Options{}, ingest.How{})
			} else {
				text = before
			}
			p := plan(t, d, text, c.how)
			assert.Equal(t, c.want, lines(p))
			next := accept(t, d, p)
			assert.Empty(t, plan(t, next, text, c.how).Edits, "twice changes nothing")
		})
	}
}

// What a router says without a name asks whose it is, and takes the answer.
func TestABoxWithoutAPartyAsksWhoseItIs(t *testing.T) {
	text := `[{"ifname":"eth0","addr_info":[{"local":"10.215.0.1","prefixlen":24,"scope":"global"}]}]`
	p := plan(t, design.New("", nil), text, ingest.How{})
	assert.Equal(t, []string{"party"}, p.Asks)
	assert.Empty(t, plan(t, design.New("", nil), text, ingest.How{Party: "Fern Gully"}).Asks)
}

// All sheets of a workbook are read at once; a sheet whose rows do not say whose they are is its name's.
func TestAllSheetsOfAWorkbookAreReadAtOnce(t *testing.T) {
	book := excelize.NewFile()
	defer book.Close()
	for n, h := range held {
		sheet := h[0]
		_, err := book.NewSheet(sheet)
		require.NoError(t, err)
		require.NoError(t, book.SetSheetRow(sheet, "A1", &[]any{"LAN", "Subnet"}))
		require.NoError(t, book.SetSheetRow(sheet, fmt.Sprintf("A%d", n+2), &[]any{h[1], h[2]}))
	}
	var b bytes.Buffer
	require.NoError(t, book.Write(&b))
	d, p := read(t, b.Bytes(), ingest.Options{Sheet: ingest.AllSheets}, ingest.How{})
	assert.Len(t, stock(d), len(held), lines(p))
	assert.Contains(
		t, p.Notes, "All 4 sheets were read; where rows do not say whose they are, their sheet's name does.",
	)
}

// A chosen encoding comes before the one that is told.
func TestAChosenEncodingIsTaken(t *testing.T) {
	text, err := charmap.Windows1251.NewEncoder().String("site,prefix\nСад,10.212.8.0/24\n")
	require.NoError(t, err)
	d, p := read(t, []byte(text), ingest.Options{Encoding: "windows-1251"}, ingest.How{})
	assert.Equal(t, "windows-1251", p.Encoding)
	assert.Equal(t, "Сад", d.Of(design.KindSite)[0].Name)
}
