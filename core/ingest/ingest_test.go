package ingest_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/ingest"
	"dravin/core/prefix"
	"dravin/demo"
)

func estate(t testing.TB) *design.Design {
	d, err := design.Read(demo.TwoGardens)
	require.NoError(t, err)
	return d
}

func plan(t *testing.T, d *design.Design, text string, how ingest.How) *ingest.Plan {
	table, err := ingest.Read(t.Context(), strings.NewReader(text), ingest.Options{})
	require.NoError(t, err)
	p, err := ingest.Make(t.Context(), d, table, how)
	require.NoError(t, err)
	return p
}

func lines(p *ingest.Plan) string {
	var b strings.Builder
	for _, i := range p.Items {
		fmt.Fprintf(&b, "%d %s %s %s\n", i.Line, i.Outcome, i.Subject, i.Why)
	}
	return b.String()
}

func accept(t *testing.T, d *design.Design, p *ingest.Plan) *design.Design {
	next, _, err := d.Apply(p.Edits)
	require.NoError(t, err)
	return next
}

const spreadsheet = "\ufeffSite;LAN;Subnet;Owner;Segment;Fixed;Remarks;Colour\r\n" +
	"Dunmoss Arboretum;house;192.168.211.0/24;Grounds team;grounds;yes;\"factory; default\";green\r\n" +
	"Dunmoss Arboretum;house six;2001:db8:31::/64;;;;;\r\n" +
	"Marrow Hill;data room;10.214.0.0/22;;;;;\r\n" +
	"Marrow Hill;museum store;192.168.216.0/24;;;;cold;\r\n" +
	"\r\n" +
	"Marrow Hill;offices;10.214.5.1/24;;;;;\r\n" +
	"Dunmoss Arboretum;house;192.168.211.0/24;;;;;\r\n" +
	";lost;10.221.0.0/24;;;;;\r\n"

func TestASpreadsheetIsPreviewedLineByLineAndBroughtInOnce(t *testing.T) {
	d := estate(t)
	p := plan(t, d, spreadsheet, ingest.How{})
	assert.Equal(t, `2 new Dunmoss Arboretum house 192.168.211.0/24 
3 new Dunmoss Arboretum house six 2001:db8:31::/64 
4 same Marrow Hill data room 10.214.0.0/22 
5 changed Marrow Hill museum store 192.168.216.0/24 changes note
7 new Marrow Hill offices 10.214.5.0/24 10.214.5.1/24 is a host's address; the range that holds it is 10.214.5.0/24
8 same Dunmoss Arboretum house 192.168.211.0/24 says the same as line 2
9 new Dunmoss Arboretum lost 10.221.0.0/24 the party is that of line 8
`, lines(p))
	assert.Equal(t, []ingest.Column{"party", "name", "prefix", "owner", "segment", "fixed", "note", ""}, p.Columns)
	next := accept(t, d, p)
	lan := next.Find("dunmoss-arboretum/house", design.KindLAN)[0].Body.(*design.LAN)
	assert.True(t, lan.Fixed)
	assert.Equal(t, "grounds", next.Get(lan.Segment).Name)
	assert.Equal(t, "factory; default", lan.Note)
	again := plan(t, next, spreadsheet, ingest.How{})
	assert.Empty(t, again.Edits, "the same file twice changes nothing")

	some := plan(t, d, spreadsheet, ingest.How{Only: func(line int) bool { return line == 3 }})
	assert.Len(t, some.Edits, 2, "the line and the party that it needs")
	strict := plan(t, d, spreadsheet, ingest.How{RefuseHosts: true})
	assert.Contains(t, lines(strict), "7 refused Marrow Hill offices 10.214.5.1/24 10.214.5.1/24 is a host's "+
		"address; the range "+
		"that holds it is 10.214.5.0/24; write the range, or choose that it is taken")
	mended := plan(t, d, spreadsheet, ingest.How{
		RefuseHosts: true, Mended: map[int][]string{7: {"Marrow Hill", "offices", "10.214.6.0/24"}},
	})
	assert.Contains(t, lines(mended), "7 new Marrow Hill offices 10.214.6.0/24")
	named := plan(t, d, spreadsheet, ingest.How{Party: "Old Orangery"})
	assert.Contains(t, lines(named), "9 new Old Orangery lost 10.221.0.0/24")
}

func TestExportsComeBackUnchanged(t *testing.T) {
	d := estate(t)
	header, rows := ingest.Export(d)
	require.Greater(t, len(rows), 8)
	var c, x bytes.Buffer
	require.NoError(t, ingest.WriteCSV(&c, header, rows))
	require.NoError(t, ingest.WriteXLSX(&x, header, rows))
	file, err := d.Write()
	require.NoError(t, err)
	for name, text := range map[string]string{"CSV": c.String(), "XLSX": x.String(), "YAML": string(file)} {
		p := plan(t, d, text, ingest.How{})
		assert.Empty(t, p.Edits, "%s\n%s", name, lines(p))
		assert.Zero(t, p.Counts[ingest.Refused], lines(p))
		fresh := accept(t, design.New("", nil), plan(t, design.New("", nil), text, ingest.How{}))
		for _, k := range []design.Kind{design.KindLAN, design.KindSubnet, design.KindEndpoint, design.KindGateway} {
			assert.Len(t, fresh.Of(k), len(d.Of(k)), "%s %s", name, k)
		}
	}
}

func TestRouterOutput(t *testing.T) {
	how := ingest.How{Party: "Saltmarsh Station"}
	for name, c := range map[string]struct{ text, want string }{
		"ip -j " +
			"address": {`[{"ifname":"lo","addr_info":[{"family":"inet","local":"127.0.0.1","prefixlen":8,"scope":"host"}]},
			{"ifname":"eth0","addr_info":[{"family":"inet","local":"10.215.0.1","prefixlen":24,"scope":"global"},{"family":"inet6","local":"2001:db8:30::1","prefixlen":64,"scope":"global"}]}]`,
			"1 new Saltmarsh Station eth0 10.215.0.0/24 \n2 new Saltmarsh Station eth0 2001:db8:30::/64 \n"},
		"ip -j " +
			"route": {`[{"dst":"default","gateway":"10.215.0.254","dev":"eth0"},{"dst":"10.215.0.0/24","dev":"eth0","scope":"link","protocol":"kernel"},
			{"dst":"10.217.0.0/16","gateway":"10.215.0.2","dev":"eth0","protocol":"static"},{"dst":"10.218.0.7","gateway":"10.215.0.2","dev":"eth0"}]`,
			"1 new Saltmarsh Station eth0 10.215.0.0/24 \n2 new Saltmarsh Station 10.217.0.0/16 10.217.0.0/16 \n3 " +
				"new " +
				"Saltmarsh Station 10.218.0.7/32 10.218.0.7/32 \n"},
		"BGP " +
			"daemon": {`{"0.0.0.0/0":[{"prefix":"0.0.0.0/0","protocol":"bgp"}],"10.215.0.0/24":[{"prefix":"10.215.0.0/24","protocol":"connected","selected":true,"nexthops":[{"interfaceName":"eth0"}]}],
			"10.218.0.0/16":[{"prefix":"10.218.0.0/16","protocol":"bgp","selected":true,"nexthops":[{"ip":"10.215.0.9","interfaceName":"eth0"}]}]}`,
			"1 new Saltmarsh Station eth0 10.215.0.0/24 \n2 new Saltmarsh Station 10.218.0.0/16 10.218.0.0/16 \n"},
		"pasted": {"Here is what we have at\nSaltmarsh Station:\n - tide lab 10.215.4.0/24 and 10.215.5.0/24\nOld " +
			"Orangery: ticket desk 10.215.64.0/24 (soon)\n",
			"3 new Saltmarsh Station tide lab 10.215.4.0/24 \n3 new Saltmarsh Station tide lab 10.215.5.0/24 " +
				"10.215.5.0/24 " +
				"\n4 new Old Orangery ticket desk 10.215.64.0/24 \n"},
	} {
		t.Run(name, func(t *testing.T) {
			p := plan(t, estate(t), c.text, how)
			assert.Equal(t, c.want, lines(p))
			next := accept(t, estate(t), p)
			assert.Empty(t, plan(t, next, c.text, how).Edits)
		})
	}
}

// The files were written by the BGP daemon's own show ip route json and show
// bgp ipv4 unicast json, of a box with a LAN, a static route and a black hole.
func TestRealDaemonTables(t *testing.T) {
	for file, want := range map[string]string{
		"routes.json": "1 new Saltmarsh Station d0 10.215.0.0/23 \n2 new Saltmarsh Station 10.217.0.0/16 " +
			"10.217.0.0/16 \n",
		"bgp.json": "1 new Saltmarsh Station 10.215.0.0/23 10.215.0.0/23 \n2 new Saltmarsh Station 10.217.0.0/16 " +
			"10.217.0.0/16 \n",
	} {
		text, err := os.ReadFile("testdata/" + file)
		require.NoError(t, err)
		p := plan(t, estate(t), string(text), ingest.How{Party: "Saltmarsh Station"})
		assert.Equal(t, want, lines(p), file)
		accept(t, estate(t), p)
	}
}

func TestWhatMakesTheWholeInvalidIsRefusedAlone(t *testing.T) {
	p := plan(
		t,
		estate(t),
		"party,kind,name,prefix,address,via\ncatalogue,subnet,shelf x,10.223.9.0/24,,\ncatalogue,subnet,shelf "+
			"c,10.208.3.0/24,,\n"+
			"Marrow Hill,inner route,hill farm,10.210.0.0/16,,10.210.9.9\nMarrow "+
			"Hill,endpoint,box,,10.214.3.255,\nMarrow "+
			"Hill,lan,attic,10.214.9.0/24,,\n",
		ingest.How{},
	)
	text := lines(p)
	assert.Contains(
		t,
		text,
		"2 refused catalogue shelf x 10.223.9.0/24 10.223.9.0/24 is outside the network's blocks; the blocks are "+
			"10.208.0.0/16",
	)
	assert.Contains(t, text, "3 new catalogue shelf c")
	assert.Contains(t, text, "4 refused Marrow Hill hill farm 10.210.0.0/16 10.210.9.9 is in no LAN of Marrow Hill")
	assert.Contains(t, text, "5 refused Marrow Hill box 10.214.3.255 10.214.3.255 is not a host's address")
	assert.Contains(t, text, "6 new Marrow Hill attic")
	next := accept(t, estate(t), p)
	assert.Empty(t, next.Find("hill-farm"))
}

type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for n := range p {
		p[n] = "party,prefix,10.220.0.0/24\n"[n%27]
	}
	return len(p), nil
}

func TestHostileFilesAreRefused(t *testing.T) {
	var bomb bytes.Buffer
	z := zip.NewWriter(&bomb)
	w, err := z.Create("xl/worksheets/sheet1.xml")
	require.NoError(t, err)
	_, err = io.CopyN(w, zeros{}, 300<<20)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	require.Less(t, bomb.Len(), 1<<20)
	for name, c := range map[string]struct {
		file io.Reader
		says string
	}{
		"zip bomb":        {&bomb, "unpacks to more than"},
		"broken zip":      {strings.NewReader("PK\x03\x04 and then nothing"), "broken zip"},
		"endless":         {endless{}, "there are more than 75000 lines"},
		"endless line":    {zeros{' '}, "the file is empty"},
		"garbage":         {strings.NewReader("\x7fELF\x02\x01\x01\x00\x00"), "not text"},
		"empty":           {strings.NewReader(""), "empty"},
		"prose":           {strings.NewReader("Dear all, no addresses here.\n"), "no prefix was found"},
		"JSON of nothing": {strings.NewReader(`{"a":1}`), "no addresses or routes"},
		"half JSON":       {strings.NewReader("[{\"dst\":\n\"10.0.0.0/8\""), "not JSON"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := ingest.Read(t.Context(), c.file, ingest.Options{})
			var e *ingest.Error
			require.ErrorAs(t, err, &e)
			assert.Contains(t, err.Error(), c.says)
		})
	}
}

type zeros struct{ of byte }

func (z zeros) Read(p []byte) (int, error) {
	for n := range p {
		p[n] = z.of
	}
	return len(p), nil
}

func TestReadingTellsProgressAndCanBeCancelled(t *testing.T) {
	var b strings.Builder
	b.WriteString("party,prefix\n")
	for n := range 70_000 {
		fmt.Fprintf(&b, "site %d,10.%d.%d.%d/32\n", n%400, n>>16, n>>8&255, n&255)
	}
	told := 0
	ctx, cancel := context.WithCancel(t.Context())
	_, err := ingest.Read(ctx, strings.NewReader(b.String()), ingest.Options{Progress: func(rows int) {
		told++
		if rows > 50_000 {
			cancel()
		}
	}})
	require.ErrorIs(t, err, context.Canceled)
	assert.Greater(t, told, 10)
	table, err := ingest.Read(t.Context(), strings.NewReader(b.String()), ingest.Options{})
	require.NoError(t, err)
	p, err := ingest.Make(t.Context(), design.New("", nil), table, ingest.How{})
	require.NoError(t, err)
	assert.Equal(t, 70_000, p.Counts[ingest.New])
}

func TestTheVeryNameOfAColumnComesFirst(t *testing.T) {
	list, err := ingest.ReadPrefixes(strings.NewReader("site,network,prefix,Party\nx,y,10.0.0.0/8,A\n"))
	require.NoError(t, err)
	assert.Equal(t, []string{"A"}, list.Names)
	assert.Equal(
		t, []ingest.Column{"party", "prefix", "", "owner"}, ingest.Guess([]string{"site", "cidr", "range", "contact"}),
	)
}

func TestPrefixLists(t *testing.T) {
	list, err := ingest.ReadPrefixes(
		strings.NewReader("prefix\tnote\tparty\n10.0.0.0/8\tx\tA\n2001:db8::/32\t\"a \"\"b\"\"\"\tB\n"),
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"A", "B"}, list.Names)
	list, err = ingest.ReadPrefixes(
		strings.NewReader(
			"party,prefix\nA,10.0.0.0/8\nB,10.0.0.0/8\nA,10.0.0.0/8\nA,2001:db8::/32\nB,10.0.0.0/8\nA,2001:db8::/32\n",
		),
	)
	require.NoError(t, err)
	assert.Len(t, list.Prefixes, 3, "a line that stands twice is one")
	assert.EqualValues(t, 1, prefix.Count(list.Prefixes, list.Parties))
	for text, says := range map[string]string{
		"party,prefix\nA,10.220.0.1/8\nB,10.0.0.0/8\nC\n": "line 2, column 3: \"10.220.0.1/8\" has host bits set; " +
			"the " +
			"/8 that holds it is 10.0.0.0/8\nline 4: has 1 fields",
		"a,b\n1,2\n":                           "must name at least party and prefix",
		"party,prefix\n,10.0.0.0/8\n":          "the party is empty",
		"party,prefix\nA\x1b[31m,10.0.0.0/8\n": "line 2, column 1: the party holds a control character",
		"party,prefix\n" + strings.Repeat("A,10.0.0.0/8\n", 9000) + "\xe4,10.0.0.0/8\n": "line 9002, column 1: " +
			"this is " +
			"not text in UTF-8",
	} {
		_, err := ingest.ReadPrefixes(strings.NewReader(text))
		assert.ErrorContains(t, err, says)
	}
}

// A line that would leave something of the design invalid is refused, and says
// what; the others are taken.
func TestALineThatHarmsWhatIsThereIsRefused(t *testing.T) {
	p := plan(
		t, estate(t), "party,name,prefix\nMarrow Hill,museum store,10.208.0.0/24\nMarrow Hill,new plot,10.212.9.0/24\n",
		ingest.How{},
	)
	assert.Equal(t, map[ingest.Outcome]int{ingest.Refused: 1, ingest.New: 1}, p.Counts)
	assert.Contains(t, p.Items[0].Why, "endpoint marrow-hill/museum-store/humidity-cabinet")
	assert.Contains(t, p.Items[0].Why, "is outside marrow-hill/museum-store")
}

// What was wrong with a design before, as an older version may have stored it,
// keeps no line from being taken, and none is blamed for it.
func TestALineIsNotBlamedForWhatWasWrongBefore(t *testing.T) {
	d := design.New(
		"", []*design.Object{{ID: "s", Kind: design.KindSite, Name: "Yew Hut", Body: &design.Site{Note: "a\x01b"}}},
	)
	table, err := ingest.Read(
		t.Context(), strings.NewReader("party,prefix\nAlder Hut,10.213.8.0/24\n"), ingest.Options{},
	)
	require.NoError(t, err)
	p, err := ingest.Make(t.Context(), d, table, ingest.How{})
	require.NoError(t, err)
	assert.Equal(t, map[ingest.Outcome]int{ingest.New: 1}, p.Counts)
}

// No cell of a CSV file begins as a formula does, whatever the design says, and
// all of it comes back the same.
func TestFormulasAreNeutralAndComeBackTheSame(t *testing.T) {
	for _, start := range []string{"=", "+", "-", "@", "\t=", "\n=", "\n+", "'=", "''=", "\t", "'", " ", "＝", "-1"} {
		note := start + "cmd(1)"
		d := design.New("", []*design.Object{
			{ID: "s", Kind: design.KindSite, Name: "Yew Hut", Body: &design.Site{}},
			{
				ID: "l", Kind: design.KindLAN, Parent: "s", Name: "=plot",
				Body: &design.LAN{Prefixes: []netip.Prefix{netip.MustParsePrefix("10.213.8.0/24")}, Note: note},
			},
		})
		header, rows := ingest.Export(d)
		var c bytes.Buffer
		require.NoError(t, ingest.WriteCSV(&c, header, rows))
		records, err := csv.NewReader(bytes.NewReader(c.Bytes())).ReadAll()
		require.NoError(t, err)
		for _, record := range records {
			for _, cell := range record {
				assert.NotRegexp(t, "^[=+@\\t\\n\\r-]", cell)
			}
		}
		back := accept(t, design.New("", nil), plan(t, design.New("", nil), c.String(), ingest.How{}))
		lan := back.Of(design.KindLAN)[0]
		assert.Equal(t, "=plot", lan.Name)
		assert.Equal(t, strings.TrimLeft(note, " "), lan.Body.(*design.LAN).Note)
	}
}

// perByte and base are how much a reader may allocate in all, freed or not.
const perByte, base = 3000, 16 << 20

func allocated(work func()) uint64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	work()
	runtime.ReadMemStats(&after)
	return after.TotalAlloc - before.TotalAlloc
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(spreadsheet))
	f.Add([]byte(`[{"dst":"10.0.0.0/8","dev":"eth0","scope":"link"}]`))
	f.Add([]byte(`{"10.0.0.0/8":[{"protocol":"bgp"}]}`))
	f.Add([]byte("Marrow Hill: x 10.0.0.0/8, ::/0\n"))
	f.Add(demo.TwoGardens)
	d := estate(f)
	f.Fuzz(func(t *testing.T, file []byte) {
		var table *ingest.Table
		var err error
		took := allocated(func() { table, err = ingest.Read(t.Context(), bytes.NewReader(file), ingest.Options{}) })
		require.Less(t, took, uint64(base+perByte*len(file)))
		if err != nil {
			return
		}
		p, err := ingest.Make(t.Context(), d, table, ingest.How{Party: "Someone"})
		if err != nil {
			var problems design.Problems
			require.True(t, table.Design != nil && errors.As(err, &problems), "%v", err)
			return
		}
		next, _, err := d.Apply(p.Edits)
		require.NoError(t, err, "a plan can be carried out")
		again, err := ingest.Make(t.Context(), next, table, ingest.How{Party: "Someone"})
		require.NoError(t, err)
		assert.Empty(t, again.Edits, "twice changes nothing")
	})
}
