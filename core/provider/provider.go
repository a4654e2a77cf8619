// Package provider says what a cloud allows: a [Profile] is data, read from a
// file, and everything that depends on a cloud asks its profile and never its
// name. Three made-up profiles ship; a design may hold more.
//
// Lengths of time are in hours unless a field says otherwise, speeds in Mbit/s,
// prices in one currency without a name, per hour, month or gigabyte. A part
// that a profile leaves out is not offered.
package provider

import (
	"embed"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// FileVersion is the version of the profile file that is read and written.
const FileVersion = 1

// Shipped holds the profile files that come with Dravin.
//
//go:embed *.yaml
var Shipped embed.FS

// Profile is what one cloud allows.
type Profile struct {
	About       string      `yaml:"about,omitempty" json:"about,omitempty" form:"free" doc:"Free text."`
	Regions     []Region    `yaml:"regions,omitempty" json:"regions,omitempty" doc:"Its regions with their zones."`
	Networks    Networks    `yaml:"networks,omitempty" json:"networks,omitzero" doc:"What a cloud network is like."`
	Preference  []string    `yaml:"preference,omitempty" json:"preference,omitempty" enum:"local,entered,peering,circuit-bgp,vpn-bgp,vpn-static" doc:"Which route wins between equally long ones, best first."`
	DeadNextHop string      `yaml:"dead_next_hop,omitempty" json:"dead_next_hop,omitempty" enum:"inactive,black-hole" doc:"What an entry to something unusable does: inactive is passed over, black-hole swallows. inactive if left out."`
	Peering     *Peering    `yaml:"peering,omitempty" json:"peering,omitempty" doc:"Joining two networks directly."`
	Hub         *Hub        `yaml:"hub,omitempty" json:"hub,omitempty" doc:"A router that networks, VPN links and circuits attach to."`
	VPN         []VPN       `yaml:"vpn,omitempty" json:"vpn,omitempty" doc:"The kinds of VPN gateway."`
	Circuit     *Circuit    `yaml:"circuit,omitempty" json:"circuit,omitempty" doc:"Private circuits."`
	Translation Translation `yaml:"translation,omitempty" json:"translation,omitzero" doc:"Which translations the cloud does."`
	Limits      Limits      `yaml:"limits,omitempty" json:"limits,omitzero" doc:"How many of each; 0 is unlimited."`
	Prices      Prices      `yaml:"prices,omitempty" json:"prices,omitzero" doc:"What it costs."`
}

// Region is a place of a cloud.
type Region struct {
	Name  string   `yaml:"name" json:"name" doc:"As networks name it."`
	Zones []string `yaml:"zones,omitempty" json:"zones,omitempty" doc:"Its zones."`
}

// Networks is what a cloud network is like.
type Networks struct {
	SpanRegions    bool   `yaml:"span_regions,omitempty" json:"span_regions,omitempty" doc:"A network spans regions; its subnets are regional."`
	Tables         string `yaml:"tables,omitempty" json:"tables,omitempty" enum:"subnet,network" doc:"subnet: a route table per subnet (several may share one); network: one for all. subnet if left out."`
	GatewayFeeds   bool   `yaml:"gateway_feeds,omitempty" json:"gateway_feeds,omitempty" doc:"A gateway feeds the routes it learns into the tables; else each table needs an entry."`
	LongerWins     bool   `yaml:"longer_wins,omitempty" json:"longer_wins,omitempty" doc:"An entry longer than the block beats the local route."`
	Appliances     bool   `yaml:"appliances,omitempty" json:"appliances,omitempty" doc:"An entry may lead to an appliance."`
	EnteringTables bool   `yaml:"entering_tables,omitempty" json:"entering_tables,omitempty" doc:"A transit network has tables for what comes in from its gateway and its peerings."`
}

// Peering is what a joining of two networks allows.
type Peering struct {
	BetweenRegions  bool `yaml:"between_regions,omitempty" json:"between_regions,omitempty" doc:"The two may be in different regions."`
	LendGateway     bool `yaml:"lend_gateway,omitempty" json:"lend_gateway,omitempty" doc:"A half may lend its gateway to the other network."`
	AcceptForwarded bool `yaml:"accept_forwarded,omitempty" json:"accept_forwarded,omitempty" doc:"A half may accept packets that the other network only forwards."`
	AutomaticRoutes bool `yaml:"automatic_routes,omitempty" json:"automatic_routes,omitempty" doc:"The far blocks are routed without entries in the tables."`
}

// Hub is what a hub allows.
type Hub struct {
	ManyTables      bool   `yaml:"many_tables,omitempty" json:"many_tables,omitempty" doc:"A hub has several tables: each attachment is bound to one and feeds any."`
	ToHub           string `yaml:"to_hub,omitempty" json:"to_hub,omitempty" enum:"static,bgp" doc:"How hubs of different regions are joined; left out: not at all."`
	SubnetPerZone   bool   `yaml:"subnet_per_zone,omitempty" json:"subnet_per_zone,omitempty" doc:"An attachment names one subnet per zone; hosts in zones without one are cut off."`
	RefusesOverlaps bool   `yaml:"refuses_overlaps,omitempty" json:"refuses_overlaps,omitempty" doc:"An attachment whose exported ranges overlap another's is refused, unless kept out of export at both."`
	AsksOwner       bool   `yaml:"asks_owner,omitempty" json:"asks_owner,omitempty" doc:"The hub's owner must accept attachments of others."`
	AutomaticRoutes bool   `yaml:"automatic_routes,omitempty" json:"automatic_routes,omitempty" doc:"What the hub knows appears in the networks' tables without entries."`
	SourcePool      bool   `yaml:"source_pool,omitempty" json:"source_pool,omitempty" doc:"A network may hide behind a dedicated pool toward the hub."`
	PoolInRegion    bool   `yaml:"pool_in_region,omitempty" json:"pool_in_region,omitempty" doc:"The pool serves only what is bound for the hub's own region."`
	PortsPerHost    uint32 `yaml:"ports_per_host,omitempty" json:"ports_per_host,omitempty" doc:"The fewest ports that the pool gives each host."`
}

// VPN is one kind of VPN gateway.
type VPN struct {
	Name         string   `yaml:"name" json:"name" doc:"Such as doubled."`
	At           []string `yaml:"at" json:"at" enum:"network,hub" doc:"Where it may stand."`
	Tunnels      uint32   `yaml:"tunnels" json:"tunnels" doc:"Tunnels of each link."`
	Addresses    uint32   `yaml:"addresses" json:"addresses" doc:"Public addresses of the gateway, on which the tunnels end in turn."`
	Routing      []string `yaml:"routing" json:"routing" enum:"bgp,static,selectors" doc:"What decides what enters."`
	EqualCost    string   `yaml:"equal_cost,omitempty" json:"equal_cost,omitempty" enum:"never,hub-bgp,bgp,always" doc:"When the tunnels share load. never if left out."`
	StaticFixed  bool     `yaml:"static_fixed,omitempty" json:"static_fixed,omitempty" doc:"The static ranges can not be changed once the tunnel is made."`
	ASNFixed     bool     `yaml:"asn_fixed,omitempty" json:"asn_fixed,omitempty" doc:"The gateway's ASN can not be changed once it is made."`
	DefaultASN   uint32   `yaml:"default_asn,omitempty" json:"default_asn,omitempty" doc:"The ASN it has if none is chosen."`
	Mbps         uint32   `yaml:"mbps,omitempty" json:"mbps,omitempty" doc:"Bandwidth of a tunnel."`
	Inside       Inside   `yaml:"inside,omitempty" json:"inside,omitzero" doc:"The inside addresses that it takes."`
	IKE          []string `yaml:"ike" json:"ike" form:"ike" doc:"IKE proposals, strongest first, as a Linux gateway writes them."`
	ESP          []string `yaml:"esp" json:"esp" form:"esp" doc:"ESP proposals, strongest first."`
	OwnSubnet    uint8    `yaml:"own_subnet,omitempty" json:"own_subnet,omitempty" doc:"It lives in a subnet of its own, at most this long (27: a /27 or larger)."`
	FarStarts    bool     `yaml:"far_starts,omitempty" json:"far_starts,omitempty" doc:"It waits for the far end to start."`
	MaxRoutesIn  uint32   `yaml:"max_routes_in,omitempty" json:"max_routes_in,omitempty" doc:"More routes than this from the far end drop the session."`
	MaxRoutesOut uint32   `yaml:"max_routes_out,omitempty" json:"max_routes_out,omitempty" doc:"It announces at most this many."`
}

// Inside is the space of inside addresses.
type Inside struct {
	Within   []netip.Prefix `yaml:"within,omitempty" json:"within,omitempty" doc:"Where they come from."`
	Bits     uint8          `yaml:"bits,omitempty" json:"bits,omitempty" doc:"The prefix length of each tunnel's range."`
	Reserved []netip.Prefix `yaml:"reserved,omitempty" json:"reserved,omitempty" doc:"Ranges in it that the cloud keeps."`
}

// Circuit is what a private circuit is like.
type Circuit struct {
	Speeds     []uint32 `yaml:"speeds" json:"speeds" doc:"The speeds that can be ordered, Mbit/s." min:"1"`
	OrderedAt  string   `yaml:"ordered_at,omitempty" json:"ordered_at,omitempty" enum:"cloud,exchange" doc:"Who gives the order code; the other side accepts with it. cloud if left out."`
	CodeDays   uint32   `yaml:"code_days,omitempty" json:"code_days,omitempty" doc:"How long a code can be used, in days."`
	ZoneInCode bool     `yaml:"zone_in_code,omitempty" json:"zone_in_code,omitempty" doc:"A code holds for one zone only."`
	Redundant  bool     `yaml:"redundant,omitempty" json:"redundant,omitempty" doc:"Two, in different zones, are wanted for redundancy."`
	DefaultASN uint32   `yaml:"default_asn,omitempty" json:"default_asn,omitempty" doc:"The cloud's ASN on circuits."`
}

// Translation is what the cloud can translate.
type Translation struct {
	Gateway         []string `yaml:"gateway,omitempty" json:"gateway,omitempty" enum:"one-to-one,pool,own-address,target" doc:"Rules on the VPN gateway."`
	Rules           uint32   `yaml:"rules,omitempty" json:"rules,omitempty" doc:"Rules that a VPN gateway takes at most; 0: any number."`
	PortsPerHost    uint32   `yaml:"ports_per_host,omitempty" json:"ports_per_host,omitempty" doc:"The fewest ports that a pool of the gateway gives each host."`
	Neutral         bool     `yaml:"neutral,omitempty" json:"neutral,omitempty" doc:"One-to-one of IPv6 is checksum-neutral (RFC 6296): a part of the host's own bits changes, too."`
	Filter          bool     `yaml:"filter,omitempty" json:"filter,omitempty" doc:"A filter appliance translates destinations."`
	FilterHides     bool     `yaml:"filter_hides,omitempty" json:"filter_hides,omitempty" doc:"The appliance then hides the source behind itself."`
	PrivateEndpoint bool     `yaml:"private_endpoint,omitempty" json:"private_endpoint,omitempty" doc:"A service can be offered as an address in the caller's network."`
}

// Limits are counts.
type Limits struct {
	RoutesPerTable uint32 `yaml:"routes_per_table,omitempty" json:"routes_per_table,omitempty" doc:"Entries in a table."`
	RoutesPerBGP   uint32 `yaml:"routes_per_session,omitempty" json:"routes_per_session,omitempty" doc:"Routes learned on a session."`
	Attachments    uint32 `yaml:"attachments,omitempty" json:"attachments,omitempty" doc:"Attachments of a hub."`
	Tunnels        uint32 `yaml:"tunnels,omitempty" json:"tunnels,omitempty" doc:"Tunnels of a gateway."`
	Peerings       uint32 `yaml:"peerings,omitempty" json:"peerings,omitempty" doc:"Peerings of a network."`
}

// Prices are what things cost.
type Prices struct {
	GatewayHour     Money `yaml:"gateway_hour,omitempty" json:"gateway_hour,omitzero" doc:"A VPN gateway."`
	LinkHour        Money `yaml:"link_hour,omitempty" json:"link_hour,omitzero" doc:"A VPN link with all its tunnels."`
	HubHour         Money `yaml:"hub_hour,omitempty" json:"hub_hour,omitzero" doc:"A hub."`
	AttachmentHour  Money `yaml:"attachment_hour,omitempty" json:"attachment_hour,omitzero" doc:"An attachment of a hub."`
	HubGB           Money `yaml:"hub_gb,omitempty" json:"hub_gb,omitzero" doc:"What goes through a hub."`
	PeeringGB       Money `yaml:"peering_gb,omitempty" json:"peering_gb,omitzero" doc:"What goes over a peering in one region, each way."`
	PeeringFarGB    Money `yaml:"peering_far_gb,omitempty" json:"peering_far_gb,omitzero" doc:"What goes over a peering between regions, each way."`
	OutGB           Money `yaml:"out_gb,omitempty" json:"out_gb,omitzero" doc:"What leaves over the internet, tunnels included."`
	CircuitMonth    Money `yaml:"circuit_month,omitempty" json:"circuit_month,omitzero" doc:"A circuit, whatever its speed."`
	CircuitMbpsOver Money `yaml:"circuit_month_per_mbps,omitempty" json:"circuit_month_per_mbps,omitzero" doc:"A circuit, for each Mbit/s."`
	CircuitGB       Money `yaml:"circuit_gb,omitempty" json:"circuit_gb,omitzero" doc:"What leaves over a circuit."`
	BoxHour         Money `yaml:"box_hour,omitempty" json:"box_hour,omitzero" doc:"A host that can serve as a translating box."`
	EndpointHour    Money `yaml:"endpoint_hour,omitempty" json:"endpoint_hour,omitzero" doc:"A private endpoint."`
	EdgeRouterMonth Money `yaml:"edge_router_month,omitempty" json:"edge_router_month,omitzero" doc:"An edge router at an exchange, as the one who sells the circuit bills it."`
}

// Zones are the zones of a region, none if it is not known.
func (p *Profile) Zones(region string) []string {
	for _, r := range p.Regions {
		if strings.EqualFold(r.Name, region) {
			return r.Zones
		}
	}
	return nil
}

// Money is an amount in millionths of the currency unit, written 0.045.
type Money int64

const unit = 1_000_000

// ParseMoney reads an amount such as 36, 0.05 or 0.000125.
func ParseMoney(text string) (Money, error) {
	whole, part, _ := strings.Cut(strings.TrimSpace(text), ".")
	w, err := strconv.ParseUint(whole, 10, 32)
	if err == nil && len(part) <= 6 {
		var f uint64
		if part != "" {
			f, err = strconv.ParseUint(part+strings.Repeat("0", 6-len(part)), 10, 32)
		}
		if err == nil {
			return Money(w*unit + f), nil
		}
	}
	return 0, fmt.Errorf("%q is not an amount; write one such as 36 or 0.05, at most six places", text)
}

// String writes the amount with as many places as it has, at least two.
func (m Money) String() string {
	sign := ""
	if m < 0 {
		sign, m = "-", -m
	}
	part := strings.TrimRight(fmt.Sprintf("%06d", m%unit), "0")
	for len(part) < 2 {
		part += "0"
	}
	return fmt.Sprintf("%s%d.%s", sign, m/unit, part)
}

// Round is the amount to two places.
func (m Money) Round() Money { return (m + unit/200) / (unit / 100) * (unit / 100) }

// MarshalText is [Money.String].
func (m Money) MarshalText() ([]byte, error) { return []byte(m.String()), nil }

// UnmarshalText is [ParseMoney].
func (m *Money) UnmarshalText(text []byte) (err error) {
	*m, err = ParseMoney(string(text))
	return err
}
