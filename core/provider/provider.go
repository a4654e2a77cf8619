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
	// Free text.
	About string `yaml:"about,omitempty" json:"about,omitempty" form:"free"`
	// Its regions with their zones.
	Regions []Region `yaml:"regions,omitempty" json:"regions,omitempty"`
	// What a cloud network is like.
	Networks Networks `yaml:"networks,omitempty" json:"networks,omitzero"`
	// Which route wins between equally long ones, best first.
	Preference []string `yaml:"preference,omitempty" json:"preference,omitempty" enum:"local,entered,peering,circuit-bgp,vpn-bgp,vpn-static"`
	// What an entry to something unusable does: inactive is passed over, black-hole swallows. inactive if left out.
	DeadNextHop string `yaml:"dead_next_hop,omitempty" json:"dead_next_hop,omitempty" enum:"inactive,black-hole"`
	// Joining two networks directly.
	Peering *Peering `yaml:"peering,omitempty" json:"peering,omitempty"`
	// A router that networks, VPN links and circuits attach to.
	Hub *Hub `yaml:"hub,omitempty" json:"hub,omitempty"`
	// The kinds of VPN gateway.
	VPN []VPN `yaml:"vpn,omitempty" json:"vpn,omitempty"`
	// Private circuits.
	Circuit *Circuit `yaml:"circuit,omitempty" json:"circuit,omitempty"`
	// Which translations the cloud does.
	Translation Translation `yaml:"translation,omitempty" json:"translation,omitzero"`
	// Where it has filters, and how they decide.
	Filters []Filtering `yaml:"filters,omitempty" json:"filters,omitempty"`
	// Within how many days who owns something there answers a request.
	AnswerDays uint32 `yaml:"answer_days,omitempty" json:"answer_days,omitempty"`
	// How many of each; 0 is unlimited.
	Limits Limits `yaml:"limits,omitempty" json:"limits,omitzero"`
	// What it costs.
	Prices Prices `yaml:"prices,omitempty" json:"prices,omitzero"`
}

// Region is a place of a cloud.
type Region struct {
	// As networks name it.
	Name string `yaml:"name" json:"name"`
	// Its zones.
	Zones []string `yaml:"zones,omitempty" json:"zones,omitempty"`
	// Where it is: latitude and longitude in degrees, such as 57.1, -4.2.
	Position string `yaml:"position,omitempty" json:"position,omitempty"`
}

// Networks is what a cloud network is like.
type Networks struct {
	// A network spans regions; its subnets are regional.
	SpanRegions bool `yaml:"span_regions,omitempty" json:"span_regions,omitempty"`
	// subnet: a route table per subnet (several may share one); network: one for all. subnet if left out.
	Tables string `yaml:"tables,omitempty" json:"tables,omitempty" enum:"subnet,network"`
	// A gateway feeds the routes it learns into the tables; else each table needs an entry.
	GatewayFeeds bool `yaml:"gateway_feeds,omitempty" json:"gateway_feeds,omitempty"`
	// An entry longer than the block beats the local route.
	LongerWins bool `yaml:"longer_wins,omitempty" json:"longer_wins,omitempty"`
	// An entry may lead to an appliance.
	Appliances bool `yaml:"appliances,omitempty" json:"appliances,omitempty"`
	// A transit network has tables for what comes in from its gateway and its peerings.
	EnteringTables bool `yaml:"entering_tables,omitempty" json:"entering_tables,omitempty"`
}

// Peering is what a joining of two networks allows.
type Peering struct {
	// The two may be in different regions.
	BetweenRegions bool `yaml:"between_regions,omitempty" json:"between_regions,omitempty"`
	// A half may lend its gateway to the other network.
	LendGateway bool `yaml:"lend_gateway,omitempty" json:"lend_gateway,omitempty"`
	// A half may accept packets that the other network only forwards.
	AcceptForwarded bool `yaml:"accept_forwarded,omitempty" json:"accept_forwarded,omitempty"`
	// The far blocks are routed without entries in the tables.
	AutomaticRoutes bool `yaml:"automatic_routes,omitempty" json:"automatic_routes,omitempty"`
}

// Hub is what a hub allows.
type Hub struct {
	// A hub has several tables: each attachment is bound to one and feeds any.
	ManyTables bool `yaml:"many_tables,omitempty" json:"many_tables,omitempty"`
	// How hubs of different regions are joined; left out: not at all.
	ToHub string `yaml:"to_hub,omitempty" json:"to_hub,omitempty" enum:"static,bgp"`
	// An attachment names one subnet per zone; hosts in zones without one are cut off.
	SubnetPerZone bool `yaml:"subnet_per_zone,omitempty" json:"subnet_per_zone,omitempty"`
	// An attachment whose exported ranges overlap another's is refused, unless kept out of export at both.
	RefusesOverlaps bool `yaml:"refuses_overlaps,omitempty" json:"refuses_overlaps,omitempty"`
	// The hub's owner must accept attachments of others.
	AsksOwner bool `yaml:"asks_owner,omitempty" json:"asks_owner,omitempty"`
	// What the hub knows appears in the networks' tables without entries.
	AutomaticRoutes bool `yaml:"automatic_routes,omitempty" json:"automatic_routes,omitempty"`
	// A network may hide behind a dedicated pool toward the hub.
	SourcePool bool `yaml:"source_pool,omitempty" json:"source_pool,omitempty"`
	// The pool serves only what is bound for the hub's own region.
	PoolInRegion bool `yaml:"pool_in_region,omitempty" json:"pool_in_region,omitempty"`
	// The fewest ports that the pool gives each host.
	PortsPerHost uint32 `yaml:"ports_per_host,omitempty" json:"ports_per_host,omitempty"`
}

// VPN is one kind of VPN gateway.
type VPN struct {
	// Such as doubled.
	Name string `yaml:"name" json:"name"`
	// Where it may stand.
	At []string `yaml:"at" json:"at" enum:"network,hub"`
	// Tunnels of each link.
	Tunnels uint32 `yaml:"tunnels" json:"tunnels"`
	// Public addresses of the gateway, on which the tunnels end in turn.
	Addresses uint32 `yaml:"addresses" json:"addresses"`
	// What decides what enters.
	Routing []string `yaml:"routing" json:"routing" enum:"bgp,static,selectors"`
	// When the tunnels share load. never if left out.
	EqualCost string `yaml:"equal_cost,omitempty" json:"equal_cost,omitempty" enum:"never,hub-bgp,bgp,always"`
	// The static ranges can not be changed once the tunnel is made.
	StaticFixed bool `yaml:"static_fixed,omitempty" json:"static_fixed,omitempty"`
	// No filters of BGP and no limits of one's own can be set: it takes what comes, and announces what is its cloud's.
	FiltersFixed bool `yaml:"filters_fixed,omitempty" json:"filters_fixed,omitempty"`
	// The gateway's ASN can not be changed once it is made.
	ASNFixed bool `yaml:"asn_fixed,omitempty" json:"asn_fixed,omitempty"`
	// The ASN it has if none is chosen.
	DefaultASN uint32 `yaml:"default_asn,omitempty" json:"default_asn,omitempty"`
	// Bandwidth of a tunnel.
	Mbps uint32 `yaml:"mbps,omitempty" json:"mbps,omitempty"`
	// The inside addresses that it takes.
	Inside Inside `yaml:"inside,omitempty" json:"inside,omitzero"`
	// IKE proposals, strongest first, as a Linux gateway writes them.
	IKE []string `yaml:"ike" json:"ike" form:"ike"`
	// ESP proposals, strongest first.
	ESP []string `yaml:"esp" json:"esp" form:"esp"`
	// It lives in a subnet of its own, at most this long (27: a /27 or larger).
	OwnSubnet uint8 `yaml:"own_subnet,omitempty" json:"own_subnet,omitempty"`
	// It waits for the far end to start.
	FarStarts bool `yaml:"far_starts,omitempty" json:"far_starts,omitempty"`
	// More routes than this from the far end drop the session.
	MaxRoutesIn uint32 `yaml:"max_routes_in,omitempty" json:"max_routes_in,omitempty"`
	// It announces at most this many.
	MaxRoutesOut uint32 `yaml:"max_routes_out,omitempty" json:"max_routes_out,omitempty"`
}

// Inside is the space of inside addresses.
type Inside struct {
	// Where they come from.
	Within []netip.Prefix `yaml:"within,omitempty" json:"within,omitempty"`
	// The prefix length of each tunnel's range.
	Bits uint8 `yaml:"bits,omitempty" json:"bits,omitempty"`
	// Ranges in it that the cloud keeps.
	Reserved []netip.Prefix `yaml:"reserved,omitempty" json:"reserved,omitempty"`
}

// Circuit is what a private circuit is like.
type Circuit struct {
	// The speeds that can be ordered, Mbit/s.
	Speeds []uint32 `yaml:"speeds" json:"speeds" min:"1"`
	// Who gives the order code; the other side accepts with it. cloud if left out.
	OrderedAt string `yaml:"ordered_at,omitempty" json:"ordered_at,omitempty" enum:"cloud,exchange"`
	// How long it takes from the order to the code, in days.
	DeliveryDays uint32 `yaml:"delivery_days,omitempty" json:"delivery_days,omitempty"`
	// How long a code can be used, in days.
	CodeDays uint32 `yaml:"code_days,omitempty" json:"code_days,omitempty"`
	// A code holds for one zone only.
	ZoneInCode bool `yaml:"zone_in_code,omitempty" json:"zone_in_code,omitempty"`
	// Two, in different zones, are wanted for redundancy.
	Redundant bool `yaml:"redundant,omitempty" json:"redundant,omitempty"`
	// The cloud's ASN on circuits.
	DefaultASN uint32 `yaml:"default_asn,omitempty" json:"default_asn,omitempty"`
}

// Translation is what the cloud can translate.
type Translation struct {
	// Rules on the VPN gateway.
	Gateway []string `yaml:"gateway,omitempty" json:"gateway,omitempty" enum:"one-to-one,pool,own-address,target"`
	// Rules that a VPN gateway takes at most; 0: any number.
	Rules uint32 `yaml:"rules,omitempty" json:"rules,omitempty"`
	// The fewest ports that a pool of the gateway gives each host.
	PortsPerHost uint32 `yaml:"ports_per_host,omitempty" json:"ports_per_host,omitempty"`
	// One-to-one of IPv6 is checksum-neutral (RFC 6296): a part of the host's own bits changes, too.
	Neutral bool `yaml:"neutral,omitempty" json:"neutral,omitempty"`
	// A filter appliance translates destinations.
	Filter bool `yaml:"filter,omitempty" json:"filter,omitempty"`
	// The appliance then hides the source behind itself.
	FilterHides bool `yaml:"filter_hides,omitempty" json:"filter_hides,omitempty"`
	// A service can be offered as an address in the caller's network.
	PrivateEndpoint bool `yaml:"private_endpoint,omitempty" json:"private_endpoint,omitempty"`
}

// Filtering is how the filters at some kinds of places decide.
type Filtering struct {
	// Where they can be.
	At []string `yaml:"at" json:"at" min:"1" enum:"group,subnet,network,gateway,hub"`
	// They remember nothing: answers need rules of their own.
	Stateless bool `yaml:"stateless,omitempty" json:"stateless,omitempty"`
	// first: the first rule that fits decides; any: of all that fit one that refuses, else one that allows. first if
	// left out.
	Match string `yaml:"match,omitempty" json:"match,omitempty" enum:"first,any"`
	// Rules may refuse, too; else they only allow.
	Refuses bool `yaml:"refuses,omitempty" json:"refuses,omitempty"`
	// At a gateway that translates: it asks for addresses as they come, and not as they go on.
	BeforeTranslation bool `yaml:"before_translation,omitempty" json:"before_translation,omitempty"`
	// What becomes of what comes in, or is forwarded, and no rule is for.
	In string `yaml:"in" json:"in" enum:"allow,refuse"`
	// What becomes of what goes out and no rule is for.
	Out string `yaml:"out" json:"out" enum:"allow,refuse"`
	// The owner can choose these two.
	DefaultsChosen bool `yaml:"defaults_chosen,omitempty" json:"defaults_chosen,omitempty"`
	// Rules of one filter; 0: any number.
	Rules uint32 `yaml:"rules,omitempty" json:"rules,omitempty"`
	// Groups that a host may be in; 0: any number.
	Groups uint32 `yaml:"groups,omitempty" json:"groups,omitempty"`
}

// Limits are counts.
type Limits struct {
	// Entries in a table.
	RoutesPerTable uint32 `yaml:"routes_per_table,omitempty" json:"routes_per_table,omitempty"`
	// Routes learned on a session.
	RoutesPerBGP uint32 `yaml:"routes_per_session,omitempty" json:"routes_per_session,omitempty"`
	// Attachments of a hub.
	Attachments uint32 `yaml:"attachments,omitempty" json:"attachments,omitempty"`
	// Tunnels of a gateway.
	Tunnels uint32 `yaml:"tunnels,omitempty" json:"tunnels,omitempty"`
	// Peerings of a network.
	Peerings uint32 `yaml:"peerings,omitempty" json:"peerings,omitempty"`
}

// Prices are what things cost.
type Prices struct {
	// A VPN gateway.
	GatewayHour Money `yaml:"gateway_hour,omitempty" json:"gateway_hour,omitzero"`
	// A VPN link with all its tunnels.
	LinkHour Money `yaml:"link_hour,omitempty" json:"link_hour,omitzero"`
	// A hub.
	HubHour Money `yaml:"hub_hour,omitempty" json:"hub_hour,omitzero"`
	// An attachment of a hub.
	AttachmentHour Money `yaml:"attachment_hour,omitempty" json:"attachment_hour,omitzero"`
	// What goes through a hub.
	HubGB Money `yaml:"hub_gb,omitempty" json:"hub_gb,omitzero"`
	// What goes over a peering in one region, each way.
	PeeringGB Money `yaml:"peering_gb,omitempty" json:"peering_gb,omitzero"`
	// What goes over a peering between regions, each way.
	PeeringFarGB Money `yaml:"peering_far_gb,omitempty" json:"peering_far_gb,omitzero"`
	// What leaves over the internet, tunnels included.
	OutGB Money `yaml:"out_gb,omitempty" json:"out_gb,omitzero"`
	// A circuit, whatever its speed.
	CircuitMonth Money `yaml:"circuit_month,omitempty" json:"circuit_month,omitzero"`
	// A circuit, for each Mbit/s.
	CircuitMbpsOver Money `yaml:"circuit_month_per_mbps,omitempty" json:"circuit_month_per_mbps,omitzero"`
	// What leaves over a circuit.
	CircuitGB Money `yaml:"circuit_gb,omitempty" json:"circuit_gb,omitzero"`
	// A host that can serve as a translating box.
	BoxHour Money `yaml:"box_hour,omitempty" json:"box_hour,omitzero"`
	// A private endpoint.
	EndpointHour Money `yaml:"endpoint_hour,omitempty" json:"endpoint_hour,omitzero"`
	// An edge router at an exchange, as the one who sells the circuit bills it.
	EdgeRouterMonth Money `yaml:"edge_router_month,omitempty" json:"edge_router_month,omitzero"`
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
