package finding_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/demo"
)

func read(t *testing.T, file string) *design.Design {
	d, err := design.Read([]byte(file))
	require.NoError(t, err)
	return d
}

func of(d *design.Design, code string) []finding.Finding {
	var out []finding.Finding
	for _, f := range snapshot.Of(d, status.Condition{}).Findings.All() {
		if f.Code == code {
			out = append(out, f)
		}
	}
	return out
}

// Each case breaks the two gardens in one way.
func TestEachFindingIsMadeAndEndedByItsFix(t *testing.T) {
	garden := string(demo.TwoGardens)
	for name, c := range map[string]struct {
		old, with string
		code      string
		severity  finding.Severity
		says      string
		fixed     bool // there is a fix that ends it
	}{
		"overlap": {"", "", "overlap", finding.Broken, "is the same range as Marrow Hill museum " +
			"store", true},
		"an intent that does not work": {"", "", "intent", finding.Broken, "holds that range itself", true},
		"an intent that must not work": {"service: tcp/6514\n", "service: tcp/6514\n  - name: peeping\n    from: " +
			"marrow-hill/data-room\n    to: catalogue/shelf-a/logger\n    service: tcp/6514\n    never: true\n",
			"intent", finding.Broken, `"peeping" must never work, and it is delivered`, false},
		"an intent that can not be walked": {"service: tcp/6514\n", "service: tcp/6514\n  - name: six\n    from: " +
			"marrow-hill/data-room\n    to: catalogue/shelf-b/six\n    service: icmp\n",
			"intent", finding.Broken, "has no IPv6 address", false},
		"selectors that differ": {"        remote: 10.214.0.0/22\n", "        remote: [10.214.0.0/22, 10.208.0.0/16]\n",
			"selectors-differ", finding.Risk, "do not mirror each other", true},
		"one of the tables not edited": {"      - name: table b\n        routes:\n          - prefix: " +
			"10.214.0.0/22\n   " +
			"         via: catalogue/cloud-gateway\n", "      - name: table b\n        routes:\n",
			"table-lacks-route", finding.Risk, "catalogue table b lacks 1 of the routes", true},
		"a link without tunnels": {"    tunnels:\n      - name: tunnel 1\n        outside: [203.0.113.20, " +
			"198.51.100.10]\n", "", "link-down", finding.Risk, "has no tunnel and carries nothing", false},
		"a reserved range": {"prefixes: 10.214.0.0/22", "prefixes: [10.214.0.0/22, " +
			"224.0.1.0/24]", "reserved-range", finding.Risk, "sets aside for multicast", false},
		"a documentation range": {"prefixes: 10.214.0.0/22", "prefixes: [10.214.0.0/22, " +
			"\"2001:db8::/64\"]", "reserved-range", finding.Untidy, "sets aside for documentation", false},
		"an inside address taken": {"prefixes: 10.214.0.0/22", "prefixes: [10.214.0.0/22, " +
			"169.254.140.0/28]", "inside-address-taken", finding.Risk, "lies in Marrow Hill data room " +
			"169.254.140.0/28", false},
	} {
		t.Run(name, func(t *testing.T) {
			file := garden
			if name == "an intent that can not be walked" {
				file = strings.Replace(
					file,
					"        prefixes: 10.208.2.0/24\n        table: catalogue/table-b\n",
					"        prefixes: [10.208.2.0/24, \"2001:db8:61::/64\"]\n        table: catalogue/table-b\n  "+
						"      "+
						"endpoints: [{name: six, addresses: \"2001:db8:61::9\"}]\n",
					1,
				)
				file = strings.Replace(
					file, "blocks: 10.208.0.0/16", "blocks: [10.208.0.0/16, \"2001:db8:61::/56\"]", 1,
				)
			}
			require.True(t, c.old == "" || strings.Contains(file, c.old))
			if c.old != "" {
				file = strings.Replace(file, c.old, c.with, 1)
			}
			d := read(t, file)
			var found *finding.Finding
			for _, f := range of(d, c.code) {
				if strings.Contains(f.Sentence, c.says) {
					found = &f
					break
				}
			}
			require.NotNil(t, found, "%v", snapshot.Of(d, status.Condition{}).Findings.All())
			assert.Equal(t, c.severity, found.Severity)
			assert.NotEmpty(t, found.Subjects)
			for _, id := range found.Subjects {
				assert.NotNil(t, d.Get(id), "subjects exist")
			}
			if !c.fixed {
				return
			}
			fixes, err := snapshot.Of(d, status.Condition{}).Findings.Fixes(t.Context(), found.Key)
			require.NoError(t, err)
			require.NotEmpty(t, fixes)
			next, _, err := d.Apply(fixes[0].Edits)
			require.NoError(t, err)
			for _, f := range of(next, c.code) {
				assert.True(
					t, f.Severity == finding.Settled || f.Sentence != found.Sentence, "fixed by %s", fixes[0].Title,
				)
			}
		})
	}
}

func TestWorstComesFirst(t *testing.T) {
	rank := map[finding.Severity]int{finding.Broken: 0, finding.Risk: 1, finding.Untidy: 2, finding.Settled: 3}
	all := snapshot.Of(read(t, string(demo.Thistledown)), status.Condition{}).Findings.All()
	require.Greater(t, len(all), 6)
	for n := 1; n < len(all); n++ {
		assert.LessOrEqual(t, rank[all[n-1].Severity], rank[all[n].Severity])
	}
	assert.Contains(
		t, all[0].Sentence,
		"Peatside Nursery glasshouse 192.168.216.0/24 is the same range as Marrow Hill museum store",
		"the pair that could meet is spoken of, not the third",
	)
}

func TestTheDemoHasWhatItPromises(t *testing.T) {
	d := read(t, string(demo.Thistledown))
	for _, path := range []string{"marrow-hill", "saltmarsh-station", "old-orangery", "peatside-nursery",
		"dunmoss-arboretum", "rowan-hut", "catalogue",
		"sequencing", "image-analysis", "ticketing", "public-site", "ashcombe-herbarium", "fenwick-seed-library"} {
		assert.Len(t, d.Find(path, design.Parties...), 1, path)
	}
	assert.Len(t, d.Of(design.KindSegment), 5)
	clouds := map[string]bool{}
	for _, n := range d.Of(design.KindNetwork) {
		clouds[n.Body.(*design.Network).Cloud] = true
	}
	assert.Len(t, clouds, 3)
}
