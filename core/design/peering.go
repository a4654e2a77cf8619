package design

// Peering joins two networks directly.
type Peering struct {
	// Its two halves.
	Halves []Half `yaml:"halves" json:"halves" min:"2" max:"2"`
	// Round-trip time over it, milliseconds; left out: estimated by the distance of its ends, where both are known.
	RTT uint32 `yaml:"rtt_ms,omitempty" json:"rtt_ms,omitempty"`
	// Where the round-trip time comes from; given if left out.
	RTTFrom string `yaml:"rtt_from,omitempty" json:"rtt_from,omitempty" enum:"given,measured"`
	// How far it has come; ready if left out.
	State State `yaml:"state,omitempty" json:"state,omitempty" enum:"states"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// Half is one network's half of a peering.
type Half struct {
	// Whose half it is.
	Network Ref `yaml:"network" json:"network" ref:"network"`
	// It exists in the cloud.
	Made bool `yaml:"made,omitempty" json:"made,omitempty"`
	// The other network may use this one's gateway.
	LendsGateway bool `yaml:"lends_gateway,omitempty" json:"lends_gateway,omitempty"`
	// This network uses the other one's gateway.
	UsesGateway bool `yaml:"uses_gateway,omitempty" json:"uses_gateway,omitempty"`
	// The table of this network that routes what comes in from the other; left out: it is for this network itself.
	Enters Ref `yaml:"enters,omitempty" json:"enters,omitempty" ref:"table"`
	// This network takes packets that the other one only forwards.
	AcceptForwarded bool `yaml:"accept_forwarded,omitempty" json:"accept_forwarded,omitempty"`
}

func (*Peering) kind() Kind { return KindPeering }

func (b *Peering) state() *State { return &b.State }

// ends are the networks of a peering.
func (b *Peering) ends(*Object) (ends [2]ID, ok bool) {
	if len(b.Halves) != 2 {
		return ends, false
	}
	return [2]ID{b.Halves[0].Network, b.Halves[1].Network}, true
}
