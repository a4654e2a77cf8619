package finding

import "dravin/core/words"

// Family are the codes of findings: what is wrong, and what ends it.
var Family = []words.Coded[string]{
	{
		Code: "overlap", Title: "overlap", Doc: "parties hold the same addresses",
		Fix: "a plan of how they talk all the same",
	},
	{
		Code: "intent", Title: "intent",
		Doc: "what must work does not, or the reverse",
		Fix: "the plans that make it hold",
	},
	{
		Code: "intent-not-today", Title: "intent not today",
		Doc: "what must work does so only when all is built",
		Fix: "build what is named",
	},
	{
		Code: "address-given-out", Title: "address given out",
		Doc: "a host that keeps its address has one that its LAN may give to another",
		Fix: "take it out of what is given out, or give the host another",
	},
	{Code: "reserved-range", Title: "reserved range", Doc: "a range that a standard sets aside"},
	{
		Code: "selectors-differ", Title: "selectors differ",
		Doc: "the ends' selectors do not mirror",
		Fix: "mirror one end's",
	},
	{
		Code: "table-lacks-route", Title: "table lacks route",
		Doc: "one of the tables of a network's hosts lacks an entry that others have, or none leads to what its " +
			"gateway knows; tables that only boxes or what enters use are left alone",
		Fix: "add it",
	},
	{Code: "link-down", Title: "link down", Doc: "a link has no tunnel"},
	{
		Code: "ends-differ", Title: "ends differ",
		Doc: "key exchange settings of a tunnel's ends: address, identity, version, proposals, inside address",
		Fix: "set either end",
	},
	{
		Code: "lifetimes-differ", Title: "lifetimes differ",
		Doc: "the ends renew keys at different times",
		Fix: "set either end",
	},
	{
		Code: "weak-proposal", Title: "weak proposal",
		Doc: "an algorithm that RFC 8221 or RFC 8247 advise against",
		Fix: "offer the strong ones only",
	},
	{
		Code: "mtu-too-large", Title: "mtu too large",
		Doc: "encapsulation does not fit into the MTU",
		Fix: "use what fits",
	},
	{Code: "inside-address-taken", Title: "inside address taken", Doc: "an inside address lies in somebody's range"},
	{
		Code: "inside-address-twice", Title: "inside address twice",
		Doc: "two tunnels have one inside range",
		Fix: "a free one",
	},
	{
		Code: "inside-not-allowed", Title: "inside not allowed",
		Doc: "an inside range that the cloud does not take",
		Fix: "a free one that it takes",
	},
	{
		Code: "single-tunnel", Title: "single tunnel",
		Doc: "fewer tunnels than the gateway makes or could carry",
		Fix: "add a tunnel",
	},
	{Code: "address-unknown", Title: "address unknown", Doc: "a cloud has not given a gateway's address yet"},
	{
		Code: "session-down", Title: "session down",
		Doc: "a BGP session does not come up, or takes fewer routes than are announced",
		Fix: "set either end",
	},
	{
		Code: "asn-in-two-places", Title: "asn in two places",
		Doc: "a gateway's ASN and its session's differ",
		Fix: "use the gateway's",
	},
	{Code: "asn-used-twice", Title: "asn used twice", Doc: "joined parties have one ASN", Fix: "a free one"},
	{
		Code: "gateway-does-not-forward", Title: "gateway does not forward",
		Doc: "a gateway or box: forwarding off, a source check, or a strict reverse-path filter",
		Fix: "tick it off",
	},
	{
		Code: "gateway-too-small", Title: "gateway too small",
		Doc: "its subnet is too small, or it has too many tunnels",
		Fix: "a larger free range",
	},
	{
		Code: "out-of-use", Title: "out of use",
		Doc: "a hub, edge router or circuit that is gone or waits, and others count on it",
	},
	{Code: "both-ends-wait", Title: "both ends wait", Doc: "each end of a link waits for the other to start"},
	{
		Code: "fixed-ranges-outgrown", Title: "fixed ranges outgrown",
		Doc: "a tunnel's ranges can not be changed, and the estate has grown",
		Fix: "a new tunnel",
	},
	{
		Code: "default-over-link", Title: "default over link",
		Doc: "a site sends everything into a link; the way to the far address must stay outside",
	},
	{
		Code: "chance-decides", Title: "chance decides",
		Doc: "two equal routes lead to different far ends, or a router ID alone chooses",
	},
	{
		Code: "expected-not-learned", Title: "expected not learned",
		Doc: "what is expected over a link or circuit is not learned, with where it stopped",
		Fix: "expect what is learned",
	},
	{
		Code: "learned-unasked", Title: "learned unasked",
		Doc: "more is learned over a link or circuit than is expected",
		Fix: "expect what is learned",
	},
	{
		Code: "learned-route-beaten", Title: "learned route beaten",
		Doc: "a connected, peered, entered or longer route goes before a learned one",
	},
	{Code: "one-way-transit", Title: "one way transit", Doc: "a way there over a third, and none back"},
	{
		Code: "routes-never-settle", Title: "routes never settle",
		Doc: "preferences that have no lasting outcome (RFC 3345)",
	},
	{
		Code: "routes-depend-on-order", Title: "routes depend on order",
		Doc: "preferences that have several lasting outcomes (RFC 4264)",
	},
	{Code: "entry-leads-nowhere", Title: "entry leads nowhere", Doc: "an entry to what is down or not there"},
	{Code: "default-swallows", Title: "default swallows", Doc: "an entry for everything hides what should fail"},
	{
		Code: "peering-not-transitive", Title: "peering not transitive",
		Doc: "an entry over a peering for what is not the peer's",
	},
	{Code: "summary-of-nothing", Title: "summary of nothing", Doc: "a summary without a part"},
	{Code: "summary-hides-hole", Title: "summary hides hole", Doc: "a summary of what nobody has"},
	{Code: "segments-meet", Title: "segments meet", Doc: "what is in no segment joins several"},
	{Code: "limit-near", Title: "limit near", Doc: "nine tenths of a limit are used up"},
	{Code: "one-gateway-ends-all", Title: "one gateway ends all", Doc: "one failure takes all links of a site"},
	{Code: "one-edge-router", Title: "one edge router", Doc: "one failure takes all circuits"},
	{Code: "peering-refused", Title: "peering refused", Doc: "the blocks of a peering overlap"},
	{Code: "half-made-peering", Title: "half made peering", Doc: "one half waits for the other", Fix: "tick it off"},
	{
		Code: "gateway-not-lent", Title: "gateway not lent",
		Doc: "one half uses a gateway that the other does not lend",
		Fix: "lend it",
	},
	{Code: "peering-not-allowed", Title: "peering not allowed", Doc: "an option that the cloud does not have"},
	{
		Code: "circuit-speeds-differ", Title: "circuit speeds differ",
		Doc: "the ends of a circuit differ in speed",
		Fix: "set either end",
	},
	{
		Code: "circuit-tags-differ", Title: "circuit tags differ",
		Doc: "the ends of a circuit differ in their VLAN tag",
		Fix: "set either end",
	},
	{
		Code: "circuit-speed-not-offered", Title: "circuit speed not offered",
		Doc: "a speed that is not sold",
		Fix: "the next that is",
	},
	{
		Code: "metered-twice", Title: "metered twice",
		Doc: "every gigabyte of an intent's flow crosses two things that are paid by the gigabyte",
		Fix: "join the two directly, where that is cheaper",
	},
	{
		Code: "code-of-other-zone", Title: "code of other zone",
		Doc: "the order code is for another zone",
		Fix: "move that end",
	},
	{Code: "code-expires", Title: "code expires", Doc: "an order code ends within a week", Fix: "order anew"},
	{Code: "code-expired", Title: "code expired", Doc: "an order code has ended", Fix: "order anew"},
	{Code: "single-circuit", Title: "single circuit", Doc: "one circuit has no second"},
	{
		Code: "circuits-in-one-zone", Title: "circuits in one zone",
		Doc: "all circuits are in one zone, and one failure takes all",
	},
	{
		Code: "attachment-in-public-subnet", Title: "attachment in public subnet",
		Doc: "a hub's attachment stands in a public subnet",
		Fix: "another of the zone",
	},
	{
		Code: "attachment-feeds-nothing", Title: "attachment feeds nothing",
		Doc: "nobody at the hub learns of what is attached",
		Fix: "feed a table",
	},
	{
		Code: "attachment-skips-zone", Title: "attachment skips zone",
		Doc: "hosts in a zone are cut off from the hub",
		Fix: "add a subnet of it",
	},
	{
		Code: "hub-refuses-overlap", Title: "hub refuses overlap",
		Doc: "exported ranges overlap another attachment's",
		Fix: "keep the smaller range out of export at both",
	},
	{
		Code: "refused-and-ready", Title: "refused and ready",
		Doc: "what was refused is said to be there; walks believe that it is",
		Fix: "that it is gone, or that it was accepted after all",
	},
	{
		Code: "proposal-not-offered", Title: "proposal not offered",
		Doc: "an end of a tunnel is set to what its cloud can not be set to",
		Fix: "one that both ends can do",
	},
	{
		Code: "tunnel-without-session", Title: "tunnel without session",
		Doc: "a tunnel of a link that learns its routes has no session: nothing ever goes by it",
		Fix: "a session like the first tunnel's",
	},
	{
		Code: "family-without-next-hop", Title: "family without next hop",
		Doc: "a session is to carry a family of which its ends have no addresses there",
		Fix: "inside addresses of that family",
	},
	{
		Code: "lans-not-told-apart", Title: "LANs not told apart",
		Doc: "LANs of two segments have one range and no VLAN tags: their gateway can not tell which it meets",
		Fix: "a VLAN tag for each",
	},
	{Code: "request-open", Title: "request open", Doc: "somebody asks to join and waits", Fix: "answer it"},
	{Code: "key-reused", Title: "key reused", Doc: "one pre-shared key on two links", Fix: "a new key for one"},
	{
		Code: "too-many-routes", Title: "too many routes",
		Doc: "a table or session holds more than its cloud takes; the smallest summaries are named",
	},
	{
		Code: "not-in-profile", Title: "not in profile",
		Doc: "a kind of VPN gateway, a region, zone, way of routing or entering table that the cloud does not have",
		Fix: "one that it has",
	},
	{Code: "no-profile", Title: "no profile", Doc: "nothing says what a cloud allows", Fix: "add a profile"},
	{
		Code: "translation-not-offered", Title: "translation not offered",
		Doc: "a mapping, rule or published service at a cloud's gateway that its cloud does not do",
	},
	{Code: "translation-rules-limit", Title: "translation rules limit", Doc: "more rules than the gateway takes"},
	{
		Code: "mapped-range-unknown", Title: "mapped range unknown",
		Doc: "the far end does not send a mapped range back: it works from one side only",
	},
	{
		Code: "hides-link-traffic", Title: "hides link traffic",
		Doc: "hiding meant for the internet takes what a policy-based link should take, and no rule before it " +
			"leaves that alone",
		Fix: "exempt its ranges",
	},
	{Code: "pool-collides", Title: "pool collides", Doc: "a pool, mapped range or listener that somebody else holds"},
	{Code: "pool-too-small", Title: "pool too small", Doc: "a pool serves fewer hosts than may be behind it"},
	{Code: "pool-fills", Title: "pool fills", Doc: "a pool is four fifths full"},
	{Code: "published-service-down", Title: "published service down", Doc: "a listener is not there"},
	{
		Code: "published-service-unanswered", Title: "published service unanswered",
		Doc: "the target of a listener does not listen",
	},
	{
		Code: "own-address-unknown", Title: "own address unknown",
		Doc: "a listener hides callers behind an address that nobody has said",
	},
	{Code: "rule-unneeded", Title: "rule unneeded", Doc: "a filter's rule that no intent needs", Fix: "take it out"},
	{
		Code: "rule-never-fits", Title: "rule never fits", Doc: "a filter's rule that fits nothing that comes by",
		Fix: "take it out",
	},
	{
		Code: "rule-shadowed", Title: "rule shadowed", Doc: "a filter's rule of which another is for all before " +
			"it is asked",
		Fix: "take it out",
	},
	{
		Code: "rule-contradicted", Title: "rule contradicted",
		Doc: "a filter's rule of which another does the contrary before it is asked", Fix: "take one of the two out",
	},
	{
		Code: "rule-before-mapping", Title: "rule before mapping",
		Doc: "a filter's rule that names a range from before it was mapped, where an intent comes by with the " +
			"mapped one",
		Fix: "name the mapped range",
	},
	{
		Code: "ping-open-port-shut", Title: "ping open, port shut",
		Doc: "ping passes where the port that an intent needs is refused",
	},
	{
		Code: "port-open-ping-shut", Title: "port open, ping shut",
		Doc: "the port that an intent needs passes where ping is refused",
	},
	{
		Code: "errors-refused", Title: "errors refused",
		Doc: "a filter that remembers nothing refuses the errors of ICMP by which senders learn that packets are " +
			"too large",
		Fix: "let icmp/too-big pass there",
	},
	{
		Code: "more-than-agreed", Title: "more than agreed", Doc: "an outside party may do more than intents ask for",
		Fix: "exactly what they need",
	},
	{
		Code: "crossing-unfiltered", Title: "crossing unfiltered",
		Doc: "an outside party crosses into another segment, and no filter stands there",
	},
	{
		Code: "name-leads-elsewhere", Title: "name leads elsewhere",
		Doc: "a name of a private zone leads some who ask to another host than is meant, since both have the address",
	},
	{
		Code: "crossing-collides", Title: "crossing collides",
		Doc: "two segments have a range in common that a crossing would share",
	},
	{
		Code: "crossing-nowhere", Title: "crossing nowhere",
		Doc: "no box of one's own, edge router or hub carries both segments of a crossing, or what it is at does not",
	},
	{
		Code: "service-uncrossed", Title: "service uncrossed",
		Doc: "a published service leads from one segment into another, and no crossing says so",
		Fix: "a crossing for services only",
	},
	{
		Code: "mapping-uncrossed", Title: "mapping uncrossed",
		Doc: "a range is mapped toward a link of another segment, and no crossing lets anything pass between the two",
		Fix: "a crossing for callers over the link",
	},
	{Code: "everything-open", Title: "everything open", Doc: "a rule lets everything pass from anywhere to anywhere"},
	{
		Code: "filter-nearly-full", Title: "filter nearly full",
		Doc: "a filter has four fifths of the rules that it takes",
	},
	{
		Code: "filter-default", Title: "filter default",
		Doc: "what no rule is for fares otherwise in the cloud than the filter says",
	},
	{Code: "translation-unneeded", Title: "translation unneeded", Doc: "a mapping or rule that nothing needs any more"},
}
