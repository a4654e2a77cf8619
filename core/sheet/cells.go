package sheet

import (
	"fmt"
	"strings"

	"dravin/core/design"
)

// cells are the parameters that a line's cells set: at the end that the line is
// about, and at the other. The names are those of [sentKeys], which says how each
// is read and set.
var cells = map[string][2]string{
	"address": {
		"address",
		"peer",
	}, "identity": {"identity", "peer-identity"}, "selectors": {"local", "remote"}, "inside": {"inside", ""},
	"asn": {"asn", "peer-asn"},
	"version": {
		"version",
		"version",
	}, "ike": {"ike", "ike"}, "esp": {"esp", "esp"}, "ike-life": {"ike-life", "ike-life"}, "child-life": {"child-life",
		"child-life"},
	"dpd": {
		"dpd",
		"dpd",
	}, "mtu": {"mtu", "mtu"}, "bgp-hold": {"hold", "hold"}, "bgp-max": {"max-prefixes", "max-prefixes"},
}

// parameter is what the cell of a line sets at one end; empty if it can not be
// set there.
func parameter(line string, end int) string {
	if base, ok := strings.CutSuffix(line, "-1"); ok {
		return cells[base][end]
	}
	if base, ok := strings.CutSuffix(line, "-2"); ok {
		return cells[base][1-end]
	}
	return cells[line][0]
}

// settable marks which cells of lines can be set.
func settable(lines []Line) []Line {
	for n := range lines {
		for end := range 2 {
			lines[n].Cells[end] = parameter(lines[n].Key, end) != ""
		}
	}
	return lines
}

// SetCell is the change that sets one cell of a tunnel's sheet: a line, by its
// key, at one end.
func SetCell(d *design.Design, tunnel *design.Object, end int, line, value string) ([]design.Edit, error) {
	key := parameter(line, end)
	if key == "" {
		return nil, fmt.Errorf("%q can not be set at that end; it follows from something else", line)
	}
	s := Sent{}
	s.set(key, value, 0)
	if len(s.Problems) > 0 {
		return nil, s.Problems
	}
	return Record(d, tunnel, end, s)
}
