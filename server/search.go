package server

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/overlap"
	"dravin/core/prefix"
	"dravin/core/walk"
)

// Found is one result of a search.
type Found struct {
	ID    design.ID   `json:"id"`
	Kind  design.Kind `json:"kind"`
	Title string      `json:"title"`
	Hint  string      `json:"hint" doc:"Its path, or why an address leads to it."`
}

const maxFound = 30

func searchFor(v *solved, in *inSearch) ([]Found, error) {
	out := []Found{}
	text := strings.ToLower(strings.TrimSpace(in.Text))
	d := v.design
	if a, err := netip.ParseAddr(text); err == nil {
		for _, i := range walk.Identities(v.tables(), a) {
			id := i.Place
			if i.Endpoint != "" {
				id = i.Endpoint
			}
			hint := "holds " + i.Real.String()
			if i.Real != a {
				hint = "is seen as " + a.String() + ", really " + i.Real.String()
			}
			out = append(out, Found{id, d.Get(id).Kind, i.Title, hint})
		}
		return out, nil
	}
	if p, err := prefix.Parse(text); err == nil {
		return holdersOf(v, p), nil
	}
	if partial.MatchString(text) {
		return partly(v, text), nil
	}
	for _, o := range d.All() {
		path := d.Path(o.ID)
		if len(in.Kinds) > 0 && !slices.Contains(in.Kinds, string(o.Kind)) {
			continue
		}
		if len(out) < maxFound &&
			(text == "" || strings.Contains(strings.ToLower(d.Title(o.ID)), text) || strings.Contains(strings.ToLower(o.Name),
				text) || strings.Contains(path, text)) {
			out = append(out, Found{o.ID, o.Kind, d.Title(o.ID), path})
		}
	}
	return out, nil
}

// holdersOf lists who holds a prefix, as a whole or in part.
func holdersOf(v *solved, p netip.Prefix) []Found {
	claims := overlap.Claims(v.design)
	ranges := make([]netip.Prefix, len(claims))
	for n, c := range claims {
		ranges[n] = c.Prefix
	}
	x := prefix.NewIndex(ranges)
	out := []Found{}
	for _, n := range append(x.Containing(p), x.Inside(p)...) {
		c := claims[n]
		f := Found{c.Owner, c.Kind, c.Title, "holds " + c.Prefix.String()}
		if len(out) < maxFound && !slices.Contains(out, f) {
			out = append(out, f)
		}
	}
	return out
}

// partial is how a part of an address looks, such as 192.168.216 or 2001:db8:31.
var partial = regexp.MustCompile(`^(\d{1,3}(\.\d{0,3}){1,3}|[0-9a-f]{0,4}(:[0-9a-f]{0,4})+)$`)

// partly lists what lies where a part of an address points: ranges and addresses that begin with it, and
// then the wider ranges that hold those.
func partly(v *solved, text string) []Found {
	out := []Found{}
	add := func(f Found) {
		if len(out) < maxFound && !slices.Contains(out, f) {
			out = append(out, f)
		}
	}
	for _, c := range overlap.Claims(v.design) {
		if strings.HasPrefix(c.Prefix.String(), text) {
			add(Found{c.Owner, c.Kind, c.Title, "holds " + c.Prefix.String()})
		}
	}
	for _, o := range v.design.All() {
		for _, a := range addressesOf(o) {
			if strings.HasPrefix(a.String(), text) {
				add(Found{o.ID, o.Kind, v.design.Title(o.ID), "has " + a.String()})
			}
		}
	}
	if strings.Contains(text, ":") {
		return out
	}
	whole := strings.TrimRight(text, ".")
	bits := fmt.Sprint(8 * (1 + strings.Count(whole, ".")))
	if l, err := prefix.ReadLoose(whole, bits); err == nil {
		for _, f := range holdersOf(v, l.Prefixes[0]) {
			add(f)
		}
	}
	return out
}

// addressesOf are the single addresses that an object has.
func addressesOf(o *design.Object) []netip.Addr {
	switch b := o.Body.(type) {
	case *design.Endpoint:
		return b.Addresses
	case *design.Gateway:
		return b.Addresses
	case *design.Box:
		return b.Addresses
	case *design.Listener:
		return []netip.Addr{b.Address}
	}
	return nil
}
