package topology

import (
	"fmt"

	"dravin/core/design"
)

// Model is the estate as the model of network topologies (RFC 8345), for encoding as JSON (RFC 7951): a node for each
// party, a link for each direction of what joins two.
func Model(d *design.Design) map[string]any {
	type tree = map[string]any
	var nodes, links []tree
	points := map[design.ID][]tree{}
	point := func(node design.ID, joint design.Joint) string {
		tp := fmt.Sprintf("%s#%d", d.Path(joint.ID), len(points[node])+1)
		points[node] = append(points[node], tree{"tp-id": tp})
		return tp
	}
	for j := range d.Joints() {
		a, b := d.PartiesOf(j)
		if d.Get(a) == nil || d.Get(b) == nil {
			continue
		}
		x, y := point(a, j), point(b, j)
		for n, way := range []string{"there", "back"} {
			from, to, out, in := a, b, x, y
			if n == 1 {
				from, to, out, in = b, a, y, x
			}
			links = append(links, tree{
				"link-id":     fmt.Sprintf("%s %s/%s", j.Kind, d.Path(j.ID), way),
				"source":      tree{"source-node": d.Path(from), "source-tp": out},
				"destination": tree{"dest-node": d.Path(to), "dest-tp": in},
			})
		}
	}
	for _, p := range d.Inside("", design.Parties...) {
		node := tree{"node-id": d.Path(p.ID)}
		if list := points[p.ID]; len(list) > 0 {
			node["ietf-network-topology:termination-point"] = list
		}
		nodes = append(nodes, node)
	}
	network := tree{"network-id": d.Name}
	if len(nodes) > 0 {
		network["node"] = nodes
	}
	if len(links) > 0 {
		network["ietf-network-topology:link"] = links
	}
	return tree{"ietf-network:networks": tree{"network": []tree{network}}}
}
