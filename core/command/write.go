package command

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"dravin/core/design"
)

// Saying writes an object as the line that makes it. What is inside it is said by
// lines of its own.
func Saying(d *design.Design, o *design.Object) string {
	out := strings.ReplaceAll(saidAs[o.Kind][0], " ", "-") + " " + nameOf(o)
	if o.Parent != "" {
		out += " in " + d.Path(o.Parent)
	}
	return out + fieldsOf(d, design.Outline(o.Kind), design.Values(o), " ")
}

// Sayings writes a whole design: a line for each object, parents first.
func Sayings(d *design.Design) string {
	var b strings.Builder
	for _, o := range d.All() {
		b.WriteString(Saying(d, o))
		b.WriteByte('\n')
	}
	return b.String()
}

func nameOf(o *design.Object) string {
	for _, word := range strings.Fields(o.Name) {
		if !plain(word) || reservedIn(o.Kind, word) || isLiteral(word) {
			return quote(o.Name)
		}
	}
	if strings.Join(strings.Fields(o.Name), " ") != o.Name {
		return quote(o.Name)
	}
	return o.Name
}

// plain reports whether a word needs no quotation marks.
func plain(word string) bool {
	return word != "" && !strings.ContainsFunc(word, func(c rune) bool {
		return !unicode.IsLetter(c) && !unicode.IsDigit(c) && c != '-' && c != '\''
	})
}

func fieldsOf(d *design.Design, fields []design.Field, body map[string]any, between string) string {
	out := ""
	for _, f := range fields {
		v, has := body[f.Key]
		if !has && f.Optional {
			continue
		}
		if list, ok := v.([]any); f.Optional && ok && len(list) == 0 {
			continue
		}
		if v == false && f.Optional {
			continue
		}
		out += between + fieldWords(f)[0]
		if v == nil {
			out += " none"
			continue
		}
		list, many := v.([]any)
		if !many {
			list = []any{v}
		}
		if len(list) == 0 {
			out += " none"
		}
		for _, item := range list {
			out += " " + valueOf(d, f, item)
		}
		between = " "
	}
	return out
}

func valueOf(d *design.Design, f design.Field, v any) string {
	switch v := v.(type) {
	case map[string]any:
		return "{" + fieldsOf(d, f.Parts, v, "") + "}"
	case bool:
		if v {
			return "yes"
		}
		return "no"
	case json.Number:
		return v.String()
	case float64:
		return fmt.Sprintf("%.0f", v)
	case string:
		switch {
		case f.Type == design.TypeReference:
			return d.Path(design.ID(v))
		case f.Type == design.TypeText || f.Type == design.TypeFree:
			if !plain(v) || isKindWord(v) ||
				slices.Contains([]string{"none", "with", "and", "no", "yes", "next"}, strings.ToLower(v)) || f.Many {
				return quote(v)
			}
		}
		return v
	}
	return ""
}
