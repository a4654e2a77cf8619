package design

import "reflect"

// Fitting is as much of an object as can be put where not all is there that it names: fields that name what is missing
// stay as they were. It is nil where the object can not be without one of them. was is the object as it is; nil: there
// is none.
func Fitting(o, was *Object, there func(ID) bool) *Object {
	if o.Parent != "" && !there(o.Parent) {
		return nil
	}
	if was != nil && was.Kind != o.Kind {
		return nil
	}
	body := copyOf(o)
	v := reflect.ValueOf(body).Elem()
	changed := false
	for n := range v.NumField() {
		if !namesMissing(v, n, there) {
			continue
		}
		changed = true
		_, optional := keyOf(v.Type().Field(n))
		switch {
		case was != nil:
			v.Field(n).Set(reflect.ValueOf(was.Body).Elem().Field(n))
		case optional && v.Type().Field(n).Tag.Get("narrows") == "":
			v.Field(n).SetZero()
		default:
			return nil
		}
	}
	if !changed {
		return o
	}
	return o.With(body)
}

// namesMissing reports whether a field names something that is not there.
func namesMissing(v reflect.Value, field int, there func(ID) bool) (missing bool) {
	alone := reflect.New(v.Type()).Elem()
	alone.Field(field).Set(v.Field(field))
	eachRef(alone, "", func(_ string, to Ref, _ string, _ bool) {
		missing = missing || to != "" && !there(to)
	})
	return missing
}

// within is the key of what an object stands in.
const within = "within"

// WithFields is an object with some fields of another of its kind, by the keys of [FieldsUnlike].
func WithFields(o, of *Object, keys []string) *Object {
	out := *o
	body := copyOf(o)
	v, from := reflect.ValueOf(body).Elem(), reflect.ValueOf(of.Body).Elem()
	for _, key := range keys {
		switch key {
		case "name":
			out.Name = of.Name
		case within:
			out.Parent = of.Parent
		default:
			for n := range v.NumField() {
				if k, _ := keyOf(v.Type().Field(n)); k == key {
					v.Field(n).Set(from.Field(n))
				}
			}
		}
	}
	return out.With(body)
}

// FieldsUnlike names the fields in which two objects differ, as keys of the design file, name and what they stand in
// included; all of what is there where one is nil.
func FieldsUnlike(a, b *Object) []string {
	if a != nil && b != nil {
		out := Differences(a, b)
		if a.Parent != b.Parent {
			out = append(out, within)
		}
		return out
	}
	o := cmpFirst(a, b)
	out := []string{"name"}
	v := reflect.ValueOf(o.Body).Elem()
	for n := range v.NumField() {
		if f := v.Field(n); !f.IsZero() && !(f.Kind() == reflect.Slice && f.Len() == 0) {
			key, _ := keyOf(v.Type().Field(n))
			out = append(out, key)
		}
	}
	return out
}
