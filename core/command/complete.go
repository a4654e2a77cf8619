package command

import (
	"context"
	"slices"
	"strings"

	"dravin/core/design"
)

// Offer is something that may come next.
type Offer struct {
	Text string `json:"text"` // what would be written
	Hint string `json:"hint"` // what it is
	From int    `json:"from"` // characters of the line that it takes the place of
	To   int    `json:"to"`
}

const maxOffers = 40

// Complete lists what may stand where a line ends that is being typed. It is what
// "it" means.
func Complete(d *design.Design, line string, it design.ID) []Offer {
	toks, bad := tokens(line)
	if bad != nil || len([]rune(line)) > MaxLine {
		return []Offer{}
	}
	r := newReader(context.Background(), d, namesOf(d), it)
	r.toks, r.complete = toks, len(toks)
	if n := len(toks); n > 0 && !strings.HasSuffix(line, " ") && !toks[n-1].quoted && !toks[n-1].mark() {
		r.complete = n - 1
	}
	r.current = &Line{}
	r.statement()
	out := []Offer{}
	for _, o := range r.offers {
		same := slices.ContainsFunc(out, func(x Offer) bool { return x.Text == o.Text && x.From == o.From })
		if len(out) < maxOffers && !same {
			out = append(out, o)
		}
	}
	// What was begun to be typed comes before what only holds the letters.
	slices.SortStableFunc(out, func(a, b Offer) int { return a.From - b.From })
	return out
}

// offer notes that a word may stand at the next token, if that is the one being
// typed.
func (r *reader) offer(text, hint string) {
	if r.complete != r.next {
		return
	}
	from, to := 0, 0
	if r.next < len(r.toks) {
		t := r.toks[r.next]
		if !strings.HasPrefix(strings.ToLower(text), strings.ToLower(t.text)) || t.is(text) {
			return
		}
		from, to = t.from, t.to
	} else if len(r.toks) > 0 {
		from = r.toks[len(r.toks)-1].to
		to = from
	}
	if len(text) == 1 && strings.ContainsAny(text, ",{}") {
		return
	}
	r.offers = append(r.offers, Offer{text, hint, from, to})
}

// offerNames offers what things are called, if the words up to the end of the line
// are the beginning of a name.
func (r *reader) offerNames(kinds []design.Kind) {
	if r.complete < r.next || r.complete < 0 || r.next > len(r.toks) {
		return
	}
	typed, from, to := "", 0, 0
	if r.next < len(r.toks) {
		var parts []string
		for _, t := range r.toks[r.next:] {
			if t.mark() || t.quoted {
				return
			}
			parts = append(parts, t.text)
		}
		typed = strings.ToLower(strings.Join(parts, " "))
		from, to = r.toks[r.next].from, r.toks[len(r.toks)-1].to
	} else if len(r.toks) > 0 {
		from = r.toks[len(r.toks)-1].to
		to = from
	}
	count := 0
	for _, x := range r.names.list {
		if len(kinds) > 0 && !slices.Contains(kinds, x.object.Kind) || count >= maxOffers ||
			r.design.Get(x.object.ID) == nil {
			continue
		}
		text := r.design.Title(x.object.ID)
		lower := strings.ToLower(text)
		fits := strings.HasPrefix(lower, typed) || strings.HasPrefix(
			strings.ToLower(x.object.Name), typed,
		) || strings.HasPrefix(x.path, typed)
		if !fits || lower == typed {
			continue
		}
		if len(r.names.find(text, kinds)) != 1 {
			text = x.path
		}
		r.offers = append(r.offers, Offer{text, Word(x.object.Kind) + ", " + x.path, from, to})
		count++
	}
}
