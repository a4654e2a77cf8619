package design

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/provider"
)

// Group is hosts under one name, to filter them or to name them in rules and intents.
type Group struct {
	// Its hosts; of a LAN, inner route or subnet all that are in it.
	Members []Ref `yaml:"members" json:"members" min:"1" ref:"endpoint,lan,inner-route,subnet"`
	// Who answers for it.
	Owner Ref `yaml:"owner,omitempty" json:"owner,omitempty" ref:"owner"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// PacketFilter is what may pass at one place.
type PacketFilter struct {
	// What it guards. At a host, group, subnet or network it asks what comes in and goes out; at a gateway, box, hub,
	// edge router or crossing what is forwarded.
	At Ref `yaml:"at" json:"at" ref:"endpoint,group,subnet,network,gateway,box,hub,edge-router,crossing"`
	// At a gateway, box or edge router of one's own: itself, for what is for or from the box and not forwarded by it.
	Covers string `yaml:"covers,omitempty" json:"covers,omitempty" enum:"forwarded,itself"`
	// Of one's own: it remembers nothing, so that answers need rules. Of a cloud's its profile says it.
	Stateless bool `yaml:"stateless,omitempty" json:"stateless,omitempty"`
	// What becomes of what comes in, or is forwarded, and no rule is for; left out: as the cloud does it, of one's own
	// refuse.
	Default string `yaml:"default,omitempty" json:"default,omitempty" enum:"allow,refuse"`
	// As default, of what goes out; left out: as the cloud does it, of one's own allow.
	DefaultOut string `yaml:"default_out,omitempty" json:"default_out,omitempty" enum:"allow,refuse"`
	// Its rules, in their order.
	Rules []FilterRule `yaml:"rules,omitempty" json:"rules,omitempty"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// FilterRule lets something pass, or refuses it. What is left out is any.
type FilterRule struct {
	// in or out, where a filter asks both; left out: what comes in.
	Direction string `yaml:"direction,omitempty" json:"direction,omitempty" enum:"in,out"`
	// What it does; allow if left out.
	Does string `yaml:"does,omitempty" json:"does,omitempty" enum:"allow,refuse"`
	// The address family; left out: both.
	Family string `yaml:"family,omitempty" json:"family,omitempty" enum:"ipv4,ipv6"`
	// Ranges of sources, as they are on the wire there.
	From []netip.Prefix `yaml:"from,omitempty" json:"from,omitempty"`
	// Sources by what has them, under the names that they have there; of a link its far end's public addresses.
	FromOf []Ref `yaml:"from_of,omitempty" json:"from_of,omitempty" narrows:"true" ref:"site,network,outside,lan,inner-route,subnet,endpoint,group,segment,link"`
	// Ranges of destinations.
	To []netip.Prefix `yaml:"to,omitempty" json:"to,omitempty"`
	// Destinations by what has them.
	ToOf []Ref `yaml:"to_of,omitempty" json:"to_of,omitempty" narrows:"true" ref:"site,network,outside,lan,inner-route,subnet,endpoint,group,segment,link"`
	// Protocols and destination ports, such as tcp/502, udp/5000-5100, icmp/echo or esp.
	Services []Traffic `yaml:"services,omitempty" json:"services,omitempty"`
	// It is for answers of these services: their ports are those of the source. A filter that remembers needs none.
	Replies bool `yaml:"replies,omitempty" json:"replies,omitempty"`
	// The intents for which it is there: it goes with the last of them.
	For []Ref `yaml:"for,omitempty" json:"for,omitempty" narrows:"true" ref:"intent"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// What rules and defaults do, and where.
const (
	Allow     = "allow"
	Incoming  = "in"
	Outgoing  = "out"
	Forwarded = "forwarded"
	Itself    = "itself"
)

func (*Group) kind() Kind        { return KindGroup }
func (*PacketFilter) kind() Kind { return KindFilter }

// Refuses reports whether the rule refuses what it is for.
func (r FilterRule) Refuses() bool { return r.Does == Refuse }

// Goes is the direction that the rule is for, of a filter that asks both.
func (r FilterRule) Goes() string {
	if r.Direction == "" {
		return Incoming
	}
	return r.Direction
}

// HostKinds are the kinds at which a filter tells what comes in from what goes out.
var HostKinds = []Kind{KindEndpoint, KindGroup, KindSubnet, KindNetwork}

// Directed reports whether a filter tells in from out: at hosts and what holds them, and at a box itself.
func (d *Design) Directed(f *PacketFilter) bool {
	o := d.Get(f.At)
	return f.Covers == Itself || o != nil && slices.Contains(HostKinds, o.Kind)
}

// MembersOf are the hosts and places of a group.
func (d *Design) MembersOf(group ID) []ID {
	if o := d.Get(group); o != nil {
		if g, ok := o.Body.(*Group); ok {
			return g.Members
		}
	}
	return nil
}

// GroupsOf are the groups that a host is in, by itself or with its LAN, inner route or subnet.
func (d *Design) GroupsOf(host, place ID) []*Object {
	var out []*Object
	for _, id := range []ID{host, place} {
		if id == "" {
			continue
		}
		for _, g := range d.Referring(id, KindGroup) {
			if !slices.Contains(out, g) {
				out = append(out, g)
			}
		}
	}
	return out
}

// FiltersAt are the filters at something: what is forwarded or comes to its hosts, or, with itself, what is for the
// box itself.
func (d *Design) FiltersAt(at ID, itself bool) (out []*Object) {
	for o, f := range Each[PacketFilter](d.Referring(at, KindFilter)) {
		if f.At == at && (f.Covers == Itself) == itself {
			out = append(out, o)
		}
	}
	return out
}

// FilterPlace is the party in whose terms a filter speaks: that of what it guards, of a group that of its
// first member; nil for a crossing.
func (d *Design) FilterPlace(f *PacketFilter) *Object {
	at := f.At
	if m := d.MembersOf(at); len(m) > 0 {
		at = m[0]
	}
	return d.Party(at)
}

// FilterKindOf is what the profile says of the filters of a kind of place; nil where it is one's own, or not known.
func (d *Design) FilterKindOf(f *PacketFilter) *provider.Filtering {
	o, p := d.Get(f.At), d.FilterPlace(f)
	if o == nil || p == nil || o.Kind == KindEndpoint || o.Kind == KindBox {
		return nil // a host's and a box's own
	}
	profile := d.Profile(CloudOf(p))
	if profile == nil {
		return nil
	}
	for n := range profile.Filters {
		if slices.Contains(profile.Filters[n].At, string(o.Kind)) {
			return &profile.Filters[n]
		}
	}
	return nil
}

// filter checks a filter: its rules must be such that its place can have them.
func (v *validator) filter(o *Object, f *PacketFilter) {
	at, d := v.design.Get(f.At), v.design
	party := d.FilterPlace(f)
	cloud := party != nil && d.Profile(CloudOf(party)) != nil && at.Kind != KindEndpoint && at.Kind != KindBox
	kind := d.FilterKindOf(f)
	own := at.Kind == KindBox || at.Kind == KindEdgeRouter || at.Kind == KindGateway && party.Kind == KindSite
	switch {
	case cloud && kind == nil:
		v.add(
			o, "at", fmt.Sprintf("%s has no filters at %s", CloudOf(party), one(Word(at.Kind))),
			"name what its profile has filters at",
		)
	case f.Covers == Itself && !own:
		v.add(o, "covers", "only a box of one's own has a filter for itself", "leave it out")
	case kind != nil && f.Stateless:
		v.add(o, "stateless", "the profile says whether it remembers", "leave it out")
	}
	for _, other := range d.FiltersAt(f.At, f.Covers == Itself) {
		if other.ID != o.ID {
			v.add(o, "at", d.Title(f.At)+" has the filter "+other.Name+" already", "write its rules into that one")
		}
	}
	for n, r := range f.Rules {
		at := fmt.Sprintf("rules[%d]", n)
		switch {
		case kind != nil && !kind.Refuses && r.Refuses():
			v.add(o, at+".does", "the cloud's filter only allows there", "leave out what must not pass")
		case r.Direction != "" && !d.Directed(f):
			v.add(o, at+".direction", "what is forwarded goes neither in nor out", "leave it out, and name both ends")
		case r.Replies && len(r.Services) == 0:
			v.add(o, at+".services", "is missing", "say for answers of which services it is")
		}
	}
}
