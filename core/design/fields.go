package design

import (
	"encoding"
	"net/netip"
	"reflect"
	"strings"
)

// Field is a value that a body may have.
type Field struct {
	Key  string   `json:"key"`
	Doc  string   `json:"doc"`
	Enum []string `json:"enum,omitempty"` // what it may be, if that is a few words
	Many bool     `json:"many,omitempty"` // a list
}

// Absent lists the plain optional values that an object's body does not have:
// text, numbers, truth values, addresses, ranges, and lists of them. References
// and what has parts of its own are left out.
func Absent(o *Object) []Field {
	out := []Field{}
	v := reflect.ValueOf(o.Body).Elem()
	for n := range v.NumField() {
		sf := v.Type().Field(n)
		key, optional := keyOf(sf)
		if !optional || !v.Field(n).IsZero() || sf.Tag.Get("ref") != "" {
			continue
		}
		t, many := sf.Type, sf.Type.Kind() == reflect.Slice
		if many {
			t = t.Elem()
		}
		if !plainType(t) {
			continue
		}
		f := Field{Key: key, Doc: sf.Tag.Get("doc"), Many: many}
		if words := sf.Tag.Get("enum"); words != "" {
			f.Enum = strings.Split(words, ",")
		}
		if t.Kind() == reflect.Bool {
			f.Enum = []string{"true"}
		}
		out = append(out, f)
	}
	return out
}

// plainType reports whether a value of that type is written as one word or
// text.
func plainType(t reflect.Type) bool {
	switch {
	case t == reflect.TypeFor[netip.Addr](), t == reflect.TypeFor[netip.Prefix](), reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]()):
		return true
	}
	switch t.Kind() {
	case reflect.String, reflect.Bool, reflect.Uint8, reflect.Uint16, reflect.Uint32:
		return true
	}
	return false
}
