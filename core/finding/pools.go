package finding

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/ledger"
	"dravin/core/prefix"
	"dravin/core/translate"
)

// usablePorts are how many ports an address has for translation: all but those below 1024.
const usablePorts = 65536 - 1024

// largerPool takes a pool that is large enough out of what is reserved for mapping, at the box that hides behind it and
// in what the far ends of links send there.
func (c *collector) largerPool(p ledger.Capacity) []Fix {
	bits := p.Pool.Bits()
	if p.Ports == 0 {
		return nil
	}
	each := max(1, usablePorts/p.Ports) // hosts that an address serves
	serves := func(bits int) uint64 {
		size := prefix.Size(netip.PrefixFrom(p.Pool.Addr(), bits))
		if size > 2 {
			size -= 2 // the first and the last are no host's
		}
		return size * each
	}
	for bits > 8 && serves(bits) < p.Hosts {
		bits--
	}
	free, _, ok := translate.Carve(c.design, prefix.FamilyOf(p.Pool.Addr()), bits)
	if !ok {
		return nil
	}
	var edits []design.Edit
	swap := func(list []netip.Prefix) []netip.Prefix {
		out := slices.Clone(list)
		for n := range out {
			if out[n] == p.Pool {
				out[n] = free
			}
		}
		return out
	}
	if o := c.design.Get(p.At); o.Kind == design.KindGateway {
		edits = append(edits, design.PutEdit(design.Edited(o, func(g *design.Gateway) {
			g.Translate = slices.Clone(g.Translate)
			for n := range g.Translate {
				if g.Translate[n].Into == p.Pool {
					g.Translate[n].Into = free
				}
			}
		})))
	}
	for _, o := range c.design.Referring(p.At, design.KindLink) {
		edits = append(edits, design.PutEdit(design.Edited(o, func(l *design.Link) {
			for n := range l.Ends {
				e := &l.Ends[n]
				e.Routes, e.Local, e.Remote = swap(e.Routes), swap(e.Local), swap(e.Remote)
			}
		})))
	}
	return []Fix{{Title: fmt.Sprintf("Hide behind %s instead, at both ends", free), Edits: edits}}
}
