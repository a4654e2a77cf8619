package design

import "slices"

// Intent is a flow that must work, or must never work.
type Intent struct {
	// Who starts; of a party, segment or group everybody in it.
	From Ref `yaml:"from" json:"from" ref:"endpoint,group,lan,subnet,inner-route,segment,site,network,internet"`
	// Who must answer; of a party, segment or group everybody in it.
	To Ref `yaml:"to" json:"to" ref:"endpoint,group,lan,subnet,inner-route,segment,site,network"`
	// Protocol and port, such as tcp/502; left out: any, for what must never work.
	Service Service `yaml:"service,omitempty" json:"service,omitzero"`
	// It must never work.
	Never bool `yaml:"never,omitempty" json:"never,omitempty"`
	// It must still work after any single tunnel, session, circuit, edge router, or box or gateway of a site on its way
	// has failed.
	Survives bool `yaml:"survives,omitempty" json:"survives,omitempty"`
	// Who answers must be able to tell callers apart by their addresses: none is hidden behind one that others have.
	Apart bool `yaml:"apart,omitempty" json:"apart,omitempty"`
	// How long a packet there and its answer may be on the way together, milliseconds; 0: any time.
	RTT uint32 `yaml:"rtt_ms,omitempty" json:"rtt_ms,omitempty"`
	// What it belongs to, such as an application.
	Group string `yaml:"group,omitempty" json:"group,omitempty"`
	// Who wants it.
	Owner Ref `yaml:"owner,omitempty" json:"owner,omitempty" ref:"owner"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

func (*Intent) kind() Kind { return KindIntent }

// HostPlaces are the kinds that hosts are in.
var HostPlaces = []Kind{KindLAN, KindInnerRoute, KindSubnet}

// StandsFor lists what an end of an intent stands for: of a segment its LANs,
// inner routes and subnets, of a party all of these, of a group its members, else
// the object itself.
func (d *Design) StandsFor(end ID) []ID {
	o := d.Get(end)
	if o == nil {
		return nil
	}
	var out []ID
	switch o.Kind {
	case KindSite, KindNetwork:
		for _, place := range d.Inside(end, HostPlaces...) {
			out = append(out, place.ID)
		}
	case KindGroup:
		out = slices.Clone(d.MembersOf(end))
	case KindSegment:
		for _, k := range HostPlaces {
			for _, place := range d.Of(k) {
				if d.SegmentOf(place.ID) == end {
					out = append(out, place.ID)
				}
			}
		}
	default:
		out = []ID{end}
	}
	return out
}

// SegmentOf is the segment that an object is in: its own, or else that of what it
// stands in; "" for none.
func (d *Design) SegmentOf(id ID) ID {
	for o := d.Get(id); o != nil; o = d.Get(o.Parent) {
		if s := ownSegment(o); s != "" {
			return s
		}
	}
	return ""
}

func ownSegment(o *Object) ID {
	switch b := o.Body.(type) {
	case *LAN:
		return b.Segment
	case *InnerRoute:
		return b.Segment
	case *Network:
		return b.Segment
	case *Outside:
		return b.Segment
	case *Link:
		return b.Segment
	case *Tunnel:
		return b.Segment
	case *Circuit:
		return b.Segment
	case *HubTable:
		return b.Segment
	case *Attachment:
		return b.Segment
	}
	return ""
}

// Concerns reports whether an end of an intent is, stands for, or lies in an
// object.
func (d *Design) Concerns(end, holder ID) bool {
	return slices.ContainsFunc(append(d.StandsFor(end), end), func(id ID) bool {
		for o := d.Get(id); o != nil; o = d.Get(o.Parent) {
			if o.ID == holder {
				return true
			}
		}
		return false
	})
}

func (v *validator) intent(o *Object, b *Intent) {
	switch {
	case b.Service == Service{} && !b.Never:
		v.add(
			o, "service", "is missing",
			"say which protocol and port must work, such as tcp/502; only what must never work can do without",
		)
	case b.Never && b.Apart:
		v.add(o, "apart", "asks who is told apart where nobody may call", "take one of never and apart away")
	case b.Never && b.RTT > 0:
		v.add(o, "rtt_ms", "asks how fast what must never work is", "take one of never and rtt_ms away")
	case b.Never && b.Survives:
		v.add(o, "survives", "asks what must never work to go on", "take one of never and survives away")
	}
}
