package design

import (
	"net/netip"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"

	"dravin/core/provider"
)

// FieldType says how a value is written.
type FieldType string

// The types of values.
const (
	TypeText      FieldType = "text" // one line, of the field's form
	TypeFree      FieldType = "free" // several lines
	TypeNumber    FieldType = "number"
	TypeYesNo     FieldType = "yes-or-no"
	TypeAddress   FieldType = "address"
	TypePrefix    FieldType = "prefix"
	TypeInside    FieldType = "inside" // an address with its prefix length
	TypeService   FieldType = "service"
	TypeTraffic   FieldType = "traffic"   // a protocol with a port, ports or a message, or without
	TypeReference FieldType = "reference" // an ID of one of the kinds
	TypeParts     FieldType = "parts"     // a value with fields of its own
)

// FieldTypes are all types.
var FieldTypes = []FieldType{
	TypeText, TypeFree, TypeNumber, TypeYesNo, TypeAddress, TypePrefix, TypeInside, TypeService, TypeTraffic,
	TypeReference, TypeParts,
}

// Field is a value that a body, or a part of one, may have.
type Field struct {
	Key      string    `json:"key"`
	Type     FieldType `json:"type"`
	Doc      string    `json:"doc"`
	Optional bool      `json:"optional,omitempty"`
	Many     bool      `json:"many,omitempty"`  // a list
	Min      int       `json:"min,omitempty"`   // of a list: so many at least
	Max      int       `json:"max,omitempty"`   // of a list: so many at most; 0: any number
	Span     bool      `json:"span,omitempty"`  // a range may be said from one address to another
	Enum     []string  `json:"enum,omitempty"`  // what it may be, if that is a few words
	Kinds    []Kind    `json:"kinds,omitempty"` // of a reference
	Parts    []Field   `json:"parts,omitempty"` // of parts
}

// Outline lists all values that an object of that kind may have, in the order of
// its file. The slice is shared and must not be changed.
func Outline(k Kind) []Field { return outlines()[k] }

var outlines = sync.OnceValue(func() map[Kind][]Field {
	out := map[Kind][]Field{}
	for k, s := range specByKind {
		out[k] = outline(s.body)
	}
	return out
})

func outline(t reflect.Type) []Field {
	out := make([]Field, 0, t.NumField())
	for n := range t.NumField() {
		out = append(out, fieldOf(t, t.Field(n)))
	}
	return out
}

// DocOf is the comment above a field of a body, or of a part of one, as it stands in the code;
// empty for what no file holds.
func DocOf(t reflect.Type, field string) string {
	if doc, ok := Docs[t.Name()+"."+field]; ok {
		return doc
	}
	return provider.Docs[t.Name()+"."+field]
}

// EnumOf are the words that a field may be; none where it may be any.
func EnumOf(tag reflect.StructTag) []string {
	switch words := tag.Get("enum"); words {
	case "":
		return nil
	case "states":
		return []string{Waiting, Making, Ready, Refused, Gone}
	default:
		return strings.Split(words, ",")
	}
}

func fieldOf(t reflect.Type, sf reflect.StructField) Field {
	key, optional := keyOf(sf)
	f := Field{Key: key, Doc: DocOf(t, sf.Name), Optional: optional, Enum: EnumOf(sf.Tag)}
	f.Min, _ = strconv.Atoi(sf.Tag.Get("min"))
	f.Max, _ = strconv.Atoi(sf.Tag.Get("max"))
	f.Span = sf.Tag.Get("span") != ""
	of := sf.Type
	if of.Kind() == reflect.Slice {
		f.Many, of = true, of.Elem()
	}
	if of.Kind() == reflect.Pointer {
		of = of.Elem()
	}
	f.Type = typeOf(of, sf.Tag)
	switch f.Type {
	case TypeReference:
		f.Kinds = kindsIn(sf.Tag.Get("ref"))
	case TypeParts:
		f.Parts = outline(of)
	}
	return f
}

func typeOf(t reflect.Type, tag reflect.StructTag) FieldType {
	switch {
	case t == reflect.TypeFor[netip.Addr]():
		return TypeAddress
	case t == reflect.TypeFor[netip.Prefix]() && tag.Get("host") != "":
		return TypeInside
	case t == reflect.TypeFor[netip.Prefix]():
		return TypePrefix
	case t == reflect.TypeFor[Service]():
		return TypeService
	case t == reflect.TypeFor[Traffic]():
		return TypeTraffic
	case t == reflect.TypeFor[Ref]():
		return TypeReference
	case implementsText(reflect.New(t).Elem()):
		return TypeText
	}
	switch t.Kind() {
	case reflect.Struct:
		return TypeParts
	case reflect.Bool:
		return TypeYesNo
	case reflect.String:
		if tag.Get("form") == "free" {
			return TypeFree
		}
		return TypeText
	}
	return TypeNumber
}

// KindsInside are the kinds that can stand in an object of that kind, those of
// the top level for "".
func KindsInside(k Kind) []Kind {
	var out []Kind
	for _, s := range specs {
		if k == "" && len(s.parents) == 0 || slices.Contains(s.parents, k) {
			out = append(out, s.kind)
		}
	}
	return out
}

// Doc says what a kind is.
func Doc(k Kind) string { return specOf(k).doc }
