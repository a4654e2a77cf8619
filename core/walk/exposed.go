package walk

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// Somebody on the internet comes in by public addresses alone: those of a site's gateway, for what it listens on or
// sends on, and for ranges of the site that are routed on the internet; those of a host in a public subnet, which its
// cloud maps one to one. What a cloud hides behind an address of its own nobody can start.

// FromInternet are the flows by which somebody on the internet may come to an object: from every part of the internet
// that a filter, rule or published service tells from the rest, to every public address that leads there.
func FromInternet(t *route.Tables, to design.ID, s design.Service) []Flow {
	var out []Flow
	for _, target := range hostsOf(t, to) {
		for _, in := range entrancesOf(t, target, s) {
			for _, from := range internetHosts(t, in.To.Is4()) {
				f := in
				f.From.Address = from
				out = append(out, f)
			}
		}
	}
	return out
}

// entrancesOf are the flows to a host without their source.
func entrancesOf(t *route.Tables, target Host, s design.Service) (out []Flow) {
	d := t.Design
	party := d.Party(target.Place)
	add := func(by design.ID, to netip.Addr, s design.Service) {
		out = append(out, Flow{From: Host{Beyond: by}, To: to, Meant: target.id(), Service: s})
	}
	if subnet, ok := d.Get(target.Place).Body.(*design.Subnet); ok && subnet.Public {
		for _, a := range publicOf(d, target) {
			add(party.ID, a, s)
		}
	}
	for _, g := range d.Inside(party.ID, design.KindGateway) {
		if prefix.Internet(target.Address) && party.Kind == design.KindSite {
			add(g.ID, target.Address, s)
		}
		for _, n := range mappedNames(d, party, target.Address) {
			if prefix.Internet(n.Address) && party.Kind == design.KindSite {
				add(g.ID, n.Address, s)
			}
		}
	}
	for _, l := range LeadingTo(d, target.Endpoint) {
		b := l.Body.(*design.Listener)
		if asked := s == (design.Service{}); prefix.Internet(b.Address) && (asked || Answering(d, b) == s) {
			add(b.At, b.Address, b.Service)
		}
	}
	for _, g := range d.Of(design.KindGateway) {
		for _, r := range design.RulesOf(g) {
			if r.Does != design.ToTarget || r.Target != target.Address || d.Party(g.ID).Kind != design.KindSite {
				continue
			}
			for _, a := range g.Body.(*design.Gateway).Addresses {
				for _, service := range asDialled(r, s) {
					add(g.ID, a, service)
				}
			}
		}
	}
	return out
}

// publicOf are the public addresses of a host in a public subnet: while its cloud has given none, its own stands for
// the one to come.
func publicOf(d *design.Design, h Host) []netip.Addr {
	if e := d.Get(h.Endpoint); e != nil && len(e.Body.(*design.Endpoint).Public) > 0 {
		return e.Body.(*design.Endpoint).Public
	}
	return []netip.Addr{h.Address}
}

// internetHosts are addresses that stand for all of the internet: one in each part of it that something may tell
// from the rest by its source.
func internetHosts(t *route.Tables, four bool) (out []netip.Addr) {
	d := t.Design
	var told []netip.Prefix
	for _, k := range []design.Kind{design.KindFilter, design.KindListener} {
		for _, o := range d.Of(k) {
			told = append(told, design.PrefixesOf(o.Body)...)
		}
	}
	for _, k := range forwarders {
		for _, o := range d.Of(k) {
			for _, r := range design.RulesOf(o) {
				told = append(told, r.Source...)
			}
		}
	}
	all := netip.MustParsePrefix("2000::/3") // global unicast: all that is routed (RFC 4291 section 2.4)
	if four {
		all = netip.MustParsePrefix("0.0.0.0/0")
	}
	told = slices.DeleteFunc(told, func(p netip.Prefix) bool {
		return p.Addr().Is4() != four || p.Bits() > 0 && !prefix.Internet(p.Masked().Addr())
	})
	for _, part := range append([][]netip.Prefix{{all}}, parts(all, told)...) {
		if a := unheldIn(t, part); a.IsValid() && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	return out
}

// unheldIn is an address of some ranges that is on the internet and that nobody in the design has.
func unheldIn(t *route.Tables, part []netip.Prefix) netip.Addr {
	w := walker{tables: t, design: t.Design}
	for _, whole := range part {
		for _, within := range append(slices.Clone(documentation), whole) {
			if !prefix.Contains(whole, within) {
				continue
			}
			a, next := prefix.LastHost(within), netip.Addr.Prev // the first of IPv4 are gateways in examples
			if a.Is6() {
				a, next = prefix.FirstHost(within), netip.Addr.Next
			}
			for range 16 {
				if within.Contains(a) && w.onInternet(a) {
					return a
				}
				a = next(a)
			}
		}
	}
	return netip.Addr{}
}

// documentation are the ranges whose addresses stand for public ones in what people read (RFC 5737, RFC 3849).
var documentation = []netip.Prefix{
	netip.MustParsePrefix("203.0.113.0/24"), netip.MustParsePrefix("198.51.100.0/24"),
	netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("2001:db8:ffff::/48"),
}

// intoEdge carries what comes from the internet into a cloud's network: the cloud maps public addresses of hosts, and
// knows the answers to what went out behind its own.
func (w *walker) intoEdge(network design.ID) outcome {
	d, at := w.design, w.placeOf(network)
	for _, c := range w.known[network] {
		if c.reply == w.header && c.first.Src != w.header.Dst {
			w.rewrite(at, MapsDest, c.first.Src, c.first.SPort, "puts back the destination of the reply", "")
			break
		}
	}
	for _, s := range d.Inside(network, design.KindSubnet) {
		for e, b := range design.Each[design.Endpoint](d.Inside(s.ID, design.KindEndpoint)) {
			if !slices.Contains(b.Public, w.header.Dst) {
				continue
			}
			for _, own := range b.Addresses {
				if own.Is4() == w.header.Dst.Is4() {
					first := w.header
					w.rewrite(at, MapsDest, own, w.header.DPort, "maps the public address to its host", e.ID)
					w.known[network] = append(w.known[network], conversation{first: first, reply: w.header.reversed()})
					return w.deliver(s.ID, at)
				}
			}
		}
	}
	if s := SubnetOf(d, network, w.header.Dst); s != nil {
		return w.deliver(s.ID, at)
	}
	return w.halt(
		NoNeighbour, at, fmt.Sprintf("nobody in %s has the public address %s", at.Title, w.header.Dst),
		"give it to a host in a public subnet",
	)
}

// byEdge lets what no entry of a cloud's table takes out to the internet, where the network has a way out of its own.
func (w *walker) byEdge(s *step) (outcome, bool) {
	network, ok := s.point.Party.Body.(*design.Network)
	if s.point.Kind != design.KindTable || !ok || w.asks != nil ||
		!w.onInternet(w.header.Dst) && w.entrance(w.header.Dst) == "" {
		return outcome{}, false
	}
	w.looks()
	id := s.point.Party.ID
	subnet := SubnetOf(w.design, id, w.header.Src)
	public := subnet != nil && subnet.Body.(*design.Subnet).Public
	answers := w.way == "reply" && public
	for _, c := range w.known[id] {
		if c.reply == w.header {
			w.rewriteSource(s.at, c.first.Dst, c.first.DPort, "gives the reply the source that was dialled", "")
			answers = true
		}
	}
	switch own := w.publicAddress(subnet); {
	case answers:
	case public && own.IsValid():
		w.rewriteSource(s.at, own, w.header.SPort, "maps the host to its public address", "")
	case network.WayOut == "translated":
		w.leavesByCloud(id, s.at)
	case public:
		return w.halt(
			NoWayBack, s.at, fmt.Sprintf(
				"%s stands in a public subnet and has no public address: its packets leave for the internet, and nobody "+
					"there has a way back to %s", w.title(cmp.Or(endpointAt(w.design, subnet.ID, w.header.Src), subnet.ID)),
				w.header.Src,
			), "give the host a public address",
		).about(cmp.Or(endpointAt(w.design, subnet.ID, w.header.Src), subnet.ID), "public"), true
	default:
		return outcome{}, false
	}
	if n := len(w.stages); n > 0 {
		for k := n - 1; k >= 0; k-- {
			if w.stages[k].Act == Routes {
				w.stages[k].Text = fmt.Sprintf(
					"%s has no entry for %s: it leaves by the network's own way out", s.at.Title, w.stages[k].Header.Dst,
				)
				break
			}
		}
	}
	return w.byInternet(id), true
}

// leavesByCloud hides a packet behind an address of the cloud's, which the design does not know: one that nobody in it
// has stands for that. The cloud remembers whose it was.
func (w *walker) leavesByCloud(network design.ID, at Place) {
	first, dst := w.header, w.header.Dst
	if w.entrance(dst) == "" { // beyond the design nobody asks where it came from
		w.stage(at, MapsSource, nil, "%s hides %s behind an address of the cloud", at.Title, w.header.Src)
		return
	}
	within := documentation[3:]
	if dst.Is4() {
		within = documentation[:3]
	}
	as := unheldIn(w.tables, within)
	if !as.IsValid() {
		return
	}
	w.rewriteSource(at, as, w.header.SPort, "hides it behind an address of the cloud, for which stands", "")
	w.known[network] = append(w.known[network], conversation{first: first, reply: w.header.reversed()})
}

// publicAddress is the public address of who sends from a subnet; invalid if it has none.
func (w *walker) publicAddress(subnet *design.Object) netip.Addr {
	if subnet == nil {
		return netip.Addr{}
	}
	e := w.design.Get(endpointAt(w.design, subnet.ID, w.header.Src))
	if e == nil {
		return netip.Addr{}
	}
	for _, a := range e.Body.(*design.Endpoint).Public {
		if a.Is4() == w.header.Src.Is4() {
			return a
		}
	}
	return netip.Addr{}
}

const theInternet = "the internet"

// flowFromInternet is the flow that somebody on the internet would try first: one that works, if there is any.
func flowFromInternet(t *route.Tables, to design.ID, s design.Service) (Flow, error) {
	all := FromInternet(t, to, s)
	for _, f := range all {
		if Prove(t, f).Works {
			return f, nil
		}
	}
	if len(all) > 0 {
		return all[0], nil
	}
	for _, family := range prefix.Families {
		target, err := HostOf(t.Design, to, family)
		if err != nil {
			continue
		}
		for _, from := range internetHosts(t, target.Address.Is4()) {
			from := Host{Address: from, Beyond: t.Design.Party(target.Place).ID}
			return Flow{From: from, To: target.Address, Meant: target.id(), Service: s}, nil
		}
	}
	_, err := HostOf(t.Design, to, prefix.IPv4)
	return Flow{}, err
}

// parseFromInternet reads what somebody on the internet dials: a public address, or what one leads to.
func parseFromInternet(t *route.Tables, internet design.ID, to string, s design.Service) (Flow, error) {
	a, err := netip.ParseAddr(to)
	if err != nil {
		target, err := one(t.Design, to, "to", append([]design.Kind{design.KindListener}, flowEnds...)...)
		if err != nil {
			return Flow{}, err
		}
		switch body := target.Body.(type) {
		case *design.Listener:
			a, s = body.Address, body.Service
		case *design.Gateway:
			for _, own := range body.Addresses {
				if !a.IsValid() {
					a = own
				}
			}
			if !a.IsValid() {
				return Flow{}, fmt.Errorf("%s has no public address yet; give it one", t.Design.Title(target.ID))
			}
		default:
			return flowFromInternet(t, target.ID, s)
		}
	}
	w := walker{tables: t, design: t.Design}
	for _, from := range internetHosts(t, a.Is4()) {
		h := Host{Address: from, Beyond: cmp.Or(w.entrance(a), internet)}
		return Flow{From: h, To: a, Meant: meantBy(t, a, s), Service: s}, nil
	}
	return Flow{}, fmt.Errorf("nobody on the internet has an address of the family of %s", a)
}

// Exposure is a way in from the internet.
type Exposure struct {
	Address netip.Addr `json:"address"`
	Service string     `json:"service"` // as it is dialled; empty: every one
	To      design.ID  `json:"to"`      // the host, LAN or subnet
	Title   string     `json:"title"`
	Works   bool       `json:"works"` // somebody on the internet reaches it so
	Why     string     `json:"why"`   // what stops it, where it does not
}

// Exposed is what of a party the internet may come to, and whether it does: for a way in of every service that of the
// first that answers.
func Exposed(t *route.Tables, party design.ID) []Exposure {
	out := []Exposure{}
	for _, place := range t.Design.Inside(party, design.HostPlaces...) {
		seen := map[string]int{}
		for _, f := range FromInternet(t, place.ID, design.Service{}) {
			service := ""
			if f.Service != (design.Service{}) {
				service = f.Service.String()
			}
			key := f.To.String() + service
			n, known := seen[key]
			if known && out[n].Works {
				continue
			}
			p, err := AnyPossibly(t, f)
			x := Exposure{Address: f.To, Service: service, To: f.Meant, Works: p.Delivered || err != nil}
			x.Title = fullTitle(t.Design, t.Design.Get(cmp.Or(f.Meant, place.ID)))
			if p.Delivered {
				x.Service = cmp.Or(service, p.Service)
			} else if p.Stop != nil {
				x.Why = p.Stop.Why
			}
			if known {
				out[n] = x
				continue
			}
			seen[key] = len(out)
			out = append(out, x)
		}
	}
	return out
}

// ToInternet is a flow from a host to somebody on the internet; ok is false where there is no address that nobody has.
func ToInternet(t *route.Tables, h Host, s design.Service) (f Flow, ok bool) {
	within := documentation[3:]
	if h.Address.Is4() {
		within = documentation[:3]
	}
	a := unheldIn(t, within)
	return Flow{From: h, To: a, Service: s}, a.IsValid()
}
