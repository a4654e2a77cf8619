package walk

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// Two hosts are alike if no packet can tell which of them sends or gets it but by its address, and nothing in the
// design tells their addresses apart: they stand in one place and in the same groups, answer the same, and nothing
// names either of them alone. What one of them reaches, and who reaches it, holds for the other, too.

// alikeness tells which hosts of a design are alike.
type alikeness struct {
	d    *design.Design
	told prefix.Table[int] // ranges that something tells from what is around them
}

func alikenessOf(t *route.Tables) *alikeness {
	a := &alikeness{d: t.Design}
	for n, p := range t.Told() {
		a.told.Add(p, n)
	}
	return a
}

// key is the same for hosts that are alike.
func (a *alikeness) key(h Host) string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s %t", h.Place, h.Address.Is4())
	if a.alone(h) {
		fmt.Fprintf(&out, " %s %s", h.Endpoint, h.Address)
		return out.String()
	}
	if e, ok := a.bodyOf(h); ok {
		for _, g := range a.d.GroupsOf(h.Endpoint, h.Place) {
			fmt.Fprintf(&out, " %s", g.ID)
		}
		answers := make([]string, 0, len(e.Answers))
		for _, s := range e.Answers {
			answers = append(answers, s.String())
		}
		slices.Sort(answers)
		fmt.Fprintf(&out, " answers %s", strings.Join(answers, " "))
	}
	fmt.Fprint(&out, a.told.Matches(h.Address))
	return out.String()
}

func (a *alikeness) bodyOf(h Host) (*design.Endpoint, bool) {
	o := a.d.Get(h.Endpoint)
	if o == nil {
		return nil, false
	}
	e, ok := o.Body.(*design.Endpoint)
	return e, ok
}

// alone reports whether something names a host and no other: a filter, a mapping, a published service, a rule.
func (a *alikeness) alone(h Host) bool {
	e, ok := a.bodyOf(h)
	if !ok {
		return true
	}
	named := len(e.Public) > 0 || len(e.Addresses) > 1
	for _, k := range namers {
		named = named || len(a.d.Referring(h.Endpoint, k)) > 0
	}
	return named
}

// namers are the kinds that may name a host in a way that packets meet: not those that only speak of it.
var namers = slices.DeleteFunc(design.Kinds(), func(k design.Kind) bool {
	return slices.Contains([]design.Kind{design.KindIntent, design.KindGroup, design.KindNames}, k)
})

// anybody is an address of the family of a destination that no step that looks at no source can tell from another.
func anybody(to Header) netip.Addr {
	if to.Dst.Is4() {
		return netip.IPv4Unspecified()
	}
	return netip.IPv6Unspecified()
}
