package box

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/topology"
)

// says is what a sentence tells of an object.
type says struct {
	does, why string
	check     seen
	lines     []string
	covers    []string // the keys of the values that does and lines tell
}

// seen is a check as its sentence says it.
type seen struct {
	kind CheckKind
	text string
}

func (s *says) line(format string, args ...any) {
	s.lines = append(s.lines, fmt.Sprintf(format, args...))
}

// sentences tell of each kind what is to be done; end is 1 or 2 for what has two ends.
var sentences = map[design.Kind]func(w *writer, o *design.Object, end int) says{
	design.KindNetwork:    network,
	design.KindHub:        hub,
	design.KindEdgeRouter: edgeRouter,
	design.KindRequest:    request,
	design.KindLAN:        lanSays,
	design.KindInnerRoute: innerRoute,
	design.KindGateway:    gateway,
	design.KindBox:        appliance,
	design.KindLink:       link,
	design.KindTunnel:     tunnelSays,
	design.KindSession:    session,
	design.KindCircuit:    circuit,
	design.KindPeering:    peering,
	design.KindAttachment: attachment,
	design.KindMapping:    mapping,
	design.KindListener:   listener,
	design.KindTable:      table,
	design.KindHubTable:   hubTable,
	design.KindSubnet:     subnet,
	design.KindEndpoint:   endpoint,
	design.KindFilter:     filterSays,
	design.KindGroup:      groupSays,
	design.KindCrossing:   crossingSays,
	design.KindNames:      namesSays,
}

// saysOf tells of an object: by the sentence of its kind, or, of a kind that has none, by its
// values alone.
func saysOf(w *writer, o *design.Object, end int) says {
	if tell := sentences[o.Kind]; tell != nil {
		return tell(w, o, end)
	}
	s := says{
		does: the(design.Word(o.Kind), o.Name) + " with exactly these values", why: "the design has it",
		check: seen{Listed, "it is listed with these values"},
	}
	if _, ok := design.JointOf(o); ok {
		s.why = joins(w, o)
	}
	return s
}

// list is values with commas between them.
func list[T fmt.Stringer](values []T) string {
	out := make([]string, len(values))
	for n, v := range values {
		out[n] = v.String()
	}
	return strings.Join(out, ", ")
}

// inPlace is where a cloud's thing stands.
func inPlace(cloud, region string) string {
	if region == "" {
		return "in " + cloud
	}
	return "in " + cloud + ", " + region
}

// the is a thing by its name, with the word for what it is unless the name has it.
func the(word, name string) string {
	if strings.Contains(strings.ToLower(name), strings.ToLower(word)) {
		return "the " + name
	}
	return "the " + word + " " + name
}

// FillIn stands for what is not known yet.
const FillIn = "FILL-IN"

// known is an address, or [FillIn] while a cloud has not given it.
func known(a netip.Addr) string {
	if !negotiate.Known(a) {
		return FillIn
	}
	return a.String()
}

func orFillIn(text string) string {
	if text == "" {
		return FillIn
	}
	return text
}

func network(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Network)
	return says{
		does: fmt.Sprintf("a network %s with %s", inPlace(b.Cloud, b.Region), list(b.Blocks)),
		why:  "what is in the cloud stands in it", check: seen{Listed, "it is listed with these blocks and no others"},
		covers: []string{"cloud", "region", "blocks"},
	}
}

func hub(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Hub)
	return says{
		does: "a hub " + inPlace(b.Cloud, b.Region), why: "networks, links and circuits meet there",
		check: seen{Listed, "it is listed as available"}, covers: []string{"cloud", "region"},
	}
}

func edgeRouter(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.EdgeRouter)
	s := says{
		does: "a router at " + b.Exchange, why: "circuits to several places meet there", check: seen{
			Reached, "it answers",
		},
		covers: []string{"exchange", "summaries"},
	}
	summaries(&s, b.Summaries)
	return s
}

func summaries(s *says, list []design.Summary) {
	for _, x := range list {
		hidden := ""
		if x.Hide {
			hidden = ", and not its parts"
		}
		s.line("announces %s while it knows a part of it%s", x.Prefix, hidden)
	}
}

func request(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Request)
	who := "the other side"
	if from := w.design.Get(b.From); from != nil {
		who = from.Name
	}
	s := says{
		does: fmt.Sprintf("accept or refuse what %s asks for: %s", who, w.design.Title(b.For)),
		why:  "nothing is built for it before", check: seen{
			Answered, "it is answered",
		}, covers: []string{"for", "answer"},
	}
	if b.Answer != "" {
		s.does = fmt.Sprintf("what %s asked for was %s: %s", who, b.Answer, w.design.Title(b.For))
	}
	return s
}

func lanSays(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.LAN)
	s := says{
		does: the("LAN", o.Name) + ": " + list(b.Prefixes), why: "hosts stand in it",
		check: seen{Reached, "a host in it reaches its gateway"}, covers: []string{"prefixes", "gateways"},
	}
	if b.VLAN != 0 {
		s.does += fmt.Sprintf(", VLAN tag %d", b.VLAN)
		s.covers = append(s.covers, "vlan")
	}
	for n, g := range b.Gateways {
		s.line("%s its hosts use %s", [...]string{"by default", "else"}[min(n, 1)], w.design.Get(g).Name)
	}
	return s
}

func innerRoute(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.InnerRoute)
	by := ""
	if b.Via.IsValid() {
		by = " at " + b.Via.String()
	}
	return says{
		does: fmt.Sprintf("%s, behind an inner router%s: %s", o.Name, by, list(b.Prefixes)), why: "hosts stand there",
		check: seen{Reached, "the gateway reaches a host there"}, covers: []string{"prefixes", "via"},
	}
}

func gateway(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Gateway)
	s := says{
		does: the("gateway", o.Name), why: "links and circuits end there",
		check:  seen{Reached, "it is reached under its addresses"},
		covers: []string{"addresses", "translate", "summaries", "routes", "enters", "subnet", "vpn", "hub_routes"},
	}
	var has []string
	for _, a := range b.Addresses {
		has = append(has, orFillIn(strings.Replace(known(a), FillIn, "an address that its cloud gives", 1)))
	}
	if len(has) > 0 {
		s.does += " at " + strings.Join(has, ", ")
	}
	if v := orderedVPN(w.design, o); v != nil {
		s.line("a VPN gateway of the kind %s", v.Name)
	}
	if x := w.design.Get(b.Subnet); x != nil {
		s.line("in %s, %s", the("subnet", x.Name), list(w.design.Ranges(x.ID)))
	}
	if x := w.design.Get(b.Enters); x != nil {
		s.line("what comes in by it is routed by %s", the("table", x.Name))
	}
	if b.HubRoutes {
		s.line("it knows what the hubs know that the network is attached to")
	}
	summaries(&s, b.Summaries)
	entries(&s, b.Routes)
	translations(&s, w.design, b.Translate)
	return s
}

func appliance(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Box)
	s := says{
		does: fmt.Sprintf("%s (%s): it forwards, and no source check keeps it from that", o.Name, list(b.Addresses)),
		why:  "it translates what it forwards", check: seen{
			Forwards, "net.ipv4.ip_forward is 1, and its rules are loaded",
		},
		covers: []string{"addresses", "routes", "translate"},
	}
	for _, r := range route.Among(w.design, o) {
		if slices.ContainsFunc(Assigned(w.design, o), func(p netip.Prefix) bool { return prefix.Contains(p, r) }) {
			s.line("give %s to it as addresses of its own: a cloud delivers only what is assigned", r)
		}
	}
	entries(&s, b.Routes)
	translations(&s, w.design, b.Translate)
	return s
}

func entries(s *says, list []design.BoxRoute) {
	for _, r := range list {
		via := "nothing: a black hole"
		if r.Via.IsValid() {
			via = r.Via.String()
		}
		s.line("%s via %s", r.Prefix, via)
	}
}

func translations(s *says, d *design.Design, list []design.Rule) {
	for _, r := range list {
		s.line("%s: %s", hookWord(r.Hook), RuleWords(d, r))
	}
}

// hookWord is where in a box a rule stands.
func hookWord(hook string) string {
	return map[string]string{
		design.Prerouting: "before the route is chosen", design.Postrouting: "after the route is chosen",
	}[hook]
}

// RuleWords is a translation in words.
func RuleWords(d *design.Design, r design.Rule) string {
	out := r.Does
	if r.Real.IsValid() {
		out += " " + r.Real.String()
	}
	if r.Into.IsValid() {
		out += " to " + r.Into.String()
	}
	if r.Target.IsValid() {
		out += " " + r.Target.String()
	}
	if r.Port != 0 {
		out += fmt.Sprintf(", port %d", r.Port)
	}
	for _, c := range []struct {
		word string
		list []netip.Prefix
	}{{"from", r.Source}, {"to", r.Destination}} {
		if len(c.list) > 0 {
			out += ", " + c.word + " " + list(c.list)
		}
	}
	if len(r.Services) > 0 {
		out += ", for " + list(r.Services)
	}
	if r.From != "" {
		out += ", coming by " + d.Title(r.From)
	}
	if r.Toward != "" {
		out += ", going by " + d.Title(r.Toward)
	}
	return out
}

var routingWords = map[string]string{
	design.RoutingStatic:    "route-based, with routes that are entered",
	design.RoutingSelectors: "policy-based: selectors decide what enters",
	design.RoutingBGP:       "route-based, with routes that are learned by BGP",
}

func link(w *writer, o *design.Object, end int) says {
	b := o.Body.(*design.Link)
	near, far := b.Ends[end-1], b.Ends[2-end]
	s := says{
		does: fmt.Sprintf("%s, to %s: %s", o.Name, w.design.Title(far.Gateway), routingWords[b.Routing]),
		why:  joins(w, o), check: seen{TunnelUp, "one of its tunnels is up"}, covers: []string{
			"routing", "ends", "segment",
		},
	}
	if x := w.design.Get(b.Segment); x != nil {
		s.line("it carries %s", the("segment", x.Name))
	}
	if len(near.Local)+len(near.Remote) > 0 {
		s.line("it protects what goes between %s here and %s there", list(near.Local), list(near.Remote))
	}
	for _, r := range near.Routes {
		if b.Routing == design.RoutingBGP {
			s.line("learn %s over it", r)
		} else {
			s.line("send %s into it", r)
		}
	}
	return s
}

// joins is what a joint is for.
func joins(w *writer, o *design.Object) string {
	j, _ := design.JointOf(o)
	a, b := w.design.Party(j.Ends[0]), w.design.Party(j.Ends[1])
	if a == nil || b == nil || a == b {
		return "it joins " + w.design.Title(j.Ends[0]) + " with " + w.design.Title(j.Ends[1])
	}
	return "it joins " + a.Name + " with " + b.Name
}

func tunnelSays(w *writer, o *design.Object, end int) says {
	l := w.design.Get(o.Parent)
	set := settings.SettingsOf(w.design, o, "")[end-1]
	b := o.Body.(*design.Tunnel)
	s := says{
		does: fmt.Sprintf(
			"%s of %s: IKEv%d from %s to %s, pre-shared key", o.Name, l.Name, set.Version, known(set.Address),
			known(set.Peer),
		),
		why: joins(w, l), check: seen{TunnelUp, "its IKE SA is established and its child SAs are installed"},
		covers: []string{"outside", "inside", "inside6", "ends", "segment"},
	}
	if len(b.Inside) == 2 {
		s.does += fmt.Sprintf("; inside address %s, far end %s", b.Inside[end-1], b.Inside[2-end].Addr())
	}
	if len(b.Inside6) == 2 {
		s.line("inside address of IPv6 %s, far end %s", b.Inside6[end-1], b.Inside6[2-end].Addr())
	}
	s.line("calls itself %s, and expects %s", orFillIn(set.Identity), orFillIn(set.PeerIdentity))
	s.line("IKE: %s; renewed after %d s", strings.Join(set.IKE, ", "), set.IKELife)
	s.line("ESP: %s; renewed after %d s", strings.Join(set.ESP, ", "), set.ChildLife)
	for _, p := range (Tunnel{Set: set}).Pairs() {
		s.line("selectors: local %s, remote %s", p.Local, p.Remote)
	}
	s.line("asks whether the far end lives every %d s", set.DPD)
	if settings.Starts(w.design, o, end-1) {
		s.line("it starts, and starts again when it is down")
	} else {
		s.line("it waits for the far end to start")
	}
	if set.NAT {
		s.line("it stands behind a NAT")
	}
	if set.NAT || set.Encapsulate {
		s.line("ESP goes in UDP, port 4500 (RFC 3948)")
	}
	if set.MTU != 0 {
		s.line("MTU inside it %d bytes", set.MTU)
	}
	if x := w.design.Get(b.Segment); x != nil {
		s.line("it carries %s", the("segment", x.Name))
	}
	if a := askedBy(w, o, end); a.IsValid() {
		s.line("the far end watches it: let %s answer its pings, or its routes are taken away", a)
	}
	return s
}

// askedBy is the address at an end of a tunnel that the far end's watcher asks whether it
// lives; invalid where none does.
func askedBy(w *writer, o *design.Object, end int) netip.Addr {
	l := w.design.Get(o.Parent).Body.(*design.Link)
	far := l.Ends[2-end]
	b := Of(w.tables, far.Gateway)
	if b == nil || !b.Linux || l.Routing != design.RoutingStatic || len(far.Routes) == 0 {
		return netip.Addr{}
	}
	if x := b.Link(o.Parent); x != nil {
		for _, t := range x.Tunnels {
			if t.ID == o.ID {
				return t.Asked()
			}
		}
	}
	return netip.Addr{}
}

func session(w *writer, o *design.Object, end int) says {
	near, set := settings.SessionOf(w.design, o).Ends[end-1], settings.SessionEndsOf(w.design, o)[end-1]
	s := says{
		does: fmt.Sprintf(
			"BGP: own ASN %d at %s, far ASN %d at %s, hold time %d "+
				"s", set.ASN, set.Address, set.PeerASN, set.Peer, set.Hold,
		),
		why:    "routes are learned over " + w.design.Get(o.Parent).Name,
		check:  seen{Established, "the session is Established"},
		covers: []string{"ends"},
	}
	carrier := w.design.Get(o.Parent)
	if c, ok := carrier.Body.(*design.Circuit); ok && !c.Ends[end-1].Inside.IsValid() {
		if in := topology.OnCircuit(w.design, carrier, end-1); in.Own.IsValid() {
			s.line("the addresses are in %s", in.Own.Masked())
		}
	}
	s.line("families: %s", strings.Join(set.Families, ", "))
	if near.Password {
		s.line("it signs with the session's password (RFC 2385)")
	}
	switch {
	case settings.FiltersFixed(w.design, o, end-1):
		s.line("no filter, and no limit of one's own: its cloud lets nobody set any")
	case len(near.Out) == 0:
		s.line("announce its own, and nothing that it learned elsewhere")
	default:
		for _, r := range near.Out {
			s.line("announce %s", filterLine(r))
		}
	}
	for _, r := range near.In {
		s.line("take %s", filterLine(r))
	}
	if most := route.Limit(w.design, o, end-1); most > 0 {
		s.line("take %d routes at most", most)
	}
	if near.Client {
		s.line("the far end is its client (RFC 4456)")
	}
	if near.KeepNextHop {
		s.line("next hops stay as they were learned")
	}
	if near.AllowOwn > 0 {
		s.line("its own ASN may stand in a path %d times", near.AllowOwn)
	}
	return s
}

// filterLine is a rule on a sheet: a plain range by itself.
func filterLine(r design.Filter) string {
	if plain := (design.Filter{Prefix: r.Prefix}); design.SameFilter(r, plain) && r.Prefix.IsValid() {
		return r.Prefix.String()
	}
	return route.FilterWords(r)
}

func circuit(w *writer, o *design.Object, end int) says {
	b := o.Body.(*design.Circuit)
	near, far := b.Ends[end-1], b.Ends[2-end]
	s := says{
		does: fmt.Sprintf("%s, to %s: %d Mbit/s", o.Name, w.design.Title(far.At), near.Mbps), why: joins(w, o),
		check:  seen{Reached, "it is accepted at both ends, and the far end's address on it answers"},
		covers: []string{"ends", "step", "code", "code_zone", "segment"},
	}
	if near.VLAN != 0 {
		s.does += fmt.Sprintf(", VLAN tag %d", near.VLAN)
	} else {
		s.does += ", untagged"
	}
	if near.Zone != "" {
		s.does += ", zone " + near.Zone
	}
	ordering(&s, w, b, w.design.StateOf(o.ID) == design.Ready, end)
	if in := topology.OnCircuit(w.design, o, end-1); in.Own.IsValid() {
		s.line("address %s on it, far end %s", in.Own, in.Far)
	}
	sessions := len(w.design.Inside(o.ID, design.KindSession)) > 0
	for _, r := range near.Routes {
		s.line(
			"%s",
			map[bool]string{
				true: "learn " + r.String() + " over it", false: "send " + r.String() + " into it",
			}[sessions],
		)
	}
	if x := w.design.Get(near.Enters); x != nil {
		s.line("what comes in by it is routed by %s", the("table", x.Name))
	}
	if x := w.design.Get(b.Segment); x != nil {
		s.line("it carries %s", the("segment", x.Name))
	}
	return s
}

// ordering tells an end what its part is in the making of a circuit.
func ordering(s *says, w *writer, b *design.Circuit, ready bool, end int) {
	zone := ""
	if b.CodeZone != "" {
		zone = ", for the zone " + b.CodeZone
	}
	switch {
	case b.Step == design.StepInUse, b.Step == design.StepAccepted, b.Step == "" && ready:
		s.line("it was ordered and accepted")
	case end == 1 && b.Code == "":
		s.line("order it here, and give the order code to %s", w.design.Title(b.Ends[1].At))
	case end == 1:
		s.line("the order code %s was given%s", b.Code, zone)
	case b.Code == "":
		s.line("accept it with the order code that %s gives", w.design.Title(b.Ends[0].At))
	default:
		s.line("accept it with the order code %s%s", b.Code, zone)
	}
}

func peering(w *writer, o *design.Object, end int) says {
	b := o.Body.(*design.Peering)
	near, far := b.Halves[end-1], b.Halves[2-end]
	yes := map[bool]string{true: "yes", false: "no"}
	s := says{
		does: fmt.Sprintf("%s: the half toward %s", o.Name, w.design.Title(far.Network)), why: joins(w, o),
		check: seen{Listed, "both halves are there"}, covers: []string{"halves"},
	}
	s.line(
		"lends its gateway: %s; uses the other's: %s; takes what the other passes on: %s", yes[near.LendsGateway],
		yes[near.UsesGateway], yes[near.AcceptForwarded],
	)
	s.line("the other is %s", ofNetwork(w, far.Network))
	if x := w.design.Get(near.Enters); x != nil {
		s.line("what comes in by it is routed by %s", the("table", x.Name))
	}
	return s
}

// ofNetwork is a network as its cloud and others know it.
func ofNetwork(w *writer, id design.ID) string {
	o := w.design.Get(id)
	b := o.Body.(*design.Network)
	return fmt.Sprintf("%s %s: %s", the("network", o.Name), inPlace(b.Cloud, b.Region), list(b.Blocks))
}

func attachment(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Attachment)
	s := says{
		does: fmt.Sprintf(
			"%s at %s: it attaches %s", o.Name, w.design.Title(o.Parent), w.design.Title(b.What),
		), why: joins(w, o),
		check:  seen{Listed, "it is listed as attached"},
		covers: []string{"what", "bound", "feeds", "subnets", "keep_out", "source_pool", "enters", "segment"},
	}
	if x := w.design.Get(b.What); x.Kind == design.KindNetwork && x.ID != w.party.ID {
		s.line("it is %s", ofNetwork(w, x.ID))
	}
	if table := topology.BoundTable(w.design, o); table != "" {
		s.line("bound to %s", w.design.Get(table).Name)
	}
	for _, f := range b.Feeds {
		s.line("feeds %s", w.design.Get(f).Name)
	}
	for _, x := range b.Subnets {
		s.line("subnet %s", w.design.Get(x).Name)
	}
	for _, k := range b.KeepOut {
		s.line("keep %s out of export", k)
	}
	if x := w.design.Get(b.Pool); x != nil {
		s.line("what is kept out is hidden behind %s, %s", the("subnet", x.Name), list(w.design.Ranges(x.ID)))
	}
	if x := w.design.Get(b.Enters); x != nil {
		s.line("what comes in by it is routed by %s", the("table", x.Name))
	}
	if x := w.design.Get(b.Segment); x != nil {
		s.line("it carries %s", the("segment", x.Name))
	}
	return s
}

func mapping(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Mapping)
	return says{
		does:   fmt.Sprintf("map %s to %s toward %s, one to one", b.Real, b.Mapped, w.design.Title(b.Link)),
		why:    fmt.Sprintf("%s is known as %s there", b.Real, b.Mapped),
		check:  seen{Answered, "who dials there sees the mapped address"},
		covers: []string{"gateway", "link", "real", "mapped"},
	}
}

func listener(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Listener)
	s := says{
		does: o.Name + ": " + ListenerWords(w.design, b), why: "callers come to " + w.design.Title(b.Target) + " by it",
		check: seen{Answered, "a caller is answered"},
		covers: []string{
			"at", "address", "service", "target", "port", "dials", "does", "hides", "callers",
		},
	}
	if at := w.design.Get(b.At); prefix.Has(Assigned(w.design, at), b.Address) {
		s.line("give %s to %s as an address of its own: a cloud delivers only what is assigned", b.Address, at.Name)
		s.check.text = "the cloud lists the address at " + at.Name + ", and a caller is answered"
	}
	return s
}

// ListenerWords is a published service in words.
func ListenerWords(d *design.Design, l *design.Listener) string {
	to, port := d.DialOf(l)
	how := "proxied"
	if !l.Proxies() {
		how = "rewritten"
		if l.Hides {
			how = "rewritten, callers hidden"
		}
	}
	where := "an address that is not known"
	if to.IsValid() {
		where = to.String()
	}
	out := fmt.Sprintf(
		"%s %s at %s to %s %s (%s), %s", l.Address, l.Service, d.Title(l.At), where,
		design.Service{Proto: l.Service.Proto, Port: port}, d.Title(l.Target), how,
	)
	if len(l.Callers) > 0 {
		out += "; callers: " + list(l.Callers)
	}
	return out
}

func table(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Table)
	s := says{
		does: o.Name + ": exactly these entries beside the local ones", why: "it routes what its subnets send",
		check: seen{Entries, "its entries are these"}, covers: []string{"routes", "learns"},
	}
	switch b.Learns {
	case "yes":
		s.line("gateways and hubs feed it with what they learn")
	case "no":
		s.line("nothing feeds it: it learns of no gateway and no hub")
	default:
		s.line("gateways and hubs feed it as the cloud does by itself")
	}
	for _, r := range b.Routes {
		published := map[string]string{
			design.Published: ", published to its hubs", design.Withdrawn: ", no longer published to its hubs",
		}[r.Publish]
		s.line("%s via %s%s", r.Prefix, design.WayWords(w.design.Get, r.Via), published)
	}
	return s
}

func hubTable(w *writer, o *design.Object, _ int) says {
	s := says{
		does: o.Name + ": exactly these entries beside what is fed", why: "it routes what comes in by what is " +
			"bound to it",
		check: seen{Entries, "its entries are these"}, covers: []string{"routes"},
	}
	for _, r := range o.Body.(*design.HubTable).Routes {
		via := "nothing: a black hole"
		if a := w.design.Get(r.Via); a != nil {
			via = a.Name
		}
		s.line("%s via %s", r.Prefix, via)
	}
	return s
}

func subnet(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Subnet)
	s := says{
		does: fmt.Sprintf(
			"%s, %s: it uses %s", the("subnet", o.Name), list(b.Prefixes), the("table", w.design.Get(b.Table).Name),
		),
		why: "hosts stand in it", check: seen{Listed, "it is listed with this table"},
		covers: []string{"prefixes", "table", "zone"},
	}
	if b.Zone != "" {
		s.line("in %s", the("zone", b.Zone))
	}
	return s
}

func endpoint(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Endpoint)
	s := says{
		does: fmt.Sprintf("%s in %s at %s", the("host", o.Name), w.design.Get(o.Parent).Name, list(b.Addresses)),
		why:  "others call it", check: seen{Reached, "it answers there"}, covers: []string{"addresses", "answers"},
	}
	if len(b.Answers) > 0 {
		s.line("it answers %s", list(b.Answers))
	}
	if len(w.design.FiltersAt(o.ID, true))+len(w.design.FiltersAt(o.ID, false)) > 0 {
		s.check = seen{Listed, "its interface has these addresses (ip address); its filter decides who else is answered"}
	}
	return s
}
