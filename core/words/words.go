// Package words is the small grammar of which sentences are made.
package words

import (
	"fmt"
	"strings"
	"unicode"
)

// Lower is a label as it stands within a sentence: "Key lifetime" becomes "key
// lifetime"; "ASN of Millrace" and "IKE proposals" stay.
func Lower(label string) string {
	r := []rune(label)
	if len(r) == 0 || len(r) > 1 && unicode.IsUpper(r[1]) {
		return label
	}
	r[0] = unicode.ToLower(r[0])
	return string(r)
}

// Upper begins a sentence.
func Upper(text string) string {
	r := []rune(text)
	if len(r) > 0 {
		r[0] = unicode.ToUpper(r[0])
	}
	return string(r)
}

// Count is a number of things: "1 address", "2 addresses".
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Verb is what one or several do: Verb(1, "has", "have").
func Verb(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// List joins with commas and a last "and".
func List(list []string) string {
	switch len(list) {
	case 0:
		return "nothing"
	case 1:
		return list[0]
	}
	return strings.Join(list[:len(list)-1], ", ") + " and " + list[len(list)-1]
}
