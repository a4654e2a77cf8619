package command

import (
	"fmt"
	"maps"
	"slices"

	"dravin/core/design"
)

// add is: add VALUES to THING, or as give.
func (r *reader) add() {
	if !r.valuesFirst("to") {
		r.give()
		return
	}
	r.listed("to", func(b *being) { b.adding = true })
}

// takeAway is: take VALUES from THING, or take THING VALUES: one less of a list, or no value any more.
func (r *reader) takeAway() {
	if r.valuesFirst("from") {
		r.listed("from", func(b *being) { b.taking = true })
		return
	}
	r.values(true)
}

// valuesFirst reports whether a line names values and then, behind a word, what they are of.
func (r *reader) valuesFirst(word string) bool {
	for n, t := range r.toks[min(r.next, len(r.toks)):] {
		if t.is(word) {
			at := r.next
			r.next += n + 1
			found, words := r.refSpan(nil)
			end := r.next + words
			r.next = at
			return len(found) == 1 && end == len(r.toks)
		}
	}
	return false
}

// listed reads values, and then what they are of.
func (r *reader) listed(word string, do func(*being)) {
	at := r.next + slices.IndexFunc(r.toks[r.next:], func(t token) bool { return t.is(word) })
	values := slices.Clone(r.toks[r.next:at])
	whole := r.toks
	r.next = at + 1
	start := r.next
	o, ok := r.thing(nil, r.it)
	if !ok {
		return
	}
	from, to := r.span(start, r.next)
	b := r.changing(o, from, to)
	do(b)
	r.toks, r.next = values, 0
	if r.clauses(b, nil); !r.failed() && r.next < len(r.toks) {
		r.wrongHere(r.nextShown()+" is not understood here", "there are "+keysOf(design.Outline(o.Kind)))
	}
	r.toks, r.next = whole, len(whole)
	if !r.failed() {
		r.settle(b)
	}
}

// change enters a value of a field as it was asked for: instead of what is there, beside it, or out of
// it.
func (r *reader) change(b *being, f design.Field, v any, from, to int) {
	list, many := v.([]any)
	if !many || !f.Many {
		if b.taking {
			if fmt.Sprint(b.body[f.Key]) != fmt.Sprint(v) {
				r.wrong(from, to, fmt.Sprintf("%s of %s is not that", f.Key, b.name), "it is "+r.shown(b.body[f.Key]))
				return
			}
			delete(b.body, f.Key)
			b.said[f.Key] = true
			return
		}
		if was, has := b.body[f.Key]; b.adding && has && fmt.Sprint(was) != fmt.Sprint(v) {
			r.current.Notes = append(
				r.current.Notes, fmt.Sprintf("%s of %s was %s, and can be one only", f.Key, b.name, r.shown(was)),
			)
		}
		b.set(f, v)
		return
	}
	had, _ := b.body[f.Key].([]any)
	switch {
	case b.adding:
		now := slices.Clone(had)
		for _, x := range list {
			if n := entered(f, x, now); n >= 0 {
				both := maps.Clone(now[n].(map[string]any))
				maps.Copy(both, x.(map[string]any))
				now[n] = both
				continue
			}
			if !slices.ContainsFunc(now, func(y any) bool { return fmt.Sprint(x) == fmt.Sprint(y) }) {
				now = append(now, x)
			}
		}
		b.body[f.Key], b.said[f.Key] = now, true
	case b.taking:
		now := slices.Clone(had)
		for _, x := range list {
			n := len(now)
			if now = slices.DeleteFunc(now, func(y any) bool { return matches(x, y) }); len(now) == n {
				r.wrong(from, to, fmt.Sprintf("%s is not among %s of %s", r.shown(x), f.Key, b.name), r.among(had))
				return
			}
		}
		b.body[f.Key], b.said[f.Key] = now, true
	default:
		b.set(f, v)
	}
}

// entered is where a list of a table's entries has one for the prefix by the way of another; -1 if it has none, or is
// no such list. A table has no two of them: what more is said goes for the one that is there.
func entered(f design.Field, x any, list []any) int {
	part := func(key string) bool {
		return slices.ContainsFunc(f.Parts, func(p design.Field) bool { return p.Key == key && !p.Many })
	}
	entry, ok := x.(map[string]any)
	if !ok || !part("prefix") || !part("via") {
		return -1
	}
	return slices.IndexFunc(list, func(y any) bool {
		return matches(map[string]any{"prefix": entry["prefix"], "via": entry["via"]}, y)
	})
}

func (r *reader) among(list []any) string {
	if len(list) == 0 {
		return "there is none"
	}
	out := "there is " + r.shown(list[0])
	for _, x := range list[1:] {
		out += ", " + r.shown(x)
	}
	return clipped(out, 200)
}

// matches reports whether a value is what was asked for: the same, or of parts all that were said.
func matches(asked, is any) bool {
	want, parts := asked.(map[string]any)
	have, also := is.(map[string]any)
	if !parts || !also {
		return fmt.Sprint(asked) == fmt.Sprint(is)
	}
	for key, v := range want {
		if !matches(v, have[key]) {
			return false
		}
	}
	return true
}
