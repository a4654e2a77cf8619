package design

import (
	"reflect"
	"slices"
	"strings"

	"dravin/core/provider"
)

// State tells how far something that is being made has come. The empty State
// is that of what simply exists, ready.
type State = string

// The states, in their order. They are facts about what is there: what is planned and nobody has begun has none, and is
// not in the design as built.
const (
	Waiting State = "waiting-for-the-other-half"
	Making  State = "being-built"
	Ready   State = "ready"
	Refused State = "refused"
	Gone    State = "gone"
)

// drafted is what a design file of before said of what is planned and not begun.
const drafted State = "drafted"

// NotBegun is how far something has come that is planned and not in the design as built. It is no [State]: no object
// holds it.
const NotBegun = "planned"

// StateWord is a state as people say it.
func StateWord(s State) string { return strings.ReplaceAll(s, "-", " ") }

// Profile is what one cloud allows.
type Profile provider.Profile

// Request is one owner's wish to join something of another's.
type Request struct {
	// What would be made.
	For Ref `yaml:"for" json:"for" ref:"link,peering,circuit,attachment"`
	// Who asks.
	From Ref `yaml:"from,omitempty" json:"from,omitempty" ref:"owner"`
	// Who decides.
	To Ref `yaml:"to,omitempty" json:"to,omitempty" ref:"owner"`
	// What was decided; left out while it is open.
	Answer string `yaml:"answer,omitempty" json:"answer,omitempty" enum:"accepted,refused"`
	// Why.
	Reason string `yaml:"reason,omitempty" json:"reason,omitempty" form:"free"`
}

func (*Profile) kind() Kind { return KindProfile }

func (*Request) kind() Kind { return KindRequest }

// made is a body that has a state.
type made interface{ state() *State }

// StateOf is the state of a link, peering, circuit, attachment, hub or edge
// router; [Ready] for what has none.
func StateOf(o *Object) State {
	if m, ok := o.Body.(made); ok && *m.state() != "" {
		return *m.state()
	}
	return Ready
}

// StateOf is how far something has come as built: its state there, or [NotBegun].
func (d *Design) StateOf(id ID) string {
	if o := d.Built().Get(id); o != nil {
		return StateOf(o)
	}
	return NotBegun
}

// InState is o in another state, or o itself if it has none.
func (o *Object) InState(s State) *Object {
	if _, ok := o.Body.(made); !ok {
		return o
	}
	body := reflect.New(reflect.TypeOf(o.Body).Elem())
	body.Elem().Set(reflect.ValueOf(o.Body).Elem())
	*body.Interface().(made).state() = s
	return o.With(body.Interface().(Body))
}

// OwnerOf is who answers for a party, empty if nobody is said to.
func OwnerOf(o *Object) ID {
	if o == nil {
		return ""
	}
	switch b := o.Body.(type) {
	case *Site:
		return b.Owner
	case *Network:
		return b.Owner
	case *Hub:
		return b.Owner
	case *EdgeRouter:
		return b.Owner
	case *Outside:
		return b.Owner
	}
	return ""
}

// CloudOf is the cloud that a network or hub is in, empty for anything else.
func CloudOf(o *Object) string {
	switch b := o.Body.(type) {
	case *Network:
		return b.Cloud
	case *Hub:
		return b.Cloud
	}
	return ""
}

// begun reports whether anything of something is there.
func begun(o *Object) bool {
	if StateOf(o) != drafted {
		return true
	}
	switch b := o.Body.(type) {
	case *Peering:
		return slices.ContainsFunc(b.Halves, func(h Half) bool { return h.Made })
	case *Circuit:
		return b.Step != ""
	}
	return false
}

// asFact is what is there of something that has begun.
func asFact(o *Object) *Object {
	if StateOf(o) == drafted {
		o = o.InState(Making)
	}
	if t, ok := o.Body.(*Tunnel); ok && slices.ContainsFunc(t.Ends, func(e TunnelEnd) bool { return e.State == drafted }) {
		o = Edited(o, func(t *Tunnel) {
			for n := range t.Ends {
				if t.Ends[n].State == drafted {
					t.Ends[n].State = Making
				}
			}
		})
	}
	return o
}

// asPlanned is something done as planned: what is being built is ready then. What was refused, is gone, or waits for
// somebody else stays so: that is not ours to plan.
func asPlanned(o *Object) *Object {
	st := StateOf(o)
	making := st == drafted || st == Making
	switch b := o.Body.(type) {
	case *Tunnel:
		return plannedTunnel(o, b)
	case *Peering:
		if making {
			return Edited(o, func(b *Peering) {
				b.State = ""
				for n := range b.Halves {
					b.Halves[n].Made = true
				}
			})
		}
	case *Circuit:
		if making || st == Waiting || st == Ready && b.Step != "" && b.Step != StepInUse { // a code waits for us
			return Edited(o, func(b *Circuit) { b.State, b.Step = "", "" })
		}
	}
	if making {
		return o.InState("")
	}
	return o
}

func plannedTunnel(o *Object, b *Tunnel) *Object {
	making := func(e TunnelEnd) bool { return e.State == drafted || e.State == Making }
	if !slices.ContainsFunc(b.Ends, making) {
		return o
	}
	return Edited(o, func(b *Tunnel) {
		for n := range b.Ends {
			if making(b.Ends[n]) {
				b.Ends[n].State = ""
			}
		}
		b.Ends = saidEnds(b.Ends)
	})
}

// WithEnds is a tunnel of which something else is said of its two ends.
func WithEnds(o *Object, say func(ends []TunnelEnd)) *Object {
	return Edited(o, func(b *Tunnel) {
		b.Ends = append(b.Ends, make([]TunnelEnd, max(0, 2-len(b.Ends)))...)
		say(b.Ends)
		b.Ends = saidEnds(b.Ends)
	})
}

// saidEnds are what is said of a tunnel's ends; nil where nothing is.
func saidEnds(ends []TunnelEnd) []TunnelEnd {
	if slices.ContainsFunc(ends, func(e TunnelEnd) bool { return !reflect.ValueOf(e).IsZero() }) {
		return ends
	}
	return nil
}

// following is an object as planned after what is there has become another: each field that the plan had as it was
// built becomes what it is now.
func following(plan, was, now *Object) *Object {
	if was == nil || plan.Kind != now.Kind || was.Kind != now.Kind {
		return plan
	}
	was, now = asPlanned(was), asPlanned(now)
	out := *plan
	if plan.Name == was.Name {
		out.Name = now.Name
	}
	if plan.Parent == was.Parent {
		out.Parent = now.Parent
	}
	body := reflect.New(reflect.TypeOf(plan.Body).Elem())
	body.Elem().Set(reflect.ValueOf(plan.Body).Elem())
	old, fresh := reflect.ValueOf(was.Body).Elem(), reflect.ValueOf(now.Body).Elem()
	for n := range body.Elem().NumField() {
		f := body.Elem().Field(n)
		if alike(f, old.Field(n)) && !alike(old.Field(n), fresh.Field(n)) {
			f.Set(fresh.Field(n))
		}
	}
	out.Body = body.Interface().(Body)
	if m, ok := out.Body.(made); ok && *m.state() == Waiting && StateOf(plan) != Waiting && out.Kind != KindPeering {
		*m.state() = ""
	}
	return &out
}

// alike reports whether two values of one field say the same: an empty list is none.
func alike(a, b reflect.Value) bool {
	if a.Kind() == reflect.Slice && a.Len() == 0 && b.Len() == 0 {
		return true
	}
	return reflect.DeepEqual(a.Interface(), b.Interface())
}
