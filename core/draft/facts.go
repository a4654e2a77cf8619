package draft

import (
	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/provider"
	"dravin/core/status"
)

// Facts are what one wants to know of a link at a glance.
type Facts struct {
	A        design.ID      `json:"a"` // parties
	B        design.ID      `json:"b"`
	EndA     string         `json:"end_a"` // what stands at each end, in words
	EndB     string         `json:"end_b"`
	Shape    string         `json:"shape"` // in words
	Tunnels  int            `json:"tunnels"`
	Mbps     uint32         `json:"mbps"` // 0: not limited by the link, or not known
	Survives string         `json:"survives"`
	Fragile  bool           `json:"fragile"`
	Monthly  provider.Money `json:"monthly"` // without traffic
	Costs    []cost.Item    `json:"costs"`
}

// FactsOf describes a link, peering, circuit or attachment.
func FactsOf(d *design.Design, o *design.Object) Facts {
	f := Facts{Costs: []cost.Item{}}
	switch b := o.Body.(type) {
	case *design.Link:
		f.between(d, b.Ends[0].Gateway, b.Ends[1].Gateway)
		f.Shape, f.Tunnels = "VPN, "+routingWords[b.Routing], len(d.Tunnels(o.ID))
		x, y := endOf(d, b.Ends[0].Gateway), endOf(d, b.Ends[1].Gateway)
		f.Mbps = bandwidth(x, y, f.Tunnels, b.Routing)
		f.Survives, f.Fragile = survives(x, y, f.Tunnels)
		f.add("VPN link", cost.Monthly(linkHour(x)+linkHour(y)))
	case *design.Peering:
		f.between(d, b.Halves[0].Network, b.Halves[1].Network)
		f.Shape, f.Tunnels, f.Survives = "peering", 1, "any single failure of yours"
		if design.StateOf(o) == design.Waiting {
			f.Tunnels, f.Survives = 0, "nothing yet: one half is missing"
		}
	case *design.Circuit:
		f.between(d, b.Ends[0].At, b.Ends[1].At)
		f.Shape, f.Tunnels, f.Mbps = "circuit", 1, min(b.Ends[0].Mbps, b.Ends[1].Mbps)
		f.Survives, f.Fragile = "nothing by itself; a second circuit in another zone does", true
		if partners(d, o, b) > 1 {
			f.Survives, f.Fragile = "its failure: there is a second circuit", false
		}
		for _, e := range b.Ends {
			if p := d.ProfileOf(e.At); p != nil {
				f.add("circuit", p.Prices.CircuitMonth+p.Prices.CircuitMbpsOver*provider.Money(e.Mbps))
			}
		}
	case *design.Attachment:
		f.between(d, o.Parent, b.What)
		f.Shape, f.Tunnels, f.Survives = "attachment to a hub", 1, "any single failure of yours, in the zones that it serves"
		if p := d.ProfileOf(o.Parent); p != nil {
			f.add("attachment", cost.Monthly(p.Prices.AttachmentHour))
		}
		if d.Get(b.What).Kind != design.KindNetwork && d.Get(b.What).Kind != design.KindHub {
			f.B = o.Parent // a link or circuit shows its own far party
		}
	}
	f.Monthly = cost.Sum(f.Costs)
	return f
}

func (f *Facts) add(text string, amount provider.Money) {
	if amount > 0 {
		f.Costs = append(f.Costs, cost.Item{Text: text, Amount: amount})
	}
}

func (f *Facts) between(d *design.Design, a, b design.ID) {
	f.EndA, f.EndB = d.Title(a), d.Title(b)
	if p := d.Party(a); p != nil {
		f.A = p.ID
	}
	if p := d.Party(b); p != nil {
		f.B = p.ID
	}
}

func endOf(d *design.Design, gateway design.ID) end {
	e := end{gateway: d.Get(gateway), v: d.VPNOf(gateway)}
	if p := d.Party(gateway); p != nil {
		e.side = side{o: p, profile: d.ProfileOf(gateway)}
	}
	return e
}

// partners counts the circuits between the same two ends.
func partners(d *design.Design, o *design.Object, c *design.Circuit) int {
	n := 0
	for _, other := range d.Of(design.KindCircuit) {
		x := other.Body.(*design.Circuit)
		same := x.Ends[0].At == c.Ends[0].At && x.Ends[1].At == c.Ends[1].At ||
			x.Ends[0].At == c.Ends[1].At && x.Ends[1].At == c.Ends[0].At
		if same && status.Exists(other) {
			n++
		}
	}
	return n
}
