package rehearsal

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/prefix"
	"dravin/core/route"
)

// Session is a BGP session with what is proven of it.
type Session struct {
	ID    design.ID
	Joint design.ID // the link or circuit
	Name  string
	Up    bool
	Why   string // it is not
	Ends  []SessionEnd
}

// SessionEnd is where a daemon speaks.
type SessionEnd struct {
	Node, Protocol string
	Terms          []Term // to which one's own daemon must come, if it is proven to be up
}

// Table is a table of a kernel with the routes that its daemon is proven to learn.
type Table struct {
	Node    string
	At      design.ID
	Number  int // the kernel's; 0: the main one
	Title   string
	Learned []Learned
	Sent    []Learned // what is sent into links without a session
	Shares  bool      // of one's own box: equal routes that are learned are used side by side
}

// Learned is a range that is learned, with the devices into which it may lead.
type Learned struct {
	Prefix  netip.Prefix
	Devices []string
}

// expect notes what is proven of tunnels, sessions and tables, and where flows start.
func (b *builder) expect() {
	for n := range b.plan.Wires {
		w := &b.plan.Wires[n]
		v := b.built.Status.Of(w.Tunnel)
		w.Up, w.Why = v.Up, v.Why
	}
	b.sessions()
	for _, p := range b.built.Points() {
		b.table(p)
	}
	b.plan.Flows = slices.DeleteFunc(b.plan.Flows, func(f Flow) bool {
		lost := b.startOf(f.From.Box, f) == nil
		if lost {
			b.plan.unsent(f.Intent, "nothing stands for where it starts")
		}
		return lost
	})
	for n := range b.plan.Flows {
		f := &b.plan.Flows[n]
		f.Node, f.Largest = b.startOf(f.From.Box, *f).Name, b.largest(*f)
	}
}

// startOf is the node at which a flow starts; nil if none stands for it.
func (b *builder) startOf(box design.ID, f Flow) *Node {
	switch {
	case box != "":
		return b.nodes[box]
	case f.From.Endpoint != "":
		return b.nodes[f.From.Endpoint]
	}
	for _, n := range b.plan.Nodes {
		if n.Role == HostRole && n.Place == f.From.Place && slices.Contains(n.Addresses, f.From.Address) {
			return n
		}
	}
	return nil
}

func (b *builder) sessions() {
	at := map[design.ID]*Session{}
	var order []design.ID
	for _, n := range b.plan.Nodes {
		if n.Role != OwnBox && n.Role != Player {
			continue
		}
		ids := []design.ID{n.ID}
		if b.design.Get(n.ID).Kind == design.KindHub {
			ids = nil
			for _, g := range b.design.Inside(n.ID, design.KindGateway) {
				ids = append(ids, g.ID)
			}
		}
		for _, id := range ids {
			for _, s := range b.boxOf(id).Sessions {
				if at[s.ID] == nil {
					v := b.built.Status.Of(s.ID)
					at[s.ID] = &Session{ID: s.ID, Joint: s.Joint, Name: b.proven.Design.Title(s.Joint), Up: v.Up, Why: v.Why}
					if len(s.Path) > 2 {
						at[s.ID].Name += ", " + s.Path[1]
					}
					order = append(order, s.ID)
				}
				end := SessionEnd{Node: n.Name, Protocol: handover.ProtocolName(s)}
				if n.Role == OwnBox {
					end.Terms = b.sessionTerms(s)
				}
				at[s.ID].Ends = append(at[s.ID].Ends, end)
			}
		}
	}
	for _, id := range order {
		b.plan.Sessions = append(b.plan.Sessions, *at[id])
	}
}

// table notes what a table is to learn. Of a network's tables the cloud itself says it.
func (b *builder) table(p *route.Point) {
	n, number := b.nodes[p.ID], 0
	switch {
	case p.Kind == design.KindHubTable:
		n, number = b.nodes[p.Party.ID], b.number(p.ID)
	case p.Kind != design.KindGateway && p.Kind != design.KindEdgeRouter, n == nil:
		return
	case n.Role == OwnBox:
		list := b.boxOf(p.ID).Instances
		for k := range list {
			if list[k].Segment == p.Segment {
				number = handover.KernelTable(&list[k])
			}
		}
	}
	if n.Role == HostRole || n.Role == Network {
		return
	}
	t := Table{
		Node: n.Name, At: p.ID, Number: number, Title: p.Title, Shares: n.Role == OwnBox && b.tables.Shares(p.ID),
	}
	for _, r := range p.Routes {
		if n.Role == OwnBox && r.Source == route.Static && r.Hop.Kind == route.Tunnel && r.Unusable == "" &&
			r.Expected == "" && r.Prefix.Bits() > 0 && !holds(p, r.Prefix) {
			t.Sent = append(t.Sent, Learned{r.Prefix.Masked(), b.into(n, r)})
		}
		if r.Learned == nil || r.Unusable != "" || r.Expected != "" || !r.Hop.Leaves() {
			continue
		}
		k := slices.IndexFunc(t.Learned, func(l Learned) bool { return l.Prefix == r.Prefix.Masked() })
		if k < 0 {
			k = len(t.Learned)
			t.Learned = append(t.Learned, Learned{Prefix: r.Prefix.Masked()})
		}
		t.Learned[k].Devices = append(t.Learned[k].Devices, b.into(n, r)...)
	}
	slices.SortFunc(t.Learned, func(a, c Learned) int { return prefix.Compare(a.Prefix, c.Prefix) })
	speaks := func(f handover.File) bool { return f.Path == "bird/bird.conf" }
	if slices.ContainsFunc(n.Files, speaks) || len(t.Sent) > 0 {
		b.plan.Tables = append(b.plan.Tables, t)
	}
}

// holds reports whether a range is beside a box itself, or behind a router there, which goes before what a link has of
// it.
func holds(p *route.Point, r netip.Prefix) bool {
	return slices.ContainsFunc(p.Routes, func(x route.Route) bool {
		return x.Prefix == r && (x.Source == route.Connected || x.Source == route.Inner) && x.Unusable == ""
	})
}

// into are the devices by which a route of a node leads into a joint.
func (b *builder) into(n *Node, r route.Route) (out []string) {
	if r.Hop.Kind == route.Circuit {
		return []string{b.devices[[2]design.ID{r.Hop.To, n.ID}]}
	}
	for _, t := range b.design.Tunnels(r.Hop.To) {
		if d := b.devices[[2]design.ID{t.ID, n.ID}]; d != "" && (len(r.Tunnels) == 0 || slices.Contains(r.Tunnels, t.ID)) {
			out = append(out, d)
		}
	}
	return out
}
