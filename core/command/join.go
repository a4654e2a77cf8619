package command

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/plan"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
)

var joinable = []design.Kind{design.KindSite, design.KindNetwork, design.KindHub, design.KindEdgeRouter}

// join is: join A and B by SHAPE, or a star: join HEAD with A, B, C by SHAPE.
// Without a shape it leads to the shapes.
func (r *reader) join() {
	var parties []design.ID
	for !r.failed() {
		parties = append(parties, r.parties()...)
		if r.takeWord(",") || r.takeWord("and") || r.takeWord("with") || r.takeWord("to") {
			continue
		}
		break
	}
	if r.failed() {
		return
	}
	if len(parties) < 2 {
		r.wrongHere("the far end is missing", "write: and, and the name of a "+kindWords(joinable))
		return
	}
	head, branches := parties[0], slices.DeleteFunc(parties[1:], func(id design.ID) bool { return id == parties[0] })
	if len(branches) == 0 {
		r.wrongHere(r.design.Title(head)+" can not be joined to itself", "name another party")
		return
	}
	r.joinBy(head, branches)
}

// parties reads a party, or all whose names fit a pattern with *.
func (r *reader) parties() []design.ID {
	if r.next < len(r.toks) && strings.Contains(r.toks[r.next].text, "*") {
		var said []string
		start := r.next
		for r.next < len(r.toks) && !r.toks[r.next].mark() && !r.toks[r.next].is("by") && !r.toks[r.next].is("and") {
			said = append(said, r.toks[r.next].text)
			r.next++
		}
		parts := strings.Split(strings.Join(said, " "), "*")
		for n := range parts {
			parts[n] = design.Slug(parts[n])
		}
		var out []design.ID
		for _, o := range r.design.Inside("", joinable...) {
			// A slug has no character that means anything in a pattern.
			if fits, _ := path.Match(strings.Join(parts, "*"), design.Slug(o.Name)); fits {
				out = append(out, o.ID)
			}
		}
		if len(out) == 0 {
			from, to := r.span(start, r.next)
			r.wrong(from, to, "nothing has such a name", "* stands for any letters, as in *hut")
		}
		return out
	}
	o, ok := r.thing(joinable, "")
	if !ok {
		return nil
	}
	return []design.ID{o.ID}
}

func (r *reader) titles(ids []design.ID) string {
	var out []string
	for _, id := range ids[:min(len(ids), 4)] {
		out = append(out, r.design.Title(id))
	}
	if n := len(ids) - len(out); n > 0 {
		out = append(out, fmt.Sprintf("%d more", n))
	}
	return strings.Join(out, ", ")
}

// joinBy joins by the shape that is said, and translates what collides if that is said, too. Without
// either, or where what collides leaves nothing to join, it leads to the options.
func (r *reader) joinBy(head design.ID, branches []design.ID) {
	start := r.next
	by, ok := r.way(head, branches[0])
	if !ok {
		return
	}
	_ = r.takeWord(",") || r.takeWord("and")
	translated := r.takeWord("translated")
	from, to := r.span(start, r.next)
	if by == "" && !translated {
		r.compare(head, branches)
		return
	}
	if !r.affords(len(branches)) {
		return
	}
	q := plan.Question{
		Parties: append([]design.ID{head}, branches...), Star: true, Everything: true, Untouched: !translated,
	}
	if by != "" {
		q.By = []string{by}
	}
	p, err := plan.For(r.ctx, r.proofs(), q, nil)
	if err != nil {
		r.wrong(from, to, err.Error(), "")
		return
	}
	n := slices.IndexFunc(p.Options, func(o plan.Option) bool { return o.Shape != "" || o.Refused == "" })
	switch {
	case n < 0 && slices.ContainsFunc(p.Excluded, draft.Collides) && !translated:
		r.compare(head, branches)
		r.current.Notes = append(r.current.Notes, p.Excluded...)
		return
	case n < 0:
		r.wrong(from, to, "none of them can be joined by it", strings.Join(p.Excluded, "; "))
		return
	case translated && p.Options[n].Refused != "":
		r.wrong(from, to, "nothing that could be made works", p.Options[n].Refused)
		return
	}
	r.joined(head, branches, p.Options[n])
}

// joined does what an option is, and tells what it fills in and leaves out.
func (r *reader) joined(head design.ID, branches []design.ID, o plan.Option) {
	r.current.Notes = append(r.current.Notes, o.Left...)
	for _, stays := range o.Stays {
		r.current.Notes = append(r.current.Notes, "does not work yet: "+stays)
	}
	for _, m := range o.Maps {
		r.fill("mapped range of "+m.Title, m.Mapped.String(), fmt.Sprintf("%s collides, and is known as that", m.Real))
	}
	for _, s := range o.Suggestions {
		r.fill(s.What, s.Value, s.Why)
	}
	if len(o.Edits) == 0 {
		r.current.Does = append(r.current.Does, Deed{
			Text: fmt.Sprintf("%s and %s talk already", r.design.Title(head), r.titles(branches)),
		})
		return
	}
	r.do(fmt.Sprintf("Join %s with %s: %s", r.design.Title(head), r.titles(branches), o.Way), nil, true, o.Edits...)
	if len(o.Joints) > 0 {
		r.it = o.Joints[0].ID
	}
}

// compare leads to the options for joining.
func (r *reader) compare(head design.ID, branches []design.ID) {
	r.leads = &Lead{A: head, B: branches}
	r.current.Does = append(
		r.current.Does,
		Deed{Text: fmt.Sprintf("Compare the ways to join %s with %s", r.design.Title(head), r.titles(branches))},
	)
}

// way reads "by" and how: what the key of a shape begins with; empty if nothing was said of it.
func (r *reader) way(a, b design.ID) (key string, ok bool) {
	if !r.takeWord("by") {
		return "", true
	}
	shapes, err := draft.Shapes(r.books(), draft.Options{A: a, B: b, Translated: true})
	if err != nil {
		r.wrongHere(err.Error(), "")
		return "", false
	}
	for _, s := range shapes {
		if len(s.Out) == 0 { // what would be refused is not offered
			r.offer(s.Key, s.Title)
		}
	}
	start := r.next
	for r.takeWord("a") || r.takeWord("an") || r.takeWord("the") {
	}
	var said []string
	for r.next < len(r.toks) && !r.toks[r.next].mark() && !r.toks[r.next].is(
		"translated",
	) && !r.toks[r.next].is("and") {
		said = append(said, r.toks[r.next].text)
		r.next++
	}
	want := design.Slug(strings.Join(said, " "))
	for _, usable := range []bool{true, false} {
		for _, s := range shapes {
			if (len(s.Out) == 0) == usable && called(s, want) {
				if strings.HasPrefix(s.Key, want) {
					return want, true // each by the first of its own that begins so
				}
				return s.Key, true
			}
		}
	}
	from, to := r.span(start, r.next)
	var keys []string
	for _, s := range shapes {
		if len(s.Out) == 0 {
			keys = append(keys, s.Key)
		}
	}
	if len(keys) == 0 {
		r.wrong(from, to, "they can not be joined: "+shapes[0].Out[0], "")
		return "", false
	}
	r.wrong(from, to, "no way of joining them is called that", "there is "+strings.Join(keys, ", "))
	return "", false
}

// called reports whether a shape is called so, by its key or its title.
func called(s draft.Shape, want string) bool {
	title := design.Slug(s.Title)
	return want != "" && (strings.HasPrefix(s.Key, want) || strings.HasPrefix(title, want) ||
		strings.HasPrefix(strings.TrimPrefix(title, "by-"), want) ||
		strings.HasPrefix(strings.TrimPrefix(strings.TrimPrefix(title, "by-"), "a-"), want))
}

// proofs are those of the design as the lines so far have left it.
func (r *reader) proofs() *proof.Proofs {
	d := r.sound().Sketch(nil) // as it is now: what is read goes on changing it
	if r.solved == nil {
		r.solved = proof.Of(route.Solve(d, status.Condition{}))
		return r.solved
	}
	was := r.solved.Tables().Design
	edits := was.EditsTo(d)
	if len(edits) == 0 {
		return r.solved
	}
	changes := was.ChangedBy(edits, d)
	t := r.solved.Tables().After(d, changes)
	r.solved = r.solved.After(t, t.Changes())
	return r.solved
}
