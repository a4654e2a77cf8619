// Package command is a small language in which people make and change a design, a line
// at a time:
//
//	site Fern Lodge with lan offices 10.214.64.0/24, gateway 203.0.113.80 asn next
//	network seed store in Sedge 172.29.64.0/20, subnet racks /24
//	join Fern Lodge and Marrow Hill by vpn
//	Fern Lodge offices must reach catalogue shelf a logger on tcp/6514
//	move Fern Lodge offices into grounds
//
// One grammar serves understanding ([Understand]), completion ([Complete]) and
// writing back ([Saying]): what is said of a kind's fields follows from
// [design.Outline], so that everything in the model can be said.
package command

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"dravin/core/allocation"
	"dravin/core/defaults"
	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/words"
)

// What may be said at once.
const (
	MaxLines = 2000
	MaxLine  = 20_000 // characters

	// MaxDrafts is how many links and copies lines may ask for at once: each is
	// drafted in full whenever the lines are read.
	MaxDrafts = 500
)

// Understood is what was understood of some lines.
type Understood struct {
	Lines  []Line        `json:"lines"`
	Edits  []design.Edit `json:"edits" doc:"What applies all of it; empty while anything is wrong."`
	Reason string        `json:"reason" doc:"What for, in the words of the history."`
	Leads  *Lead         `json:"leads,omitempty" doc:"Where it leads, if it asks for a choice."`
	Wrong  bool          `json:"wrong" doc:"Some line has a problem."`
}

// Line is one line that was said.
type Line struct {
	Text     string    `json:"text"`
	Does     []Deed    `json:"does"`
	Filled   []Filled  `json:"filled"`
	Notes    []string  `json:"notes"`
	Problems []Trouble `json:"problems"`
	touched  []touched // where its objects were named
	edits    []design.Edit
}

// Deed is something that a line does.
type Deed struct {
	Text   string      `json:"text"`
	Object design.ID   `json:"object,omitempty"`
	Kind   design.Kind `json:"kind,omitempty"`
	New    bool        `json:"new,omitempty"`
}

// Filled is a value that nobody said, and why it was chosen.
type Filled struct {
	What  string `json:"what"`
	Value string `json:"value"`
	Why   string `json:"why"`
}

// Trouble is what is wrong, at characters of the line.
type Trouble struct {
	From int    `json:"from"`
	To   int    `json:"to"`
	Why  string `json:"why"`
	Want string `json:"want,omitempty"`
}

// Lead is a joining for which a shape must be chosen.
type Lead struct {
	A design.ID   `json:"a"`
	B []design.ID `json:"b"`
}

type touched struct {
	id   design.ID
	from int
	to   int
}

// Understand reads lines as they would change a design. It is the object that the
// word "it" means at first, or "". The error is that of the context, if it ends before.
func Understand(ctx context.Context, d *design.Design, text string, it design.ID) (Understood, error) {
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	if len(lines) > MaxLines {
		return refusal(
			fmt.Sprintf("there are %d lines", len(lines)),
			fmt.Sprintf("say at most %d at once, or bring a file in", MaxLines),
		), nil
	}
	known := namesOf(d)
	// What is named before it is made is found by a first reading.
	first := newReader(ctx, d, known.with(nil), it)
	first.declaring = true
	for _, l := range lines {
		if err := ctx.Err(); err != nil {
			return Understood{}, err
		}
		first.line(l)
	}
	later := known.with(first.made)
	r := newReader(ctx, d, later, it)
	out := Understood{Lines: []Line{}, Edits: []design.Edit{}}
	for _, text := range lines {
		if err := ctx.Err(); err != nil {
			return Understood{}, err
		}
		l := r.line(text)
		out.Wrong = out.Wrong || len(l.Problems) > 0
		out.Lines = append(out.Lines, l)
	}
	out.Leads = r.leads
	out.Reason = reasonOf(out.Lines)
	edits := d.EditsTo(r.design)
	if problems := d.Refusals(edits); len(problems) > 0 {
		out.blame(problems)
	}
	if !out.Wrong {
		out.Edits = append(out.Edits, edits...)
	}
	return out, nil
}

// Made are the objects that lines would make, whether or not the design would take
// them.
func Made(d *design.Design, text string) []*design.Object {
	r := newReader(context.Background(), d, namesOf(d), "")
	for _, l := range strings.Split(text, "\n") {
		r.line(l)
	}
	return r.made
}

func refusal(why, want string) Understood {
	l := Line{Does: []Deed{}, Filled: []Filled{}, Notes: []string{}, Problems: []Trouble{{Why: why, Want: want}}}
	return Understood{Lines: []Line{l}, Edits: []design.Edit{}, Wrong: true}
}

// blame puts what makes the result invalid at the lines that made it so.
func (u *Understood) blame(problems design.Problems) {
	u.Wrong = true
	for _, p := range problems {
		at, t := len(u.Lines)-1, touched{}
		for n := range u.Lines {
			for _, x := range u.Lines[n].touched {
				if x.id == p.Object {
					at, t = n, x
				}
			}
		}
		why := p.Why
		if t.id == "" {
			why = strings.TrimSpace(p.Subject + " " + why)
		} else if p.Field != "" && p.Field != "name" {
			why = p.Field + " " + why
		}
		u.Lines[at].Problems = append(u.Lines[at].Problems, Trouble{t.from, t.to, why, p.Want})
	}
}

func reasonOf(lines []Line) string {
	var deeds []string
	for _, l := range lines {
		for _, d := range l.Does {
			deeds = append(deeds, d.Text)
		}
	}
	const most = 180 // of the 200 that the history takes
	switch {
	case len(deeds) == 0:
		return ""
	case len(deeds) == 1:
		return clipped(deeds[0], most)
	}
	return clipped(fmt.Sprintf("%s, and %s more", deeds[0], words.Count(len(deeds)-1, "thing", "things")), most)
}

func clipped(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "…"
	}
	return text
}

// reader reads lines one after the other; each sees what those before have made.
type reader struct {
	ctx    context.Context
	design *design.Design   // as the lines so far have left it
	own    *design.Scratch  // what d is of, from the first change on
	fills  *defaults.Filler // for d, once something was asked of it
	names  *names
	it     design.ID
	leads  *Lead
	made   []*design.Object
	early  []design.ID   // made, perhaps before what they refer to
	solved *proof.Proofs // of the design as it was when something was joined last

	// declaring is the first reading, which only finds out what will be made.
	declaring bool
	gone      map[design.ID]bool // removed by a line before

	toks     []token
	next     int // the next token
	current  *Line
	drafts   int // links and copies asked for so far
	complete int // the token that is being typed, -1: none
	offers   []Offer
}

func newReader(ctx context.Context, d *design.Design, known *names, it design.ID) *reader {
	return &reader{ctx: ctx, design: d, names: known, it: it, complete: -1, gone: map[design.ID]bool{}}
}

// line reads one line and takes over what it does.
func (r *reader) line(text string) Line {
	l := Line{Text: text, Does: []Deed{}, Filled: []Filled{}, Notes: []string{}, Problems: []Trouble{}}
	r.current, r.next = &l, 0
	if n := len([]rune(text)); n > MaxLine {
		l.Text = clipped(text, MaxLine)
		r.wrong(0, n, fmt.Sprintf("the line has %d characters", n), fmt.Sprintf("at most %d are read", MaxLine))
		return l
	}
	var bad *Trouble
	if r.toks, bad = tokens(text); bad != nil {
		l.Problems = append(l.Problems, *bad)
		return l
	}
	if len(r.toks) == 0 && r.complete < 0 {
		return l
	}
	r.statement()
	if r.next < len(r.toks) && len(l.Problems) == 0 {
		t := r.toks[r.next]
		r.wrong(t.from, t.to, t.shown()+" is not understood here", r.expected())
	}
	return l
}

// sound is the design without what refers to things that later lines make.
func (r *reader) sound() *design.Design {
	var early []design.ID
	for _, id := range r.early {
		o := r.design.Get(id)
		if o != nil &&
			(slices.ContainsFunc(design.RefsOf(o), func(to design.ID) bool { return r.design.Get(to) == nil }) ||
				!design.Complete(o)) {
			early = append(early, id)
		}
	}
	if r.early = early; len(early) == 0 {
		return r.design
	}
	return r.design.Sketch(r.design.Removal(early...).Edits)
}

// books are those of the sound design.
func (r *reader) books() *allocation.Books {
	kept := r.filler().Books()
	if d := r.sound(); d != r.design {
		return allocation.NewBooks(d)
	}
	return kept
}

// do applies edits, and tells what they do.
func (r *reader) do(text string, o *design.Object, isNew bool, edits ...design.Edit) {
	d := Deed{Text: text, New: isNew}
	if o != nil {
		d.Object, d.Kind = o.ID, o.Kind
		r.it = o.ID
	}
	r.current.Does = append(r.current.Does, d)
	r.apply(edits)
}

func (r *reader) apply(edits []design.Edit) {
	for _, e := range edits {
		if e.Op != design.Put {
			continue
		}
		switch old := r.design.Get(e.ID); {
		case old == nil:
			r.made = append(r.made, e.Object)
			r.names.add(e.Object, func(id design.ID) *design.Object {
				if o := r.design.Get(id); o != nil {
					return o
				}
				return r.sketched(id, edits)
			})
		case old.Name != e.Object.Name:
			r.renamed(e.Object)
		}
	}
	r.current.edits = append(r.current.edits, edits...)
	r.scratch()
	r.own.SketchEach(edits, func(old, now *design.Object) {
		if r.fills != nil {
			r.fills.Changed(old, now)
		}
	})
}

func (r *reader) scratch() {
	if r.own == nil {
		r.own = r.design.Scratch()
		r.design = r.own.Design()
	}
}

// filler fills in what nobody has said, as the lines so far have left the design.
func (r *reader) filler() *defaults.Filler {
	if r.fills == nil {
		r.scratch()
		r.fills = defaults.New(r.design)
	}
	return r.fills
}

// renamed lets a thing and all that is inside it be found by its new name, too.
func (r *reader) renamed(o *design.Object) {
	get := func(id design.ID) *design.Object {
		if id == o.ID {
			return o
		}
		return r.design.Get(id)
	}
	var add func(*design.Object)
	add = func(x *design.Object) {
		r.names.add(x, get)
		for _, inner := range r.design.Inside(x.ID) {
			add(inner)
		}
	}
	add(o)
}

func (r *reader) sketched(id design.ID, edits []design.Edit) *design.Object {
	for _, e := range edits {
		if e.ID == id {
			return e.Object
		}
	}
	return nil
}

func (r *reader) fill(what, value, why string) {
	r.current.Filled = append(r.current.Filled, Filled{what, value, why})
}

func (r *reader) wrong(from, to int, why, want string) {
	r.current.Problems = append(r.current.Problems, Trouble{from, to, why, want})
}

// affords reports whether n more links or copies may be drafted, and tells if not.
func (r *reader) affords(n int) bool {
	if r.drafts += n; r.drafts > MaxDrafts {
		r.wrong(
			0, len([]rune(r.current.Text)), fmt.Sprintf("this is the %dth link or copy", r.drafts),
			fmt.Sprintf("ask for at most %d at once", MaxDrafts),
		)
		return false
	}
	return true
}

// wrongHere is a problem with the next token, or with the end of the line.
func (r *reader) wrongHere(why, want string) {
	from, to := r.span(r.next, r.next+1)
	r.wrong(from, to, why, want)
}

func (r *reader) failed() bool { return len(r.current.Problems) > 0 }

// span is where the tokens from a up to b stand in the line.
func (r *reader) span(a, b int) (from, to int) {
	if len(r.toks) == 0 {
		return 0, 0
	}
	last := r.toks[len(r.toks)-1]
	if a >= len(r.toks) {
		return last.to, last.to
	}
	return r.toks[a].from, r.toks[min(max(b, a+1), len(r.toks))-1].to
}

// expected says what may stand at the next token.
func (r *reader) expected() string {
	again := newReader(r.ctx, r.design, r.names, r.it)
	again.complete, again.toks = r.next, r.toks[:r.next]
	again.current = &Line{}
	again.statement()
	var out []string
	for _, o := range again.offers {
		if !slices.Contains(out, o.Text) && len(out) < 12 {
			out = append(out, o.Text)
		}
	}
	return cmp.Or(prefixed("there may be ", strings.Join(out, ", ")), "end the line here")
}

func prefixed(before, text string) string {
	if text == "" {
		return ""
	}
	return before + text
}
