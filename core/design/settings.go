package design

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"

	"github.com/goccy/go-yaml"
)

// Setting is one value of an object, or a list of values, as in a design file.
type Setting struct {
	// Key is the way to the field: its own key, and of parts those around it with their
	// position from 0, such as ends/1/routes.
	Key    string   `json:"key"`
	Values []string `json:"values"` // in the file's form; references as paths
}

// Settings are all values that an object has, in the order of its file; what is left out
// there is left out here.
func (d *Design) Settings(o *Object) []Setting {
	var out []Setting
	flatten(&out, "", d.writeStruct(nil, reflect.ValueOf(o.Body).Elem()))
	return out
}

func flatten(out *[]Setting, before string, fields yaml.MapSlice) {
	for _, f := range fields {
		key := before + f.Key.(string)
		list, many := f.Value.([]any)
		if part, ok := f.Value.(yaml.MapSlice); ok {
			flatten(out, key+"/", part)
			continue
		}
		if !many {
			list = []any{f.Value}
		}
		if slices.ContainsFunc(list, func(v any) bool { _, part := v.(yaml.MapSlice); return part }) {
			for n, v := range list {
				if part, ok := v.(yaml.MapSlice); ok {
					flatten(out, key+"/"+strconv.Itoa(n)+"/", part)
				}
			}
			continue
		}
		s := Setting{Key: key}
		for _, v := range list {
			s.Values = append(s.Values, fmt.Sprint(v))
		}
		*out = append(*out, s)
	}
}
