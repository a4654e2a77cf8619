package route

import (
	"net/netip"
	"reflect"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// Difference is what a table does with one range.
type Difference struct {
	Prefix netip.Prefix `json:"prefix"`
	Source Source       `json:"source"`
	Via    string       `json:"via"`
	Path   []uint32     `json:"path"`
}

// Move is a range that a table sends another way.
type Move struct {
	Prefix netip.Prefix `json:"prefix"`
	Was    Difference   `json:"was"`
	Now    Difference   `json:"now"`
}

// TableChange is what differs in one table.
type TableChange struct {
	At      design.ID    `json:"at"`
	Segment design.ID    `json:"segment,omitempty"`
	Title   string       `json:"title"`
	Party   design.ID    `json:"party"`
	Gained  []Difference `json:"gained"`
	Lost    []Difference `json:"lost"`
	Moved   []Move       `json:"moved"`
}

// Changed tells in which tables what is used differs from those before, in the
// order of the tables. Tables that are there on one side only count, too.
func (t *Tables) Changed(before *Tables) []TableChange {
	was := map[Key]*Point{}
	for _, p := range before.Points() {
		was[Key{p.ID, p.Segment}] = p
	}
	out := []TableChange{}
	add := func(p, old *Point) {
		named := p
		if named == nil {
			named = old
		}
		c := TableChange{
			At: named.ID, Segment: named.Segment, Title: named.Title, Party: named.Party.ID, Gained: []Difference{},
			Lost: []Difference{}, Moved: []Move{},
		}
		c.compare(old, p)
		if len(c.Gained)+len(c.Lost)+len(c.Moved) > 0 {
			out = append(out, c)
		}
	}
	for _, p := range t.Points() {
		k := Key{p.ID, p.Segment}
		if old := was[k]; old != p {
			add(p, old)
		}
		delete(was, k)
	}
	for _, p := range before.Points() {
		if was[Key{p.ID, p.Segment}] != nil {
			add(nil, p)
		}
	}
	return out
}

func (c *TableChange) compare(old, now *Point) {
	was, is := old.used(), now.used()
	var all []netip.Prefix
	for p := range was {
		all = append(all, p)
	}
	for p := range is {
		if _, ok := was[p]; !ok {
			all = append(all, p)
		}
	}
	slices.SortFunc(all, prefix.Compare)
	for _, p := range all {
		a, had := was[p]
		b, has := is[p]
		switch {
		case !had:
			c.Gained = append(c.Gained, b.row())
		case !has:
			c.Lost = append(c.Lost, a.row())
		case a.Hop != b.Hop || a.Source != b.Source || !slices.Equal(pathOf(a.Learned), pathOf(b.Learned)):
			c.Moved = append(c.Moved, Move{p, a.row(), b.row()})
		}
	}
}

// Differs are the ranges for which a point has other routes than one before; other says that it differs in more than
// its routes.
func (p *Point) Differs(was *Point) (ranges []netip.Prefix, other bool) {
	if !slices.Equal(p.Self, was.Self) || !slices.Equal(p.Own, was.Own) ||
		!slices.Equal(p.Selectors, was.Selectors) || !reflect.DeepEqual(p.Translations, was.Translations) {
		return nil, true
	}
	a, b := p.Routes, was.Routes
	for len(a) > 0 || len(b) > 0 {
		var at netip.Prefix
		if len(b) == 0 || len(a) > 0 && prefix.Compare(a[0].Prefix, b[0].Prefix) <= 0 {
			at = a[0].Prefix
		} else {
			at = b[0].Prefix
		}
		n, m := leading(a, at), leading(b, at)
		if !slices.EqualFunc(a[:n], b[:m], sameWay) {
			ranges = append(ranges, at)
		}
		a, b = a[n:], b[m:]
	}
	return ranges, false
}

// leading is how many routes to one range a list begins with.
func leading(list []Route, p netip.Prefix) int {
	n := 0
	for n < len(list) && list[n].Prefix == p {
		n++
	}
	return n
}

// sameWay reports whether two routes to one range do the same to packets.
func sameWay(a, b Route) bool {
	down := a.Down == b.Down || a.Down != nil && b.Down != nil && *a.Down == *b.Down
	return down && a.Source == b.Source && a.Hop == b.Hop && a.Unusable == b.Unusable && a.Swallows == b.Swallows &&
		a.Crossing == b.Crossing && a.Hides == b.Hides && a.NextHop == b.NextHop && a.entered == b.entered &&
		(a.Learned == nil) == (b.Learned == nil) && slices.Equal(a.Tunnels, b.Tunnels)
}

// used are the routes that a table uses, the best for each range.
func (p *Point) used() map[netip.Prefix]*Route {
	out := map[netip.Prefix]*Route{}
	if p == nil {
		return out
	}
	for n := range p.Routes {
		if r := &p.Routes[n]; r.Unusable == "" && out[r.Prefix] == nil {
			out[r.Prefix] = r
		}
	}
	return out
}

func (r *Route) row() Difference { return Difference{r.Prefix, r.Source, r.Via, pathOf(r.Learned)} }
