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
	NeedsCode   = "code"
	NeedsAnswer = "answer"
)

// Steps lists what can be done next.
func Steps(d *design.Design, o *design.Object) []Step {
	out := []Step{}
	state := design.StateOf(o)
	to := func(key, title string, s design.State) {
		out = append(out, Step{Key: key, Title: title, Edits: []design.Edit{design.PutEdit(o.InState(s))}})
	}
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
	switch b := o.Body.(type) {
	case *design.Peering:
		return peeringSteps(d, o, b)
	case *design.Circuit:
		return circuitSteps(d, o, b)
	}
	switch state {
	case design.Drafted:
		to("begin", "Begin to build it", design.Making)
	case design.Making, design.Waiting:
		to("ready", "It is ready", design.Ready)
	case design.Refused, design.Gone:
		to("begin", "Draft it again", design.Drafted)
	}
	if state == design.Making || state == design.Ready {
		to("gone", "It is gone", design.Gone)
	}
	return out
}

func peeringSteps(d *design.Design, o *design.Object, b *design.Peering) []Step {
	out := []Step{}
	if st := design.StateOf(o); st == design.Refused || st == design.Gone {
		return append(
			out,
			Step{
				Key: "begin", Title: "Draft it again", Edits: []design.Edit{design.PutEdit(o.InState(design.Drafted))},
			},
		)
	}
	for n, h := range b.Halves {
		if h.Made {
			continue
		}
		out = append(
			out,
			Step{
				Key: fmt.Sprintf("half-%d", n+1), Title: "The half of " + d.Title(h.Network) + " is made",
				Edits: []design.Edit{design.PutEdit(WithHalf(o, n, true))},
			},
		)
	}
	if len(out) == 0 && design.StateOf(o) == design.Ready {
		for n, h := range b.Halves {
			out = append(
				out,
				Step{
					Key: fmt.Sprintf("half-%d", n+1), Title: "The half of " + d.Title(h.Network) + " is gone",
					Edits: []design.Edit{design.PutEdit(WithHalf(o, n, false))},
				},
			)
		}
	}
	return out
}

// WithHalf is a peering with one half made or not, in the state that follows.
func WithHalf(o *design.Object, n int, made bool) *design.Object {
	b := *o.Body.(*design.Peering)
	b.Halves = slices.Clone(b.Halves)
	b.Halves[n].Made = made
	switch {
	case b.Halves[0].Made && b.Halves[1].Made:
		b.State = design.Ready
	case made && (b.Halves[0].Made || b.Halves[1].Made):
		b.State = design.Making // the other half is planned, and counts when all is built
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
	c, ok := o.Body.(*design.Circuit)
	if !ok {
		return []Milestone{}
	}
	order := []string{design.StepOrdered, design.StepCode, design.StepAccepted, design.StepInUse}
	at := slices.Index(order, c.Step)
	if c.Step == "" && design.StateOf(o) == design.Ready {
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

func circuitSteps(d *design.Design, o *design.Object, b *design.Circuit) []Step {
	out := []Step{}
	move := func(key, title, step string, s design.State) {
		edited := design.Edited(o, func(c *design.Circuit) { c.Step, c.State = step, s })
		out = append(out, Step{Key: key, Title: title, Edits: []design.Edit{design.PutEdit(edited)}})
	}
	switch {
	case design.StateOf(o) == design.Refused || design.StateOf(o) == design.Gone:
		move("begin", "Draft it again", "", design.Drafted)
	case b.Step == "" && design.StateOf(o) == design.Drafted:
		move("order", "It is ordered at "+d.Title(b.Ends[0].At), design.StepOrdered, design.Making)
	case b.Step == design.StepOrdered:
		out = append(out, Step{Key: "code", Title: "Enter the order code", Needs: NeedsCode, Edits: []design.Edit{}})
	case b.Step == design.StepCode:
		move("accept", "It is accepted at "+d.Title(b.Ends[1].At), design.StepAccepted, design.Making)
		out = append(out, Step{Key: "code", Title: "Enter another code", Needs: NeedsCode, Edits: []design.Edit{}})
	case b.Step == design.StepAccepted:
		move("session", "The session is up", design.StepInUse, design.Ready)
	default:
		move("gone", "It is gone", b.Step, design.Gone)
	}
	return out
}

// EnterCode is a circuit with its order code: what the other party accepts
// with.
func EnterCode(o *design.Object, code, zone, expires string) (design.Edit, error) {
	_, ok := o.Body.(*design.Circuit)
	if !ok || code == "" {
		return design.Edit{}, fmt.Errorf("a circuit needs its order code; it is given where the circuit was ordered")
	}
	edited := design.Edited(o, func(c *design.Circuit) {
		c.Step, c.State, c.Code, c.CodeZone, c.Expires = design.StepCode, design.Waiting, code, zone, expires
	})
	return design.PutEdit(edited), nil
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

// Answer accepts or refuses a request, with a reason, and moves what it is for.
func Answer(d *design.Design, request *design.Object, accept bool, reason string) ([]design.Edit, error) {
	if reason == "" {
		return nil, fmt.Errorf("a reason is missing; the one who asks will read it in the history")
	}
	r := *request.Body.(*design.Request)
	if r.Answer != "" {
		return nil, fmt.Errorf("the request was %s already: %s", r.Answer, r.Reason)
	}
	subject := d.Get(r.For)
	state := design.Making
	r.Answer, r.Reason = "accepted", reason
	if !accept {
		r.Answer, state = "refused", design.Refused
	}
	if _, ok := subject.Body.(*design.Peering); ok && accept {
		state = design.Drafted // its halves are made one by one
	}
	edits := []design.Edit{design.PutEdit(request.With(&r)), design.PutEdit(subject.InState(state))}
	for _, o := range twins(d, subject) {
		edits = append(edits, design.PutEdit(o.InState(state)))
	}
	return edits, nil
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
			design.StateOf(other) != design.StateOf(o)
	})
}

// Ask drafts a request anew after one was refused.
func Ask(d *design.Design, request *design.Object) []design.Edit {
	r := *request.Body.(*design.Request)
	r.Answer, r.Reason = "", ""
	edits := []design.Edit{design.PutEdit(request.With(&r)), design.PutEdit(d.Get(r.For).InState(design.Waiting))}
	for _, o := range twins(d, d.Get(r.For)) {
		edits = append(edits, design.PutEdit(o.InState(design.Waiting)))
	}
	return edits
}

// SetUp is a link once it is set up at one of its ends: its tunnels wait for the other, unless that is set up, too.
func SetUp(d *design.Design, link *design.Object, end int) []design.Edit {
	begun := design.StateOf(link) == design.Ready
	edits := []design.Edit{design.PutEdit(link.InState(design.Ready))}
	for _, t := range d.Tunnels(link.ID) {
		if design.GoneAtAnEnd(t) {
			continue
		}
		edits = append(edits, design.PutEdit(design.Edited(t, func(b *design.Tunnel) {
			b.Ends = slices.Clone(b.Ends)
			for len(b.Ends) < 2 {
				b.Ends = append(b.Ends, design.TunnelEnd{})
			}
			b.Ends[end].State = ""
			if !begun {
				b.Ends[1-end].State = design.Making
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
