package overlap_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/overlap"
	"dravin/demo"
)

func read(t *testing.T, file string) *design.Design {
	d, err := design.Read([]byte(file))
	require.NoError(t, err)
	return d
}

func weights(d *design.Design) map[string]overlap.Weight {
	out := map[string]overlap.Weight{}
	for _, g := range overlap.Find(d) {
		out[g.Span.String()] = g.Weight
	}
	return out
}

func TestTheDemosGroups(t *testing.T) {
	groups := overlap.Find(read(t, string(demo.Thistledown)))
	var spans []string
	for _, g := range groups {
		spans = append(spans, fmt.Sprint(g.Weight, " ", g.Span, " ", g.Parties))
	}
	assert.Equal(
		t,
		[]string{
			"breaks 192.168.216.0/24 3", "joined 10.214.8.0/22 2", "apart 192.168.211.0/24 10", "apart 10.216.0.0/16 3",
			"divided 10.219.0.0/16 2",
		},
		spans,
	)
	assert.True(t, groups[0].Fixed)
	assert.Len(t, groups[0].Intents, 3)
}

// Two linked sites with one range each, varied.
func TestWhatDecidesAGroupsWeight(t *testing.T) {
	const base = `dravin: 1
segments: [{name: science}, {name: visitors}]
sites:
  - name: A
    gateways: [{name: g, addresses: 198.51.100.1}]
    lans: [{name: l, prefixes: 10.220.0.0/16, SEGA}]
  - name: B
    gateways: [{name: g, addresses: 198.51.100.2}]
    lans: [{name: l, prefixes: 10.220.1.0/24, SEGB}]
reservations: [RESERVED]
links: [LINK]
mappings: [MAPPED]
`
	const link = "{name: ab, routing: static, ends: [{gateway: a/g}, {gateway: b/g}], tunnels: [{name: s, outside: " +
		"[198.51.100.1, 198.51.100.2]}]}"
	const mapped = "{name: m, gateway: b/g, link: ab, real: 10.220.1.0/24, mapped: 10.210.0.0/24}"
	for name, c := range map[string]struct {
		a, b, reserved, link, mapped string
		want                         overlap.Weight
	}{
		"linked":                        {link: link, want: overlap.Joined},
		"not linked":                    {want: overlap.Apart},
		"linked, one segment":           {a: "science", b: "science", link: link, want: overlap.Joined},
		"linked, one without a segment": {a: "science", link: link, want: overlap.Joined},
		"linked, two segments":          {a: "science", b: "visitors", link: link, want: overlap.Divided},
		"not linked, two segments":      {a: "science", b: "visitors", want: overlap.Divided},
		"linked and mapped":             {link: link, mapped: mapped, want: overlap.Answered},
		"kept free of everybody": {a: "science", b: "visitors", reserved: "{name: r, prefix: " +
			"10.220.0.0/24}", want: overlap.Joined},
		"a box's own range": {a: "science", b: "science", reserved: "{name: r, prefix: 10.220.1.0/28, use: " +
			"device, party: b}", want: overlap.Apart},
	} {
		t.Run(name, func(t *testing.T) {
			segment := func(s string) string {
				if s == "" {
					return "note: none"
				}
				return "segment: " + s
			}
			file := strings.NewReplacer(
				"SEGA", segment(c.a), "SEGB", segment(c.b), "RESERVED", c.reserved, "LINK", c.link, "MAPPED", c.mapped,
			).Replace(base)
			assert.Equal(t, c.want, weights(read(t, file))["10.220.0.0/16"])
		})
	}
}

func TestOnePartyAloneIsAGroupOfItsOwnKind(t *testing.T) {
	d := read(
		t,
		"dravin: 1\nsites:\n  - name: A\n    lans:\n      - {name: x, prefixes: 10.220.0.0/24}\n      - {name: y, "+
			"prefixes: 10.220.0.128/25}\n",
	)
	groups := overlap.Find(d)
	require.Len(t, groups, 1)
	assert.Equal(t, overlap.Within, groups[0].Weight)
	assert.Equal(t, "A y 10.220.0.128/25 lies inside A x 10.220.0.0/24", groups[0].Sentence)
	pairs := 0
	for range overlap.Pairs(overlap.Claims(d), false) {
		pairs++
	}
	assert.Zero(t, pairs)
	for p := range overlap.Pairs(overlap.Claims(d), true) {
		pairs++
		assert.Equal(t, "10.220.0.128/25", p.Shared.String())
	}
	assert.Equal(t, 1, pairs)
}

// Two thousand branches with one range are one group and two million pairs; to
// find and weigh it must not take the time of the pairs.
func TestManyBranchesWithOneRangeAreOneGroup(t *testing.T) {
	var b strings.Builder
	b.WriteString("dravin: 1\nsites:\n")
	for n := range 2000 {
		fmt.Fprintf(&b, "  - {name: hut %d, lans: [{name: l, prefixes: 192.168.211.0/24}]}\n", n)
	}
	d := read(t, b.String())
	done := make(chan []overlap.Group, 1)
	go func() { done <- overlap.Find(d) }()
	select {
	case groups := <-done:
		require.Len(t, groups, 1)
		assert.Equal(t, 2000, groups[0].Parties)
		assert.Contains(t, groups[0].Sentence, "1998 more ranges are in the same group")
	case <-time.After(time.Minute):
		t.Fatal("this takes as long as the pairs")
	}
	first := 0
	for range overlap.Pairs(overlap.Claims(d), false) {
		if first++; first == 10 {
			break // pairs are streamed: nobody waits for the other two million
		}
	}
	assert.Equal(t, 10, first)
}
