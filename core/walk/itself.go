package walk

import (
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// A box of one's own sends by itself, too: what somebody types at it, what its daemons say, the connections that its
// listeners open. The kernel gives such a packet the address of the interface by which it leaves. And it answers
// whoever pings it.

// Boxes are the kinds that send and answer themselves.
var Boxes = []design.Kind{design.KindGateway, design.KindBox, design.KindEdgeRouter}

// fromBox sends what a box sends itself.
func (w *walker) fromBox(h Host) outcome {
	at := w.placeOf(h.Box)
	p := w.pointOf(h.Box)
	if v := w.forwards(p); !v.Up && v.Line != "faults" {
		return w.down(v, at)
	}
	w.stage(at, Sends, nil, "%s sends to %s from %s", at.Title, w.header.Dst, w.header.Src)
	return goesTo(h.Box, byItself)
}

// byItself stands for what a packet comes by that its box has just made.
const byItself design.ID = "\x00itself"

// forItself takes what is for a box and no listener of it: the answer to what it has sent, and a ping.
func (w *walker) forItself(p *route.Point, at Place) (outcome, bool) {
	ping := w.header.Proto == "icmp" && w.way == "forward"
	if !ping && !(w.way == "reply" && w.begun == p.ID) {
		return outcome{}, false
	}
	if w.meant != "" && w.meant != p.ID {
		return outcome{}, false
	}
	w.stage(at, Delivers, nil, "%s itself receives it: from %s to %s", at.Title, w.header.Src, w.header.Dst)
	return outcome{arrived: Host{Box: p.ID, Address: w.header.Dst}}, true
}

// FlowFromBox is a flow that a gateway, box or edge router begins itself, from the address that the kernel chooses on
// the way, or, by a joint, from the one that it has there.
func FlowFromBox(t *route.Tables, box, by, to design.ID, s design.Service) (Flow, error) {
	d := t.Design
	if !linux(d, box) {
		return Flow{}, fmt.Errorf(
			"%s is a cloud's, and nobody can send from it; choose a gateway of a site, a box or an edge router",
			d.Title(box),
		)
	}
	if slices.Contains(Boxes, d.Get(to).Kind) {
		return FlowToBox(t, box, to, s)
	}
	last := fmt.Errorf("%s has no address of its own for that", d.Title(box))
	for _, f := range prefix.Families {
		target, err := HostOf(d, to, f)
		if err != nil {
			last = err
			continue
		}
		dialled := SeenAs(t, d.Party(box).ID, target.Place, target.Address).Address
		own := t.Sends(box, dialled)
		if by != "" {
			own = t.OwnAddress(t.Point(box), route.Into(d.Get(by)), nil, dialled)
		}
		if own.IsValid() {
			from := Host{Box: box, Address: own.Addr}
			return published(t, Flow{From: from, To: dialled, Meant: target.id(), Service: s}), nil
		}
	}
	return Flow{}, last
}

// linux reports whether a box is one's own.
func linux(d *design.Design, box design.ID) bool {
	o := d.Get(box)
	return o.Kind != design.KindGateway || d.Party(box).Kind == design.KindSite
}

// FlowToBox is a flow to a gateway, box or edge router itself, under the first of its addresses that works, else the
// first.
func FlowToBox(t *route.Tables, from, box design.ID, s design.Service) (out Flow, err error) {
	err = fmt.Errorf("%s has no address of its own under which it could be dialled", t.Design.Title(box))
	found := false
	for _, own := range t.Point(box).Self {
		if !own.IsSingleIP() {
			continue
		}
		h, wrong := HostOf(t.Design, from, prefix.FamilyOf(own.Addr()))
		if slices.Contains(Boxes, t.Design.Get(from).Kind) {
			a := t.Sends(from, own.Addr())
			h, wrong = Host{Box: from, Address: a.Addr}, nil
			if !a.IsValid() {
				continue
			}
		}
		if wrong != nil {
			err = wrong
			continue
		}
		f := Flow{From: h, To: own.Addr(), Meant: box, Service: s}
		if !found {
			out, found = f, true
		}
		if Prove(t, f).Works {
			return f, nil
		}
	}
	if found {
		err = nil
	}
	return out, err
}

// flowFromListener is the connection that a published service opens to what it leads to.
func flowFromListener(t *route.Tables, o *design.Object, s design.Service) (Flow, error) {
	l := o.Body.(*design.Listener)
	if !slices.Contains(Boxes, t.Design.Get(l.At).Kind) {
		return Flow{}, fmt.Errorf(
			"%s is the cloud's own, which reaches its target by no route of anybody's; walk to %s instead", o.Name,
			l.Address,
		)
	}
	to, port := t.Design.DialOf(l)
	own := t.Dials(l.At, to)
	if !own.IsValid() {
		return Flow{}, fmt.Errorf("%s has no address of its own from which it could dial %s", t.Design.Title(l.At), to)
	}
	service := design.Service{Proto: l.Service.Proto, Port: port}
	return Flow{From: Host{Box: l.At, Address: own.Addr}, To: to, Meant: meantBy(t, to, service), Service: service}, nil
}
