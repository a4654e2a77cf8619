package command

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"dravin/core/defaults"
	"dravin/core/design"
)

// being is an object while it is said.
type being struct {
	kind   design.Kind
	id     design.ID
	parent design.ID
	name   string
	old    *design.Object // nil: it is new
	body   map[string]any // as in JSON
	said   map[string]bool
	short  bool // it was said in few words, and more is to be filled in
	from   int  // where it is named
	to     int
	spans  map[string][2]int // of fields
	adding bool              // what is said comes beside what is there
	taking bool              // what is said is taken out of what is there
}

// field reads the value of a field, its word being read already.
func (r *reader) field(b *being, f design.Field) {
	start := r.next
	v, ok := r.value(b, f, design.Outline(b.kind))
	from, to := r.span(start, r.next)
	b.spans[f.Key] = [2]int{from, to}
	if ok {
		r.change(b, f, v, from, to)
	}
}

func (b *being) set(f design.Field, v any) {
	if list, ok := v.([]any); ok && f.Many && b.said[f.Key] {
		before, _ := b.body[f.Key].([]any) // none where it was said that there are none
		v = append(slices.Clone(before), list...)
	}
	b.body[f.Key], b.said[f.Key] = v, true
}

// value reads what a field may be given. keys are the words that end a list.
func (r *reader) value(b *being, f design.Field, keys []design.Field) (any, bool) {
	if !f.Many {
		return r.one(b, f, keys)
	}
	list := []any{}
	if r.takeWord("none") {
		return list, true
	}
	for {
		v, ok := r.one(b, f, keys)
		if !ok {
			return nil, false
		}
		list = append(list, v)
		if !r.another(f, keys) {
			return list, true
		}
	}
}

// another reports whether the next token goes on with a list.
func (r *reader) another(f design.Field, keys []design.Field) bool {
	if r.next >= len(r.toks) || f.Max > 0 && f.Max == 1 {
		return false
	}
	t := r.toks[r.next]
	switch f.Type {
	case design.TypeParts:
		return t.is("{")
	case design.TypePrefix, design.TypeInside:
		return isPrefix(t.text) && !t.quoted
	case design.TypeAddress:
		return isAddress(t.text) && !t.quoted
	case design.TypeService:
		return isService(t.text) && !t.quoted
	}
	if t.mark() || !t.quoted && (t.is("with") || t.is("and") || isKindWord(t.text)) {
		return false
	}
	if _, key := r.fieldAt(keys); key {
		return false
	}
	if f.Type == design.TypeReference {
		found, _ := r.refSpan(f.Kinds)
		return len(found) > 0
	}
	return true
}

func isKindWord(word string) bool {
	for _, words := range saidAs {
		for _, w := range words {
			if strings.EqualFold(w, word) {
				return true
			}
		}
	}
	return false
}

// one reads a single value, as it is in JSON.
func (r *reader) one(b *being, f design.Field, keys []design.Field) (any, bool) {
	switch f.Type {
	case design.TypeParts:
		return r.parts(b, f)
	case design.TypeReference:
		near := b.parent
		if near == "" {
			near = b.id
		}
		o, ok := r.ref(f.Kinds, near)
		if !ok {
			return nil, false
		}
		return string(o.ID), true
	case design.TypePrefix:
		return r.prefix(b, f)
	case design.TypeYesNo:
		for _, word := range []string{"no", "false"} {
			if r.takeWord(word) {
				return false, true
			}
		}
		_ = r.takeWord("yes") || r.takeWord("true")
		return true, true
	}
	if f.Key == "asn" && r.takeWord("next") {
		v, err := r.filler().ASN()
		if err != nil {
			r.wrongHere(err.Error(), "")
			return nil, false
		}
		r.fill("ASN", v.Value, v.Why)
		n, _ := strconv.ParseUint(v.Value, 10, 32)
		return json.Number(strconv.FormatUint(n, 10)), true
	}
	for _, w := range f.Enum {
		r.offer(w, f.Doc)
	}
	r.suggest(b, f)
	t, ok := r.take()
	if !ok || t.mark() {
		if ok {
			r.next--
		}
		r.wrongHere("the value of "+f.Key+" is missing", f.Doc)
		return nil, false
	}
	if f.Type == design.TypeNumber {
		if _, err := strconv.ParseUint(t.text, 10, 32); err != nil {
			r.wrong(t.from, t.to, t.shown()+" is not a whole number", f.Doc)
			return nil, false
		}
		return json.Number(t.text), true
	}
	return t.text, true
}

// suggest offers what the field could be given.
func (r *reader) suggest(b *being, f design.Field) {
	if r.complete != r.next || b.kind == "" || b.parent != "" && r.design.Get(b.parent) == nil {
		return
	}
	o := &design.Object{ID: b.id, Kind: b.kind, Parent: b.parent, Body: emptyBody(b)}
	for _, v := range defaults.New(r.sound()).Suggestions(o)[f.Key] {
		r.offer(v.Value, v.Why)
	}
}

// emptyBody is a body with what was said so far, as far as it can be read.
func emptyBody(b *being) design.Body {
	body, _ := decoded(b.kind, b.body)
	if body == nil {
		return design.Bodies()[b.kind]
	}
	return body
}

func decoded(k design.Kind, body map[string]any) (design.Body, error) {
	body = maps.Clone(body)
	for _, f := range design.Outline(k) {
		if _, has := body[f.Key]; !has && !f.Optional && f.Many {
			body[f.Key] = []any{} // how few there may be is told of what is there
		}
	}
	text, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	return design.DecodeBody(k, text)
}

// prefix reads a range, or asks for the next free one: "/24", "next free /24",
// "/24 of 10.208.0.0/14".
func (r *reader) prefix(b *being, f design.Field) (any, bool) {
	asked := r.next
	for _, w := range []string{"the", "next", "free"} {
		r.takeWord(w)
	}
	r.offer("next free /24", "a free range of that size")
	r.suggest(b, f)
	t, ok := r.take()
	if !ok {
		r.wrongHere("a range is missing", "write one such as 10.214.0.0/22, or /24 for the next free one")
		return nil, false
	}
	if f.Span && strings.Contains(t.text, "-") {
		return t.text, true // the body's own reader takes it apart
	}
	bits, size := sizeOf(t.text)
	if !size || t.quoted {
		p, err := parsePrefix(t.text)
		if err != nil || r.next-asked > 1 {
			why, want := t.shown()+" is not a length", "write /24"
			if err != nil {
				why, want = t.shown()+" "+err.Why, err.Want
			}
			r.wrong(t.from, t.to, why, want)
			return nil, false
		}
		return p.String(), true
	}
	w := defaults.Wanted{Kind: b.kind, Parent: b.parent, Bits: bits}
	if r.takeWord("of") || r.takeWord("within") {
		p, ok := r.literalPrefix()
		if !ok {
			return nil, false
		}
		w.Within = p
	}
	p, why, err := r.filler().Range(w)
	if err != nil {
		r.wrong(t.from, t.to, err.Error(), "ask for a smaller one, or within another range")
		return nil, false
	}
	r.fill("range", p.String(), why)
	return p.String(), true
}

func (r *reader) literalPrefix() (netip.Prefix, bool) {
	t, ok := r.take()
	if !ok {
		r.wrongHere("a range is missing", "write one such as 10.208.0.0/14")
		return netip.Prefix{}, false
	}
	p, err := parsePrefix(t.text)
	if err != nil {
		r.wrong(t.from, t.to, t.shown()+" "+err.Why, err.Want)
		return p, false
	}
	return p, true
}

// parts reads a value with fields of its own: in braces, or, for one alone, just
// its words.
func (r *reader) parts(b *being, f design.Field) (any, bool) {
	out := map[string]any{}
	said := map[string]bool{}
	braces := r.takeWord("{")
	for {
		if braces && r.takeWord("}") {
			break
		}
		_ = braces && r.takeWord(",")
		part, ok := r.fieldAt(f.Parts)
		switch {
		case ok:
			r.next++
		case r.next < len(r.toks) && !r.toks[r.next].quoted:
			if part, ok = bareField(f.Parts, r.toks[r.next].text); ok && said[part.Key] && !part.Many {
				ok = false
			}
		}
		if !ok {
			if !braces && len(out) > 0 {
				break
			}
			r.wrongHere(r.nextShown()+" is no part of "+f.Key, "there are "+keysOf(f.Parts))
			return nil, false
		}
		v, good := r.value(b, part, f.Parts)
		if !good {
			return nil, false
		}
		out[part.Key], said[part.Key] = v, true
	}
	return out, true
}

func keysOf(fields []design.Field) string {
	var out []string
	for _, f := range fields {
		out = append(out, fieldWords(f)[0])
	}
	return strings.Join(out, ", ")
}

func (r *reader) nextShown() string {
	if r.next >= len(r.toks) {
		return "the end of the line"
	}
	return r.toks[r.next].shown()
}

// take takes the next token.
func (r *reader) take() (token, bool) {
	if r.next >= len(r.toks) {
		return token{}, false
	}
	r.next++
	return r.toks[r.next-1], true
}

// takeWord takes the next token if it is that word or mark.
func (r *reader) takeWord(word string) bool {
	r.offer(word, "")
	if r.next < len(r.toks) && r.toks[r.next].is(word) {
		r.next++
		return true
	}
	return false
}

// takeWords takes several words in a row, or none.
func (r *reader) takeWords(words ...string) bool {
	at := r.next
	for _, w := range words {
		if !r.takeWord(w) {
			r.next = at
			return false
		}
	}
	return true
}

// valueWords says what a body's main values are.
func valueWords(o *design.Object) string {
	var out []string
	switch b := o.Body.(type) {
	case *design.Gateway:
		for _, a := range b.Addresses {
			out = append(out, a.String())
		}
		if b.ASN != 0 {
			out = append(out, fmt.Sprintf("ASN %d", b.ASN))
		}
	case *design.Endpoint:
		for _, a := range b.Addresses {
			out = append(out, a.String())
		}
	case *design.Reservation:
		out = append(out, b.Prefix.String())
	case *design.Hub:
		out = append(out, b.Cloud)
	case *design.Network:
		out = append(out, "in "+b.Cloud)
	}
	for _, p := range design.RangesOf(o) {
		out = append(out, p.String())
	}
	return strings.Join(out, ", ")
}
