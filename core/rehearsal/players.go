package rehearsal

import (
	"slices"
	"strings"

	"go4.org/netipx"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/topology"
)

// players gives clouds' gateways and hubs the daemons that stand for them, set by their
// instructions.
func (b *builder) players() {
	for _, n := range b.plan.Nodes {
		if n.Role != Player {
			continue
		}
		var boxes []*box.Box
		numbers := map[design.ID]int{}
		if b.design.Get(n.ID).Kind != design.KindHub {
			boxes = append(boxes, b.playedBox(n.ID))
		} else {
			for _, x := range b.design.Inside(n.ID, design.KindGateway, design.KindHubTable) {
				boxes = append(boxes, b.playedBox(x.ID))
				if x.Kind == design.KindHubTable {
					numbers[x.ID] = b.number(x.ID)
				}
			}
		}
		if slices.ContainsFunc(boxes, func(x *box.Box) bool { return len(x.Links)+len(x.Sessions) > 0 }) {
			n.Files = handover.Stand(boxes, numbers, b.keys)
		}
		for _, x := range boxes {
			b.hides(n, x)
		}
	}
}

// playedBox is a gateway or table of a cloud as it is by now, or, while it is not there, as it stands.
func (b *builder) playedBox(id design.ID) *box.Box {
	if b.played.Design.Get(id) != nil {
		return box.Of(b.played, id)
	}
	return box.Of(b.tables, id)
}

// hides does the translations that a cloud's gateway offers toward its links.
func (b *builder) hides(n *Node, x *box.Box) {
	for _, r := range x.Rules {
		var devices []string
		for _, t := range b.design.Tunnels(r.Toward) {
			if d := b.devices[[2]design.ID{t.ID, n.ID}]; d != "" {
				devices = append(devices, d)
			}
		}
		if r.Does != design.FromPool || len(devices) == 0 || len(r.Source) == 0 || !r.Into.Addr().Is4() {
			b.leaves("%s: its translation, %s", x.Title, r.Does)
			continue
		}
		var sources []string
		for _, p := range r.Source {
			sources = append(sources, p.String())
		}
		n.do(
			"nft 'add table ip pool; add chain ip pool out { type nat hook postrouting priority 100; }; "+
				"add rule ip pool out oifname { %s } ip saddr { %s } snat to %s-%s'",
			strings.Join(devices, ", "), strings.Join(sources, ", "), r.Into.Masked().Addr(), netipx.RangeOfPrefix(r.Into).To(),
		)
	}
}

// knownBeyond is who must know a route that a hub, or what stands behind it, has told of.
func (b *builder) knownBeyond(p *route.Point, r route.Route) Known {
	e, ok := b.tables.Edge(p, r.Hop)
	if !ok {
		return Known{}
	}
	far := b.nodes[e.To]
	if far == nil || far.Role != Player || b.design.Get(far.ID).Kind != design.KindHub {
		return Known{}
	}
	a := b.design.Get(e.Joint)
	if e.To != a.Parent { // another hub: its own attachment says by which table it answers
		a = b.design.AttachmentOf(e.To, a.Parent)
	}
	if a == nil {
		return Known{}
	}
	if bound := topology.BoundTable(b.design, a); bound != "" {
		return Known{Node: far.Name, Table: b.number(bound)}
	}
	return Known{}
}
