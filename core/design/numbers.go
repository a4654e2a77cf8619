package design

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
)

// What a box has been handed keeps its name: an interface, an if_id or a kernel's table that ran under a number is
// never another one's because something with an earlier name came or something went. So the numbers of tunnels,
// circuits and segments are part of the design. [Design.Apply] gives the next free one to what is new and writes down
// those that were so far told by the order of names; a design in which nobody has written any has the order.

// MostSegments is the highest number that a segment has: kernels' tables and rules have room for as many.
const MostSegments = 8000

// numbered is what has a number: an end of a tunnel or of a circuit, 0 or 1, or a segment.
type numbered struct {
	id  ID
	end int
}

// NumbersAt are the numbers of the tunnels or of the circuits that end at a gateway of one's own or an edge router, by
// ID, from 1: each as it was given, and without that the next free one in the order of names.
func (d *Design) NumbersAt(box ID, kind Kind) map[ID]int {
	return d.numbers(d.numberedAt(box, kind))
}

// SegmentNumbers are the numbers of all segments, by ID, from 1: of the routing instances of boxes that carry them.
func (d *Design) SegmentNumbers() map[ID]int { return d.numbers(d.numberedAt("", KindSegment)) }

func (d *Design) numbers(places []numbered) map[ID]int {
	out, taken := map[ID]int{}, map[int]bool{}
	for _, p := range places {
		if n := givenNumber(d.objects[p.id], p.end); n != 0 {
			out[p.id], taken[n] = n, true
		}
	}
	for _, p := range places {
		if out[p.id] == 0 {
			out[p.id] = freeNumber(taken)
		}
	}
	return out
}

// freeNumber takes the first number that nobody has.
func freeNumber(taken map[int]bool) int {
	n := 1
	for taken[n] {
		n++
	}
	taken[n] = true
	return n
}

// numberedAt are the ends at a box of tunnels or circuits, or all segments, in the order of names.
func (d *Design) numberedAt(box ID, kind Kind) (out []numbered) {
	switch kind {
	case KindSegment:
		for _, o := range d.Of(KindSegment) {
			out = append(out, numbered{o.ID, 0})
		}
	case KindTunnel:
		for o, b := range Each[Link](InOrder(d.Referring(box, KindLink))) {
			if _, _, end, ok := b.End(box); ok {
				for _, t := range d.Inside(o.ID, KindTunnel) {
					out = append(out, numbered{t.ID, end})
				}
			}
		}
	case KindCircuit:
		for o, b := range Each[Circuit](InOrder(d.Referring(box, KindCircuit))) {
			if end := slices.IndexFunc(b.Ends, func(e CircuitEnd) bool { return e.At == box }); end >= 0 {
				out = append(out, numbered{o.ID, end})
			}
		}
	}
	return out
}

// givenNumber is the number that was given to a segment, or to a tunnel or circuit at one of its ends; 0: none.
func givenNumber(o *Object, end int) int {
	switch b := o.Body.(type) {
	case *Tunnel:
		if end < len(b.Numbers) {
			return int(b.Numbers[end])
		}
	case *Circuit:
		return int(b.Ends[end].Number)
	case *Segment:
		return int(b.Number)
	}
	return 0
}

// withNumber is an object with that number given to it.
func withNumber(o *Object, end, n int) *Object {
	switch o.Kind {
	case KindTunnel:
		return Edited(o, func(b *Tunnel) {
			b.Numbers = append(b.Numbers, make([]uint16, max(0, 2-len(b.Numbers)))...)
			b.Numbers[end] = uint16(n)
		})
	case KindCircuit:
		return Edited(o, func(b *Circuit) { b.Ends[end].Number = uint16(n) })
	}
	return Edited(o, func(b *Segment) { b.Number = uint16(n) })
}

// meetsWire reports whether an object is a box of one's own at which tunnels and circuits end: its interfaces have
// names of ours.
func (d *Design) meetsWire(id ID) bool {
	o := d.objects[id]
	if o == nil {
		return false
	}
	parent := d.objects[o.Parent]
	return o.Kind == KindEdgeRouter || o.Kind == KindGateway && parent != nil && parent.Kind == KindSite
}

// numbering are the edits that give numbers to what edits have added to a design, in their order, and write down those
// of what stands beside it.
func (d *Design) numbering(before *Design, edits []Edit) (out []Edit) {
	boxes, turns := map[ID]bool{}, map[ID]int{}
	segments := false
	for n, e := range edits {
		if _, named := turns[e.ID]; !named {
			turns[e.ID] = n
		}
		for _, in := range []*Design{before, d} {
			o := in.objects[e.ID]
			if o != nil && o.Kind == KindTunnel {
				o = in.objects[o.Parent]
			}
			if o == nil {
				continue
			}
			segments = segments || o.Kind == KindSegment
			switch b := o.Body.(type) {
			case *Link:
				for _, e := range b.Ends {
					boxes[e.Gateway] = true
				}
			case *Circuit:
				for _, e := range b.Ends {
					boxes[e.At] = true
				}
			}
		}
	}
	changed := map[ID]*Object{}
	for _, box := range slices.Sorted(maps.Keys(boxes)) {
		if d.meetsWire(box) {
			d.number(before, box, KindTunnel, turns, changed)
			d.number(before, box, KindCircuit, turns, changed)
		}
	}
	if segments {
		d.number(before, "", KindSegment, turns, changed)
	}
	for _, id := range slices.Sorted(maps.Keys(changed)) {
		out = append(out, PutEdit(changed[id]))
	}
	return out
}

// number puts what has another number now, at one box, into changed. What was there before keeps what it had, or what
// it was given on purpose; what is new takes what is free, also where it was copied with the number of another.
// Of several new ones each has its turn.
func (d *Design) number(before *Design, box ID, kind Kind, turns map[ID]int, changed map[ID]*Object) {
	had := before.NumbersAt(box, kind)
	places := d.numberedAt(box, kind)
	slices.SortStableFunc(places, func(a, b numbered) int { return cmp.Compare(turns[a.id], turns[b.id]) })
	numbers, taken := make([]int, len(places)), d.numbersThere(box, kind)
	for n, p := range places {
		if had[p.id] == 0 {
			continue
		}
		numbers[n] = givenNumber(d.objects[p.id], p.end)
		if numbers[n] == 0 {
			numbers[n] = had[p.id]
		}
		taken[numbers[n]] = true
	}
	for n, p := range places {
		if numbers[n] != 0 {
			continue
		}
		numbers[n] = givenNumber(d.objects[p.id], p.end)
		if numbers[n] == 0 || taken[numbers[n]] {
			numbers[n] = freeNumber(taken)
		}
		taken[numbers[n]] = true
	}
	for n, p := range places {
		o := d.objects[p.id]
		if changed[p.id] != nil {
			o = changed[p.id]
		}
		if givenNumber(o, p.end) != numbers[n] {
			changed[p.id] = withNumber(o, p.end, numbers[n])
		}
	}
}

// numbersThere are the numbers that what is there has at a box and the plan has not: it runs until it is taken away.
func (d *Design) numbersThere(box ID, kind Kind) map[int]bool {
	taken := map[int]bool{}
	if d.side == Built {
		return taken
	}
	for id, n := range d.Built().NumbersAt(box, kind) {
		if d.objects[id] == nil {
			taken[n] = true
		}
	}
	return taken
}

// numbers refuses that two things at one box, or two segments, were given one number.
func (v *validator) numbers(o *Object) {
	clash := func(box ID, end int) {
		given := givenNumber(o, end)
		if given == 0 {
			return
		}
		if o.Kind == KindSegment && given > MostSegments {
			v.add(o, "number", "is over "+strconv.Itoa(MostSegments), "leave it out: the next free one is given")
		}
		have := v.numbered(box, o.Kind)[given]
		if n := slices.IndexFunc(have, func(id ID) bool { return id != o.ID }); n >= 0 {
			v.add(
				o, "number", "is that of the "+string(o.Kind)+" "+v.design.Path(have[n])+", too",
				"leave it out: the next free one is given",
			)
		}
	}
	switch b := o.Body.(type) {
	case *Segment:
		clash("", 0)
	case *Circuit:
		for end, e := range b.Ends {
			clash(e.At, end)
		}
	case *Tunnel:
		if link, ok := v.design.Get(o.Parent).Body.(*Link); ok && len(link.Ends) == 2 {
			for end, e := range link.Ends {
				clash(e.Gateway, end)
			}
		}
	}
}

// numberPlace is where numbers of one kind are counted.
type numberPlace struct {
	box  ID
	kind Kind
}

// numbered is who has been given each number of a kind at a box.
func (v *validator) numbered(box ID, kind Kind) map[int][]ID {
	at := numberPlace{box, kind}
	if v.given[at] == nil {
		given := map[int][]ID{}
		for _, p := range v.design.numberedAt(box, kind) {
			n := givenNumber(v.design.objects[p.id], p.end)
			given[n] = append(given[n], p.id)
		}
		v.given[at] = given
	}
	return v.given[at]
}
