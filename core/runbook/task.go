package runbook

import (
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/core/settings"
)

// A joint has two ends, and each is somebody's. What is made at one end waits for the other: the design as built says
// so after the first of them, and the joint is down until both are done.

// of is a joint with what carries it and what runs over it, as a design has it.
func (j jointWork) of(d *design.Design) (out []*design.Object) {
	o := d.Get(j.ID)
	if o == nil {
		return nil
	}
	out = append(out, o)
	for _, in := range d.Inside(j.ID, design.KindTunnel, design.KindSession) {
		out = append(out, in)
		out = append(out, d.Inside(in.ID, design.KindSession)...)
	}
	return append(out, d.Referring(j.ID, design.KindRequest)...)
}

// jointWork is what is to be done at a joint.
type jointWork struct{ design.Joint }

// whole are all edits that are left of a joint.
func (j jointWork) whole(w *writer, cur *design.Design) []design.Edit {
	ids := map[design.ID]bool{}
	for _, o := range slices.Concat(j.of(cur), j.of(w.plan)) {
		ids[o.ID] = true
	}
	out := slices.DeleteFunc(cur.Toward(w.plan), func(e design.Edit) bool { return !ids[e.ID] })
	return w.withCalled(cur, out)
}

// withCalled adds to edits what they name and nobody does anything for.
func (w *writer) withCalled(cur *design.Design, edits []design.Edit) []design.Edit {
	have := map[design.ID]bool{}
	for _, e := range edits {
		have[e.ID] = true
	}
	for n := 0; n < len(edits); n++ {
		if edits[n].Object == nil {
			continue
		}
		for _, to := range design.RefsOf(edits[n].Object) {
			o := w.plan.Get(to)
			if o != nil && !have[to] && cur.Get(to) == nil && !design.Shared(o.Kind) && w.silent(o) {
				have[to] = true
				edits = append(edits, design.PutEdit(o))
			}
		}
	}
	return edits
}

// jointParts are the parts of what is to be done at a joint.
func (w *writer) jointParts(joint design.Joint) []part {
	j := jointWork{joint}
	cur := w.now.design()
	plan := w.plan.Get(j.ID)
	if asked := w.asks(j); asked != nil {
		return asked
	}
	if plan != nil && !exists(w.plan, j.ID) { // what was refused or is gone is nobody's to do
		return []part{{key: "told", edits: j.whole}}
	}
	switch b := joint.Body.(type) {
	case *design.Link:
		return w.linkParts(j, b)
	case *design.Peering:
		return w.peeringParts(j, b)
	case *design.Circuit:
		return w.circuitParts(j, b)
	}
	key := "attach"
	if plan == nil {
		key = "away"
	} else if exists(cur, j.ID) && design.StateOf(cur.Get(j.ID)) == design.Ready {
		key = "change"
	}
	return []part{{key: key, at: j.Ends[0], edits: j.whole}}
}

// asks is how a joint begins that somebody must be asked for: with the question, and until it is answered with nothing
// else. Nil: nobody is asked.
func (w *writer) asks(j jointWork) []part {
	if w.plan.Get(j.ID) == nil {
		return nil
	}
	r := lifecycle.OpenRequest(w.plan, j.ID)
	cur := w.now.design()
	there := cur.Get(j.ID)
	if r == nil || there != nil && design.StateOf(there) == design.Ready {
		return nil
	}
	body := r.Body.(*design.Request)
	if cur.Get(r.ID) != nil {
		w.gate(w.asked(j, r))
		return []part{}
	}
	w.gate(w.asked(j, r))
	return []part{{
		key: "ask", at: w.asker(j, body), does: "ask " + w.plan.Title(body.To) + " for it",
		edits: func(w *writer, cur *design.Design) []design.Edit {
			var out []design.Edit
			for _, e := range j.whole(w, cur) {
				if e.Object != nil && e.ID == j.ID {
					e = design.PutEdit(begun(e.Object).InState(w.waits(j)))
				}
				out = append(out, e)
			}
			return out
		},
	}}
}

// asker is the party whose owner asks for a joint.
func (w *writer) asker(j jointWork, r *design.Request) design.ID {
	for _, end := range j.Ends {
		if p := w.plan.Party(end); p != nil && r.From != "" && design.OwnerOf(p) == r.From {
			return p.ID
		}
	}
	return w.plan.Party(j.Ends[0]).ID
}

// asked is the waiting for the answer to a request.
func (w *writer) asked(j jointWork, r *design.Object) Gate {
	body := r.Body.(*design.Request)
	g := Gate{
		Object: j.ID, Text: w.plan.Title(j.ID) + " waits for an answer of " + w.plan.Title(body.To),
		For: w.plan.Title(body.To), Begun: w.begun.design().Get(r.ID) != nil,
		Begins: fmt.Sprintf("%s/%s/0/ask", j.ID, w.asker(j, body)),
	}
	if p := w.plan.ProfileOf(j.ID); p != nil {
		g.Days = p.AnswerDays
	}
	return g
}

// waits is how something stands that was asked for: where a hub takes attachments without asking its owner, it is being
// built meanwhile.
func (w *writer) waits(j jointWork) design.State {
	p := w.plan.ProfileOf(j.ID)
	if j.Kind == design.KindAttachment && p != nil && p.Hub != nil && !p.Hub.AsksOwner {
		return design.Making
	}
	return design.Waiting
}

// begun is a joint of which nothing is made yet.
func begun(o *design.Object) *design.Object {
	if o.Kind == design.KindPeering {
		return design.Edited(o, func(p *design.Peering) {
			for n := range p.Halves {
				p.Halves[n].Made = false
			}
		})
	}
	return o
}

// linkParts set up first the end that waits to be asked: the one that starts finds it ready. What is taken away is
// taken away first where it starts.
func (w *writer) linkParts(j jointWork, b *design.Link) (out []part) {
	cur, d := w.now.design(), w.of(j.ID)
	starts := 0
	for _, t := range d.Tunnels(j.ID) {
		if settings.Starts(d, t, 1) {
			starts = 1
		}
	}
	order := []int{1 - starts, starts}
	if w.plan.Get(j.ID) == nil {
		return w.away(j, [2]int{starts, 1 - starts}, b.Ends[0].Gateway, b.Ends[1].Gateway)
	}
	now := cur.Get(j.ID)
	whole := now != nil && design.StateOf(now) == design.Ready
	var ends []int
	for _, n := range order {
		switch {
		case !whole, !lifecycle.SetUpAt(cur, j.ID, n), w.concerns(j, n+1):
			ends = append(ends, n)
		}
	}
	if len(ends) == 0 {
		return []part{{key: "told", edits: j.whole}}
	}
	if whole && len(ends) > 1 && j.losesSessions(w, cur) {
		// A session ends with its first end, and nothing else waits: another box of one's own follows.
		if other := w.now.box(b.Ends[ends[1]].Gateway); other != nil && other.Linux {
			ends = ends[:1]
		}
	}
	for k, n := range ends {
		p := part{key: "end", at: b.Ends[n].Gateway, end: n + 1, edits: j.whole}
		if k < len(ends)-1 {
			p.edits = func(w *writer, cur *design.Design) []design.Edit { return j.oneEnd(w, cur, n) }
		}
		if r := remadeLink(cur, w.plan, j.ID, n); whole && r != nil {
			out = append(out, around(p, r)...)
			continue
		}
		out = append(out, p)
	}
	return out
}

// losesSessions reports whether sessions go from a link, and nothing else of it changes.
func (j jointWork) losesSessions(w *writer, cur *design.Design) bool {
	return !slices.ContainsFunc(j.whole(w, cur), func(e design.Edit) bool {
		return e.Op != design.Remove || cur.Get(e.ID).Kind != design.KindSession
	})
}

// oneEnd are the edits of a link whose one end is done and whose other is not.
func (j jointWork) oneEnd(w *writer, cur *design.Design, end int) (out []design.Edit) {
	for _, e := range j.whole(w, cur) {
		if e.Op == design.Remove { // it runs at the other end until that is done
			if o := cur.Get(e.ID); o.Kind == design.KindTunnel {
				gone := func(ends []design.TunnelEnd) { ends[end].State = design.Gone }
				out = append(out, design.PutEdit(design.WithEnds(o, gone)))
			}
			continue
		}
		o := e.Object
		if o.Kind == design.KindTunnel && !design.GoneAtAnEnd(o) {
			o = design.WithEnds(o, func(ends []design.TunnelEnd) { ends[1-end].State = design.Making })
		}
		out = append(out, design.PutEdit(o))
	}
	ids := map[design.ID]bool{}
	for _, e := range out {
		ids[e.ID] = true
	}
	for _, t := range w.plan.Tunnels(j.ID) { // those that stay wait, too: what they share is another
		if now := cur.Get(t.ID); now != nil && !ids[t.ID] && !design.GoneAtAnEnd(t) {
			out = append(out, design.PutEdit(design.WithEnds(now, func(ends []design.TunnelEnd) {
				ends[1-end].State = design.Making
			})))
		}
	}
	return out
}

// away takes a joint away at one of its ends and then at the other.
func (w *writer) away(j jointWork, order [2]int, ends ...design.ID) []part {
	first := func(w *writer, cur *design.Design) []design.Edit {
		o := cur.Get(j.ID)
		if len(cur.Referring(j.ID)) > 0 { // entries and mappings go first
			return nil
		}
		return []design.Edit{design.PutEdit(o.InState(design.Gone))}
	}
	a := part{key: "away", at: ends[order[0]], end: order[0] + 1, edits: first}
	b := part{key: "away", at: ends[order[1]], end: order[1] + 1, edits: j.whole}
	if design.StateOf(w.now.design().Get(j.ID)) == design.Gone {
		return []part{b}
	}
	return []part{a, b}
}

// concerns reports whether what is to be done at a joint changes what is entered at one of its ends.
func (w *writer) concerns(j jointWork, end int) bool {
	cur := w.now.design()
	edits := j.whole(w, cur)
	then, err := w.now.with(edits, w.plan)
	if err != nil {
		return true
	}
	about := map[design.ID]bool{}
	for _, o := range slices.Concat(j.of(cur), j.of(w.plan)) {
		about[o.ID] = true
	}
	say := func(e *estate) (out []string) {
		for _, i := range w.lines(e, about, j.Ends[end-1], end) {
			out = append(out, values(i))
		}
		return out
	}
	return !slices.Equal(say(w.now), say(then))
}

func (w *writer) peeringParts(j jointWork, b *design.Peering) (out []part) {
	cur := w.now.design()
	ends := []design.ID{b.Halves[0].Network, b.Halves[1].Network}
	now := cur.Get(j.ID)
	if w.plan.Get(j.ID) == nil {
		return w.away(j, [2]int{0, 1}, ends...)
	}
	made := func(n int) bool {
		return now != nil && design.StateOf(now) != design.Gone && now.Body.(*design.Peering).Halves[n].Made &&
			!w.concerns(j, n+1)
	}
	var left []int
	for n := range ends {
		if !made(n) {
			left = append(left, n)
		}
	}
	if len(left) == 0 {
		return []part{{key: "told", edits: j.whole}}
	}
	for k, n := range left {
		p := part{key: "half", at: ends[n], end: n + 1, edits: j.whole}
		if k < len(left)-1 {
			p.edits = func(w *writer, cur *design.Design) []design.Edit {
				edits := j.whole(w, cur)
				for i, e := range edits {
					if e.ID == j.ID {
						edits[i] = design.PutEdit(lifecycle.WithHalf(begun(e.Object), n, true))
					}
				}
				return edits
			}
		}
		out = append(out, p)
	}
	return out
}

// circuitParts order a circuit, have it accepted, and then set up both of its ends; one that runs is changed at its
// ends.
func (w *writer) circuitParts(j jointWork, b *design.Circuit) (out []part) {
	cur := w.now.design()
	now := cur.Get(j.ID)
	// An end that gets files gets them once the circuit counts: it is last.
	ends := [2]int{0, 1}
	if w.inCloud(j.Ends[1]) && !w.inCloud(j.Ends[0]) {
		ends = [2]int{1, 0}
	}
	if w.plan.Get(j.ID) == nil {
		return w.away(j, ends, b.Ends[0].At, b.Ends[1].At)
	}
	if now != nil && design.StateOf(now) == design.Ready {
		return w.changedCircuit(j, ends)
	}
	step := func(key, does, needs string, end int, edits func(*writer, *design.Design) []design.Edit) {
		out = append(out, part{key: key, at: j.Ends[end], end: end + 1, does: does, needs: needs, edits: edits})
	}
	to := func(s string) func(*writer, *design.Design) []design.Edit {
		return func(w *writer, cur *design.Design) []design.Edit {
			edits := j.whole(w, cur)
			for n, e := range edits {
				if e.ID == j.ID {
					edits[n] = design.PutEdit(design.Edited(e.Object, func(c *design.Circuit) {
						c.Step, c.State = s, design.Making
						if was := cur.Get(j.ID); was != nil {
							had := was.Body.(*design.Circuit)
							c.Code, c.CodeZone, c.Expires = had.Code, had.CodeZone, had.Expires
						}
					}))
				}
			}
			return edits
		}
	}
	at := ""
	if now != nil {
		at = now.Body.(*design.Circuit).Step
	}
	switch at {
	case "":
		step("order", "order the circuit", "", 0, to(design.StepOrdered))
		fallthrough
	case design.StepOrdered:
		w.gate(w.delivered(j))
		says := "get the order code, and tell it to " + w.plan.Title(j.Ends[1])
		step("code", says, lifecycle.NeedsCode, 0, to(design.StepCode))
		fallthrough
	case design.StepCode:
		step("accept", "accept the circuit with its order code", "", 1, to(design.StepAccepted))
	}
	for n, e := range b.Ends {
		if e.Port == "" && !w.inCloud(e.At) {
			step("port", "plug it in, and say into which port", lifecycle.NeedsPort, n, none)
		}
	}
	if w.inCloud(j.Ends[ends[0]]) {
		step("end", "", "", ends[0], none)
	}
	step("end", "", "", ends[1], j.whole)
	return out
}

// none are the edits of a part that says nothing of what is there by itself.
func none(*writer, *design.Design) []design.Edit { return []design.Edit{} }

// delivered is the waiting for the order code of a circuit.
func (w *writer) delivered(j jointWork) Gate {
	d := w.of(j.ID)
	at := d.Party(j.Ends[0])
	g := Gate{
		Object: j.ID, Text: d.Title(j.ID) + " is being delivered until its order code is there",
		Begins: fmt.Sprintf("%s/%s/1/order", j.ID, at.ID),
	}
	if o := w.begun.design().Get(j.ID); o != nil {
		g.Begun = o.Body.(*design.Circuit).Step == design.StepOrdered
	}
	if own := d.Get(design.OwnerOf(at)); own != nil {
		g.For = own.Name
	}
	for _, end := range j.Ends {
		if p := d.ProfileOf(end); p != nil && p.Circuit != nil {
			g.Days = max(g.Days, p.Circuit.DeliveryDays)
		}
	}
	return g
}

// changedCircuit changes a circuit that runs at the ends that it concerns.
func (w *writer) changedCircuit(j jointWork, order [2]int) (out []part) {
	var ends []int
	for _, n := range order {
		if w.concerns(j, n+1) {
			ends = append(ends, n)
		}
	}
	if len(ends) == 0 {
		return []part{{key: "told", edits: j.whole}}
	}
	for k, n := range ends {
		p := part{key: "end", at: j.Ends[n], end: n + 1, edits: j.whole}
		if k < len(ends)-1 {
			p.edits = func(w *writer, cur *design.Design) []design.Edit {
				var out []design.Edit
				for _, e := range j.whole(w, cur) {
					if e.Op == design.Put && e.ID == j.ID {
						e = design.PutEdit(e.Object.InState(design.Making))
					}
					if e.Op == design.Put {
						out = append(out, e)
					}
				}
				if !slices.ContainsFunc(out, func(e design.Edit) bool { return e.ID == j.ID }) {
					out = append(out, design.PutEdit(cur.Get(j.ID).InState(design.Making)))
				}
				return out
			}
		}
		out = append(out, p)
	}
	return out
}

func (w *writer) inCloud(at design.ID) bool {
	p := w.of(at).Party(at)
	return p.Kind == design.KindNetwork || p.Kind == design.KindHub
}
