package draft

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/allocation"
	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/provider"
	"dravin/core/status"
)

// Second are the ways to put a second beside what joins two parties alone: another tunnel of a link,
// another circuit in another zone.
func Second(books *allocation.Books, joint design.ID) []Shape {
	d := books.Design()
	o := d.Get(joint)
	switch b := o.Body.(type) {
	case *design.Link:
		return secondTunnel(d, o)
	case *design.Circuit:
		if partners(d, o, b) == 1 && status.Exists(o) {
			return secondCircuit(books, o, b)
		}
	}
	return nil
}

func secondTunnel(d *design.Design, o *design.Object) []Shape {
	if len(d.Tunnels(o.ID)) != 1 {
		return nil
	}
	edits := AddTunnel(d, o)
	if len(edits) == 0 {
		return nil
	}
	s := newShape("second-tunnel", "A second tunnel for "+o.Name)
	s.Edits, s.Subject = edits, o.ID
	s.Survives = "the failure of either tunnel"
	for n := range 2 {
		s.Parties = append(s.Parties, PartySteps{
			Party: d.Title(partyOfEnd(d, o, n)),
			Steps: []string{"Make the second tunnel of " + o.Name + " with the values of its sheet"},
		})
	}
	return []Shape{s}
}

func partyOfEnd(d *design.Design, o *design.Object, n int) design.ID {
	j, _ := design.JointOf(o)
	if p := d.Party(j.Ends[n]); p != nil {
		return p.ID
	}
	return ""
}

// secondCircuit is a circuit like the first: of the same ends and speed, in the next zone, with a tag and
// inside addresses of its own.
func secondCircuit(books *allocation.Books, o *design.Object, c *design.Circuit) []Shape {
	s := newShape("second-circuit", "A second circuit beside "+o.Name)
	f := draft(books, &s, Options{})
	ranges := f.inside(nil, nil, 1)
	if ranges == nil {
		return []Shape{s}
	}
	low, high := hosts(ranges[0])
	body := &design.Circuit{Ends: slices.Clone(c.Ends), Segment: c.Segment}
	zone := f.nextZone(c)
	for n := range body.Ends {
		e := &body.Ends[n]
		e.VLAN, e.Inside = 0, netip.Prefix{}
		if e.Zone != "" || zone != "" {
			e.Zone = zone
		}
		if c.Ends[n].Inside.IsValid() {
			e.Inside = [2]netip.Prefix{low, high}[n]
		}
	}
	for n := range body.Ends {
		if at := f.get(body.Ends[n].At); at.Kind == design.KindEdgeRouter || body.Ends[0].VLAN == 0 {
			tag := f.vlan(at)
			body.Ends[0].VLAN, body.Ends[1].VLAN = tag, tag
		}
	}
	made := f.put(design.KindCircuit, "", o.Name, body)
	f.builds(fmt.Sprintf("A second circuit of %d Mbit/s", body.Ends[0].Mbps), made, false)
	for _, session := range f.design.Inside(o.ID, design.KindSession) {
		like := design.Edited(session, func(x *design.Session) {
			for n := range x.Ends {
				x.Ends[n].Address, x.Ends[n].Peer = [2]netip.Addr{low.Addr(), high.Addr()}[n], netip.Addr{}
			}
		})
		f.put(design.KindSession, made.ID, session.Name, like.Body)
	}
	if zone != "" {
		f.suggest("Zone", zone, "another than that of %s, so that one may fail", o.Name)
	}
	f.orderSecond(made, body)
	s.Survives, s.Subject, s.Monthly = "the failure of either circuit", made.ID, cost.Sum(s.Costs)
	return []Shape{s}
}

// nextZone is a zone of the cloud at a circuit's end that it is not in; empty where there are none.
func (f *drafter) nextZone(c *design.Circuit) string {
	for _, e := range c.Ends {
		p := f.design.ProfileOf(e.At)
		network, ok := f.partyBody(e.At).(*design.Network)
		if p == nil || !ok {
			continue
		}
		for _, z := range p.Zones(network.Region) {
			if z != e.Zone {
				return z
			}
		}
	}
	return ""
}

func (f *drafter) partyBody(id design.ID) design.Body {
	if o := f.get(f.partyOf(id)); o != nil {
		return o.Body
	}
	return nil
}

// orderSecond are the steps and the costs of one more circuit.
func (f *drafter) orderSecond(made *design.Object, c *design.Circuit) {
	for n, e := range c.Ends {
		party := f.get(f.partyOf(e.At))
		if p := f.design.ProfileOf(e.At); p != nil && p.Circuit != nil {
			f.costs(
				fmt.Sprintf("circuit of %d Mbit/s in %s", e.Mbps, party.Name),
				p.Prices.CircuitMonth+p.Prices.CircuitMbpsOver*provider.Money(e.Mbps),
			)
		}
		if n == 0 {
			f.step(party.Name, "Order %s of %d Mbit/s and pass the order code on", made.Name, e.Mbps)
		} else {
			f.step(party.Name, "Accept %s with the order code", made.Name)
		}
		f.step(party.Name, "Set up the session of %s", made.Name)
	}
}
