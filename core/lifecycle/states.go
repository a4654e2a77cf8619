package lifecycle

import (
	"fmt"
	"slices"

	"dravin/core/design"
)

// Step is something that can be done next with a link, peering, circuit,
// attachment or request. Where it needs to be told something, its edits are
// made by [Answer] or [EnterCode].
type Step struct {
	Key   string        `json:"key"` // stable: begin, ready, gone, half-1, half-2, order, code, accept, session, answer
	Title string        `json:"title"`
	Needs string        `json:"needs,omitempty"` // code or answer; empty: nothing
	Edits []design.Edit `json:"edits"`
}

// The keys of steps that need to be told something.
const (
	NeedsCode    = "code"
	NeedsAnswer  = "answer"
	NeedsAddress = "address"
	NeedsPort    = "port"
)

// Steps lists what can be done next with something, seen from the design as planned: each is a fact about what is
// there, and its edits say so of the design as built.
func Steps(d *design.Design, o *design.Object) []Step {
	if r := OpenRequest(d, o.ID); r != nil {
		by := ""
		if owner := r.Body.(*design.Request).To; owner != "" {
			by = " for " + d.Title(owner)
		}
		return []Step{{Key: "answer", Title: "Accept or refuse" + by, Needs: NeedsAnswer, Edits: []design.Edit{}}}
	}
	if r := refusedRequest(d, o); r != nil {
		return []Step{{Key: "ask", Title: "Ask again", Edits: Ask(d, r)}}
	}
	switch o.Kind {
	case design.KindPeering:
		return peeringSteps(d, o)
	case design.KindCircuit:
		return circuitSteps(d, o)
	}
	out := []Step{}
	to := func(key, title string, s design.State) {
		out = append(out, Step{Key: key, Title: title, Edits: there(d, atBuilt(d, o).InState(s))})
	}
	state := d.StateOf(o.ID)
	switch state {
	case design.NotBegun:
		to("begin", "Begin to build it", design.Making)
	case design.Making, design.Waiting:
		to("ready", "It is ready", design.Ready)
	case design.Refused, design.Gone:
		to("begin", "Begin again to build it", design.Making)
	}
	if state == design.Making || state == design.Ready {
		to("gone", "It is gone", design.Gone)
	}
	return out
}

// atBuilt is an object as it is there; of what has not begun, as it is before it begins.
func atBuilt(d *design.Design, o *design.Object) *design.Object {
	if b := d.Built().Get(o.ID); b != nil {
		return b
	}
	switch o.Body.(type) {
	case *design.Peering:
		return design.Edited(o, func(p *design.Peering) {
			p.State = design.Making
			for n := range p.Halves {
				p.Halves[n].Made = false
			}
		})
	case *design.Circuit:
		return design.Edited(o, func(c *design.Circuit) { c.State, c.Step = design.Making, "" })
	}
	return o
}

// there are the edits that say of an object how it is as built, with what it can not be there without.
func there(d *design.Design, now *design.Object) []design.Edit {
	edits := []design.Edit{}
	if d.Built().Get(now.ID) == nil {
		for _, e := range d.There(now.ID) {
			if e.ID != now.ID {
				edits = append(edits, e)
			}
		}
	}
	edits = append(edits, design.Edit{Side: design.Built, Op: design.Put, ID: now.ID, Object: now})
	return d.Said(edits)
}

func peeringSteps(d *design.Design, o *design.Object) []Step {
	out := []Step{}
	now := atBuilt(d, o)
	if st := design.StateOf(now); st == design.Refused || st == design.Gone {
		again := design.Edited(now, func(p *design.Peering) { p.State = design.Making })
		return append(out, Step{Key: "begin", Title: "Begin again to build it", Edits: there(d, again)})
	}
	for n, h := range now.Body.(*design.Peering).Halves {
		if h.Made {
			continue
		}
		out = append(
			out,
			Step{
				Key: fmt.Sprintf("half-%d", n+1), Title: "The half of " + d.Title(h.Network) + " is made",
				Edits: there(d, WithHalf(now, n, true)),
			},
		)
	}
	if len(out) == 0 && design.StateOf(now) == design.Ready {
		for n, h := range now.Body.(*design.Peering).Halves {
			out = append(
				out,
				Step{
					Key: fmt.Sprintf("half-%d", n+1), Title: "The half of " + d.Title(h.Network) + " is gone",
					Edits: there(d, WithHalf(now, n, false)),
				},
			)
		}
	}
	return out
}

// Half says that one half of a peering is made.
func Half(d *design.Design, o *design.Object, n int) []design.Edit {
	return there(d, WithHalf(atBuilt(d, o), n, true))
}

// WithHalf is a peering with one half made or not, in the state that follows.
func WithHalf(o *design.Object, n int, made bool) *design.Object {
	b := *o.Body.(*design.Peering)
	b.Halves = slices.Clone(b.Halves)
	b.Halves[n].Made = made
	switch {
	case b.Halves[0].Made && b.Halves[1].Made:
		b.State = "" // it is ready
	case made && (b.Halves[0].Made || b.Halves[1].Made):
		b.State = design.Making // the other half is on its way
	case b.Halves[0].Made || b.Halves[1].Made:
		b.State = design.Waiting
	default:
		b.State = design.Gone
	}
	return o.With(&b)
}

// Milestone is one of the things that the making of a circuit goes through.
type Milestone struct {
	Word string `json:"word"`
	Done bool   `json:"done"`
}

// Track is how far the making of a circuit has come; empty for anything else.
func Track(d *design.Design, o *design.Object) []Milestone {
	if o.Kind != design.KindCircuit {
		return []Milestone{}
	}
	now := atBuilt(d, o)
	c := now.Body.(*design.Circuit)
	order := []string{design.StepOrdered, design.StepCode, design.StepAccepted, design.StepInUse}
	at := slices.Index(order, c.Step)
	if c.Step == "" && design.StateOf(now) == design.Ready {
		at = len(order) - 1
	}
	out := []Milestone{
		{Word: "ordered at " + d.Title(c.Ends[0].At)}, {Word: "order code"},
		{Word: "accepted at " + d.Title(c.Ends[1].At)}, {Word: "session up"},
	}
	for n := range out {
		out[n].Done = n <= at
	}
	return out
}

func circuitSteps(d *design.Design, o *design.Object) []Step {
	out := []Step{}
	now := atBuilt(d, o)
	b := now.Body.(*design.Circuit)
	move := func(key, title, step string, s design.State) {
		edited := design.Edited(now, func(c *design.Circuit) { c.Step, c.State = step, s })
		out = append(out, Step{Key: key, Title: title, Edits: there(d, edited)})
	}
	switch st := design.StateOf(now); {
	case st == design.Refused || st == design.Gone:
		move("begin", "Begin again to build it", "", design.Making)
	case b.Step == "" && st == design.Making:
		move("order", "It is ordered at "+d.Title(b.Ends[0].At), design.StepOrdered, design.Making)
	case b.Step == design.StepOrdered:
		out = append(out, Step{Key: "code", Title: "Enter the order code", Needs: NeedsCode, Edits: []design.Edit{}})
	case b.Step == design.StepCode:
		move("accept", "It is accepted at "+d.Title(b.Ends[1].At), design.StepAccepted, design.Making)
		out = append(out, Step{Key: "code", Title: "Enter another code", Needs: NeedsCode, Edits: []design.Edit{}})
	case b.Step == design.StepAccepted:
		move("session", "The session is up", "", "")
	default:
		move("gone", "It is gone", b.Step, design.Gone)
	}
	return out
}

// WithCode is a circuit that has its order code: what the other party accepts with.
func WithCode(o *design.Object, code, zone, expires string) *design.Object {
	return design.Edited(o, func(c *design.Circuit) {
		c.Step, c.State, c.Code, c.CodeZone, c.Expires = design.StepCode, design.Waiting, code, zone, expires
	})
}

// EnterCode says that a circuit has its order code.
func EnterCode(d *design.Design, o *design.Object, code, zone, expires string) ([]design.Edit, error) {
	if o == nil || o.Kind != design.KindCircuit || code == "" {
		return nil, fmt.Errorf("a circuit needs its order code; it is given where the circuit was ordered")
	}
	return there(d, WithCode(atBuilt(d, o), code, zone, expires)), nil
}

// OpenRequest is the unanswered request for something, or nil.
func OpenRequest(d *design.Design, subject design.ID) *design.Object {
	for o, body := range design.Each[design.Request](d.Of(design.KindRequest)) {
		if r := body; r.For == subject && r.Answer == "" {
			return o
		}
	}
	return nil
}

// refusedRequest is the request by which something was refused.
func refusedRequest(d *design.Design, subject *design.Object) *design.Object {
	for o, body := range design.Each[design.Request](d.Of(design.KindRequest)) {
		if r := body; r.For == subject.ID && r.Answer == "refused" &&
			design.StateOf(subject) == design.Refused {
			return o
		}
	}
	return nil
}

// Answer accepts or refuses a request, with a reason, and moves what it is for: on both sides, as far as it is there.
func Answer(d *design.Design, request *design.Object, accept bool, reason string) ([]design.Edit, error) {
	if reason == "" {
		return nil, fmt.Errorf("a reason is missing; the one who asks will read it in the history")
	}
	r := *request.Body.(*design.Request)
	if r.Answer != "" {
		return nil, fmt.Errorf("the request was %s already: %s", r.Answer, r.Reason)
	}
	plan, fact := design.State(""), design.Making
	r.Answer, r.Reason = "accepted", reason
	if !accept {
		r.Answer, plan, fact = "refused", design.Refused, design.Refused
	}
	return answered(d, request.With(&r), plan, fact), nil
}

// Ask asks anew after a request was refused.
func Ask(d *design.Design, request *design.Object) []design.Edit {
	r := *request.Body.(*design.Request)
	r.Answer, r.Reason = "", ""
	return answered(d, request.With(&r), "", design.Waiting)
}

// answered puts a request on both sides, as far as it is there, and what it is for into the states that follow.
func answered(d *design.Design, request *design.Object, plan, fact design.State) []design.Edit {
	edits := []design.Edit{{Side: design.Planned, Op: design.Put, ID: request.ID, Object: request}}
	if d.Built().Get(request.ID) != nil {
		edits[0].Side = design.Both
	}
	subject := d.Get(request.Body.(*design.Request).For)
	for _, o := range append([]*design.Object{subject}, twins(d, subject)...) {
		edits = append(edits, design.Edit{Side: design.Planned, Op: design.Put, ID: o.ID, Object: o.InState(plan)})
		b := d.Built().Get(o.ID)
		if b == nil || design.StateOf(b) == design.Ready && fact == design.Making ||
			b.Kind == design.KindPeering && fact == design.Making { // its halves are made one by one
			continue
		}
		now := b.InState(fact)
		edits = append(edits, design.Edit{Side: design.Built, Op: design.Put, ID: now.ID, Object: now})
	}
	return edits
}

// twins are the other circuits that were drafted with one, for redundancy: a
// request for one is for all.
func twins(d *design.Design, o *design.Object) []*design.Object {
	c, ok := o.Body.(*design.Circuit)
	if !ok {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(d.Of(design.KindCircuit)), func(other *design.Object) bool {
		x := other.Body.(*design.Circuit)
		return other.ID == o.ID || x.Ends[0].At != c.Ends[0].At || x.Ends[1].At != c.Ends[1].At ||
			d.StateOf(other.ID) != d.StateOf(o.ID)
	})
}

// SetUp is a link of a design once it is set up at one of its ends: its tunnels wait for the other, unless that is set
// up, too.
func SetUp(d *design.Design, link *design.Object, end int) []design.Edit {
	begun := design.StateOf(link) == design.Ready
	edits := []design.Edit{design.PutEdit(link.InState(""))}
	for _, t := range d.Tunnels(link.ID) {
		if design.GoneAtAnEnd(t) {
			continue
		}
		edits = append(edits, design.PutEdit(design.WithEnds(t, func(ends []design.TunnelEnd) {
			ends[end].State = ""
			if !begun {
				ends[1-end].State = design.Making
			}
		})))
	}
	return edits
}

// SetUpAt reports whether all tunnels of a link are set up at one of its ends.
func SetUpAt(d *design.Design, link design.ID, end int) bool {
	return !slices.ContainsFunc(d.Tunnels(link), func(t *design.Object) bool {
		ends := t.Body.(*design.Tunnel).Ends
		return len(ends) == 2 && ends[end].State != "" && ends[end].State != design.Ready
	})
}
