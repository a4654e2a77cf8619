package design

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
)

// DecodeBody reads the JSON form of a body, where references are IDs. Unknown
// fields and unfit values are [Problems] that name the field.
func DecodeBody(k Kind, data []byte) (Body, error) {
	s := specByKind[k]
	if s == nil {
		return nil, Problems{
			{Field: "kind", Why: fmt.Sprintf("%q is not a kind of object", k), Want: anyKind()},
		}
	}
	root, err := parseJSON(data)
	if err != nil {
		return nil, Problems{{Field: "body", Why: "is not JSON: " + err.Error(), Want: "send an object"}}
	}
	var problems Problems
	d := decoder{
		problem: func(_ *node, field, why, want string) {
			problems = append(problems, Problem{Field: field, Why: why, Want: want})
		},
		resolve: func(_ *node, _, text string, _ []Kind) Ref { return Ref(text) },
	}
	body := reflect.New(s.body)
	d.mappingInto(root, "", body.Elem(), nil)
	if len(problems) > 0 {
		return nil, problems.sorted()
	}
	return body.Interface().(Body), nil
}

// Values are a body's values as in JSON, by key; none for a nil object.
func Values(o *Object) map[string]any {
	out := map[string]any{}
	if o == nil {
		return out
	}
	text, err := json.Marshal(o.Body)
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	if err != nil { // every body is written by its tags
		panic(err)
	}
	return out
}

// Kinds lists all kinds in canonical order.
func Kinds() []Kind {
	out := make([]Kind, len(specs))
	for n, s := range specs {
		out[n] = s.kind
	}
	return out
}

// UnmarshalJSON reads an object with the body of its kind.
func (o *Object) UnmarshalJSON(data []byte) error {
	var raw struct {
		ID     ID              `json:"id"`
		Kind   Kind            `json:"kind"`
		Parent ID              `json:"parent"`
		Name   string          `json:"name"`
		Body   json.RawMessage `json:"body"`
	}
	if err := json.Unmarshal(data, &raw); err != nil {
		return err
	}
	if len(raw.Body) == 0 {
		raw.Body = []byte("{}")
	}
	body, err := DecodeBody(raw.Kind, raw.Body)
	if err != nil {
		return err
	}
	*o = Object{ID: raw.ID, Kind: raw.Kind, Parent: raw.Parent, Name: raw.Name, Body: body}
	return nil
}

func parseJSON(data []byte) (*node, error) {
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.UseNumber()
	root, err := jsonNode(dec, 0)
	if err != nil {
		return nil, err
	}
	if _, err := dec.Token(); err != io.EOF {
		return nil, fmt.Errorf("something follows the value")
	}
	return root, nil
}

func jsonNode(dec *json.Decoder, depth int) (*node, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("nested too deeply")
	}
	t, err := dec.Token()
	if err != nil {
		return nil, err
	}
	out := &node{shape: scalar}
	switch t := t.(type) {
	case nil:
		out.shape = null
	case string:
		out.text = t
	case json.Delim:
		out.shape = list
		if t == '{' {
			out.shape = mapping
		}
		for dec.More() {
			if err := jsonMember(dec, out, depth); err != nil {
				return nil, err
			}
		}
		if _, err := dec.Token(); err != nil {
			return nil, err
		}
	default:
		out.text = fmt.Sprint(t)
	}
	return out, nil
}

// jsonMember reads the next item of a list or field of a mapping.
func jsonMember(dec *json.Decoder, into *node, depth int) error {
	key := ""
	if into.shape == mapping {
		t, err := dec.Token()
		if err != nil {
			return err
		}
		key = fmt.Sprint(t)
	}
	v, err := jsonNode(dec, depth+1)
	if err != nil {
		return err
	}
	if into.shape == mapping {
		into.fields = append(into.fields, field{key: key, value: v})
	} else {
		into.items = append(into.items, v)
	}
	return nil
}
