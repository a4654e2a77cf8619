package design

import (
	"encoding/json"
	"net/netip"
	"reflect"
	"strings"

	"dravin/core/provider"
)

// Schema is the JSON Schema (2020-12) of the design file.
func Schema() ([]byte, error) {
	root := map[string]any{
		"title":                "Dravin design file",
		"type":                 "object",
		"required":             []string{"dravin"},
		"additionalProperties": false,
	}
	defs := map[string]any{}
	for _, s := range specs {
		properties := map[string]any{
			"name": map[string]any{
				"type": "string", "maxLength": maxName, "description": "Its name, unique among its siblings.",
			},
		}
		required := structSchema(s.body, properties)
		collectionSchema(&Object{Kind: s.kind}, properties)
		defs[string(s.kind)] = map[string]any{
			"type": "object", "description": s.doc, "additionalProperties": false,
			"properties": properties, "required": append([]string{"name"}, required...),
		}
	}
	top := map[string]any{
		"dravin": map[string]any{"const": FileVersion, "description": "The version of the design file."},
		"name":   map[string]any{"type": "string", "description": "The estate's name."},
	}
	top[keyBuilt] = builtSchema()
	collectionSchema(nil, top)
	root["properties"], root["$defs"] = top, defs
	return schemaText(root)
}

// builtSchema is what a design file has of what is there.
func builtSchema() map[string]any {
	text := map[string]any{"type": "string"}
	list := func(item map[string]any, doc string) map[string]any {
		return map[string]any{"type": "array", "items": item, "description": doc}
	}
	item := func(required ...string) map[string]any {
		properties := map[string]any{}
		for _, key := range required {
			properties[key] = text
		}
		return map[string]any{"type": "object", "properties": properties, "required": required}
	}
	return map[string]any{
		"description": "What is otherwise there than planned; left out: what is planned is built, but for what has a state.",
		"oneOf": []any{
			map[string]any{"const": nothingBuilt},
			map[string]any{"type": "object", "additionalProperties": false, "properties": map[string]any{
				keyNotThere:  list(text, "Objects of the plan that are not there, by kind and path, with all that stands in them."),
				keyDiffers:   list(item(keyObject), "Objects with the fields that are otherwise there; null: none."),
				keyOnlyThere: list(item(keyKind, "name"), "Objects that are there and not in the plan."),
			}},
		},
	}
}

func schemaText(root map[string]any) ([]byte, error) {
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	return json.MarshalIndent(root, "", "  ")
}

func collectionSchema(parent *Object, into map[string]any) {
	for _, s := range specs {
		if s.fits(parent) {
			into[s.collection] = map[string]any{
				"type": "array", "items": map[string]any{"$ref": "#/$defs/" + string(s.kind)},
			}
		}
	}
}

func structSchema(t reflect.Type, properties map[string]any) (required []string) {
	for n := range t.NumField() {
		sf := t.Field(n)
		key, optional := keyOf(sf)
		if !optional {
			required = append(required, key)
		}
		s := typeSchema(sf.Type, sf.Tag)
		s["description"] = DocOf(t, sf.Name)
		properties[key] = s
	}
	return required
}

func typeSchema(t reflect.Type, tag reflect.StructTag) map[string]any {
	switch {
	case t == reflect.TypeFor[netip.Prefix]():
		return map[string]any{"type": "string", "examples": []string{"10.214.0.0/22"}}
	case t == reflect.TypeFor[netip.Addr]():
		return map[string]any{"type": "string", "examples": []string{"203.0.113.20"}}
	case t == reflect.TypeFor[Service]():
		return map[string]any{"type": "string", "pattern": "^(icmp|(tcp|udp)/[0-9]{1,5})$"}
	case t == reflect.TypeFor[Traffic]():
		return map[string]any{
			"type":    "string",
			"pattern": "^(esp|icmp(/(" + strings.Join(Messages, "|") + "))?|(tcp|udp)(/[0-9]{1,5}(-[0-9]{1,5})?)?)$",
		}
	case t == reflect.TypeFor[provider.Money]():
		return map[string]any{"type": []string{"string", "number"}, "examples": []string{"0.05"}}
	case t.Kind() == reflect.Pointer:
		return typeSchema(t.Elem(), tag)
	case t == reflect.TypeFor[Ref]():
		return map[string]any{"type": "string", "examples": []string{"peatside-nursery/glasshouse"}}
	case t.Kind() == reflect.Slice:
		item := typeSchema(t.Elem(), tag)
		return map[string]any{"anyOf": []any{map[string]any{"type": "array", "items": item}, item}}
	case t.Kind() == reflect.Struct:
		properties := map[string]any{}
		required := structSchema(t, properties)
		return map[string]any{
			"type": "object", "additionalProperties": false, "properties": properties, "required": required,
		}
	case t.Kind() == reflect.Bool:
		return map[string]any{"type": "boolean"}
	case t.Kind() == reflect.String:
		s := map[string]any{"type": "string"}
		if words := EnumOf(tag); words != nil {
			s["enum"] = words
			return s
		}
		f := forms[tag.Get("form")]
		s["maxLength"] = f.most
		if f.pattern != "" {
			s["pattern"] = f.pattern
		}
		return s
	}
	return map[string]any{"type": "integer", "minimum": 0}
}
