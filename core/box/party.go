package box

import (
	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/walk"
)

// Party is a site, network, hub or edge router with its boxes, and with what its
// administrator must do.
type Party struct {
	ID           design.ID
	Kind         design.Kind
	Name         string
	Boxes        []*Box
	Hosts        []Host // those that have filters of their own
	Instructions []Instruction
	Proofs       []Proof
	Zones        []Zone // in which its hosts ask for names
	Owner        string // who answers for it, where that is none of ours; empty otherwise
}

// Parties are the kinds that get something.
var Parties = []design.Kind{design.KindSite, design.KindNetwork, design.KindHub, design.KindEdgeRouter}

// PartyOf resolves a party; of one that is not there nothing but its ID is known.
func PartyOf(t *route.Tables, id design.ID) *Party {
	o := t.Design.Get(id)
	if o == nil {
		return &Party{ID: id, Instructions: []Instruction{}, Proofs: []Proof{}}
	}
	p := &Party{
		ID: id, Kind: o.Kind, Name: o.Name, Boxes: At(t, id), Hosts: hosts(t, id),
		Instructions: Instructions(t, id), Proofs: []Proof{}, Zones: zones(t.Design, id),
	}
	if owner := t.Design.Get(design.OwnerOf(o)); owner != nil && owner.Body.(*design.Owner).Outside {
		p.Owner = owner.Name
	}
	for _, i := range t.Design.Of(design.KindIntent) {
		if x, ok := proof(t, i, id); ok {
			p.Proofs = append(p.Proofs, x)
		}
	}
	return p
}

// Proof is a flow that a party tries once all is entered.
type Proof struct {
	From    string `json:"from"`
	Dial    string `json:"dial"`    // what is dialled, as an address
	Service string `json:"service"` // such as tcp/502
	To      string `json:"to"`      // who must answer, or must not
	Never   bool   `json:"never,omitempty"`
}

func proof(t *route.Tables, intent *design.Object, party design.ID) (p Proof, ok bool) {
	d := t.Design
	in := intent.Body.(*design.Intent)
	if !d.Concerns(in.From, party) {
		return p, false
	}
	p = Proof{
		From: d.Get(in.From).Name, Dial: "any address", Service: "every service", To: d.Get(in.To).Name,
		Never: in.Never,
	}
	if in.Service != (design.Service{}) {
		p.Service = in.Service.String()
	}
	from := in.From
	if o := d.Get(from); o.Kind == design.KindSegment {
		from = party
	}
	if flow, err := walk.FlowBetween(t, from, in.To, in.Service); err == nil {
		p.Dial = flow.To.String()
		if in.Service != (design.Service{}) {
			p.Service = flow.Service.String() // what is dialled, where a published service leads there
		}
	}
	return p, true
}
