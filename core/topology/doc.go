// Package topology is the estate resolved: which forwarding points there are, what joins them,
// and where a packet comes to that enters a joint at one of its ends.
//
// A [Topology] is of one design under one condition, which is that of its [status.Status]. Its
// nodes are gateways, boxes, edge routers, networks and hubs; its edges are directed, two for
// each joint. An [Edge] names what it leaves and what it comes to, the table that routes what
// arrives there, and the segment that it carries; how it stands is asked of the status. Edges
// are worked out when they are first asked for, from the joint and what it stands in, and kept
// until a change touches these.
//
// A kind of joint is one file here and one entry in [Kinds]: a link, a circuit, a peering, an
// attachment. [Kind] documents its hooks. Who asks how a joint stands, what it brings, whom it
// carries or what it is called asks these and looks at no body.
//
// Whoever follows joints from party to party asks a [Graph] of the edges that count for the
// question: what is drawn, what is meant at the horizon, what carries. It has neighbours,
// what can be reached, the shortest ways and what hangs together, each once.
package topology
