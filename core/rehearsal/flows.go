package rehearsal

import (
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
}

// choose decides what is sent, before anything is built: a host that none is declared for is made where
// it starts or ends.
func (b *builder) choose(sample int) {
	d := b.whole.Design
	for i, in := range design.Each[design.Intent](d.Of(design.KindIntent)) {
		services := proof.Services(d)
		if in.Service != (design.Service{}) || len(services) == 0 {
			services = []design.Service{in.Service}
		}
		b.between(in.From, in.To, services[0], i)
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

// between sends what an intent is about; of two ends that are many hosts one each.
func (b *builder) between(from, to design.ID, s design.Service, intent *design.Object) {
	f, err := walk.FlowBetween(b.whole, from, to, s)
	if err != nil {
		b.leaves("%s: %v", intent.Name, err)
		return
	}
	for _, h := range b.everybody() {
		if h.Place == f.From.Place && f.From.Endpoint == "" && h.Address.Is4() == f.From.Address.Is4() {
			f.From.Address = h.Address
		}
	}
	if o := b.whole.Design.Get(to); f.From.Place == "" {
		b.sends(f, intent)
		return
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
	b.sends(f, intent)
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
	if f.From.Beyond != "" {
		b.leaves("%s: it starts somewhere on the internet", x.Title)
		return
	}
	for _, s := range slices.Concat(p.Forward, p.Reply) {
		if s.At.Kind == design.KindBox && b.filteredAround(s.At.ID) {
			b.leaves("%s: it goes by %s, in a subnet with a filter", x.Title, s.At.Title)
			return
		}
		if s.At.ID == "" || s.At.Kind == design.KindInternet || s.Act == walk.Proxies && s.At.Kind == design.KindNetwork {
			b.leaves("%s: it goes by %s", x.Title, s.At.Title)
			return
		}
	}
	b.plan.Flows = append(b.plan.Flows, x)
}
