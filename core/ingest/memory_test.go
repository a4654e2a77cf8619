package ingest_test

import (
	"archive/zip"
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/ingest"
)

// mostMemory is what a process that brings one file in may take at its peak, all
// told, MB: that the collector is late on a machine that is loaded is counted in.
const mostMemory = 400

func TestMain(m *testing.M) {
	if file := os.Getenv("DRAVIN_READ"); file != "" {
		readAlone(file)
		return
	}
	os.Exit(m.Run())
}

// readAlone plans an import of a file into an empty design and prints the peak of
// memory, kB, and what became of it.
func readAlone(file string) {
	f, err := os.Open(file)
	if err != nil {
		fmt.Println(0, err)
		return
	}
	ctx := context.Background()
	table, err := ingest.Read(ctx, f, ingest.Options{})
	outcome := "read"
	if err == nil {
		var plan *ingest.Plan
		if plan, err = ingest.Make(ctx, design.New("alone", nil), table, ingest.How{Party: "Yew Hut"}); err == nil {
			outcome = fmt.Sprint(plan.Counts)
		}
	}
	if err != nil {
		outcome = strings.Split(err.Error(), "\n")[0]
	}
	status, _ := os.ReadFile("/proc/self/status")
	_, peak, _ := strings.Cut(string(status), "VmHWM:")
	fmt.Println(strings.Fields(peak)[0], outcome[:min(len(outcome), 150)])
}

func times(w io.Writer, n int, format string) {
	for i := range n {
		if strings.Contains(format, "%") {
			fmt.Fprintf(w, format, i, 208+i>>16%8, i>>8%256, i%256)
		} else {
			_, _ = io.WriteString(w, format)
		}
	}
}

// workbook writes a workbook of parts, beside those that every one has.
func workbook(w io.Writer, parts map[string]func(io.Writer)) {
	z := zip.NewWriter(w)
	usual := map[string]string{
		"[Content_Types].xml":        `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/><Override PartName="/xl/sharedStrings.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sharedStrings+xml"/></Types>`,
		"_rels/.rels":                `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>`,
		"xl/workbook.xml":            `<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="Stock" sheetId="1" r:id="r1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="r2" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/sharedStrings" Target="sharedStrings.xml"/></Relationships>`,
	}
	for name, text := range usual {
		if parts[name] == nil {
			f, _ := z.Create(name)
			_, _ = io.WriteString(f, text)
		}
	}
	for name, write := range parts {
		f, _ := z.Create(name)
		b := bufio.NewWriter(f)
		write(b)
		_ = b.Flush()
	}
	_ = z.Close()
}

func sheet(rows func(io.Writer)) func(io.Writer) {
	return func(w io.Writer) {
		_, _ = io.WriteString(
			w,
			`<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>party</t></is></c><c r="B1" t="inlineStr"><is><t>prefix</t></is></c></row>`,
		)
		rows(w)
		_, _ = io.WriteString(w, `</sheetData></worksheet>`)
	}
}

func shared(strings func(io.Writer)) func(io.Writer) {
	return func(w io.Writer) {
		_, _ = io.WriteString(w, `<sst xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main">`)
		strings(w)
		_, _ = io.WriteString(w, `</sst>`)
	}
}

func numbered(n int, format string) func(io.Writer) {
	return func(w io.Writer) { times(w, n, format) }
}

// worst are files that took gigabytes, or are as large as they may be.
var worst = map[string]func(w io.Writer){
	"csv: a line of commas":   func(w io.Writer) { times(w, 1, "party,prefix\n"); times(w, 50<<20, ",") },
	"csv: a header of commas": func(w io.Writer) { times(w, 1, "party,prefix"); times(w, 50<<20, ",") },
	"csv: an open quote":      func(w io.Writer) { times(w, 1, "party,prefix\n\""); times(w, 40<<20, "a,\n") },
	"csv: as many rows as may be": numbered(
		75_000, "%[1]d party of huts,10.%[2]d.%[3]d.%[4]d/32,hut,note of it,owner\n",
	),
	"csv: as many cells as may be": func(w io.Writer) {
		times(w, 1, "party,prefix\n")
		times(w, 30_000,
			"a"+strings.Repeat(",b", 99)+"\n")
	},
	"csv: as much text as may be": func(w io.Writer) {
		times(w, 1, "party,prefix,note\n")
		times(w, 40_000, "h%[1]d,10.%[2]d.%[3]d.%[4]d/32,"+strings.Repeat("x", 1500)+"\n")
	},

	"xlsx: one long string in every cell": func(w io.Writer) {
		workbook(
			w,
			map[string]func(io.Writer){
				"xl/sharedStrings.xml": shared(
					func(w io.Writer) { times(w, 1, "<si><t>"+strings.Repeat("x", 32<<10)+"</t></si>") },
				),
				"xl/worksheets/sheet1.xml": sheet(
					numbered(400_000, `<row><c t="s"><v>0</v></c><c t="s"><v>0</v></c></row>`),
				),
			},
		)
	},
	"xlsx: a last column in every row": func(w io.Writer) {
		workbook(
			w,
			map[string]func(io.Writer){
				"xl/worksheets/sheet1.xml": sheet(
					numbered(300_000, `<row r="1%06[1]d"><c r="XFD1%06[1]d"><v>1</v></c></row>`),
				),
			},
		)
	},
	"xlsx: empty strings without end": func(w io.Writer) {
		workbook(
			w,
			map[string]func(io.Writer){
				"xl/sharedStrings.xml":     shared(numbered(5_000_000, "<si/>")),
				"xl/worksheets/sheet1.xml": sheet(func(io.Writer) {}),
			},
		)
	},
	"xlsx: as many strings as may be": func(w io.Writer) {
		workbook(
			w,
			map[string]func(io.Writer){
				"xl/sharedStrings.xml": shared(numbered(70_000, "<si><t>string %[1]d of those that may be</t></si>")),
				"xl/worksheets/sheet1.xml": sheet(
					numbered(
						70_000,
						`<row><c t="s"><v>%[1]d</v></c><c t="inlineStr"><is><t>10.%[2]d.%[3]d.%[4]d/32</t></is></c></row>`,
					),
				),
			},
		)
	},
	"xlsx: a sheet that unpacks to a gigabyte": func(w io.Writer) {
		workbook(
			w,
			map[string]func(io.Writer){
				"xl/worksheets/sheet1.xml": sheet(numbered(40_000_000, `<row></row><row></row>    `)),
			},
		)
	},
	"xlsx: a sheet for a workbook": func(w io.Writer) {
		workbook(w, map[string]func(io.Writer){
			"_rels/.rels": func(w io.Writer) {
				times(
					w,
					1,
					`<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/work&#115;heets/sheet1.xml"/></Relationships>`,
				)
			},
			"xl/worksheets/sheet1.xml": func(w io.Writer) {
				times(w, 1, "<workbook><sheets>")
				times(w, 4_000_000,
					`<sheet name="a"/>`)
			},
		})
	},
	"xlsx: styles without end": func(w io.Writer) {
		workbook(
			w,
			map[string]func(io.Writer){
				"xl/styles.xml": func(w io.Writer) {
					times(w, 1, "<styleSheet><fonts>")
					times(w, 3_000_000,
						"<font/>")
				},
				"xl/worksheets/sheet1.xml": sheet(func(io.Writer) {}),
			},
		)
	},
	"xlsx: as large a sheet as may be": func(w io.Writer) {
		workbook(
			w,
			map[string]func(io.Writer){
				"xl/worksheets/sheet1.xml": sheet(
					numbered(
						74_900,
						`<row><c t="inlineStr"><is><t>hut %[1]d</t></is></c><c t="inlineStr"><is><t>10.%[2]d.%[3]d.%[4]d/32</t></is></c><c t="inlineStr"><is><t>a note that nobody reads, but long it is, long and longer: %[1]d; a note that nobody reads, but long it is, long and longer: %[1]d; and so on for ever</t></is></c></row>`,
					),
				),
			},
		)
	},

	"json: empty elements": func(w io.Writer) { times(w, 1, "["); times(w, 10<<20, "{},"); times(w, 1, "{}]") },
	"json: numbers":        func(w io.Writer) { times(w, 1, "["); times(w, 15<<20, "1,"); times(w, 1, "1]") },
	"json: addresses without end": func(w io.Writer) {
		times(w, 1, `[{"ifname":"a","addr_info":[`)
		times(w, 10<<20, "{},")
		times(w, 1, "{}]}]")
	},
	"json: one long string": func(w io.Writer) { times(w, 1, `[{"ifname":"`); times(w, 31<<20, "x"); times(w, 1, `"}]`) },
	"json: a long name many times": func(w io.Writer) {
		times(w, 1, `[{"ifname":"`+strings.Repeat("x", 3<<20)+`","addr_info":[`)
		times(w, 900, `{"local":"10.208.0.1","prefixlen":24,"scope":"global"},`)
		times(w, 1, "{}]}]")
	},
	"json: as many routes as may be": func(w io.Writer) {
		times(w, 1, "[")
		times(w, 74_900, `{"dst":"10.%[2]d.%[3]d.%[4]d","gateway":"10.208.0.1","dev":"e"},`)
		times(w, 1, `{"dst":"default"}]`)
	},
	"json: as many prefixes": func(w io.Writer) {
		times(w, 1, "{")
		times(w, 74_900, `"10.%[2]d.%[3]d.%[4]d/32":[{"protocol":"bgp","nexthops":[{"ip":"10.208.0.1"}]}],`)
		times(w, 1, `"x":0}`)
	},
	"json: keys without end": func(w io.Writer) { times(w, 1, "{"); times(w, 3<<20, `"k":0,`); times(w, 1, `"x":0}`) },

	"text: a long name many times": func(w io.Writer) {
		times(w, 100, strings.Repeat("x", 500<<10)+strings.Repeat(" 10.208.0.0/24", 30<<10)+"\n")
	},
	"text: a line without end": func(w io.Writer) { times(w, 20<<20, "10.208 ") },
	"text: as much as may be":  numbered(74_900, "hut %[1]d: plot 10.%[2]d.%[3]d.%[4]d/32\n"),

	"yaml: flow": func(w io.Writer) {
		times(w, 1, "dravin: 1\nsites: [")
		times(w, 240_000, "a,")
		times(w, 1,
			"a]\n")
	},
	"yaml: flow without end": func(w io.Writer) {
		times(w, 1, "dravin: 1\nsites: [")
		times(w, 5<<20, "a,")
		times(w, 1,
			"a]\n")
	},
	"yaml: LANs": func(w io.Writer) {
		times(w, 1, "dravin: 1\nsites:\n  - name: a\n    lans:\n")
		times(w, 49_000, "      - name: l%[1]d\n        prefixes: 10.%[2]d.%[3]d.%[4]d/32\n")
	},
	"yaml: sites": func(w io.Writer) { times(w, 1, "dravin: 1\nsites:\n"); times(w, 80_000, "  - name: s%[1]d\n") },
	"yaml: prefixes": func(w io.Writer) {
		times(w, 1, "dravin: 1\noutside:\n  - name: a\n    prefixes:\n")
		times(w, 124_000, "      - 10.%[2]d.%[3]d.%[4]d/32\n")
	},
	"yaml: one long word": func(w io.Writer) { times(w, 1, "dravin: 1\nname: "); times(w, 7<<20, "x") },
	"yaml: one long block": func(w io.Writer) {
		times(w, 1, "dravin: 1\nname: |\n")
		times(w, 120_000, "  "+strings.Repeat("x", 50)+"\n")
	},
	"yaml: comments": func(w io.Writer) {
		times(w, 1, "dravin: 1\n")
		times(w, 80_000, "# comment of a line that is long enough\n")
	},
	"yaml: blank lines":       func(w io.Writer) { times(w, 1, "dravin: 1\n"); times(w, 240_000, "\n") },
	"yaml: blanks":            func(w io.Writer) { times(w, 1, "dravin: 1\nname:"); times(w, 7<<20, " ") },
	"yaml: words in a bundle": func(w io.Writer) { times(w, 1, "dravin: 1\nname:"); times(w, 3<<20, " x") },
	"yaml: carriage returns":  func(w io.Writer) { times(w, 1, "dravin: 1\nname: x\r\n"); times(w, 7<<20, "\r") },
}

// slow are the worst files that take longest to read: they are read with DRAVIN_WORST=all, as make faults has it.
var slow = []string{"xlsx: as many strings as may be", "xlsx: as large a sheet as may be", "json: one long string"}

func TestTheWorstFilesTakeLittleMemory(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	for name, write := range worst {
		t.Run(name, func(t *testing.T) {
			if slices.Contains(slow, name) && os.Getenv("DRAVIN_WORST") != "all" {
				t.Skip("it takes long: DRAVIN_WORST=all")
			}
			f, err := os.Create(file)
			require.NoError(t, err)
			b := bufio.NewWriterSize(f, 1<<20)
			if strings.HasPrefix(name, "csv: as many rows") {
				times(b, 1, "party,prefix,name,note,owner\n")
			}
			write(b)
			require.NoError(t, b.Flush())
			require.NoError(t, f.Close())
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Minute)
			defer cancel()
			cmd := exec.CommandContext(ctx, os.Args[0])
			cmd.Env = append(os.Environ(), "DRAVIN_READ="+file)
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%.500s", out)
			kb, outcome, _ := strings.Cut(strings.TrimSpace(string(out)), " ")
			peak, err := strconv.Atoi(kb)
			require.NoError(t, err, "%.500s", out)
			t.Logf("%4d MB: %s", peak>>10, outcome)
			assert.NotZero(t, peak)
			assert.Less(t, peak>>10, mostMemory)
		})
	}
}
