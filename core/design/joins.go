package design

// Join is two parties that something joins: a link, peering, circuit or
// attachment.
type Join struct {
	A, B ID // parties
	By   ID
	// Planned tells that it is not in use yet.
	Planned bool
}

// Joins lists what joins which parties, in canonical order. What was refused,
// is gone or is half made joins nothing.
func (d *Design) Joins() []Join {
	var out []Join
	add := func(by *Object, a, b ID) {
		x, y := d.Party(a), d.Party(b)
		if s := StateOf(by); x != nil && y != nil && x != y && Carries(s) {
			out = append(out, Join{A: x.ID, B: y.ID, By: by.ID, Planned: s != Ready})
		}
	}
	for _, o := range d.Of(KindLink) {
		ends := o.Body.(*Link).Ends
		add(o, ends[0].Gateway, ends[1].Gateway)
	}
	for _, o := range d.Of(KindPeering) {
		halves := o.Body.(*Peering).Halves
		add(o, halves[0].Network, halves[1].Network)
	}
	for _, o := range d.Of(KindCircuit) {
		ends := o.Body.(*Circuit).Ends
		add(o, ends[0].At, ends[1].At)
	}
	for _, o := range d.Of(KindAttachment) {
		if what := o.Body.(*Attachment).What; d.Get(what).Kind == KindNetwork || d.Get(what).Kind == KindHub {
			add(o, o.Parent, what)
		}
	}
	return out
}
