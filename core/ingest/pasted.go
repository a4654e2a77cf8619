package ingest

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net/netip"
	"strings"

	"dravin/core/prefix"
)

const maxTextLine = 1 << 20

// readPasted finds prefixes in plain text. What stands before the first one in
// a line is taken for the name, or, where it ends with a colon or stands alone
// in a line, for the party of what follows.
func readPasted(ctx context.Context, r io.Reader, o Options) (*Table, error) {
	f := filling{
		ctx: ctx,
		table: &Table{
			Format: "text with prefixes",
			Header: []string{string(ColumnParty), string(ColumnName), string(ColumnPrefix)},
		},
		options: o,
	}
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, maxTextLine)
	party, line := "", 0
	for lines.Scan() {
		line++
		text := strings.TrimSpace(strings.TrimPrefix(lines.Text(), "\ufeff"))
		before, prefixes := prefixesIn(text)
		if len(prefixes) == 0 {
			if name := strings.TrimSuffix(text, ":"); name != "" && len(name) <= 80 {
				party = name
			}
			continue
		}
		name := before
		if owner, rest, ok := strings.Cut(before, ":"); ok && strings.TrimSpace(owner) != "" {
			party, name = strings.TrimSpace(owner), strings.TrimSpace(rest)
		}
		for n, p := range prefixes {
			cells := []string{party, name, p}
			if n > 0 && name != "" {
				cells[1] = name + " " + p
			}
			if err := f.add(line, cells); err != nil {
				return nil, err
			}
		}
	}
	if err := lines.Err(); err != nil {
		var own *Error
		if errors.As(err, &own) {
			return nil, own
		}
		return nil, &Error{
			Line: line + 1, Why: "the line is too long to be text",
			Want: "give CSV, a spreadsheet, YAML, JSON or plain text",
		}
	}
	if len(f.table.Rows) == 0 {
		return nil, &Error{
			Why: "no prefix was found in it",
			Want: "give lines such as \"Marrow Hill: data room 10.214.0.0/22\", or a table whose first line names party " +
				"and prefix",
		}
	}
	return f.table, nil
}

// prefixesIn finds what looks like a prefix, and the text before the first.
func prefixesIn(text string) (before string, prefixes []string) {
	fields := strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" \t,;()<>\"'=", r) })
	var words []string
	for n := 0; n < len(fields); n++ {
		w := strings.Trim(fields[n], ".[]{}")
		found, more := rangeAt(w, fields[n+1:])
		if found != "" {
			prefixes = append(prefixes, found)
			n += more
		} else if len(prefixes) == 0 {
			words = append(words, w)
		}
	}
	return strings.Trim(strings.Join(words, " "), " -*"), prefixes
}

// rangeAt is the range that a word begins, as people write it, and how many of the words behind it are part
// of it; empty if none begins there.
func rangeAt(word string, behind []string) (found string, more int) {
	from, _, _ := strings.Cut(word, "-")
	from, _, cut := strings.Cut(from, "/")
	if _, err := netip.ParseAddr(from); err != nil && (!cut || strings.Count(from, ".") == 0) {
		return "", 0
	}
	if _, err := prefix.ReadLoose(word, ""); err == nil {
		return word, 0
	}
	for more = 1; more <= min(2, len(behind)); more++ { // a mask, or a dash and the last address
		found = strings.TrimRight(word+" "+strings.Join(behind[:more], " "), ".")
		if _, err := prefix.ReadLoose(found, ""); err == nil {
			return found, more
		}
	}
	return "", 0
}
