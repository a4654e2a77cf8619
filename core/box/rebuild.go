package box

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"dravin/core/design"
	"dravin/core/route"
)

// Told are the instructions of all parties, party by party.
func Told(t *route.Tables) []Instruction {
	var out []Instruction
	for _, p := range t.Design.Inside("", Parties...) {
		out = append(out, Instructions(t, p.ID)...)
	}
	return out
}

// Rebuilt is the design that instructions alone make: of what has two ends each end is taken
// from the party that it is told to. Sites, segments and the profiles of clouds are the world in
// which they are followed. An error names the instruction that makes no sense.
func Rebuilt(world *design.Design, all []Instruction) (*design.Design, error) {
	r := rebuilding{ids: map[string][]told{}, bodies: map[design.ID]map[string]any{}}
	for _, o := range world.All() {
		if o.Kind == design.KindSite || o.Kind == design.KindSegment {
			r.put(&design.Object{ID: o.ID, Kind: o.Kind, Name: o.Name, Body: design.Bodies()[o.Kind]})
			r.ids[world.Path(o.ID)] = append(r.ids[world.Path(o.ID)], told{o.ID, o.Kind})
		}
		if o.Kind == design.KindProfile {
			r.put(o)
		}
	}
	var first []Instruction
	for _, i := range all {
		if one := (told{i.ID, i.Kind}); !slices.Contains(r.ids[i.Object], one) {
			r.ids[i.Object] = append(r.ids[i.Object], one)
		}
		if r.bodies[i.ID] == nil {
			r.bodies[i.ID] = map[string]any{}
			first = append(first, i)
		}
	}
	for _, i := range all {
		for _, s := range i.Set {
			if err := r.enter(r.bodies[i.ID], design.Outline(i.Kind), strings.Split(s.Key, "/"), s.Values); err != nil {
				return nil, fmt.Errorf("%s: %s: %w", i.Object, s.Key, err)
			}
		}
	}
	for _, i := range first {
		body, err := bodyOf(i.Kind, r.bodies[i.ID])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", i.Object, err)
		}
		r.put(&design.Object{ID: i.ID, Kind: i.Kind, Parent: i.Parent, Name: i.Name, Body: body})
	}
	next, _, err := design.New("rebuilt", nil).Apply(r.edits)
	return next, err
}

// rebuilding is a design on its way: what instructions enter, by object.
type rebuilding struct {
	ids    map[string][]told // by path: an attachment and a table of a hub may have one
	bodies map[design.ID]map[string]any
	edits  []design.Edit
}

// told is what a path stands for.
type told struct {
	id   design.ID
	kind design.Kind
}

func (r *rebuilding) put(o *design.Object) { r.edits = append(r.edits, design.PutEdit(o)) }

func bodyOf(k design.Kind, values map[string]any) (design.Body, error) {
	text, err := json.Marshal(values)
	if err != nil {
		return nil, err
	}
	return design.DecodeBody(k, text)
}

// enter puts values where their key says.
func (r *rebuilding) enter(into map[string]any, fields []design.Field, key, values []string) error {
	n := slices.IndexFunc(fields, func(f design.Field) bool { return f.Key == key[0] })
	if n < 0 {
		return fmt.Errorf("there is no field %q", key[0])
	}
	f := fields[n]
	switch {
	case f.Type != design.TypeParts:
		return r.set(into, f, values)
	case f.Many:
		return r.enterInto(into, f, key, values)
	}
	part, _ := into[f.Key].(map[string]any)
	if part == nil {
		part = map[string]any{}
	}
	into[f.Key] = part
	return r.enter(part, f.Parts, key[1:], values)
}

// enterInto puts values into one part of a list.
func (r *rebuilding) enterInto(into map[string]any, f design.Field, key, values []string) error {
	at, err := strconv.Atoi(key[1])
	if err != nil {
		return err
	}
	list, _ := into[f.Key].([]any)
	for len(list) <= at {
		list = append(list, map[string]any{})
	}
	into[f.Key] = list
	return r.enter(list[at].(map[string]any), f.Parts, key[2:], values)
}

func (r *rebuilding) set(into map[string]any, f design.Field, values []string) error {
	var list []any
	for _, v := range values {
		switch f.Type {
		case design.TypeNumber:
			list = append(list, json.Number(v))
		case design.TypeYesNo:
			list = append(list, v == "true")
		case design.TypeReference:
			all := r.ids[v]
			if len(all) == 0 {
				return fmt.Errorf("nobody is told of %s", v)
			}
			n := max(slices.IndexFunc(all, func(x told) bool { return slices.Contains(f.Kinds, x.kind) }), 0)
			list = append(list, all[n].id)
		default:
			list = append(list, v)
		}
	}
	if f.Many {
		into[f.Key] = list
	} else if len(list) > 0 {
		into[f.Key] = list[0]
	}
	return nil
}
