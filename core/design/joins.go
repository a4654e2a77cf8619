package design

import "iter"

// JointKinds are the kinds that join two things, in the order in which they are
// listed.
var JointKinds = []Kind{KindLink, KindCircuit, KindPeering, KindAttachment}

// Joint is what joins two things: a VPN link between two gateways, a circuit
// between gateways or edge routers, a peering of two networks, an attachment of
// something to a hub.
type Joint struct {
	*Object
	Ends [2]ID // gateways, edge routers, networks, or a hub and what is attached
}

// joint is a body that joins two things; ok is false while one of them is missing.
type joint interface {
	ends(o *Object) (ends [2]ID, ok bool)
}

// JointOf is an object as a joint; ok is false if it joins nothing.
func JointOf(o *Object) (j Joint, ok bool) {
	if o == nil {
		return j, false
	}
	if b, joins := o.Body.(joint); joins {
		j.Object = o
		j.Ends, ok = b.ends(o)
	}
	return j, ok
}

// Far is the other end of a joint, and which of the two the given one is; ok is
// false if the joint does not end there.
func (j Joint) Far(end ID) (far ID, n int, ok bool) {
	for n := range j.Ends {
		if j.Ends[n] == end {
			return j.Ends[1-n], n, true
		}
	}
	return "", 0, false
}

// Joints streams everything that joins two things, in canonical order.
func (d *Design) Joints() iter.Seq[Joint] {
	return func(yield func(Joint) bool) {
		for _, k := range JointKinds {
			for _, o := range d.Of(k) {
				if j, ok := JointOf(o); ok && !yield(j) {
					return
				}
			}
		}
	}
}

// JointsAt lists the joints with an end at a gateway, edge router, network or
// hub, those of a hub's gateways apart.
func (d *Design) JointsAt(end ID) []Joint {
	var out []Joint
	add := func(o *Object) {
		if j, ok := JointOf(o); ok {
			if _, _, at := j.Far(end); at {
				out = append(out, j)
			}
		}
	}
	for _, k := range JointKinds {
		for _, o := range d.Referring(end, k) {
			add(o)
		}
	}
	if o := d.Get(end); o != nil && o.Kind == KindHub {
		for _, a := range d.Inside(end, KindAttachment) {
			add(a)
		}
	}
	return out
}

// AttachmentOf is the attachment of something to a hub, or nil.
func (d *Design) AttachmentOf(hub, what ID) *Object {
	for a, body := range Each[Attachment](InOrder(d.Referring(what, KindAttachment))) {
		if a.Parent == hub && body.What == what {
			return a
		}
	}
	return nil
}

// PartiesOf are the parties that a joint joins. A link or circuit that is
// attached to a hub joins them by itself; its attachment joins the hub to
// itself.
func (d *Design) PartiesOf(j Joint) (a, b ID) {
	party := func(end ID) ID {
		if p := d.Party(end); p != nil {
			return p.ID
		}
		return ""
	}
	a, b = party(j.Ends[0]), party(j.Ends[1])
	if b == "" { // an attached link or circuit
		b = a
	}
	return a, b
}

// WayWords is what an entry of a network's table leads to, in words; get finds objects
// of a design, or of what it is about to become.
func WayWords(get func(ID) *Object, via ID) string {
	switch o := get(via); o.Kind {
	case KindAttachment:
		return "the attachment to " + get(o.Parent).Name
	case KindPeering:
		return "the peering " + o.Name
	default:
		return o.Name
	}
}
