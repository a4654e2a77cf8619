package design_test

import (
	"encoding/json"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	. "dravin/core/design"
	"dravin/demo"
)

func thistledown(t require.TestingT) *Design {
	d, err := Read(demo.TwoGardens)
	require.NoError(t, err)
	return d
}

func write(t require.TestingT, d *Design) string {
	out, err := d.Write()
	require.NoError(t, err)
	return string(out)
}

func TestFileSurvivesReadingAndWriting(t *testing.T) {
	once := write(t, thistledown(t))
	d, err := Read([]byte(once))
	require.NoError(t, err, once)
	assert.Equal(t, once, write(t, d))
	assert.Equal(t, thistledown(t).Len(), d.Len())
	for _, o := range thistledown(t).All() {
		same := d.Get(o.ID)
		require.NotNil(t, same, o.Name)
		assert.Equal(t, o, same)
	}
}

const head = "dravin: 1\nsites:\n  - name: A\n    gateways:\n      - name: g\n        addresses: 192.0.2.1\n    lans:\n"

func TestBadFiles(t *testing.T) {
	for name, c := range map[string]struct {
		file         string
		line, column int
		says         string
	}{
		"host bits": {head + "      - name: x\n        prefixes: 10.220.0.1/24\n", 9, 19, "the /24 that holds it " +
			"is 10.220.0.0/24"},
		"unknown ref": {head + "      - name: x\n        prefixes: 10.220.0.0/24\n        gateways: [a/h]\n", 10, 20,
			`no gateway has the path "a/h"; there is a/g`},
		"duplicate name": {head +
			"      - name: x\n        prefixes: 10.220.0.0/24\n      - name: X\n        prefixes: 10.220.1.0/24\n", 10, 15,
			`the name "X" is taken`},
		"unknown key": {head + "      - name: x\n        prefix: 10.220.0.0/24\n", 9, 9, "known are name, " +
			"endpoints, prefixes"},
		"missing": {head + "      - name: x\n", 8, 9, "prefixes: is missing"},
		"no name": {head + "      - prefixes: 10.220.0.0/24\n", 8, 9, "needs a name"},
		"outside": {head + "      - name: x\n        prefixes: 10.220.0.0/24\n        endpoints:\n          - " +
			"name: e\n            addresses: 10.220.1.1\n", 12, 24, "outside a/x; it holds 10.220.0.0/24"},
		"broadcast": {head + "      - name: x\n        prefixes: 10.220.0.0/24\n        endpoints:\n          - " +
			"name: e\n            addresses: 10.220.0.255\n", 12, 24, "not a host's address"},
		"twice in one":    {"dravin: 1\nname: a\nname: b\n", 3, 1, "given twice"},
		"version":         {"dravin: 2\n", 1, 9, "this Dravin reads version 1"},
		"no version":      {"sites: []\n", 1, 1, `begins with the line "dravin: 1"`},
		"not a mapping":   {"- 1\n- 2\n", 1, 1, "holds a list"},
		"syntax":          {"dravin: 1\nsites: [\n", 2, 8, "not YAML"},
		"not YAML at all": {"\x00\x01\x02", 1, 1, "not text"},
		"empty":           {"", 1, 1, "empty"},
		"alias bomb":      {"a: &a [x,x]\nb: &b [*a,*a]\nc: [*b,*b]\n", 1, 4, "anchors, aliases"},
		"deep":            {strings.Repeat("[", 100_000), 1, 65, "nested too deeply"},
		"million lines":   {strings.Repeat("- x\n", 1_000_000), MaxFileMarks/2 + 1, 0, "250001 line ends"},
		"second document": {"dravin: 1\n---\ndravin: 1\n", 3, 7, "second YAML document"},
		"wrong enum": {"dravin: 1\nlinks:\n  - name: l\n    routing: magic\n    ends: []\n", 4, 14,
			"write one of static, selectors"},
		"too few": {"dravin: 1\nlinks:\n  - name: l\n    routing: static\n    ends: []\n", 5, 11,
			"at least 2 needed"},
		"mapped too short": {strings.Replace(string(demo.TwoGardens), "intents:", "mappings:\n  - name: m\n    gateway: "+
			"peatside-nursery/gateway\n    link: peatside-to-marrow-hill\n    real: 192.168.216.0/24\n    mapped: "+
			"10.223.0.0/25\nintents:", 1), 108, 13, "needs a /24"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Read([]byte(c.file))
			var problems Problems
			require.ErrorAs(t, err, &problems)
			n := slices.IndexFunc(problems, func(p Problem) bool { return strings.Contains(p.String(), c.says) })
			require.GreaterOrEqual(t, n, 0, err)
			p := problems[n]
			assert.Equal(t, [2]int{c.line, c.column}, [2]int{p.Line, p.Column}, p.String())
		})
	}
}

func TestManyProblemsAreAllToldUpToALimit(t *testing.T) {
	var b strings.Builder
	b.WriteString(head)
	for n := range 500 {
		fmt.Fprintf(&b, "      - name: x%d\n        prefixes: 10.220.0.1/24\n", n)
	}
	_, err := Read([]byte(b.String()))
	var problems Problems
	require.ErrorAs(t, err, &problems)
	assert.Len(t, problems, 100)
}

func TestApplyIsUndoneByItsInverse(t *testing.T) {
	start := thistledown(t)
	rapid.Check(t, func(t *rapid.T) {
		d := start
		var inverses [][]Edit
		for range rapid.IntRange(1, 6).Draw(t, "steps") {
			all := d.All()
			o := all[rapid.IntRange(0, len(all)-1).Draw(t, "object")]
			var edits []Edit
			switch rapid.IntRange(0, 2).Draw(t, "what") {
			case 0:
				renamed := *o
				renamed.Name = rapid.StringMatching(`[a-z]{3,12}`).Draw(t, "name")
				edits = []Edit{PutEdit(&renamed)}
			case 1:
				edits = []Edit{{Op: Remove, ID: o.ID}}
			default:
				id := ID(rapid.StringMatching(`[a-z]{8}`).Draw(t, "id"))
				edits = []Edit{PutEdit(&Object{ID: id, Kind: KindSite, Name: string(id), Body: &Site{}})}
			}
			next, inverse, err := d.Apply(edits)
			if err != nil {
				continue // refused, and nothing has changed
			}
			d, inverses = next, append(inverses, inverse)
		}
		for n := len(inverses) - 1; n >= 0; n-- {
			next, _, err := d.Replay(inverses[n])
			require.NoError(t, err)
			d = next
		}
		assert.Equal(t, write(t, start), write(t, d))
	})
}

func TestRemovingWhatIsUsedSaysWhoUsesIt(t *testing.T) {
	d := thistledown(t)
	gateway := d.Find("peatside-nursery/gateway", KindGateway)[0]
	_, _, err := d.Apply([]Edit{{Op: Remove, ID: gateway.ID}})
	assert.ErrorContains(
		t, err, "link peatside-to-marrow-hill: ends[0].gateway: still uses gateway peatside-nursery/gateway",
	)
}

func TestRenamingRenamesReferences(t *testing.T) {
	d := thistledown(t)
	site := *d.Find("peatside-nursery", KindSite)[0]
	site.Name = "Peatside Gardens"
	next, _, err := d.Apply([]Edit{PutEdit(&site)})
	require.NoError(t, err)
	assert.Contains(t, write(t, next), "peatside-gardens/glasshouse/controller")
	assert.NotContains(t, write(t, next), "peatside-nursery")
}

func TestBodiesFromJSONNameTheField(t *testing.T) {
	for body, says := range map[string]string{
		`{"prefixes":["10.220.0.1/8"]}`:              "prefixes[0]: \"10.220.0.1/8\" has host bits set",
		`{"prefixes":["10.0.0.0/8"],"colour":"red"}`: "colour: is not known here",
		`{"prefixes":{}}`:                            "prefixes: is a mapping",
		`{"prefixes":[]}`:                            "at least 1 needed",
		`[`:                                          "is not JSON",
		strings.Repeat("[", 1000):                    "nested too deeply",
	} {
		_, err := DecodeBody(KindLAN, []byte(body))
		assert.ErrorContains(t, err, says)
	}
}

func TestObjectsSurviveJSON(t *testing.T) {
	for _, o := range thistledown(t).All() {
		text, err := json.Marshal(o)
		require.NoError(t, err)
		var back Object
		require.NoError(t, json.Unmarshal(text, &back))
		assert.Equal(t, o, &back)
	}
}

func TestCheckedInSchemaIsCurrent(t *testing.T) {
	want, err := Schema()
	require.NoError(t, err)
	have, err := os.ReadFile("../../schema/design.schema.json")
	require.NoError(t, err)
	assert.True(t, string(want)+"\n" == string(have), "run make generate")
}

func FuzzRead(f *testing.F) {
	f.Add(demo.TwoGardens)
	f.Add([]byte(head + "      - name: x\n        prefixes: 10.220.0.1/24\n"))
	f.Add([]byte("dravin: 1\nsites: {a: [*b]}\n"))
	f.Fuzz(func(t *testing.T, file []byte) {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		d, err := Read(file)
		runtime.ReadMemStats(&after)
		require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(32<<20+5000*len(file)))
		if err != nil {
			var problems Problems
			require.ErrorAs(t, err, &problems)
			require.NotEmpty(t, problems)
			for _, p := range problems {
				assert.Positive(t, p.Line, p.String())
			}
			return
		}
		once := write(t, d)
		again, err := Read([]byte(once))
		require.NoError(t, err, once)
		assert.Equal(t, once, write(t, again))
	})
}
