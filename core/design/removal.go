package design

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strconv"
)

// Removal is what it takes to remove something: nothing that is left may refer
// to what is gone.
type Removal struct {
	Goes    []Effect `json:"goes" doc:"What goes: the objects themselves, what is inside them, and what can not be without them."`
	Changes []Effect `json:"changes" doc:"What stays and no longer names them."`
	Edits   []Edit   `json:"edits"`
}

// Effect is what becomes of one object, and why.
type Effect struct {
	ID    ID     `json:"id"`
	Kind  Kind   `json:"kind"`
	Title string `json:"title"`
	Why   string `json:"why,omitempty"`
}

// Removal works out how objects can be removed. IDs of nothing are left out.
func (d *Design) Removal(ids ...ID) Removal {
	r := remover{design: d, gone: map[ID]bool{}, out: Removal{Goes: []Effect{}, Changes: []Effect{}, Edits: []Edit{}}}
	for _, id := range ids {
		r.remove(id, "")
	}
	for n := 0; n < len(r.out.Goes); n++ { // grows while it is gone through
		for _, o := range d.Referring(r.out.Goes[n].ID) {
			if strip(reflect.ValueOf(copyOf(o)).Elem(), r.gone) {
				continue
			}
			r.remove(o.ID, fmt.Sprintf("it needs %s", r.out.Goes[n].Title))
		}
		r.status(r.out.Goes[n])
	}
	seen := map[ID]bool{}
	for _, g := range r.out.Goes {
		r.out.Edits = append(r.out.Edits, Edit{Op: Remove, ID: g.ID})
		for _, o := range d.Referring(g.ID) {
			if r.gone[o.ID] || seen[o.ID] {
				continue
			}
			seen[o.ID] = true
			body := copyOf(o)
			strip(reflect.ValueOf(body).Elem(), r.gone)
			r.out.Changes = append(r.out.Changes, Effect{o.ID, o.Kind, d.Title(o.ID), "it no longer names " + g.Title})
			r.out.Edits = append(r.out.Edits, PutEdit(o.With(body)))
		}
	}
	r.routers()
	r.stands()
	return r.out
}

// routers takes the address of an inner router away whose LAN goes.
func (r *remover) routers() {
	for _, g := range r.out.Goes {
		lan, ok := r.design.Get(g.ID).Body.(*LAN)
		if !ok {
			continue
		}
		for o, body := range Each[InnerRoute](r.design.Inside(r.design.Get(g.ID).Parent, KindInnerRoute)) {
			b := *body
			if r.gone[o.ID] || !b.Via.IsValid() ||
				!slices.ContainsFunc(lan.Prefixes, func(p netip.Prefix) bool { return p.Contains(b.Via) }) {
				continue
			}
			r.out.Changes = append(
				r.out.Changes,
				Effect{
					o.ID, o.Kind, r.design.Title(o.ID), fmt.Sprintf("its inner router %s stood in %s", b.Via, g.Title),
				},
			)
			b.Via = netip.Addr{}
			r.out.Edits = append(r.out.Edits, PutEdit(o.With(&b)))
		}
	}
}

// status removes the boxes, and listeners of the cloud itself, that stand nowhere
// once a LAN or subnet goes.
func (r *remover) status(g Effect) {
	place := r.design.Get(g.ID)
	if place.Kind != KindLAN && place.Kind != KindSubnet {
		return
	}
	for o, body := range Each[Box](r.design.Inside(place.Parent, KindBox)) {
		if len(r.left(place.Parent, body.Addresses)) == 0 {
			r.remove(o.ID, "it stands in "+g.Title)
		}
	}
	for o, l := range r.design.ListenersAt(place.Parent) {
		if len(r.left(place.Parent, []netip.Addr{l.Address})) == 0 {
			r.remove(o.ID, "it listens in "+g.Title)
		}
	}
}

// left are the addresses that are still in a LAN or subnet of a party.
func (r *remover) left(party ID, list []netip.Addr) []netip.Addr {
	return slices.DeleteFunc(slices.Clone(list), func(a netip.Addr) bool {
		place := r.design.placeWith(party, a)
		return place == nil || r.gone[place.ID]
	})
}

// stands takes addresses away that were in what goes.
func (r *remover) stands() {
	parties := map[ID]bool{}
	for _, g := range slices.Clone(r.out.Goes) {
		o := r.design.Get(g.ID)
		if o.Kind != KindLAN && o.Kind != KindSubnet || parties[o.Parent] || r.gone[o.Parent] {
			continue
		}
		parties[o.Parent] = true
		for _, f := range r.design.Forwarders(o.Parent) {
			list := StandsAt(f)
			left := r.left(o.Parent, list)
			if r.gone[f.ID] || len(left) == len(list) {
				continue
			}
			now := f
			for _, e := range r.out.Edits { // it may have lost something else
				if e.ID == f.ID && e.Object != nil {
					now = e.Object
				}
			}
			switch now.Body.(type) {
			case *Gateway:
				now = Edited(now, func(c *Gateway) { c.Stands = left })
			case *Box:
				now = Edited(now, func(c *Box) { c.Addresses = left })
			}
			r.out.Changes = append(
				r.out.Changes, Effect{f.ID, f.Kind, r.design.Title(f.ID), "it had an address in " + g.Title},
			)
			r.out.Edits = append(r.out.Edits, PutEdit(now))
		}
	}
}

// Complete reports whether a body names something wherever it must.
func Complete(o *Object) bool {
	return strip(reflect.ValueOf(copyOf(o)).Elem(), map[ID]bool{"": true})
}

type remover struct {
	design *Design
	gone   map[ID]bool
	out    Removal
}

func (r *remover) remove(id ID, why string) {
	o := r.design.Get(id)
	if o == nil || r.gone[id] {
		return
	}
	r.gone[id] = true
	r.out.Goes = append(r.out.Goes, Effect{id, o.Kind, r.design.Title(id), why})
	for _, inner := range r.design.Inside(id) {
		r.remove(inner.ID, "it is inside "+r.design.Title(id))
	}
}

// copyOf is a body that shares nothing with the object's.
func copyOf(o *Object) Body {
	c, err := o.Remap(nil)
	if err != nil { // what is in a design was read by the same decoder
		panic(err)
	}
	return c.Body
}

// strip takes every reference to what is gone out of a value, and reports whether
// the value can be without.
func strip(v reflect.Value, gone map[ID]bool) bool {
	for n := range v.NumField() {
		sf, f := v.Type().Field(n), v.Field(n)
		_, optional := keyOf(sf)
		ref := sf.Tag.Get("ref") != ""
		switch {
		case f.Kind() == reflect.String && ref:
			if !gone[Ref(f.String())] {
				continue
			}
			if !optional {
				return false
			}
			f.SetString("")
		case f.Kind() == reflect.Slice &&
			(ref || f.Type().Elem().Kind() == reflect.Struct && f.Type().Elem().PkgPath() == v.Type().PkgPath()):
			kept := reflect.MakeSlice(f.Type(), 0, f.Len())
			for i := range f.Len() {
				e := f.Index(i)
				if ref && !gone[Ref(e.String())] || !ref && strip(e, gone) {
					kept = reflect.Append(kept, e)
				}
			}
			least, _ := strconv.Atoi(sf.Tag.Get("min"))
			if kept.Len() < least || kept.Len() == 0 && f.Len() > 0 && sf.Tag.Get("narrows") != "" {
				return false // without any it would be for everything, or there for nothing
			}
			if kept.Len() < f.Len() {
				f.Set(kept)
			}
		}
	}
	return true
}
