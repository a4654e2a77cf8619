package command

import (
	"slices"
	"strings"

	"dravin/core/design"
)

// sayings are the words by which kinds are said that are not said by their own word alone, the
// one that is written first.
var sayings = map[design.Kind][]string{
	design.KindNetwork:  {"network", "cloud network"},
	design.KindOutside:  {"outside-party", "outside party", "partner"},
	design.KindTable:    {"table", "route table"},
	design.KindEndpoint: {"host", "endpoint"},
	design.KindLink:     {"link", "vpn link"},
	design.KindTunnel:   {"tunnel", "strand"},
	design.KindBox:      {"box", "translating box"},
}

// saidAs are the words by which kinds are said, the one that is written first.
var saidAs = map[design.Kind][]string{}

func init() {
	for _, k := range design.Kinds() {
		said := sayings[k]
		if said == nil {
			said = slices.Compact([]string{string(k), strings.ReplaceAll(string(k), "-", " ")})
		}
		saidAs[k] = said
	}
}

// Word is what a kind is called in sayings.
func Word(k design.Kind) string { return strings.ReplaceAll(saidAs[k][0], "-", " ") }

// kindAt reads a word for a kind at the next token, without taking it.
func (r *reader) kindAt(among []design.Kind) (k design.Kind, tokens int) {
	for _, kind := range among {
		for _, w := range saidAs[kind] {
			r.offer(w, design.Doc(kind))
			parts := strings.Fields(w)
			if r.next+len(parts) > len(r.toks) || len(parts) <= tokens {
				continue
			}
			fits := true
			for n, part := range parts {
				fits = fits && r.toks[r.next+n].is(part)
			}
			if fits {
				k, tokens = kind, len(parts)
			}
		}
	}
	return k, tokens
}

// fieldWords are the words by which a field is said, the one that is written
// first.
func fieldWords(f design.Field) []string {
	out := []string{strings.ReplaceAll(f.Key, "_", "-")}
	if one := singular[f.Key]; one != "" {
		out = append(out, one)
	}
	if f.Key == "owner" {
		out = append(out, "owned-by")
	}
	return out
}

// singular are lists of which one may be said by its own word; those whose word is
// also a kind's are left out.
var singular = map[string]string{
	"prefixes": "prefix", "addresses": "address", "blocks": "block", "routes": "route", "ends": "end", "halves": "half",
	"feeds": "feed",
}

// fieldAt is the field whose word the next token is, without taking it.
func (r *reader) fieldAt(among []design.Field) (design.Field, bool) {
	for _, f := range among {
		for _, w := range fieldWords(f) {
			r.offer(w, f.Doc)
		}
	}
	if r.next >= len(r.toks) || r.toks[r.next].quoted {
		return design.Field{}, false
	}
	for _, f := range among {
		for _, w := range fieldWords(f) {
			if r.toks[r.next].is(w) || r.toks[r.next].is(f.Key) {
				return f, true
			}
		}
	}
	return design.Field{}, false
}

// bareField is the field that a value belongs to which stands without a word.
func bareField(among []design.Field, text string) (design.Field, bool) {
	want := func(types ...design.FieldType) (design.Field, bool) {
		for _, f := range among {
			if slices.Contains(types, f.Type) {
				return f, true
			}
		}
		return design.Field{}, false
	}
	_, size := sizeOf(text)
	switch {
	case size || isPrefix(text):
		return want(design.TypePrefix, design.TypeInside)
	case isAddress(text):
		return want(design.TypeAddress)
	case isService(text):
		return want(design.TypeService)
	}
	return design.Field{}, false
}

// name reads the name of a new thing: a quoted text, or words up to a word of the
// language, a value or a mark. It may be empty.
func (r *reader) name(k design.Kind, more ...string) string {
	if r.next < len(r.toks) && r.toks[r.next].quoted {
		r.next++
		return r.toks[r.next-1].text
	}
	start := r.next
	for r.next < len(r.toks) && !r.toks[r.next].mark() && !r.toks[r.next].quoted && !isLiteral(r.toks[r.next].text) {
		if reservedIn(k, r.toks[r.next].text) || slices.ContainsFunc(more, r.toks[r.next].is) {
			break
		}
		if next := r.next + 1; r.toks[r.next].is("the") && next < len(r.toks) &&
			(isLiteral(r.toks[next].text) || r.toks[next].is("next") || r.toks[next].is("free")) {
			break
		}
		r.next++
	}
	var words []string
	for _, t := range r.toks[start:r.next] {
		words = append(words, t.text)
	}
	return strings.Join(words, " ")
}

// reservedIn reports whether a word ends an unquoted name of that kind.
func reservedIn(k design.Kind, word string) bool {
	word = strings.ToLower(word)
	if slices.Contains([]string{"with", "and", "in", "next", "free", "no"}, word) {
		return true
	}
	return isField(k, word)
}

func isField(k design.Kind, word string) bool {
	for _, f := range design.Outline(k) {
		if f.Key == word || slices.Contains(fieldWords(f), word) {
			return true
		}
	}
	return false
}

// ValueWords are the words by which the values of a kind are said, the one that is written first.
func ValueWords(k design.Kind) []string {
	var out []string
	for _, f := range design.Outline(k) {
		out = append(out, fieldWords(f)[0])
	}
	return out
}
