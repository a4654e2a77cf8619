package design

import (
	"encoding"
	"fmt"
	"reflect"
	"strings"

	"github.com/goccy/go-yaml"
)

// Write gives the design as a design file in canonical order: grouped by
// party, kinds in the order of the documentation, siblings by name, what is
// empty left out; then what is otherwise built. [Read] of it gives an equal design, IDs aside.
func (d *Design) Write() ([]byte, error) {
	root := yaml.MapSlice{{Key: "dravin", Value: FileVersion}}
	if d.Name != "" {
		root = append(root, yaml.MapItem{Key: "name", Value: d.Name})
	}
	root = d.writeInside(root, "")
	if built := d.writeBuilt(); built != nil {
		root = append(root, yaml.MapItem{Key: keyBuilt, Value: built})
	}
	file, err := yaml.MarshalWithOptions(root, yaml.IndentSequence(true))
	if err != nil {
		return nil, fmt.Errorf("writing the design file: %w", err)
	}
	return file, nil
}

func (d *Design) writeInside(to yaml.MapSlice, parent ID) yaml.MapSlice {
	for _, s := range specs {
		var items []yaml.MapSlice
		for _, o := range d.Inside(parent, s.kind) {
			item := yaml.MapSlice{{Key: "name", Value: o.Name}}
			item = d.writeStruct(item, reflect.ValueOf(o.Body).Elem())
			items = append(items, d.writeInside(item, o.ID))
		}
		if len(items) > 0 {
			to = append(to, yaml.MapItem{Key: s.collection, Value: items})
		}
	}
	return to
}

func (d *Design) writeStruct(to yaml.MapSlice, v reflect.Value) yaml.MapSlice {
	for n := range v.NumField() {
		key, optional := keyOf(v.Type().Field(n))
		f := v.Field(n)
		if optional && (f.IsZero() || f.Kind() == reflect.Slice && f.Len() == 0) {
			continue
		}
		to = append(to, yaml.MapItem{Key: key, Value: d.writeValue(f)})
	}
	return to
}

func (d *Design) writeValue(v reflect.Value) any {
	if t, ok := v.Interface().(encoding.TextMarshaler); ok {
		text, err := t.MarshalText()
		if err != nil {
			return ""
		}
		return string(text)
	}
	switch {
	case v.Type() == reflect.TypeFor[Ref]():
		return d.Path(Ref(v.String()))
	case v.Kind() == reflect.Slice:
		out := make([]any, v.Len())
		for n := range out {
			out[n] = d.writeValue(v.Index(n))
		}
		return out
	case v.Kind() == reflect.Pointer:
		return d.writeStruct(nil, v.Elem())
	case v.Kind() == reflect.Struct:
		return d.writeStruct(nil, v)
	}
	return v.Interface()
}

// writtenBody is a body's values as in a design file, by key: references as paths.
func (d *Design) writtenBody(o *Object) map[string]string {
	out := map[string]string{}
	for _, item := range d.writeStruct(nil, reflect.ValueOf(o.Body).Elem()) {
		text := fmt.Sprint(item.Value)
		if list, ok := item.Value.([]any); ok {
			text = strings.TrimSuffix(strings.TrimPrefix(fmt.Sprint(list), "["), "]")
		}
		out[item.Key.(string)] = text
	}
	return out
}
