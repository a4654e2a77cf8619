package design

import (
	"encoding"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"go4.org/netipx"

	"dravin/core/prefix"
)

// node is what a reader of YAML or JSON hands to the decoder: a scalar, a
// list, or a mapping in the order of the file.
type node struct {
	shape  shape
	text   string // of a scalar
	items  []*node
	fields []field
	line   int
	column int
}

type shape int

const (
	null shape = iota
	scalar
	list
	mapping
)

func (s shape) String() string {
	return [...]string{"nothing", "a single value", "a list", "a mapping"}[s]
}

type field struct {
	key          string
	value        *node
	line, column int // of the key
}

func (n *node) get(key string) *node {
	for _, f := range n.fields {
		if f.key == key {
			return f.value
		}
	}
	return nil
}

// decoder fills bodies from nodes by their struct tags. It goes on after a
// problem so that a person learns of all of them at once.
type decoder struct {
	problem func(n *node, field, why, want string)
	// resolve turns the text of a reference into an ID, or reports the problem
	// itself.
	resolve func(n *node, field, text string, kinds []Kind) Ref
	// placed is told where each field was read, if not nil.
	placed func(field string, n *node)
}

// mappingInto fills the struct v from n. Keys in also belong to the caller.
func (d *decoder) mappingInto(n *node, path string, v reflect.Value, also []string) {
	if n.shape != mapping {
		d.problem(n, path, "is "+n.shape.String(), "a mapping with "+strings.Join(keysOf(v.Type()), ", ")+" is needed")
		return
	}
	known := keysOf(v.Type())
	for _, f := range n.fields {
		if slices.Contains(also, f.key) {
			continue
		}
		sf, ok := fieldByKey(v.Type(), f.key)
		if !ok {
			at := &node{line: f.line, column: f.column}
			d.problem(
				at, join(path, f.key), "is not known here",
				"known are "+strings.Join(append(slices.Clone(also), known...), ", "),
			)
			continue
		}
		d.value(f.value, join(path, f.key), v.FieldByIndex(sf.Index), sf.Tag)
	}
	for n0 := range v.NumField() {
		sf := v.Type().Field(n0)
		key, optional := keyOf(sf)
		if !optional && n.get(key) == nil {
			d.problem(n, join(path, key), "is missing", DocOf(v.Type(), sf.Name))
		}
	}
}

func (d *decoder) value(n *node, path string, v reflect.Value, tag reflect.StructTag) {
	if d.placed != nil {
		d.placed(path, n)
	}
	switch {
	case v.Type() == reflect.TypeFor[netip.Prefix]():
		d.prefix(n, path, v, tag.Get("host") != "")
	case v.Type() == reflect.TypeFor[netip.Addr]():
		d.address(n, path, v)
	case v.Type() == reflect.TypeFor[Ref]():
		if text, ok := d.scalar(n, path); ok {
			v.SetString(string(d.resolve(n, path, text, kindsIn(tag.Get("ref")))))
		}
	case v.Kind() == reflect.Pointer:
		if n.shape != null {
			v.Set(reflect.New(v.Type().Elem()))
			d.mappingInto(n, path, v.Elem(), nil)
		}
	case v.Kind() == reflect.Slice:
		d.list(n, path, v, tag)
	case v.Kind() == reflect.Struct && !implementsText(v):
		d.mappingInto(n, path, v, nil)
	default:
		d.plain(n, path, v, tag)
	}
}

func (d *decoder) list(n *node, path string, v reflect.Value, tag reflect.StructTag) {
	items := n.items
	switch n.shape {
	case scalar: // one value may stand for a list of one
		items = []*node{n}
	case mapping:
		d.problem(n, path, "is a mapping", "a list is needed")
		return
	}
	if tag.Get("span") != "" {
		items = d.spans(items, path)
	}
	text := v.Type().Elem().Kind() == reflect.String
	if text && n.shape == scalar && n.text == "" { // as if nothing were given
		return
	}
	out := reflect.MakeSlice(v.Type(), len(items), len(items))
	for i, item := range items {
		at := fmt.Sprintf("%s[%d]", path, i)
		if text && (item.shape == null || item.shape == scalar && item.text == "") {
			d.problem(item, at, "is empty", "write it, or leave it out of the list")
			continue
		}
		d.value(item, at, out.Index(i), tag)
	}
	if low, err := strconv.Atoi(tag.Get("min")); err == nil && len(items) < low {
		d.problem(n, path, fmt.Sprintf("has %d of them", len(items)), fmt.Sprintf("at least %d needed", low))
	}
	if high, err := strconv.Atoi(tag.Get("max")); err == nil && len(items) > high {
		d.problem(n, path, fmt.Sprintf("has %d of them", len(items)), fmt.Sprintf("at most %d may be given", high))
	}
	if len(items) > 0 {
		v.Set(out)
	}
}

// spans are the items of a list of ranges: one that says from which address to which stands for the prefixes of just
// these.
func (d *decoder) spans(items []*node, path string) (out []*node) {
	for i, item := range items {
		if item.shape != scalar || !strings.Contains(item.text, "-") {
			out = append(out, item)
			continue
		}
		span, err := netipx.ParseIPRange(strings.ReplaceAll(item.text, " ", ""))
		if err != nil {
			d.problem(
				item, fmt.Sprintf("%s[%d]", path, i), shown(item.text)+" is not from one address to a later one",
				"write such as 10.214.0.100-10.214.0.199",
			)
			continue
		}
		for _, p := range span.Prefixes() {
			one := *item
			one.text = p.String()
			out = append(out, &one)
		}
	}
	return out
}

func (d *decoder) prefix(n *node, path string, v reflect.Value, host bool) {
	text, ok := d.scalar(n, path)
	if !ok {
		return
	}
	if host {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			d.problem(
				n, path, shown(text)+" is not an address with a prefix length", "write one such as 169.254.140.1/30",
			)
			return
		}
		v.Set(reflect.ValueOf(p))
		return
	}
	p, err := prefix.Parse(text)
	if err != nil {
		e := err.(*prefix.Error)
		d.problem(n, path, shown(text)+" "+e.Why, e.Want)
		return
	}
	v.Set(reflect.ValueOf(p))
}

func (d *decoder) address(n *node, path string, v reflect.Value) {
	text, ok := d.scalar(n, path)
	if !ok {
		return
	}
	a, err := netip.ParseAddr(text)
	if err != nil || a.Zone() != "" || a.Is4In6() {
		d.problem(n, path, shown(text)+" is not an address", "write one such as 203.0.113.20 or 2001:db8::1")
		return
	}
	v.Set(reflect.ValueOf(a))
}

func (d *decoder) plain(n *node, path string, v reflect.Value, tag reflect.StructTag) {
	if n.shape == null && v.Kind() == reflect.String {
		return
	}
	text, ok := d.scalar(n, path)
	if !ok {
		return
	}
	if t, ok := v.Addr().Interface().(encoding.TextUnmarshaler); ok {
		if err := t.UnmarshalText([]byte(text)); err != nil {
			d.problem(n, path, err.Error(), "")
		}
		return
	}
	switch v.Kind() {
	case reflect.String:
		if words := EnumOf(tag); words != nil && !slices.Contains(words, text) &&
			!(text == drafted && tag.Get("enum") == "states") { // in files of before
			d.problem(n, path, shown(text)+" is not known", "write one of "+strings.Join(words, ", "))
			return
		}
		v.SetString(text)
	case reflect.Bool:
		b, err := strconv.ParseBool(text)
		if err != nil {
			d.problem(n, path, shown(text)+" is neither true nor false", "write true or false")
			return
		}
		v.SetBool(b)
	default:
		u, err := strconv.ParseUint(text, 10, v.Type().Bits())
		if err != nil {
			d.problem(
				n, path, shown(text)+" is not a whole number in range",
				fmt.Sprintf("write one from 0 to %d", uint64(1)<<v.Type().Bits()-1),
			)
			return
		}
		v.SetUint(u)
	}
}

func (d *decoder) scalar(n *node, path string) (string, bool) {
	if n.shape != scalar {
		d.problem(n, path, "is "+n.shape.String(), "a single value is needed")
		return "", false
	}
	return n.text, true
}

func implementsText(v reflect.Value) bool {
	_, ok := v.Addr().Interface().(encoding.TextUnmarshaler)
	return ok
}

func keyOf(sf reflect.StructField) (key string, optional bool) {
	key, rest, _ := strings.Cut(sf.Tag.Get("yaml"), ",")
	return key, rest == "omitempty"
}

func fieldByKey(t reflect.Type, key string) (reflect.StructField, bool) {
	for n := range t.NumField() {
		if k, _ := keyOf(t.Field(n)); k == key {
			return t.Field(n), true
		}
	}
	return reflect.StructField{}, false
}

func keysOf(t reflect.Type) []string {
	var out []string
	for n := range t.NumField() {
		k, _ := keyOf(t.Field(n))
		out = append(out, k)
	}
	return out
}

func kindsIn(tag string) []Kind {
	var out []Kind
	for _, k := range strings.Split(tag, ",") {
		out = append(out, Kind(k))
	}
	return out
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}
