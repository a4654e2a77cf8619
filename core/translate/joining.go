package translate

import (
	"net/netip"

	"dravin/core/design"
	"dravin/core/topology"
)

// joining is how a plan changes what one kind of joint says of ranges at its ends. Sessions
// that run over a joint are changed alike for all kinds; so are the tables that lead to it. n is
// the end, 0 or 1, behind which the ranges are, of carry the end that sends.
type joining struct {
	// carry lets an end send theirs, with a source in ours.
	carry func(e *editor, o *design.Object, n int, ours, theirs []netip.Prefix)
	// names reports whether any of some ranges is told of to the other end.
	names func(o *design.Object, n int, ranges []netip.Prefix) bool
	// untell takes a range out of what is said.
	untell func(e *editor, o *design.Object, n int, p netip.Prefix)
	// replace puts a mapped range in the place of the real one.
	replace func(e *editor, o *design.Object, n int, real, mapped netip.Prefix)
}

// joinings are by kind. A kind without one carries the ranges of what it joins, and nothing is
// said of them at it.
var joinings = map[design.Kind]joining{design.KindLink: linkJoining, design.KindCircuit: circuitJoining}

// across lets a party send theirs over a joint, with a source in ours.
func (e *editor) across(h hop, ours, theirs []netip.Prefix) {
	o := e.get(h.By)
	via := h.By
	if of, ok := joinings[o.Kind]; ok {
		n := e.endAt(h.By, h.From)
		of.carry(e, o, n, ours, theirs)
		e.letPass(e.get(h.By), 1-n, theirs)
		j, _ := design.JointOf(o)
		via = j.Ends[n]
	}
	e.enter(h.From, via, theirs)
}

// told reports whether the joints of a site tell others of a place.
func (pl *planner) told(place design.ID) bool {
	ranges := pl.design.Ranges(place)
	for _, x := range pl.sideOf(place) {
		o := pl.design.Get(x.joint)
		j, _ := design.JointOf(o)
		_, n, _ := j.Far(x.gateway)
		of, ok := joinings[o.Kind]
		if ok && (topology.Learns(pl.design, o) || of.names(o, n, ranges)) {
			return true
		}
	}
	return false
}

// untell takes a range behind a gateway out of what one joint says of it: selectors,
// routes and announcements.
func (e *editor) untell(x edge, p netip.Prefix) {
	o := e.get(x.joint)
	j, _ := design.JointOf(o)
	_, n, _ := j.Far(x.gateway)
	if of, ok := joinings[o.Kind]; ok {
		of.untell(e, o, n, p)
	}
	for _, s := range e.learnedOn(x.joint) {
		e.silence(s.ID, n, e.party(x.gateway), p, o.Name)
	}
}

// replace puts a mapped range in the place of the real one in the selectors,
// routes and filters of a joint.
func (e *editor) replace(o *design.Object, x edge, real, mapped netip.Prefix) {
	j, _ := design.JointOf(o)
	_, n, _ := j.Far(x.gateway)
	if of, ok := joinings[o.Kind]; ok {
		of.replace(e, o, n, real, mapped)
		e.refilter(o, n, real, mapped)
	}
}

// learnedOn are the sessions by which the routes over a joint are learned.
func (e *editor) learnedOn(joint design.ID) []*design.Object {
	o := e.get(joint)
	if !topology.Learns(e.design, o) {
		return nil
	}
	return topology.SessionsOf(e.design, o)
}
