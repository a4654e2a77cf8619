package ingest

import (
	"encoding/csv"
	"errors"
	"slices"
	"strings"
)

// Column is what a column of a table means.
type Column string

// The columns that are understood. What is not is Ignored.
const (
	Ignored       Column = ""
	ColumnParty   Column = "party"
	ColumnKind    Column = "kind"
	ColumnName    Column = "name"
	ColumnPrefix  Column = "prefix"
	ColumnMask    Column = "mask"
	ColumnVLAN    Column = "vlan"
	ColumnRouter  Column = "gateway"
	ColumnAddress Column = "address"
	ColumnOwner   Column = "owner"
	ColumnSegment Column = "segment"
	ColumnCloud   Column = "cloud"
	ColumnRegion  Column = "region"
	ColumnZone    Column = "zone"
	ColumnASN     Column = "asn"
	ColumnAnswers Column = "answers"
	ColumnVia     Column = "via"
	ColumnFixed   Column = "fixed"
	ColumnNote    Column = "note"
)

// spoken are other words for the columns, as people head their spreadsheets.
var spoken = map[Column][]string{
	ColumnParty: {"party", "site", "location", "office", "garden", "branch", "building", "customer", "tenant"},
	ColumnKind:  {"kind", "type", "what"},
	ColumnName: {
		"name", "lan", "network name", "subnet name", "vlan name", "label", "hostname", "host", "host name", "device",
		"server",
	},
	ColumnPrefix: {
		"prefix", "range", "cidr", "network", "subnet", "block", "lan range", "address range", "ip range", "ip network",
		"ip subnet", "subnet/mask", "lan subnet",
	},
	ColumnMask: {
		"mask", "netmask", "subnet mask", "net mask", "network mask", "prefix length", "length", "wildcard", "wildcard mask",
		"mask length", "bits",
	},
	ColumnVLAN:    {"vlan", "vlan id", "vlan tag", "vid", "802 1q"},
	ColumnRouter:  {"gateway", "default gateway", "gw", "default gw", "gateway address"},
	ColumnAddress: {"address", "ip", "ip address", "addresses", "public address", "ipv4", "host address"},
	ColumnOwner:   {"owner", "contact", "responsible", "team"},
	ColumnSegment: {"segment", "vrf", "routing domain", "security zone"},
	ColumnCloud:   {"cloud", "provider"},
	ColumnRegion:  {"region"},
	ColumnZone:    {"zone", "availability zone"},
	ColumnASN:     {"asn", "as", "as number"},
	ColumnAnswers: {"answers", "ports", "services", "port", "service", "listens on"},
	ColumnVia:     {"via", "next hop", "inner router", "router"},
	ColumnFixed:   {"fixed", "static", "can not change"},
	ColumnNote:    {"note", "notes", "comment", "comments", "description", "remarks"},
}

// Columns lists all that are understood.
func Columns() []Column {
	return []Column{
		ColumnParty,
		ColumnKind,
		ColumnName,
		ColumnPrefix,
		ColumnMask,
		ColumnVLAN,
		ColumnRouter,
		ColumnAddress,
		ColumnOwner,
		ColumnSegment,
		ColumnCloud,
		ColumnRegion,
		ColumnZone,
		ColumnASN,
		ColumnAnswers,
		ColumnVia,
		ColumnFixed,
		ColumnNote,
	}
}

func columnOf(head string) Column {
	word := strings.Join(
		strings.FieldsFunc(
			strings.ToLower(head), func(r rune) bool { return r == ' ' || r == '_' || r == '-' || r == '.' },
		),
		" ",
	)
	for _, c := range Columns() {
		if slices.Contains(spoken[c], word) {
			return c
		}
	}
	return Ignored
}

// Guess says what the columns of a header mean, each meaning once: a column
// with the very name comes before one with another word for it.
func Guess(header []string) []Column {
	out := make([]Column, len(header))
	taken := map[Column]bool{}
	for _, exact := range []bool{true, false} {
		for n, h := range header {
			c := columnOf(h)
			if c == Ignored || taken[c] || exact && !strings.EqualFold(strings.TrimSpace(h), string(c)) {
				continue
			}
			out[n], taken[c] = c, true
		}
	}
	return out
}

// lineError gives an error of the CSV reader our form.
func lineError(err error) error {
	var own *Error
	if errors.As(err, &own) {
		return own
	}
	var e *csv.ParseError
	if errors.As(err, &e) {
		return &Error{Line: e.Line, Column: e.Column, Why: e.Err.Error(), Want: "check the quotes here"}
	}
	return err
}
