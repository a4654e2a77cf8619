package design

import (
	"reflect"
	"strings"

	"dravin/core/provider"
)

// State tells how far something that is being made has come. The empty State
// is that of what simply exists, ready.
type State = string

// The states, in their order.
const (
	Drafted State = "drafted"
	Waiting State = "waiting-for-the-other-half"
	Making  State = "being-built"
	Ready   State = "ready"
	Refused State = "refused"
	Gone    State = "gone"
)

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
