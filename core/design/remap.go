package design

import (
	"encoding/json"
	"net/netip"
	"reflect"
)

// Remap returns a copy of o in which every reference, its own ID and its
// parent's are replaced as ids says; what ids does not hold stays.
func (o *Object) Remap(ids map[ID]ID) (*Object, error) {
	to := func(id ID) ID {
		if other, ok := ids[id]; ok {
			return other
		}
		return id
	}
	text, err := json.Marshal(o.Body)
	if err != nil {
		return nil, err
	}
	root, err := parseJSON(text)
	if err != nil {
		return nil, err
	}
	var problems Problems
	d := decoder{
		problem: func(_ *node, field, why, want string) {
			problems = append(problems, Problem{Field: field, Why: why, Want: want})
		},
		resolve: func(_ *node, _, text string, _ []Kind) Ref { return to(Ref(text)) },
	}
	body := reflect.New(specOf(o.Kind).body)
	d.mappingInto(root, "", body.Elem(), nil)
	if len(problems) > 0 {
		return nil, problems
	}
	return &Object{ID: to(o.ID), Kind: o.Kind, Parent: to(o.Parent), Name: o.Name, Body: body.Interface().(Body)}, nil
}

// Rewrite says what takes the place of what in a body. A nil function keeps.
type Rewrite struct {
	ID      func(ID) ID
	Prefix  func(netip.Prefix) netip.Prefix
	Address func(netip.Addr) netip.Addr
	Number  func(key string, n uint32) uint32
}

// Rewritten returns a copy of o, under other IDs, with its values rewritten.
func (o *Object) Rewritten(r Rewrite) (*Object, error) {
	c, err := o.Remap(nil)
	if err != nil {
		return nil, err
	}
	c.ID, c.Parent = r.ID(o.ID), r.ID(o.Parent)
	r.rewrite(reflect.ValueOf(c.Body).Elem(), reflect.StructField{})
	return c, nil
}

func (r Rewrite) rewrite(v reflect.Value, sf reflect.StructField) {
	switch x := v.Interface().(type) {
	case netip.Prefix:
		if r.Prefix != nil && x.IsValid() {
			v.Set(reflect.ValueOf(r.Prefix(x)))
		}
		return
	case netip.Addr:
		if r.Address != nil && x.IsValid() {
			v.Set(reflect.ValueOf(r.Address(x)))
		}
		return
	case uint32:
		if r.Number != nil {
			key, _ := keyOf(sf)
			v.SetUint(uint64(r.Number(key, x)))
		}
		return
	}
	switch v.Kind() {
	case reflect.String:
		if sf.Tag.Get("ref") != "" && v.String() != "" {
			v.SetString(string(r.ID(ID(v.String()))))
		}
	case reflect.Slice:
		for n := range v.Len() {
			r.rewrite(v.Index(n), sf)
		}
	case reflect.Struct:
		for n := range v.NumField() {
			if v.Type().Field(n).IsExported() {
				r.rewrite(v.Field(n), v.Type().Field(n))
			}
		}
	}
}

// Same reports whether two objects are equal in everything but their IDs.
func Same(a, b *Object) bool {
	if a == nil || b == nil {
		return a == b
	}
	c := *b
	c.ID, c.Parent = a.ID, a.Parent
	return same(a, &c)
}

// Equal reports whether two objects are the same, IDs included.
func Equal(a, b *Object) bool { return a == b || same(a, b) }

// Differences names the fields in which two objects of one kind differ.
func Differences(a, b *Object) []string {
	var out []string
	if a.Name != b.Name {
		out = append(out, "name")
	}
	x, y := reflect.ValueOf(a.Body).Elem(), reflect.ValueOf(b.Body).Elem()
	for n := range x.NumField() {
		if !alike(x.Field(n), y.Field(n)) {
			key, _ := keyOf(x.Type().Field(n))
			out = append(out, key)
		}
	}
	return out
}
