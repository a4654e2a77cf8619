package route

import (
	"hash/fnv"
	"net/netip"
	"slices"

	"dravin/core/bgp"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/settings"
	"dravin/core/topology"
)

// builder makes speakers and sessions of what a design holds.
type builder struct {
	*solver
}

func (w *network) builder(view *design.Design) builder {
	st := w.base.Watched(view)
	t := &Tables{Design: view, Status: st, Topology: topology.With(view, st)}
	return builder{&solver{tables: t, design: view, st: st}}
}

// speakers are the tables of an object that routes are learned into; none of what
// only joins others.
func (b builder) speakers(o *design.Object) []*bgp.Speaker {
	switch o.Kind {
	case design.KindSession, design.KindAttachment:
		return nil
	case design.KindGateway:
		if b.design.Get(o.Parent).Kind == design.KindHub {
			return nil // its hub's tables speak
		}
	}
	var out []*bgp.Speaker
	for _, segment := range Instances(b.design, o) {
		k := Key{o.ID, segment}
		s := &bgp.Speaker{Key: k.String(), RouterID: b.identifier(o), Multipath: b.shares(o)}
		switch body := o.Body.(type) {
		case *design.Gateway:
			s.Own, s.Summaries, s.Connected = b.gatewayOwn(k, o, body), summariesOf(body.Summaries), b.connected(o.ID)
		case *design.EdgeRouter:
			s.Summaries, s.Connected = summariesOf(body.Summaries), b.connected(o.ID)
		case *design.HubTable:
			s.Own = b.hubOwn(o, body)
		}
		out = append(out, s)
	}
	return out
}

// identifier is a router ID; what has no session of its own gets one that nobody
// else has.
func (b builder) identifier(o *design.Object) netip.Addr {
	if o.Kind == design.KindHubTable {
		for _, g := range b.design.Inside(o.Parent, design.KindGateway) {
			if id := RouterID(b.design, g.ID); id.IsValid() {
				return id
			}
		}
	} else if id := RouterID(b.design, o.ID); id.IsValid() {
		return id
	}
	h := fnv.New32a()
	h.Write([]byte(o.ID))
	sum := h.Sum32()
	return netip.AddrFrom4([4]byte{byte(sum>>24)%15 + 240, byte(sum >> 16), byte(sum >> 8), byte(sum)})
}

// shares reports whether equal routes of a box share: always on a box of one's
// own, in a cloud as its profile says of the tunnels.
func (b builder) shares(o *design.Object) bool {
	parent := b.design.Get(o.Parent)
	gateways := []*design.Object{o}
	switch {
	case o.Kind == design.KindHubTable:
		gateways = b.design.Inside(o.Parent, design.KindGateway)
	case parent == nil || parent.Kind == design.KindSite || len(b.design.Referring(o.ID, design.KindLink)) == 0:
		return true
	}
	for _, g := range gateways {
		if v := b.design.VPNOf(g.ID); v != nil &&
			(v.EqualCost == "bgp" || v.EqualCost == "always" || v.EqualCost == "hub-bgp" && o.Kind == design.KindHubTable) {
			return true
		}
	}
	return len(gateways) == 0
}

func summariesOf(list []design.Summary) []bgp.Summary {
	var out []bgp.Summary
	for _, s := range list {
		out = append(out, bgp.Summary{Prefix: s.Prefix.Masked(), Hide: s.Hide})
	}
	return out
}

// connected are the ranges that a box's sessions run in.
func (b builder) connected(box design.ID) []netip.Prefix {
	var out []netip.Prefix
	for _, s := range SessionsOf(b.design, box) {
		if t, ok := b.design.Get(s.Parent).Body.(*design.Tunnel); ok && len(t.Inside) == 2 {
			out = append(out, t.Inside[0].Masked())
			if len(t.Inside6) == 2 {
				out = append(out, t.Inside6[0].Masked())
			}
		} else {
			for _, e := range s.Body.(*design.Session).Ends {
				out = append(out, netip.PrefixFrom(e.Address, e.Address.BitLen()))
			}
		}
	}
	return out
}

// gatewayOwn is what a gateway announces by itself, and what else it has that a
// filter may let out: its entries, and what its static links lead to.
func (b builder) gatewayOwn(k Key, o *design.Object, g *design.Gateway) []bgp.Originated {
	var out []bgp.Originated
	p := &Point{ID: o.ID, Segment: k.Segment, Kind: o.Kind, Party: b.design.Party(o.ID)}
	switch body := p.Party.Body.(type) {
	case *design.Site:
		out = origins(b.design.ExportsAt(o, k.Segment), false)
		out = append(out, origins(sharedOwn(b.design, k, o), false)...)
		for _, r := range g.Routes {
			out = append(out, bgp.Originated{Prefix: r.Prefix.Masked(), Quiet: true})
		}
	case *design.Network:
		out = origins(announcedBlocks(b.design, o.Parent, g, body), false)
		out = append(out, origins(b.borrowers(o), false)...)
	}
	for _, r := range Translations(b.design, o.ID) {
		if r.Hook == design.Postrouting && r.Into.IsValid() {
			out = append(out, bgp.Originated{Prefix: r.Into.Masked(), Only: string(r.Toward)})
		}
	}
	for _, body := range b.design.ListenersAt(o.ID) { // what callers dial, unless it is among what is told already
		if a := body.Address; !slices.ContainsFunc(
			out, func(x bgp.Originated) bool { return !x.Quiet && x.Only == "" && x.Prefix.Contains(a) },
		) {
			out = append(out, bgp.Originated{Prefix: prefix.Alone(a)})
		}
	}
	b.joints(p)
	for _, r := range p.Routes {
		if r.Unusable == "" {
			out = append(out, bgp.Originated{Prefix: r.Prefix, Quiet: true})
		}
	}
	for _, s := range p.Selectors {
		if s.Status.Up && p.Party.Kind == design.KindSite {
			out = append(out, bgp.Originated{Prefix: s.Remote, Quiet: true})
		}
	}
	return out
}

func origins(list []netip.Prefix, quiet bool) []bgp.Originated {
	out := make([]bgp.Originated, 0, len(list))
	for _, p := range list {
		out = append(out, bgp.Originated{Prefix: p, Quiet: quiet})
	}
	return out
}

// announcedBlocks is what a cloud gateway announces of its network.
func announcedBlocks(d *design.Design, network design.ID, g *design.Gateway, body *design.Network) []netip.Prefix {
	out := slices.Clone(body.Blocks)
	switch g.Announces {
	case design.AnnounceSubnets:
		out = nil
		for _, s := range d.Inside(network, design.KindSubnet) {
			out = append(out, d.Ranges(s.ID)...)
		}
	case design.AnnounceList:
		out = slices.Clone(g.List)
	}
	return less(out, g.KeepOut)
}

// borrowers are the ranges of the networks that use a gateway that is lent.
func (b builder) borrowers(gateway *design.Object) []netip.Prefix {
	var out []netip.Prefix
	for _, o := range b.design.Referring(gateway.Parent, design.KindPeering) {
		if own, far, ok := topology.Halves(o, gateway.Parent); ok && own.LendsGateway && far.UsesGateway &&
			b.st.Of(o.ID).Up {
			out = append(out, b.design.Ranges(far.Network)...)
		}
	}
	return out
}

// hubOwn is what a hub's table has without learning it.
func (b builder) hubOwn(o *design.Object, body *design.HubTable) []bgp.Originated {
	p := &Point{ID: o.ID, Kind: o.Kind, Party: b.design.Party(o.ID)}
	b.hubTable(p, o, body)
	var out []bgp.Originated
	for _, r := range p.Routes {
		if r.Unusable == "" {
			out = append(out, bgp.Originated{Prefix: r.Prefix, Quiet: r.Hop.Kind == BlackHole})
		}
	}
	return out
}

// session makes a session of a session, of two hubs that are joined,
// or of a gateway that knows what hubs know; nil of anything else.
func (b builder) session(o *design.Object) *bgp.Session {
	switch body := o.Body.(type) {
	case *design.Attachment:
		return b.hubJoin(o, body)
	case *design.Gateway:
		return b.hubFeed(o, body)
	case *design.EdgeRouter, *design.HubTable:
		return nil
	}
	families := b.st.Session(o.ID).Families
	joint, carrier := b.design.Get(o.Parent), o.Parent
	if joint.Kind == design.KindTunnel {
		joint = b.design.Get(joint.Parent)
	}
	out := &bgp.Session{Key: string(o.ID), Down: !b.st.Of(o.ID).Up}
	for n, e := range settings.SessionOf(b.design, o).Ends {
		at := settings.Speaker(b.design, o, n)
		end := bgp.End{
			Group: string(joint.ID), ASN: e.ASN, Address: e.Address, AllowOwn: e.AllowOwn, Client: e.Client,
			KeepNextHop: e.KeepNextHop, In: RulesOf(e.In), Out: RulesOf(e.Out),
		}
		for _, f := range prefix.Families {
			end.Families[f] = slices.Contains(families, f.Code())
		}
		most := Limit(b.design, o, n)
		end.Limit = [2]uint32{most, most}
		end.Weight = b.weight(at, joint.Kind)
		end.Speaker, end.Into, end.Away = b.tablesAt(at, joint, carrier)
		out.Ends[n] = end
	}
	return out
}

// Limit is how many routes of a family one end of a session takes: what it is
// set to, and what its cloud allows; 0 for any number.
func Limit(d *design.Design, session *design.Object, end int) uint32 {
	most := settings.SessionOf(d, session).Ends[end].MaxPrefixes
	at := settings.Speaker(d, session, end)
	if at == nil {
		return most
	}
	cloud := uint32(0)
	if v := d.VPNOf(at.ID); v != nil && d.Get(session.Parent).Kind == design.KindTunnel {
		cloud = v.MaxRoutesIn
	} else if p := d.ProfileOf(at.ID); p != nil {
		cloud = p.Limits.RoutesPerBGP
	}
	if most == 0 || cloud != 0 && cloud < most {
		return cloud
	}
	return most
}

// GoesFirst reports whether what comes over a kind of joint goes before what
// comes otherwise at a box.
func (t *Tables) GoesFirst(box design.ID, kind design.Kind) bool {
	b := builder{&solver{tables: t, design: t.Design, st: t.Status}}
	return b.weight(t.Design.Get(box), kind) > 0
}

// Shares reports whether a box uses equal learned routes side by side.
func (t *Tables) Shares(box design.ID) bool {
	return builder{&solver{tables: t, design: t.Design, st: t.Status}}.shares(t.Design.Get(box))
}

// HubTables are the table of a hub that announces on a session at one of the hub's gateways, empty if none does, and
// those that take what it learns.
func (t *Tables) HubTables(hub, joint, carrier design.ID) (speaks design.ID, feeds []design.ID) {
	b := builder{&solver{tables: t, design: t.Design, st: t.Status}}
	d := t.Design
	speaker, into := b.hubTablesAt(d.Get(hub), d.Get(joint), d.SegmentOf(carrier))
	for _, f := range into {
		feeds = append(feeds, design.ID(f))
	}
	return design.ID(speaker), feeds
}

// Announced is what a table announces by itself, with what else it has that a
// filter may let out; its summaries apart from their parts.
func (t *Tables) Announced(k Key) []bgp.Originated {
	t.Design.NoteLearned(everywhere)
	for _, s := range t.network.speakersOf(k.At) {
		if s.Key == k.String() {
			out := slices.Clone(s.Own)
			for _, x := range s.Summaries {
				out = append(out, bgp.Originated{Prefix: x.Prefix})
			}
			return out
		}
	}
	return nil
}

// weight puts what comes over one kind of joint before what comes over another, as the box
// prefers their sources: it is how many kinds at the box go after.
func (b builder) weight(at *design.Object, kind design.Kind) (after uint32) {
	order := b.preference(at.ID)
	rank := func(k design.Kind) int { return slices.Index(order, byJoint[k].learned) }
	met := map[design.Kind]bool{}
	for _, j := range b.design.Referring(at.ID, design.JointKinds...) {
		if !met[j.Kind] && rank(j.Kind) > rank(kind) {
			after++
		}
		met[j.Kind] = true
	}
	return after
}

// tablesAt are the table that a session's end announces, and those that take
// what it learns: its own first, and how far it is from the others. A table takes
// what its own segment's sessions bring before the rest, so that what shares leads
// into one instance at the far end.
func (b builder) tablesAt(at, joint *design.Object, carrier design.ID) (speaks string, into []string, away []uint32) {
	segment := b.design.SegmentOf(carrier)
	switch parent := b.design.Get(at.Parent); {
	case parent != nil && parent.Kind == design.KindHub:
		speaks, into = b.hubTablesAt(parent, joint, segment)
		return speaks, into, nil
	case parent != nil && parent.Kind == design.KindNetwork:
		if design.Meets(segment, b.design.SegmentOf(at.ID)) {
			return string(at.ID), []string{string(at.ID)}, nil
		}
		return "", nil, nil
	}
	all := Instances(b.design, at)
	own := slices.Index(all, InstanceFor(b.design, at, segment))
	speaks = Key{at.ID, all[own]}.String()
	into, away = []string{speaks}, []uint32{0}
	for n, other := range all {
		switch {
		case n == own:
		case own == 0: // what is in no segment, where a segment is
			into, away = append(into, Key{at.ID, other}.String()), append(away, Away(0))
		case n == 0: // a segment, where everything meets
			into, away = append(into, Key{at.ID, ""}.String()), append(away, Away(own))
		}
	}
	return speaks, into, away
}

// Away is how far what an instance's sessions bring is from another table, by the
// instance's number: 0 is where everything meets.
func Away(instance int) uint32 { return uint32(1 + instance) }

// hubTablesAt are the tables of a hub that a joint is bound to and feeds.
func (b builder) hubTablesAt(hub, joint *design.Object, segment design.ID) (speaks string, into []string) {
	for a, body := range design.Each[design.Attachment](b.design.Inside(hub.ID, design.KindAttachment)) {
		if body.What != joint.ID || !b.st.Of(a.ID).Up {
			continue
		}
		if body.Segment != "" {
			segment = body.Segment
		}
		if bound := topology.BoundTable(b.design, a); bound != "" && design.Meets(segment, b.design.SegmentOf(bound)) {
			speaks = string(bound)
		}
		for _, f := range body.Feeds {
			if design.Meets(segment, b.design.SegmentOf(f)) {
				into = append(into, string(f))
			}
		}
	}
	return speaks, into
}

// hubJoin is what two hubs tell each other that are joined by BGP. It belongs to
// the attachment that comes first of the two.
func (b builder) hubJoin(o *design.Object, body *design.Attachment) *bgp.Session {
	far := b.design.Get(body.What)
	profile := b.design.ProfileOf(o.Parent)
	if far.Kind != design.KindHub || profile == nil || profile.Hub == nil || profile.Hub.ToHub != design.RoutingBGP {
		return nil
	}
	back := b.design.AttachmentOf(far.ID, o.Parent)
	if back == nil || back.ID < o.ID || !b.st.Of(o.ID).Up || !b.st.Of(back.ID).Up {
		return nil
	}
	out := &bgp.Session{Key: string(o.ID)}
	for n, a := range []*design.Object{o, back} {
		out.Ends[n] = b.joinEnd(a)
	}
	for n, hub := range []design.ID{o.Parent, far.ID} {
		if out.Ends[n].ASN = b.design.Get(hub).Body.(*design.Hub).ASN; out.Ends[n].ASN == 0 {
			out.Ends[0].ASN, out.Ends[1].ASN = 0, 0 // they count as one administration
			break
		}
	}
	return out
}

func (b builder) joinEnd(a *design.Object) bgp.End {
	body := a.Body.(*design.Attachment)
	end := bgp.End{Group: string(a.ID), Families: [2]bool{true, true}, Join: true, Client: true}
	if bound := topology.BoundTable(b.design, a); bound != "" {
		end.Speaker = string(bound)
	}
	for _, k := range body.KeepOut {
		end.In = append(
			end.In, bgp.Rule{Range: &bgp.Range{Prefix: k, From: k.Bits(), To: k.Addr().BitLen()}, Action: bgp.Refuse},
		)
	}
	if len(end.In) > 0 {
		end.In = append(end.In, bgp.Rule{})
	}
	for _, f := range body.Feeds {
		end.Into = append(end.Into, string(f))
	}
	return end
}

// hubFeed lets a gateway know what the hubs know that its network is attached
// to. Nothing goes back: the hub has the network by its attachment.
func (b builder) hubFeed(o *design.Object, g *design.Gateway) *bgp.Session {
	if !g.HubRoutes {
		return nil
	}
	for _, a := range b.design.Referring(o.Parent, design.KindAttachment) {
		if bound := topology.BoundTable(b.design, a); bound != "" && b.st.Of(a.ID).Up {
			nothing := []bgp.Rule{{Action: bgp.Refuse}}
			var others []bgp.Rule // what came by an attachment is not told back to it
			for _, p := range b.exports(a) {
				others = append(
					others,
					bgp.Rule{Range: &bgp.Range{Prefix: p.Masked(), From: p.Bits(), To: p.Bits()}, Action: bgp.Refuse},
				)
			}
			if len(others) > 0 {
				others = append(others, bgp.Rule{})
			}
			return &bgp.Session{Key: string(o.ID) + " " + string(a.ID), Ends: [2]bgp.End{
				{
					Speaker: string(bound), Group: string(a.ID), Families: [2]bool{true, true}, Join: true,
					Client: true, Out: others,
				},
				{
					Speaker: string(o.ID), Into: []string{string(o.ID)}, Group: string(a.ID),
					Families: [2]bool{true, true}, Join: true, Client: true, Out: nothing,
				},
			}}
		}
	}
	return nil
}

// RulesOf are the rules of a filter as the solver takes them. A community that
// is none sets nothing, and a rule that asks for such alone matches nothing.
func RulesOf(list []design.Filter) []bgp.Rule {
	var out []bgp.Rule
	for _, f := range list {
		r := bgp.Rule{
			Through:   f.Through,
			Neighbour: f.Neighbour,
			OriginAS:  f.Born,
			Longest:   f.Longest,
			LocalPref: f.LocalPref,
			MED:       f.MED,
			Prepend:   f.Prepend,
			Has: communities(
				f.Has,
			),
			Add:    communities(f.Communities),
			Take:   communities(f.Take),
			Origin: origin[f.Origin],
			Action: verdict[f.Does()],
		}
		if f.Prefix.IsValid() {
			from, to := f.Lengths()
			r.Range = &bgp.Range{Prefix: f.Prefix.Masked(), From: from, To: to}
		}
		if len(f.Has) > 0 && len(r.Has) == 0 { // what it asks for nothing can have
			r.Range = &bgp.Range{Prefix: settings.Everything[0], From: 1}
		}
		out = append(out, r)
	}
	return out
}

var (
	origin  = map[string]bgp.Origin{"igp": bgp.IGP, "egp": bgp.EGP, "incomplete": bgp.Incomplete}
	verdict = map[string]bgp.Action{design.Accept: bgp.Accept, design.Refuse: bgp.Refuse, design.GoOn: bgp.GoOn}
)

func communities(list []string) []negotiate.Community {
	var out []negotiate.Community
	for _, text := range list {
		if c, err := negotiate.ParseCommunity(text); err == nil {
			out = append(out, c)
		}
	}
	return out
}
