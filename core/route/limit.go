package route

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/settings"
	"dravin/core/status"
)

// Use is how far a limit of a profile is used up.
type Use struct {
	Of    design.ID `json:"of"`
	Title string    `json:"title"`
	What  string    `json:"what"` // routes in a table, routes taken on a session, routes announced, attachments, tunnels or peerings
	Has   int       `json:"has"`
	Most  int       `json:"most"` // 0: no limit
}

// UseOf is how many entries a cloud table holds of those that it may; the
// network's own are not counted. ok is false for what is no cloud's table.
func (t *Tables) UseOf(table design.ID) (u Use, ok bool) {
	o, profile := t.Design.Get(table), t.Design.ProfileOf(table)
	if o == nil || profile == nil || o.Kind != design.KindTable && o.Kind != design.KindHubTable {
		return u, false
	}
	u = Use{
		Of: table, Title: t.Design.Title(table), What: "routes in a table", Most: int(profile.Limits.RoutesPerTable),
	}
	for _, r := range t.Point(table).Routes {
		if r.Source != Local && (r.Unusable == "" || r.Source == Static) {
			u.Has++
		}
	}
	return u, true
}

// Taken is how many routes one end of a session takes of what it is told.
func (t *Tables) Taken(session design.ID, end int) int {
	n := 0
	for _, x := range t.Exchanged(session, 1-end) {
		if x.Taken {
			n++
		}
	}
	return n
}

// Uses lists every limit that a profile sets and how far it is used up.
func (t *Tables) Uses() []Use {
	out := []Use{}
	add := func(o *design.Object, what string, has int, most uint32) {
		if most > 0 {
			out = append(out, Use{o.ID, t.Design.Title(o.ID), what, has, int(most)})
		}
	}
	d := t.Design
	for _, k := range []design.Kind{design.KindTable, design.KindHubTable} {
		for _, o := range d.Of(k) {
			if u, ok := t.UseOf(o.ID); ok && u.Most > 0 {
				out = append(out, u)
			}
		}
	}
	for _, o := range d.Of(design.KindSession) {
		for n := range 2 {
			add(o, "routes taken on a session", t.Taken(o.ID, n), Limit(d, o, n))
			if at := settings.Speaker(d, o, n); at != nil && len(out) > 0 && out[len(out)-1].Of == o.ID {
				out[len(out)-1].Title = status.CarrierName(d, o) + ", at " + d.Title(at.ID)
			}
		}
	}
	for _, o := range d.Of(design.KindHub) {
		if p := d.ProfileOf(o.ID); p != nil {
			add(o, "attachments", len(d.Inside(o.ID, design.KindAttachment)), p.Limits.Attachments)
		}
	}
	for _, o := range d.Of(design.KindNetwork) {
		if p := d.ProfileOf(o.ID); p != nil {
			add(o, "peerings", len(d.Referring(o.ID, design.KindPeering)), p.Limits.Peerings)
		}
	}
	for _, o := range d.Of(design.KindGateway) {
		if p := d.ProfileOf(o.ID); p != nil {
			n := 0
			for _, l := range d.Referring(o.ID, design.KindLink) {
				if status.Exists(l) {
					n += len(d.Inside(l.ID, design.KindTunnel))
				}
			}
			add(o, "tunnels", n, p.Limits.Tunnels)
		}
	}
	return out
}

// Summarised is a range that could stand for several entries of a table that
// lead one way.
type Summarised struct {
	Prefix   netip.Prefix   `json:"prefix"`
	For      []netip.Prefix `json:"for"`
	Via      string         `json:"via"`
	Swallows []netip.Prefix `json:"swallows"` // what others hold in it, which keep longer entries of their own
	Holes    []netip.Prefix `json:"holes"`    // what nobody holds: packets for it would be sent there and lost
}

// Words are a summary as a sentence.
func (s Summarised) Words() string {
	out := fmt.Sprintf("%s by %s stands for %d entries", s.Prefix, s.Via, len(s.For))
	if len(s.Swallows) > 0 {
		out += "; it swallows " + some(s.Swallows)
	}
	if len(s.Holes) > 0 {
		out += "; it hides the hole " + some(s.Holes)
	}
	return out
}

func some(list []netip.Prefix) string {
	var out []string
	for n, p := range list {
		if n == 4 {
			out = append(out, fmt.Sprintf("%d more", len(list)-n))
			break
		}
		out = append(out, p.String())
	}
	return strings.Join(out, ", ")
}

// Summarised lists the smallest summary of each set of a table's entries that
// lead one way, with what else it would cover: that of the most entries first.
func (t *Tables) Summarised(table design.ID) []Summarised {
	p := t.Point(table)
	type way struct {
		hop    Hop
		family prefix.Family
	}
	groups := map[way][]Route{}
	var order []way
	for _, r := range p.Routes {
		if r.Unusable != "" || r.Source == Local || r.Source == Connected || r.Source == Implied ||
			r.Hop.Kind == BlackHole {
			continue
		}
		w := way{r.Hop, prefix.FamilyOf(r.Prefix.Addr())}
		if groups[w] == nil {
			order = append(order, w)
		}
		groups[w] = append(groups[w], r)
	}
	var out []Summarised
	for _, w := range order {
		if list := groups[w]; len(list) > 1 {
			out = append(out, p.summary(list))
		}
	}
	slices.SortStableFunc(out, func(a, b Summarised) int { return len(b.For) - len(a.For) })
	return out
}

func (p *Point) summary(list []Route) Summarised {
	s := Summarised{Prefix: list[0].Prefix, Via: list[0].Via, For: []netip.Prefix{}, Swallows: []netip.Prefix{}}
	for _, r := range list {
		s.For = append(s.For, r.Prefix)
		for !prefix.Contains(s.Prefix, r.Prefix) {
			s.Prefix = netip.PrefixFrom(s.Prefix.Addr(), s.Prefix.Bits()-1).Masked()
		}
	}
	known := slices.Clone(s.For)
	for _, r := range p.Routes {
		if r.Unusable == "" && r.Hop != list[0].Hop && r.Prefix.Bits() >= s.Prefix.Bits() &&
			prefix.Contains(s.Prefix, r.Prefix) && !slices.Contains(known, r.Prefix) {
			s.Swallows = append(s.Swallows, r.Prefix)
			known = append(known, r.Prefix)
		}
	}
	s.Holes = prefix.Free([]netip.Prefix{s.Prefix}, known)
	return s
}
