package design

import (
	"net/netip"
)

// The steps of a circuit's making.
const (
	StepOrdered  = "ordered"
	StepCode     = "code"
	StepAccepted = "accepted"
	StepInUse    = "session"
)

// Circuit is a private circuit.
type Circuit struct {
	// Its two ends; the order is made at the first.
	Ends []CircuitEnd `yaml:"ends" json:"ends" min:"2" max:"2"`
	// How far its making has come: ordered, the code is there, it is accepted, the session is up.
	Step string `yaml:"step,omitempty" json:"step,omitempty" enum:"ordered,code,accepted,session"`
	// The order code that one party gives the other.
	Code string `yaml:"code,omitempty" json:"code,omitempty" form:"code"`
	// The routing domain that it carries; left out: whatever meets at its ends.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// The zone that the code holds for.
	CodeZone string `yaml:"code_zone,omitempty" json:"code_zone,omitempty"`
	// Round-trip time over it, milliseconds; left out: estimated by the distance of its ends, where both are known.
	RTT uint32 `yaml:"rtt_ms,omitempty" json:"rtt_ms,omitempty"`
	// Where the round-trip time comes from; given if left out.
	RTTFrom string `yaml:"rtt_from,omitempty" json:"rtt_from,omitempty" enum:"given,measured"`
	// Until when the code can be used, as 2026-12-01.
	Expires string `yaml:"expires,omitempty" json:"expires,omitempty"`
	// How far it has come; ready if left out.
	State State `yaml:"state,omitempty" json:"state,omitempty" enum:"states"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// CircuitEnd is one end of a circuit.
type CircuitEnd struct {
	// Where it ends.
	At Ref `yaml:"at" json:"at" ref:"gateway,edge-router"`
	// The zone that this end has it in.
	Zone string `yaml:"zone,omitempty" json:"zone,omitempty"`
	// The speed that this end has, Mbit/s.
	Mbps uint32 `yaml:"mbps" json:"mbps"`
	// The VLAN tag (IEEE 802.1Q).
	VLAN uint16 `yaml:"vlan,omitempty" json:"vlan,omitempty"`
	// The number of its interface at a box of one's own, for life; given when it is made: the next that is free there.
	Number uint16 `yaml:"number,omitempty" json:"number,omitempty"`
	// At a box of one's own: the port into which it is plugged; known once it is.
	Port string `yaml:"port,omitempty" json:"port,omitempty" form:"port"`
	// Its address on the circuit, with the length of the range that both ends share; left out where a session says it.
	Inside netip.Prefix `yaml:"inside,omitempty" json:"inside,omitzero" host:"true"`
	// What this end is expected to learn over it; without a session, what it sends into it.
	Routes []netip.Prefix `yaml:"routes,omitempty" json:"routes,omitempty"`
	// A network's: the table that routes what comes in by it; left out: as its gateway says.
	Enters Ref `yaml:"enters,omitempty" json:"enters,omitempty" ref:"table"`
}

func (*Circuit) kind() Kind { return KindCircuit }

func (b *Circuit) state() *State { return &b.State }

// ends are the gateways or edge routers of a circuit.
func (b *Circuit) ends(*Object) (ends [2]ID, ok bool) {
	if len(b.Ends) != 2 {
		return ends, false
	}
	return [2]ID{b.Ends[0].At, b.Ends[1].At}, true
}
