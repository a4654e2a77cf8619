package draft

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/provider"
)

// StarQuestion asks for links from one head to many branches.
type StarQuestion struct {
	Head     design.ID
	Branches []design.ID
	Shape    string // what the key of the shape begins with, for all; empty: the one that most can have
	GB       uint32 // what goes over each in a month
}

// Star is a head joined with all its branches, as one change.
type Star struct {
	Shape   string         `json:"shape"`
	Shapes  []StarShape    `json:"shapes"`  // the shapes to choose from, the one that most can have first
	Clashes []string       `json:"clashes"` // ranges of the head and its branches that collide
	Arms    []Arm          `json:"arms"`    // one for each branch
	Monthly provider.Money `json:"monthly"`
	Edits   []design.Edit  `json:"edits"`
}

// StarShape is a shape that some of the branches can have.
type StarShape struct {
	Key   string `json:"key"`
	Title string `json:"title"`
	Fits  int    `json:"fits"` // how many branches
}

// Arm is what was drafted for one branch.
type Arm struct {
	Branch      design.ID    `json:"branch"`
	Name        string       `json:"name"`
	Subject     design.ID    `json:"subject,omitempty"`
	Out         []string     `json:"out"` // why it was left out; empty if it was not
	Suggestions []Suggestion `json:"suggestions"`
}

// MaxBranches is how many branches a star may have.
const MaxBranches = 200

// DraftStar joins the head with every branch by one shape. What is free is told by the
// design's books, from which nothing is taken in the end.
func DraftStar(ctx context.Context, books *allocation.Books, q StarQuestion) (Star, error) {
	d := books.Design()
	s := Star{Shapes: []StarShape{}, Clashes: []string{}, Arms: []Arm{}, Edits: []design.Edit{}}
	if len(q.Branches) == 0 || len(q.Branches) > MaxBranches {
		return s, fmt.Errorf("a star has %d branches; choose from 1 to %d", len(q.Branches), MaxBranches)
	}
	s.Clashes = starClashes(d, append([]design.ID{q.Head}, q.Branches...))
	if err := s.choices(ctx, books, q); err != nil {
		return s, err
	}
	if s.Shape = q.Shape; s.Shape == "" && len(s.Shapes) > 0 {
		s.Shape = s.Shapes[0].Key
	}
	next := arms{books: books}
	for _, b := range q.Branches {
		if err := ctx.Err(); err != nil {
			return s, err
		}
		shapes, err := Shapes(next.books, Options{A: q.Head, B: b, GB: q.GB})
		if err != nil {
			return s, err
		}
		arm := Arm{
			Branch: b, Name: d.Title(b), Out: []string{"it can not be joined by that shape"},
			Suggestions: []Suggestion{},
		}
		fits := func(x Shape) bool { return strings.HasPrefix(x.Key, s.Shape) }
		n := slices.IndexFunc(shapes, func(x Shape) bool { return fits(x) && len(x.Out) == 0 })
		if n < 0 {
			n = slices.IndexFunc(shapes, fits) // to tell why not
		}
		if n >= 0 {
			x := shapes[n]
			arm.Out, arm.Subject, arm.Suggestions = x.Out, x.Subject, x.Suggestions
			next.sketch(x.Edits)
			s.Monthly += x.Monthly
		}
		s.Arms = append(s.Arms, arm)
	}
	s.Edits = append(s.Edits, d.EditsTo(next.books.Design())...)
	return s, nil
}

// arms is a design to which one arm is drafted after the other, with its books.
type arms struct {
	books   *allocation.Books
	scratch *design.Scratch // nil before the first
}

func (a *arms) sketch(edits []design.Edit) {
	if a.scratch == nil {
		a.scratch = a.books.Design().Scratch()
		a.books = allocation.NewBooks(a.scratch.Design())
	}
	a.books.Sketch(a.scratch, edits)
}

// choices lists the shapes by which any of the branches can be joined.
func (s *Star) choices(ctx context.Context, books *allocation.Books, q StarQuestion) error {
	for _, b := range q.Branches {
		if err := ctx.Err(); err != nil {
			return err
		}
		shapes, err := Shapes(books, Options{A: q.Head, B: b, GB: q.GB})
		if err != nil {
			return err
		}
		for _, x := range shapes {
			if len(x.Out) > 0 {
				continue
			}
			n := slices.IndexFunc(s.Shapes, func(y StarShape) bool { return y.Key == x.Key })
			if n < 0 {
				n = len(s.Shapes)
				s.Shapes = append(s.Shapes, StarShape{Key: x.Key, Title: x.Title})
			}
			s.Shapes[n].Fits++
		}
	}
	slices.SortStableFunc(s.Shapes, func(x, y StarShape) int { return y.Fits - x.Fits })
	return nil
}

// starClashes says which of the parties' ranges collide, each pair of parties once.
func starClashes(d *design.Design, parties []design.ID) []string {
	var ranges []netip.Prefix
	var whose []design.ID
	for _, id := range parties {
		if d.Get(id) == nil {
			continue
		}
		for _, p := range d.Exports(id) {
			ranges, whose = append(ranges, p), append(whose, id)
		}
	}
	out := []string{}
	seen := map[[2]design.ID]bool{}
	for a, b := range prefix.Pairs(ranges) {
		pair := [2]design.ID{whose[min(a, b)], whose[max(a, b)]}
		if pair[0] == pair[1] || seen[pair] {
			continue
		}
		seen[pair] = true
		out = append(
			out,
			fmt.Sprintf(
				"%s of %s overlaps %s of %s", ranges[min(a, b)], d.Title(pair[0]), ranges[max(a, b)], d.Title(pair[1]),
			),
		)
	}
	slices.Sort(out)
	return out
}
