package design

import (
	"cmp"
	"fmt"
	"net/netip"
	"reflect"
	"strconv"
	"strings"
)

// Kind tells what an object is.
type Kind string

// The kinds of objects.
const (
	KindOwner       Kind = "owner"
	KindSegment     Kind = "segment"
	KindSite        Kind = "site"
	KindNetwork     Kind = "network"
	KindOutside     Kind = "outside"
	KindGateway     Kind = "gateway"
	KindLAN         Kind = "lan"
	KindInnerRoute  Kind = "inner-route"
	KindTable       Kind = "table"
	KindSubnet      Kind = "subnet"
	KindEndpoint    Kind = "endpoint"
	KindReservation Kind = "reservation"
	KindLink        Kind = "link"
	KindTunnel      Kind = "tunnel"
	KindMapping     Kind = "mapping"
	KindIntent      Kind = "intent"
	KindProfile     Kind = "profile"
	KindHub         Kind = "hub"
	KindHubTable    Kind = "hub-table"
	KindAttachment  Kind = "attachment"
	KindEdgeRouter  Kind = "edge-router"
	KindCircuit     Kind = "circuit"
	KindPeering     Kind = "peering"
	KindSession     Kind = "session"
	KindRequest     Kind = "request"
	KindBox         Kind = "box"
	KindListener    Kind = "published-service"
	KindGroup       Kind = "group"
	KindFilter      Kind = "filter"
	KindCrossing    Kind = "crossing"
	KindInternet    Kind = "internet"
	KindNames       Kind = "names"
)

// Body is the part of an object that depends on its kind: a pointer to one of
// the types below.
type Body interface{ kind() Kind }

// spec says where a kind stands in a design and in its file.
type spec struct {
	kind       Kind
	collection string // the key of its list in the design file
	parents    []Kind // empty: top level
	body       reflect.Type
	order      int
	word       string // what people call one; empty: the kind
	doc        string
}

var specs = []*spec{
	{
		kind: KindOwner, collection: "owners", body: reflect.TypeFor[Owner](),
		doc: "Who answers for something and is charged for it.",
	},
	{
		kind: KindSegment, collection: "segments", body: reflect.TypeFor[Segment](),
		doc: "A routing domain carried across sites and clouds. What is in no segment may meet everything.",
	},
	{
		kind:       KindProfile,
		collection: "profiles",
		body:       reflect.TypeFor[Profile](),
		doc:        "What one cloud allows; it goes before a shipped profile of the same name.",
	},
	{
		kind: KindSite, collection: "sites", body: reflect.TypeFor[Site](),
		doc: "A place of one's own, with its gateways and LANs.",
	},
	{
		kind: KindNetwork, collection: "networks", body: reflect.TypeFor[Network](),
		doc: "A cloud network: address blocks, subnets, route tables and cloud gateways.",
	},
	{
		kind: KindHub, collection: "hubs", body: reflect.TypeFor[Hub](),
		doc: "A cloud's router that networks, VPN links, circuits and other hubs attach to.",
	},
	{
		kind: KindEdgeRouter, collection: "edge_routers", body: reflect.TypeFor[EdgeRouter](),
		doc: "A virtual router at an exchange, with circuits to several places.",
	},
	{
		kind: KindOutside, word: "outside party", collection: "outside", body: reflect.TypeFor[Outside](),
		doc: "A party known only by its prefixes, such as a partner.",
	},
	{
		kind: KindGateway, collection: "gateways", parents: []Kind{KindSite, KindNetwork, KindHub},
		body: reflect.TypeFor[Gateway](), doc: "The box, or the cloud's gateway, at which links end.",
	},
	{
		kind: KindLAN, word: "LAN", collection: "lans", parents: []Kind{KindSite}, body: reflect.TypeFor[LAN](),
		doc: "A network inside a site.",
	},
	{
		kind: KindInnerRoute, collection: "inner_routes", parents: []Kind{KindSite},
		body: reflect.TypeFor[InnerRoute](), doc: "Ranges behind an inner router of a site.",
	},
	{
		kind: KindTable, collection: "tables", parents: []Kind{KindNetwork}, body: reflect.TypeFor[Table](),
		doc: "A cloud network's route table. Its blocks are local without being listed.",
	},
	{
		kind: KindSubnet, collection: "subnets", parents: []Kind{KindNetwork}, body: reflect.TypeFor[Subnet](),
		doc: "A part of a cloud network's block, in one zone, bound to one route table.",
	},
	{
		kind: KindBox, collection: "boxes", parents: []Kind{KindSite, KindNetwork}, body: reflect.TypeFor[Box](),
		doc: "A translating box of one's own: a host that forwards, and translates what it forwards.",
	},
	{
		kind: KindEndpoint, word: "host", collection: "endpoints", parents: []Kind{KindLAN, KindInnerRoute, KindSubnet},
		body: reflect.TypeFor[Endpoint](), doc: "A host that matters.",
	},
	{
		kind: KindReservation, collection: "reservations", body: reflect.TypeFor[Reservation](),
		doc: "A range kept for something, so that nothing else is put there.",
	},
	{
		kind: KindHubTable, collection: "hub_tables", parents: []Kind{KindHub}, body: reflect.TypeFor[HubTable](),
		doc: "A table of a hub. What comes in by an attachment is routed by the table that it is bound to.",
	},
	{
		kind: KindLink, word: "VPN link", collection: "links", body: reflect.TypeFor[Link](),
		doc: "A VPN between two gateways.",
	},
	{
		kind: KindTunnel, collection: "tunnels", parents: []Kind{KindLink}, body: reflect.TypeFor[Tunnel](),
		doc: "One tunnel of a link.",
	},
	{
		kind: KindCircuit, collection: "circuits", body: reflect.TypeFor[Circuit](),
		doc: "A private circuit between two parties, made with an order code.",
	},
	{
		kind: KindAttachment, collection: "attachments", parents: []Kind{KindHub}, body: reflect.TypeFor[Attachment](),
		doc: "What joins a network, VPN link, circuit or other hub to a hub.",
	},
	{
		kind: KindPeering, collection: "peerings", body: reflect.TypeFor[Peering](),
		doc: "A direct joining of two cloud networks. It exists when both halves do.",
	},
	{
		kind: KindSession, collection: "sessions", parents: []Kind{KindTunnel, KindCircuit},
		body: reflect.TypeFor[Session](), doc: "A BGP session (RFC 4271) over a tunnel or circuit.",
	},
	{
		kind: KindRequest, collection: "requests", body: reflect.TypeFor[Request](),
		doc: "A request of one owner to join something of another's.",
	},
	{
		kind:       KindMapping,
		collection: "mappings",
		body:       reflect.TypeFor[Mapping](),
		doc: "A one-to-one mapping: what lies behind a gateway in the real range is known as the mapped range " +
			"beyond a link or circuit.",
	},
	{
		kind: KindListener, collection: "published_services", body: reflect.TypeFor[Listener](),
		doc: "A listener on one address that leads to a service elsewhere.",
	},
	{
		kind: KindGroup, collection: "groups", body: reflect.TypeFor[Group](),
		doc: "Hosts under one name.",
	},
	{
		kind: KindCrossing, collection: "crossings", body: reflect.TypeFor[Crossing](),
		doc: "What may pass between two segments.",
	},
	{
		kind: KindInternet, collection: "internets", body: reflect.TypeFor[Internet](),
		doc: "Everybody on the internet, to say what they must reach and must never reach.",
	},
	{
		kind: KindFilter, collection: "filters", body: reflect.TypeFor[PacketFilter](),
		doc: "What may pass at a host, group, subnet, network, gateway, box, hub or crossing.",
	},
	{
		kind: KindNames, word: "zone of names", collection: "names", body: reflect.TypeFor[Names](),
		doc: "A private zone: which name leads to which address, for those who ask there.",
	},
	{
		kind: KindIntent, collection: "intents", body: reflect.TypeFor[Intent](),
		doc: "What must work, or must never work.",
	},
}

var specByKind = map[Kind]*spec{}

func init() {
	for n, s := range specs {
		s.order = n
		specByKind[s.kind] = s
	}
}

func specOf(k Kind) *spec {
	if s := specByKind[k]; s != nil {
		return s
	}
	return &spec{kind: k, order: len(specs)}
}

// Word is what people call one of a kind, such as "VPN link".
func Word(k Kind) string {
	return cmp.Or(specOf(k).word, strings.ReplaceAll(string(k), "-", " "))
}

// Bodies returns a zero body of every kind, for generating schemas.
func Bodies() map[Kind]Body {
	out := map[Kind]Body{}
	for _, s := range specs {
		out[s.kind] = reflect.New(s.body).Interface().(Body)
	}
	return out
}

// Owner answers for things.
type Owner struct {
	// Free text, such as whom to ring.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
	// Not one of ours, such as a partner: it may do what was agreed and nothing else.
	Outside bool `yaml:"outside,omitempty" json:"outside,omitempty"`
}

// Segment is a routing domain.
type Segment struct {
	// The number of its routing instance at boxes that carry several segments, for life; given when it is made.
	Number uint16 `yaml:"number,omitempty" json:"number,omitempty"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// Outside is a party known only by its prefixes.
type Outside struct {
	// Who answers for it.
	Owner Ref `yaml:"owner,omitempty" json:"owner,omitempty" ref:"owner"`
	// The routing domain that it would be let into.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// What it uses.
	Prefixes []netip.Prefix `yaml:"prefixes" json:"prefixes" min:"1"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// InnerRoute is what lies behind an inner router of a site.
type InnerRoute struct {
	// The ranges behind it.
	Prefixes []netip.Prefix `yaml:"prefixes" json:"prefixes" min:"1"`
	// The inner router's address in one of the site's LANs.
	Via netip.Addr `yaml:"via,omitempty" json:"via,omitzero"`
	// Its routing domain.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// Its addresses can not be changed.
	Fixed bool `yaml:"fixed,omitempty" json:"fixed,omitempty"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// Site is a place of one's own.
type Site struct {
	// Where it is: latitude and longitude in degrees, such as 57.1, -4.2.
	Position string `yaml:"position,omitempty" json:"position,omitempty" form:"position"`
	// Who answers for it.
	Owner Ref `yaml:"owner,omitempty" json:"owner,omitempty" ref:"owner"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// Network is a cloud network.
type Network struct {
	// The cloud it is in.
	Cloud string `yaml:"cloud" json:"cloud"`
	// The cloud's region.
	Region string `yaml:"region,omitempty" json:"region,omitempty"`
	// Who answers for it.
	Owner Ref `yaml:"owner,omitempty" json:"owner,omitempty" ref:"owner"`
	// Its routing domain.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// Its address blocks.
	Blocks []netip.Prefix `yaml:"blocks" json:"blocks" min:"1"`
	// Its own way out to the internet: translated, behind an address of the cloud, so that nobody there can start;
	// left out: none but for hosts in public subnets.
	WayOut string `yaml:"way_out,omitempty" json:"way_out,omitempty" enum:"translated"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// Gateway is where links end.
type Gateway struct {
	// Public addresses, in the order in which tunnels use them.
	Addresses []netip.Addr `yaml:"addresses" json:"addresses"`
	// Autonomous system number, RFC 6793; 0 if it speaks no BGP.
	ASN uint32 `yaml:"asn,omitempty" json:"asn,omitempty"`
	// In a cloud: which of the profile's kinds of VPN gateway it is; the first if left out.
	VPN string `yaml:"vpn,omitempty" json:"vpn,omitempty"`
	// Its BGP identifier; its first public IPv4 address if left out, or the lowest address of its sessions.
	RouterID netip.Addr `yaml:"router_id,omitempty" json:"router_id,omitzero"`
	// In a cloud: what it announces of its network: its blocks, its subnets or the list. blocks if left out.
	Announces string `yaml:"announces,omitempty" json:"announces,omitempty" enum:"blocks,subnets,list"`
	// In a cloud: what it announces, with announces: list.
	List []netip.Prefix `yaml:"list,omitempty" json:"list,omitempty"`
	// In a cloud: what of that it does not announce.
	KeepOut []netip.Prefix `yaml:"keep_out,omitempty" json:"keep_out,omitempty"`
	// Ranges that it announces while it has a part of them.
	Summaries []Summary `yaml:"summaries,omitempty" json:"summaries,omitempty"`
	// A site's: entries of its own.
	Routes []BoxRoute `yaml:"routes,omitempty" json:"routes,omitempty"`
	// A network's: it knows what the hubs know that the network is attached to.
	HubRoutes bool `yaml:"hub_routes,omitempty" json:"hub_routes,omitempty"`
	// A network's: the table that routes what comes in by it; left out: it is for the network itself, and for what
	// else the gateway knows.
	Enters Ref `yaml:"enters,omitempty" json:"enters,omitempty" ref:"table"`
	// In a cloud: the subnet of its own that it lives in, where the profile wants one.
	Subnet Ref `yaml:"subnet,omitempty" json:"subnet,omitempty" ref:"subnet"`
	// IKE proposals it can do, strongest first; empty: as its profile says, or every strong one.
	IKE []string `yaml:"ike,omitempty" json:"ike,omitempty" form:"ike"`
	// ESP proposals it can do, strongest first; empty: as its profile says, or every strong one.
	ESP []string `yaml:"esp,omitempty" json:"esp,omitempty" form:"esp"`
	// A site's: its own addresses in the LANs in which it stands; it stands in those LANs, too, whose hosts use
	// another gateway.
	Stands []netip.Addr `yaml:"stands,omitempty" json:"stands,omitempty"`
	// What is known to keep it from forwarding.
	Faults []string `yaml:"faults,omitempty" json:"faults,omitempty" enum:"forwarding-off,source-check,strict-reverse-path"`
	// What it translates besides the mappings, in their order after these; the first that fits is done.
	Translate []Rule `yaml:"translate,omitempty" json:"translate,omitempty"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// BoxRoute is an entry of a gateway of one's own.
type BoxRoute struct {
	// Where to.
	Prefix netip.Prefix `yaml:"prefix" json:"prefix"`
	// The next hop's address, looked up in the same table; left out: a black hole.
	Via netip.Addr `yaml:"via,omitempty" json:"via,omitzero"`
}

// How far the publishing of an entry has come.
const (
	Published = "published"
	Withdrawn = "withdrawn"
)

// What a cloud gateway announces of its network.
const (
	AnnounceBlocks  = "blocks"
	AnnounceSubnets = "subnets"
	AnnounceList    = "list"
)

// The faults of a box.
const (
	ForwardingOff     = "forwarding-off"
	SourceCheck       = "source-check"
	StrictReversePath = "strict-reverse-path"
)

// LAN is a network inside a site.
type LAN struct {
	// Its on-link ranges.
	Prefixes []netip.Prefix `yaml:"prefixes" json:"prefixes" min:"1"`
	// The gateways its hosts use, the first one by default; empty: all of the site's.
	Gateways []Ref `yaml:"gateways,omitempty" json:"gateways,omitempty" ref:"gateway"`
	// Its routing domain.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// The VLAN tag (IEEE 802.1Q) by which the site's gateways meet it; needed where LANs of two segments have one
	// range.
	VLAN uint16 `yaml:"vlan,omitempty" json:"vlan,omitempty"`
	// What of its ranges it gives out to hosts by itself (RFC 2131): no address there is for a host, a box or a
	// published service that keeps one. Prefixes, or from one address to another, such as 10.214.0.100-10.214.0.199.
	GivesOut []netip.Prefix `yaml:"gives_out,omitempty" json:"gives_out,omitempty" span:"yes"`
	// Its addresses can not be changed.
	Fixed bool `yaml:"fixed,omitempty" json:"fixed,omitempty"`
	// Free text, such as why its addresses are fixed.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// Table is a route table of a cloud network.
type Table struct {
	// Whether gateways and hubs feed it with what they learn; as the cloud does if left out.
	Learns string `yaml:"learns,omitempty" json:"learns,omitempty" enum:"yes,no"`
	// Entered routes.
	Routes []Entry `yaml:"routes,omitempty" json:"routes,omitempty"`
}

// Entry is a route that somebody entered in a route table.
type Entry struct {
	// Where to.
	Prefix netip.Prefix `yaml:"prefix" json:"prefix"`
	// What takes it: a cloud gateway, a peering of the network, its attachment to a hub, or a translating box in it.
	// Of two for one range the first that is up takes it.
	Via Ref `yaml:"via" json:"via" ref:"gateway,peering,attachment,box"`
	// published: the network's hubs learn it, and by them all others; withdrawn: no longer.
	Publish string `yaml:"publish,omitempty" json:"publish,omitempty" enum:"published,withdrawn"`
}

// Subnet is a part of a cloud network.
type Subnet struct {
	// The zone it is in.
	Zone string `yaml:"zone,omitempty" json:"zone,omitempty"`
	// Its ranges, inside the network's blocks.
	Prefixes []netip.Prefix `yaml:"prefixes" json:"prefixes" min:"1"`
	// The route table that its hosts use.
	Table Ref `yaml:"table" json:"table" ref:"table"`
	// Its hosts are reached from the internet.
	Public bool `yaml:"public,omitempty" json:"public,omitempty"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// Endpoint is a host in a LAN or subnet.
type Endpoint struct {
	// Its addresses.
	Addresses []netip.Addr `yaml:"addresses" json:"addresses" min:"1"`
	// Its public addresses, under which the internet reaches it where it stands in a public subnet of a cloud.
	Public []netip.Addr `yaml:"public,omitempty" json:"public,omitempty"`
	// What it answers, such as tcp/502; empty: unknown, taken to be everything.
	Answers []Service `yaml:"answers,omitempty" json:"answers,omitempty"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// Reservation keeps a range for something.
type Reservation struct {
	// The range.
	Prefix netip.Prefix `yaml:"prefix" json:"prefix"`
	// keep: nothing may be put there; mapping: mapped ranges are carved from it; device: a box uses it within itself.
	// keep if left out.
	Use string `yaml:"use,omitempty" json:"use,omitempty" enum:"keep,mapping,device"`
	// Whose it is; empty: the whole estate's.
	Party Ref `yaml:"party,omitempty" json:"party,omitempty" ref:"site,network,outside"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// What a reservation is for.
const (
	UseKeep    = "keep"
	UseMapping = "mapping"
	UseDevice  = "device"
)

// Mapping is a one-to-one translation at a gateway, toward a link.
type Mapping struct {
	// The box that translates.
	Gateway Ref `yaml:"gateway" json:"gateway" ref:"gateway"`
	// The link or circuit toward which it translates.
	Link Ref `yaml:"link" json:"link" ref:"link,circuit"`
	// The range behind the gateway.
	Real netip.Prefix `yaml:"real" json:"real"`
	// What it is known as beyond that; as long as the real range.
	Mapped netip.Prefix `yaml:"mapped" json:"mapped"`
}

func (*Owner) kind() Kind       { return KindOwner }
func (*Segment) kind() Kind     { return KindSegment }
func (*Outside) kind() Kind     { return KindOutside }
func (*InnerRoute) kind() Kind  { return KindInnerRoute }
func (*Site) kind() Kind        { return KindSite }
func (*Network) kind() Kind     { return KindNetwork }
func (*Gateway) kind() Kind     { return KindGateway }
func (*LAN) kind() Kind         { return KindLAN }
func (*Table) kind() Kind       { return KindTable }
func (*Subnet) kind() Kind      { return KindSubnet }
func (*Endpoint) kind() Kind    { return KindEndpoint }
func (*Reservation) kind() Kind { return KindReservation }
func (*Mapping) kind() Kind     { return KindMapping }

func (*Box) kind() Kind      { return KindBox }
func (*Listener) kind() Kind { return KindListener }

// Service is a transport protocol and its destination port, written tcp/502,
// udp/514 or icmp. Port is 0 for icmp only. The zero Service is none.
type Service struct {
	Proto string
	Port  uint16
}

// ParseService reads a service.
func ParseService(text string) (Service, error) {
	bad := func(why string) (Service, error) {
		return Service{}, fmt.Errorf("%q %s; write tcp/502, udp/514 or icmp", text, why)
	}
	proto, port, has := strings.Cut(strings.ToLower(strings.TrimSpace(text)), "/")
	switch proto {
	case "icmp":
		if has {
			return bad("has a port, and icmp has none")
		}
		return Service{Proto: "icmp"}, nil
	case "tcp", "udp":
	default:
		return bad("is not a service")
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil || n == 0 {
		return bad("has no port from 1 to 65535")
	}
	return Service{Proto: proto, Port: uint16(n)}, nil
}

func (s Service) String() string {
	if s.Port == 0 {
		return s.Proto
	}
	return s.Proto + "/" + strconv.Itoa(int(s.Port))
}

// MarshalText writes the service as in a design file.
func (s Service) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText is [ParseService].
func (s *Service) UnmarshalText(text []byte) (err error) {
	*s, err = ParseService(string(text))
	return err
}

// Owns reports whether the gateway has that public address.
func (g *Gateway) Owns(a netip.Addr) bool {
	for _, own := range g.Addresses {
		if own == a {
			return true
		}
	}
	return false
}
