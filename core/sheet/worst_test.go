package sheet_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"dravin/core/sheet"
)

// worst are texts of the largest size that cost a reader the square of it, or more, when they were found.
func worst() map[string]string {
	const most = 1 << 20
	many := func(part string) string { return strings.Repeat(part, most/len(part)) }
	var doubled, neighbours strings.Builder
	for n := range 4000 {
		fmt.Fprintf(&doubled, "conn c%d\n  also=c%d\n  also=c%d\n  left=203.0.113.20\n", n, n+1, n+2)
	}
	neighbours.WriteString("router bgp 64501\n")
	for n := 0; neighbours.Len() < most-64; n++ {
		fmt.Fprintf(&neighbours, " neighbor 10.%d.%d.%d remote-as 64502\n", 208+n>>16&7, n>>8&255, n&255)
	}
	return map[string]string{
		"headers that never open":    many("protocol bgp a "),
		"braces that never close":    many("protocol bgp a {\n local as 64501;\n"),
		"sections within each other": many("a {\n"),
		"one that opens at the end":  strings.TrimSuffix(many("protocol bgp "), " ") + "{",
		"sections taken along twice": doubled.String(),
		"one section of many lines":  "conn a\n" + strings.Repeat("  also=a\n", most/9-2),
		"many sessions":              many("protocol bgp a { local 169.254.128.1 as 64501; }\n"),
		"many neighbours":            neighbours.String(),
		"an empty remote-as":         "router bgp 64501\n neighbor 169.254.128.1 remote-as \n",
		"nothing but brackets":       many("["),
	}
}

// Whatever a far end sends is read in a time that grows as the text does: one that took its square would not end here.
func TestWorstTextsAreReadInTime(t *testing.T) {
	for name, text := range worst() {
		sent, err := sheet.ReadSent(text, netip.MustParseAddr("203.0.113.20"), netip.MustParseAddr("198.51.100.10"), "")
		assert.LessOrEqual(t, len(sent.Choices), 1000, name)
		_ = err // whether it is understood is no matter here
	}
}
