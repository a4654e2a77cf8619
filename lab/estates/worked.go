package estates

import (
	"encoding/json"
	"math/rand/v2"
	"slices"

	"dravin/core/design"
)

// Worked is a pair of designs: what a random estate is, and what it becomes by some edits of any kind. Either of the
// two is the plan, so that things are made, changed and taken away.
func Worked(seed uint64) *design.Design {
	r := rand.New(rand.NewPCG(seed, 7))
	whole := Make(seed, Options{Joined: true, Intents: true, Segments: seed%2 == 0})
	other := whole
	for n, tries := 1+r.IntN(12), 0; n > 0 && tries < 200; tries++ {
		all := other.All()
		o := all[r.IntN(len(all))]
		var edits []design.Edit
		switch {
		case design.Shared(o.Kind):
			continue
		case r.IntN(3) == 0:
			edits = other.Removal(o.ID).Edits
		default:
			edits = []design.Edit{design.PutEdit(changed(r, o))}
		}
		if next, _, err := other.Apply(edits); err == nil {
			other, n = next, n-1
		}
	}
	if r.IntN(2) == 0 {
		return whole.WithBuilt(other)
	}
	return other.WithBuilt(whole)
}

// changed is an object of which something is otherwise: a field that says something says nothing, or its name is
// another.
func changed(r *rand.Rand, o *design.Object) *design.Object {
	fields := design.Outline(o.Kind)
	values := design.Values(o)
	for range 5 {
		f := fields[r.IntN(len(fields))]
		if _, says := values[f.Key]; !says || !f.Optional {
			continue
		}
		values[f.Key] = other(r, values[f.Key])
		if values[f.Key] == nil {
			delete(values, f.Key)
		}
		text, err := json.Marshal(values)
		if err != nil {
			panic(err)
		}
		if b, err := design.DecodeBody(o.Kind, text); err == nil {
			return o.With(b)
		}
	}
	c := *o
	c.Name += " anew"
	return &c
}

// other is another value of a field, or nil for none.
func other(r *rand.Rand, value any) any {
	switch v := value.(type) {
	case bool:
		return !v
	case float64:
		return v + 1
	case []any:
		if len(v) > 1 && r.IntN(2) == 0 {
			return v[:len(v)-1]
		}
		if len(v) > 1 {
			return append(slices.Clone(v[1:]), v[0])
		}
	}
	return nil
}
