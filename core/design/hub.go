package design

import (
	"net/netip"
)

// Hub is a cloud's router between attachments.
type Hub struct {
	// The cloud it is in.
	Cloud string `yaml:"cloud" json:"cloud"`
	// The cloud's region.
	Region string `yaml:"region,omitempty" json:"region,omitempty"`
	// Who answers for it and lets others join.
	Owner Ref `yaml:"owner,omitempty" json:"owner,omitempty" ref:"owner"`
	// Its autonomous system; 0 if it speaks no BGP.
	ASN uint32 `yaml:"asn,omitempty" json:"asn,omitempty"`
	// How far it has come; ready if left out.
	State State `yaml:"state,omitempty" json:"state,omitempty" enum:"states"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// HubTable is a table of a hub.
type HubTable struct {
	// Its routing domain; left out: whatever is fed into it.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// Static entries.
	Routes []HubEntry `yaml:"routes,omitempty" json:"routes,omitempty"`
}

// HubEntry is a static entry of a hub table.
type HubEntry struct {
	// Where to.
	Prefix netip.Prefix `yaml:"prefix" json:"prefix"`
	// The attachment that takes it; left out: a black hole.
	Via Ref `yaml:"via,omitempty" json:"via,omitempty" ref:"attachment"`
}

// Attachment joins something to a hub.
type Attachment struct {
	// What is attached.
	What Ref `yaml:"what" json:"what" ref:"network,link,circuit,hub"`
	// A network's: one subnet per zone, where the profile wants them.
	Subnets []Ref `yaml:"subnets,omitempty" json:"subnets,omitempty" ref:"subnet"`
	// The hub table that decides for what comes in by it.
	Bound Ref `yaml:"bound,omitempty" json:"bound,omitempty" ref:"hub-table"`
	// The hub tables that learn its ranges.
	Feeds []Ref `yaml:"feeds,omitempty" json:"feeds,omitempty" ref:"hub-table"`
	// Its routing domain, if it is not that of what is attached.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// A network's: the table that routes what comes in by it; left out: it is for the network itself.
	Enters Ref `yaml:"enters,omitempty" json:"enters,omitempty" ref:"table"`
	// Ranges that it does not export.
	KeepOut []netip.Prefix `yaml:"keep_out,omitempty" json:"keep_out,omitempty"`
	// A network's: the subnet, without hosts and exported, behind whose addresses it hides what comes from ranges that
	// are kept out.
	Pool Ref `yaml:"source_pool,omitempty" json:"source_pool,omitempty" ref:"subnet"`
	// How far it has come; ready if left out.
	State State `yaml:"state,omitempty" json:"state,omitempty" enum:"states"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

func (*Hub) kind() Kind { return KindHub }

func (*HubTable) kind() Kind { return KindHubTable }

func (*Attachment) kind() Kind { return KindAttachment }

func (b *Attachment) state() *State { return &b.State }

func (b *Hub) state() *State { return &b.State }

// ends are the hub and what is attached to it.
func (b *Attachment) ends(o *Object) (ends [2]ID, ok bool) { return [2]ID{o.Parent, b.What}, true }
