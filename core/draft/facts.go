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

// facts tell of each kind of joint what one wants to know at a glance.
var facts = map[design.Kind]func(f *Facts, d *design.Design, o *design.Object){
	design.KindLink: linkFacts, design.KindPeering: peeringFacts, design.KindCircuit: circuitFacts,
	design.KindAttachment: attachmentFacts,
}

// FactsOf describes a link, peering, circuit or attachment.
func FactsOf(d *design.Design, o *design.Object) Facts {
	f := Facts{Costs: []cost.Item{}}
	if tell := facts[o.Kind]; tell != nil {
		tell(&f, d, o)
	} else if j, ok := design.JointOf(o); ok {
		f.between(d, j.Ends[0], j.Ends[1])
		f.Shape = design.Word(o.Kind)
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
	e := end{gateway: d.Get(gateway), vpn: d.VPNOf(gateway)}
	if p := d.Party(gateway); p != nil {
		e.side = side{party: p, profile: d.ProfileOf(gateway)}
	}
	return e
}

// partners counts the circuits between the same two ends.
func partners(d *design.Design, o *design.Object, c *design.Circuit) int {
	n := 0
	for other, x := range design.Each[design.Circuit](d.Of(design.KindCircuit)) {
		same := x.Ends[0].At == c.Ends[0].At && x.Ends[1].At == c.Ends[1].At ||
			x.Ends[0].At == c.Ends[1].At && x.Ends[1].At == c.Ends[0].At
		if same && status.Exists(other) {
			n++
		}
	}
	return n
}
