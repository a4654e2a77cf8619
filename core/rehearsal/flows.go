package rehearsal

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/proof"
	"dravin/core/walk"
)

// Flow is a flow that is sent, with what is proven of it.
type Flow struct {
	walk.Flow
	Number int
	Title  string
	Intent design.ID // for which it is sent; empty: it is one of the sample, or asks a published service
	Node   string    // where it starts
	Proof  walk.Proof
	// Largest is the largest segment of which whoever is asked by TCP may be told, in bytes; 0: it is not held.
	Largest int
}

// choose decides what is sent, before anything is built: a host that none is declared for is made where
// it starts or ends.
func (b *builder) choose(sample int) {
	d := b.whole.Design
	for i, in := range design.Each[design.Intent](d.Of(design.KindIntent)) {
		b.plan.Intents = append(
			b.plan.Intents, Intent{ID: i.ID, Name: i.Name, Never: in.Never, Sent: []Try{}, Why: []string{}},
		)
		services := proof.Services(d)
		if in.Service != (design.Service{}) || len(services) == 0 {
			services = []design.Service{in.Service}
		}
		for _, from := range few(d.StandsFor(in.From)) {
			for _, to := range few(d.StandsFor(in.To)) {
				if from != to {
					b.between(from, to, services[0], i, in.Never)
				}
			}
		}
	}
	hosts := b.everybody()
	for o, l := range design.Each[design.Listener](d.Of(design.KindListener)) {
		for n, h := range hosts {
			if n%7 == 0 && prefix.FamilyOf(h.Address) == prefix.FamilyOf(l.Address) {
				b.sends(walk.Flow{From: h, To: l.Address, Service: l.Service}, o)
			}
		}
	}
	services := proof.Services(d)
	total := len(hosts) * len(hosts) * len(services)
	for n := range min(sample, total) {
		// Strides of a golden ratio leave no host out for long.
		k := int(uint64(n) * 2654435761 % uint64(total))
		from, to := hosts[k/len(services)%len(hosts)], hosts[k/len(services)/len(hosts)]
		if from.Place != to.Place && from.Address.Is4() == to.Address.Is4() {
			b.sends(walk.FlowOf(b.whole, from, to, services[k%len(services)]), nil)
		}
	}
}

// everybody are the declared hosts, and one of each place without any.
func (b *builder) everybody() (out []walk.Host) {
	for _, k := range design.HostPlaces {
		for _, place := range b.whole.Design.Of(k) {
			if b.whole.Design.IsSourcePool(place.ID) {
				continue // no host is there
			}
			declared := b.whole.Design.Inside(place.ID, design.KindEndpoint)
			for _, e := range declared {
				for _, a := range e.Body.(*design.Endpoint).Addresses {
					out = append(out, walk.Host{Place: place.ID, Endpoint: e.ID, Address: a})
				}
			}
			for _, p := range b.whole.Design.Ranges(place.ID) {
				if len(declared) == 0 && b.design.Get(place.ID) != nil {
					out = append(out, walk.Host{Place: place.ID, Address: b.somebody(place, p)})
				}
			}
		}
	}
	return out
}

// somebody is the address of a host that no design declares.
func (b *builder) somebody(place *design.Object, p netip.Prefix) netip.Addr {
	return b.free(place, p, someone)
}

const someone = "somebody"

// fewest is how many of the places, and of the names under which somebody is called, flows of an intent are sent for.
const fewest = 3

// few are the first, the middle and the last of many.
func few[T any](list []T) []T {
	if len(list) <= fewest {
		return list
	}
	return []T{list[0], list[len(list)/2], list[len(list)-1]}
}

// between sends what an intent is about; of two ends that are many hosts one each. What must never work is tried under
// several names.
func (b *builder) between(from, to design.ID, s design.Service, intent *design.Object, never bool) {
	if never && b.whole.Design.Get(from).Kind != design.KindInternet {
		for _, f := range few(walk.FlowsBetween(b.whole, from, to, s)) {
			b.sends(b.meets(f, to, s), intent)
		}
		return
	}
	f, err := walk.FlowBetween(b.whole, from, to, s)
	if err != nil {
		b.leaves("%s: %v", intent.Name, err)
		b.plan.unsent(intent.ID, err.Error())
		return
	}
	b.sends(b.meets(f, to, s), intent)
}

// meets is a flow between hosts that are rehearsed: of those that no design declares one is made in each place.
func (b *builder) meets(f walk.Flow, to design.ID, s design.Service) walk.Flow {
	for _, h := range b.everybody() {
		if h.Place == f.From.Place && f.From.Endpoint == "" && h.Address.Is4() == f.From.Address.Is4() {
			f.From.Address = h.Address
		}
	}
	if o := b.whole.Design.Get(to); f.From.Place == "" {
		return f
	} else if o != nil && f.Meant == "" || f.Meant != "" && b.whole.Design.Get(f.Meant) != nil &&
		slices.Contains(design.HostPlaces, b.whole.Design.Get(f.Meant).Kind) {
		target, err := walk.HostOf(b.whole.Design, to, prefix.FamilyOf(f.To))
		if place := b.whole.Design.Get(target.Place); err == nil && target.Endpoint == "" && place != nil {
			for _, h := range b.everybody() {
				if h.Place == place.ID && h.Address.Is4() == target.Address.Is4() {
					f = walk.FlowOf(b.whole, f.From, h, s)
				}
			}
		}
	}
	return f
}

// sends notes a flow, where both of its ends are rehearsed.
func (b *builder) sends(f walk.Flow, why *design.Object) {
	p := walk.Prove(b.whole, f)
	x := Flow{Flow: f, Number: len(b.plan.Flows) + 1, Proof: p}
	x.Title = p.From.Title + " to " + f.To.String() + " on " + f.Service.String()
	if f.Service == (design.Service{}) {
		x.Flow.Service = design.Service{Proto: "icmp"}
	}
	if why != nil && why.Kind == design.KindIntent {
		x.Intent, x.Title = why.ID, why.Name
	}
	if why := b.unplayable(f, p); why != "" {
		b.leaves("%s: %s", x.Title, why)
		b.plan.unsent(x.Intent, why)
		return
	}
	twice := func(y Flow) bool {
		return y.Intent == x.Intent && y.From.Address == x.From.Address && y.From.Box == x.From.Box &&
			y.From.Place == x.From.Place && y.To == x.To && y.Service == x.Service
	}
	if x.Intent != "" && slices.ContainsFunc(b.plan.Flows, twice) {
		return
	}
	b.plan.Flows = append(b.plan.Flows, x)
}

// unplayable says why a flow is not rehearsed; empty if it is.
func (b *builder) unplayable(f walk.Flow, p walk.Proof) string {
	if f.From.Beyond != "" {
		return "it starts somewhere on the internet"
	}
	for _, s := range slices.Concat(p.Forward, p.Reply) {
		if s.At.Kind == design.KindBox && b.filteredAround(s.At.ID) {
			return fmt.Sprintf("it goes by %s, in a subnet with a filter", s.At.Title)
		}
		if s.At.ID == "" || s.At.Kind == design.KindInternet || b.cloudsOwn(s) {
			return "it goes by " + s.At.Title
		}
	}
	return ""
}

// cloudsOwn reports whether a cloud itself accepts a connection, and no box in it.
func (b *builder) cloudsOwn(s walk.Stage) bool {
	o := b.whole.Design.Get(s.At.ID)
	if o == nil || o.Kind != design.KindListener {
		return false
	}
	return b.whole.Design.Get(o.Body.(*design.Listener).At).Kind == design.KindNetwork
}
