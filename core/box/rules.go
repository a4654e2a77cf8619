package box

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/route"
)

// Rule is a translation of a box, with the names of what it speaks of.
type Rule struct {
	route.Translation
	FromName, TowardName string // of the joints that it asks for; empty if of none
	Listed               bool   // the box lists it itself
	// Selected are the ways in which it hides behind the box's own address toward selectors.
	Selected []Hidden
}

// Hidden is a range toward which packets are hidden behind an address.
type Hidden struct {
	Remote netip.Prefix
	Own    netip.Addr
}

func rules(t *route.Tables, b *Box) []Rule {
	d := t.Design
	name := func(id design.ID) string {
		if id == "" {
			return ""
		}
		return d.Title(id)
	}
	var out []Rule
	for _, x := range b.Main().Table.Translations {
		r := Rule{Translation: x, FromName: name(x.From), TowardName: name(x.Toward), Listed: x.Of == b.ID}
		if x.Does == design.OwnAddress {
			r.Selected = towardSelectors(t, b, x)
		}
		out = append(out, r)
	}
	return out
}

func towardSelectors(t *route.Tables, b *Box, x route.Translation) []Hidden {
	var out []Hidden
	point := b.Main().Table
	for _, s := range point.Selectors {
		if x.Toward != s.Link {
			continue // the kernel takes the outside interface's address, whatever selectors there are
		}
		a := t.OwnToward(point, s.Link, s.Remote.Addr()).Addr
		if s.Local.Contains(a) && slices.Contains(b.Stands, a) {
			out = append(out, Hidden{s.Remote, a})
		}
	}
	return out
}

// Listener is a published service at a box.
type Listener struct {
	ID      design.ID
	Name    string
	Address netip.Addr
	Service design.Service
	Callers []netip.Prefix // who may call; empty: everybody
	Proxies bool           // it ends the connection and opens another
	// ByTunnel says that it dials over several tunnels, each time from the inside address of the one that is taken.
	ByTunnel bool
	Dials    netip.Addr // where it leads
	Port     uint16
	// Tunnels are those over which the box dials, if it does over a link, and Source the
	// address from which; invalid where the kernel chooses it.
	Tunnels []design.ID
	Source  netip.Addr
}

func listeners(t *route.Tables, b *Box) []Listener {
	d := t.Design
	var out []Listener
	for o, body := range d.ListenersAt(b.ID) {
		l := Listener{
			ID: o.ID, Name: o.Name, Address: body.Address, Service: body.Service, Callers: body.Callers, Proxies: body.Proxies(),
		}
		l.Dials, l.Port = d.DialOf(body)
		if l.Proxies {
			l.Tunnels = dialledOver(t, b, l.Dials)
			src := t.Dials(b.ID, l.Dials)
			// What leaves by the way out has its address by itself: a link that comes later then gives it another.
			out := b.Main().Table.Lookup(l.Dials).Winner
			wayOut := out == nil || out.Hop.Kind == route.Internet
			l.ByTunnel = len(l.Tunnels) > 1 && insideOf(b, src.Addr)
			if !wayOut && src.IsValid() && !src.Assumed && src.Addr.Is4() == l.Dials.Is4() && !l.ByTunnel {
				l.Source = src.Addr
			}
		}
		out = append(out, l)
	}
	return out
}

// insideOf reports whether an address is a box's in one of its tunnels.
func insideOf(b *Box, a netip.Addr) bool {
	return slices.ContainsFunc(b.Links, func(l *Link) bool {
		return slices.ContainsFunc(l.Tunnels, func(t Tunnel) bool {
			return slices.ContainsFunc(t.Insides(), func(p netip.Prefix) bool { return p.Addr() == a })
		})
	})
}

// dialledOver are the tunnels over which a box dials an address itself.
func dialledOver(t *route.Tables, b *Box, to netip.Addr) (out []design.ID) {
	c := b.Main().Table.Lookup(to)
	if c.Winner == nil || c.Winner.Hop.Kind != route.Tunnel {
		return nil
	}
	for _, s := range t.Design.Tunnels(c.Winner.Hop.To) {
		if len(c.Winner.Tunnels) == 0 || slices.Contains(c.Winner.Tunnels, s.ID) {
			out = append(out, s.ID)
		}
	}
	return out
}
