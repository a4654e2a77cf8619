package topology

import (
	"slices"

	"dravin/core/design"
	"dravin/core/status"
)

// Leg is an edge between two nodes of a [Graph].
type Leg struct {
	From, To design.ID // nodes, such as parties
	By       design.ID // the joint
}

// Back is the leg the other way.
func (l Leg) Back() Leg { return Leg{From: l.To, To: l.From, By: l.By} }

// Graph is what hangs together by the edges that count for some question. The zero Graph has
// no legs.
type Graph struct {
	legs []Leg               // in canonical order, each in one direction
	near map[design.ID][]Leg // by where they leave
}

// Parties is the graph of parties over the joints for which counts is true. A link or circuit
// that is attached to a hub joins its parties by itself.
func Parties(d *design.Design, counts func(*design.Object) bool) Graph {
	return graph(d, func(j design.Joint) (a, b design.ID) {
		if !counts(j.Object) {
			return "", ""
		}
		return d.PartiesOf(j)
	})
}

// Ends is the graph of gateways, edge routers, networks and hubs over the joints that count.
func Ends(d *design.Design, counts func(design.Joint) bool) Graph {
	return graph(d, func(j design.Joint) (a, b design.ID) {
		if !counts(j) {
			return "", ""
		}
		return j.Ends[0], j.Ends[1]
	})
}

// Drawn is the graph of parties over everything that was neither refused nor is gone.
func Drawn(d *design.Design) Graph { return Parties(d, status.Exists) }

// Meant is the graph of parties over what is meant to join them; whether its
// ends agree is not asked.
func (t *Topology) Meant() Graph {
	return Parties(t.design, func(o *design.Object) bool {
		if !t.st.Intended(o) {
			return false
		}
		if k := KindOf(o); k.Unfinished == nil || !k.Unfinished(o) {
			return true
		}
		v := t.st.Of(o.ID)
		return v.Up || v.Cause != status.HalfMade && v.Cause != status.NotThereYet
	})
}

func graph(d *design.Design, nodes func(design.Joint) (a, b design.ID)) Graph {
	g := Graph{near: map[design.ID][]Leg{}}
	for j := range d.Joints() {
		a, b := nodes(j)
		if a == "" || b == "" || a == b {
			continue
		}
		g.legs = append(g.legs, Leg{a, b, j.ID})
		g.near[a] = append(g.near[a], Leg{a, b, j.ID})
		g.near[b] = append(g.near[b], Leg{b, a, j.ID})
	}
	return g
}

// Legs are all legs, each in one direction, in canonical order of their joints.
func (g Graph) Legs() []Leg { return g.legs }

// Near are the legs that leave a node.
func (g Graph) Near(node design.ID) []Leg { return g.near[node] }

// Reach are the nodes that can be reached from one without leaving it by one of the joints
// that are closed, nor passing it again.
func (g Graph) Reach(from design.ID, closed ...design.ID) map[design.ID]bool {
	seen := map[design.ID]bool{}
	for to := range g.search(from, func(l Leg) bool { return l.From != from || !slices.Contains(closed, l.By) }) {
		seen[to] = true
	}
	return seen
}

// Ways are the last legs on the shortest ways from a node to every other.
func (g Graph) Ways(from design.ID) map[design.ID]Leg {
	return g.search(from, func(Leg) bool { return true })
}

// Way are the legs from a node to another, of what [Graph.Ways] gave for the first; nil if
// there is none.
func Way(ways map[design.ID]Leg, from, to design.ID) []Leg {
	var out []Leg
	for at := to; at != from; {
		l, ok := ways[at]
		if !ok {
			return nil
		}
		out = append(out, l)
		at = l.From
	}
	slices.Reverse(out)
	return out
}

// search goes outward from a node, the near before the far, over the legs that are open: by
// node the leg by which it was come to first.
func (g Graph) search(from design.ID, open func(Leg) bool) map[design.ID]Leg {
	out := map[design.ID]Leg{}
	queue := []design.ID{from}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, l := range g.near[at] {
			if _, seen := out[l.To]; !seen && l.To != from && open(l) {
				out[l.To] = l
				queue = append(queue, l.To)
			}
		}
	}
	return out
}

// Components tells of each node that has a leg which it hangs together with: the first of them
// in the order of the legs.
func (g Graph) Components() map[design.ID]design.ID {
	out := map[design.ID]design.ID{}
	for _, l := range g.legs {
		if out[l.From] != "" {
			continue
		}
		out[l.From] = l.From
		for to := range g.Reach(l.From) {
			out[to] = l.From
		}
	}
	return out
}
