package design

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Problem says what is wrong with a design, a design file or an edit, where,
// and what would be right.
type Problem struct {
	Object  ID     `json:"object,omitempty"`  // empty if the problem is not one object's
	Subject string `json:"subject,omitempty"` // the object in words, such as "lan marrow-hill/data-room"
	Field   string `json:"field,omitempty"`   // path inside the object, such as prefixes[0]
	Line    int    `json:"line,omitempty"`    // from 1; 0 if not from a file
	Column  int    `json:"column,omitempty"`  // from 1, in characters; 0: the whole line
	Why     string `json:"why"`
	Want    string `json:"want,omitempty"`

	missing ID // the object that is referred to and not there
}

func (p Problem) String() string {
	var b strings.Builder
	if p.Line > 0 {
		fmt.Fprintf(&b, "line %d", p.Line)
		if p.Column > 0 {
			fmt.Fprintf(&b, ", column %d", p.Column)
		}
		b.WriteString(": ")
	}
	for _, part := range []string{p.Subject, p.Field} {
		if part != "" {
			b.WriteString(part + ": ")
		}
	}
	b.WriteString(p.Why)
	if p.Want != "" {
		b.WriteString("; " + p.Want)
	}
	return b.String()
}

// maxProblems bounds what is reported at once: nobody reads more, and a file
// that is wrong in every line must not cost memory without end.
const maxProblems = 100

// Problems is an error made of one or more problems.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, 0, len(ps))
	for _, p := range ps {
		lines = append(lines, p.String())
	}
	return strings.Join(lines, "\n")
}

// mostSaid bounds each part of a problem, in characters: what was sent is not sent back.
const mostSaid = 400

func (p Problem) bounded() Problem {
	for _, part := range []*string{&p.Subject, &p.Field, &p.Why, &p.Want} {
		if len(*part) > mostSaid {
			if r := []rune((*part)[:min(len(*part), 4*mostSaid)]); len(r) > mostSaid {
				*part = string(r[:mostSaid]) + "…"
			}
		}
	}
	return p
}

// sorted returns the problems in reading order, at most [maxProblems], each bounded.
func (ps Problems) sorted() Problems {
	slices.SortStableFunc(ps, func(a, b Problem) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	ps = ps[:min(len(ps), maxProblems)]
	for n, p := range ps {
		ps[n] = p.bounded()
	}
	return ps
}
