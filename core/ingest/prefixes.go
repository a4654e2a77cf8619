package ingest

import (
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
)

// Prefixes is a list of who holds what, kept small: parties are numbers.
type Prefixes struct {
	Names    []string // of parties, by number
	Parties  []uint32 // by line
	Prefixes []netip.Prefix
}

// maxProblems bounds how many bad lines are told.
const maxProblems = 20

// ReadPrefixes reads delimited text whose first line names the columns, with at
// least party and prefix among them. All lines must be good; up to twenty that
// are not are told together.
func ReadPrefixes(r io.Reader) (*Prefixes, error) {
	c, err := csvReader(r)
	if err != nil {
		return nil, err
	}
	head, err := c.Read()
	if err != nil {
		return nil, lineError(err)
	}
	columns := Guess(head)
	party, column := slices.Index(columns, ColumnParty), slices.Index(columns, ColumnPrefix)
	if party < 0 || column < 0 {
		return nil, &Error{
			Line: 1, Why: fmt.Sprintf("the columns are %s", strings.Join(head, ", ")),
			Want: "the first line must name at least party and prefix",
		}
	}
	out := &Prefixes{}
	number := map[string]uint32{}
	var problems []error
	for {
		record, err := c.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, lineError(err)
		}
		if err := out.add(record, party, column, number); err != nil {
			err.Line, _ = c.FieldPos(0)
			if err.Column > 0 {
				_, err.Column = c.FieldPos(err.Column - 1)
			}
			if problems = append(problems, err); len(problems) == maxProblems {
				break
			}
		}
		if len(out.Prefixes) > prefix.MaxPrefixes {
			return nil, &Error{
				Why: fmt.Sprintf("there are more than %d prefixes", prefix.MaxPrefixes), Want: "split the file",
			}
		}
	}
	if len(problems) > 0 {
		return nil, errors.Join(problems...)
	}
	out.once()
	return out, nil
}

// once keeps one of the lines that say the same.
func (l *Prefixes) once() {
	repeated := prefix.Repeated(l.Prefixes, l.Parties)
	if repeated == nil {
		return
	}
	kept := 0
	for n, again := range repeated {
		if !again {
			l.Prefixes[kept], l.Parties[kept] = l.Prefixes[n], l.Parties[n]
			kept++
		}
	}
	l.Prefixes, l.Parties = l.Prefixes[:kept], l.Parties[:kept]
}

func (l *Prefixes) add(record []string, party, column int, number map[string]uint32) *Error {
	if len(record) <= max(party, column) {
		return &Error{
			Why:  fmt.Sprintf("has %d fields", len(record)),
			Want: fmt.Sprintf("at least %d are needed", max(party, column)+1),
		}
	}
	p, err := prefix.Parse(record[column])
	if err != nil {
		var e *prefix.Error
		if errors.As(err, &e) {
			return &Error{Column: column + 1, Why: e.Says(), Want: e.Want}
		}
	}
	name := strings.TrimSpace(record[party])
	if name == "" {
		return &Error{Column: party + 1, Why: "the party is empty", Want: "say who holds the prefix"}
	}
	n, known := number[name]
	if !known && !design.IsLine(name) {
		return &Error{
			Column: party + 1, Why: "the party holds a control character",
			Want: "use letters, digits, spaces and marks",
		}
	}
	if !known {
		n = uint32(len(l.Names))
		name = strings.Clone(name)
		number[name] = n
		l.Names = append(l.Names, name)
	}
	if len(l.Prefixes) == cap(l.Prefixes) { // doubling copies less often than append would
		l.Prefixes, l.Parties = slices.Grow(l.Prefixes, len(l.Prefixes)+1024),
			slices.Grow(l.Parties, len(l.Prefixes)+1024)
	}
	l.Parties = append(l.Parties, n)
	l.Prefixes = append(l.Prefixes, p)
	return nil
}

// Holds lists the prefixes of some parties by name, or of all for none. An
// unknown name is an error that says which.
func (l *Prefixes) Holds(names []string) ([]netip.Prefix, error) {
	if len(names) == 0 {
		return l.Prefixes, nil
	}
	wanted := map[uint32]bool{}
	for _, name := range names {
		n := slices.Index(l.Names, name)
		if n < 0 {
			return nil, fmt.Errorf(
				"no party is called %q; the first are %s", name, strings.Join(l.Names[:min(5, len(l.Names))], ", "),
			)
		}
		wanted[uint32(n)] = true
	}
	var out []netip.Prefix
	for n, p := range l.Prefixes {
		if wanted[l.Parties[n]] {
			out = append(out, p)
		}
	}
	return out, nil
}
