package rehearsal

import (
	"context"
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
)

// Cut is what is taken away in a drill.
type Cut struct {
	Title   string
	Key     string   // as on a command line
	Tunnels []int    // wires, by their number
	Cables  []int    // by their number
	Nodes   []string // that are dead
	Within  int      // seconds after which what moves has moved, as it is proven
	Tables  *route.Tables
}

// Cuts are drills that can be carried out: asked by name, or, without names, the first few of those by which an
// intent's flow moves, of each kind one. What can not be cut here is an error.
func (p *Plan) Cuts(ctx context.Context, proofs *proof.Proofs, asked []status.Thing, most int) (out []Cut, err error) {
	t := proofs.Tables()
	drills, err := proof.DrillsOf(ctx, proofs)
	if err != nil {
		return nil, err
	}
	things := asked
	if len(asked) == 0 {
		things = p.likely(t)
	}
	met := map[design.Kind]bool{}
	for _, x := range things {
		d, err := drills.Without(ctx, x)
		if err != nil {
			return nil, err
		}
		kind := design.Kind("")
		if o := t.Design.Get(x.Object); o != nil {
			kind = o.Kind
		}
		if len(asked) == 0 && (met[kind] || len(d.Moves)+len(d.Dies) == 0 || len(out) == most) {
			continue
		}
		c := p.cut(t, x)
		if len(c.Tunnels)+len(c.Cables)+len(c.Nodes) == 0 {
			if len(asked) > 0 {
				return nil, fmt.Errorf("%s: nothing that is rehearsed goes with it", x.Title(t.Design))
			}
			continue
		}
		met[kind] = true
		c.Title, c.Key = d.Title, d.Key
		for _, m := range d.Moves {
			c.Within = max(c.Within, m.Until.Seconds)
		}
		out = append(out, c)
	}
	return out, nil
}

// likely are the joints and boxes whose failure is worth a drill.
func (p *Plan) likely(t *route.Tables) (out []status.Thing) {
	for _, x := range status.Single(t.Design) {
		o := t.Design.Get(x.Object)
		if o != nil && slices.Contains([]design.Kind{
			design.KindTunnel, design.KindCircuit, design.KindGateway, design.KindLink,
		}, o.Kind) {
			out = append(out, x)
		}
	}
	return out
}

// cut is what of the plan goes with a thing: what is up with it and down without it, and the boxes that are it.
func (p *Plan) cut(t *route.Tables, x status.Thing) (c Cut) {
	c.Tables = t.Without(x)
	goes := func(id design.ID) bool { return t.Status.Of(id).Up && !c.Tables.Status.Of(id).Up }
	for k, w := range p.Wires {
		if goes(w.Tunnel) {
			c.Tunnels = append(c.Tunnels, k)
		}
	}
	for k, l := range p.Cables {
		if l.Joint != "" && goes(l.Joint) {
			c.Cables = append(c.Cables, k)
		}
	}
	for _, n := range p.Nodes {
		for o := t.Design.Get(n.ID); o != nil; o = t.Design.Get(o.Parent) {
			if o.ID == x.Object && n.ID != "" {
				c.Nodes = append(c.Nodes, n.Name)
				break
			}
		}
	}
	return c
}
