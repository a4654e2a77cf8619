package draft

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/allocation"
	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/provider"
	"dravin/core/status"
	"dravin/core/topology"
)

// hubShapes join the two by each hub that either could use, and by a new one.
func hubShapes(books *allocation.Books, a, b side, q Options) []Shape {
	d := books.Design()
	if a.is(design.KindHub) && b.is(design.KindHub) {
		return []Shape{hubToHub(books, a, b, q)}
	}
	if a.is(design.KindHub) || b.is(design.KindHub) {
		if a.is(design.KindHub) {
			a, b = b, a
		}
		return []Shape{hubShape(books, b.party, []side{a}, q)}
	}
	var out []Shape
	for _, x := range []side{a, b} {
		if !x.is(design.KindNetwork) || x.profile == nil || x.profile.Hub == nil ||
			len(out) > 0 && design.Slug(a.cloud) == design.Slug(b.cloud) {
			continue
		}
		there := 0
		for h, hub := range design.Each[design.Hub](d.Of(design.KindHub)) {
			if status.Exists(h) && design.Slug(hub.Cloud) == design.Slug(x.cloud) &&
				(hub.Region == x.region || x.profile.Networks.SpanRegions) {
				out = append(out, hubShape(books, h, []side{a, b}, q))
				there++
			}
		}
		if there == 0 {
			out = append(out, hubShape(books, nil, []side{x, otherOf(a, b, x)}, q))
		}
	}
	if len(out) == 0 {
		s := newShape("hub", "By a hub")
		f := draft(books, &s, q)
		for _, x := range []side{a, b} {
			if x.is(design.KindNetwork) {
				f.out("%s", x.without("hub"))
			}
		}
		if len(s.Out) == 0 {
			f.out("a hub belongs to a cloud, and neither of the two is in one")
		}
		out = append(out, s)
	}
	return out
}

func otherOf(a, b, x side) side {
	if x.party == a.party {
		return b
	}
	return a
}

// hubShape attaches the parties to a hub; nil drafts one beside the first.
func hubShape(books *allocation.Books, hub *design.Object, parties []side, q Options) Shape {
	s := newShape("hub", "By a new hub")
	if hub != nil {
		s = newShape("hub-"+design.Slug(hub.Name), "By "+hub.Name)
	} else if cloud := design.Slug(parties[0].cloud); cloud != "" {
		s = newShape("hub-new-"+cloud, "By a new hub in "+parties[0].cloud)
	}
	return attached(books, s, hub, parties, q, "")
}

// attached fills a shape in which parties are attached to a hub: those in its cloud by themselves,
// others over a VPN link with that routing, or with the first that its gateway does.
func attached(
	books *allocation.Books, s Shape, hub *design.Object, parties []side, q Options, routing string,
) Shape {
	f := draft(books, &s, q)
	h := f.hub(hub, parties[0])
	for _, p := range parties {
		h.check(p)
	}
	if len(s.Out) > 0 {
		return s
	}
	if h.choose(parties); len(s.Out) > 0 {
		return s
	}
	var subject *design.Object
	for _, p := range parties {
		if o := h.attach(p, parties, q, routing); o != nil && subject == nil {
			subject = o
		}
		if len(s.Out) > 0 {
			return s
		}
		h.tell(p)
	}
	if subject == nil {
		f.out("both are attached to %s already", h.object.Name)
		return s
	}
	h.entries(parties)
	f.costs(fmt.Sprintf("%d GB through the hub", q.GB), cost.Volume(h.profile.Prices.HubGB, q.GB))
	if s.Survives == "" {
		s.Survives = "any single failure of yours: the hub is the cloud's own, in every zone that has an attached subnet"
	}
	s.Next = 1
	s.NextWhy = "one attachment; what is attached already learns of it by itself"
	if !h.profile.Hub.AutomaticRoutes {
		s.Next += uint32(max(1, len(parties[0].tables)))
		s.NextWhy = "one attachment and one entry, a summary, in each of its own tables"
	}
	s.Subject = subject.ID
	s.Monthly = cost.Sum(s.Costs)
	return s
}

// tell lets what was attached before know of a party: networks by entries, where the hub does not feed
// their tables, links without a session by what they send into the hub.
func (h *hubDraft) tell(p side) {
	if len(p.exports) == 0 {
		return
	}
	for _, a := range h.design.Inside(h.object.ID, design.KindAttachment) {
		far := h.memberOf(a)
		if far == "" || far == p.party.ID || !status.Exists(a) || topology.BoundTable(h.design, a) != h.table.ID {
			continue
		}
		what := h.get(a.Body.(*design.Attachment).What)
		if what.Kind == design.KindNetwork {
			if s, err := sideOf(h.design, far); err == nil {
				clear, _ := apart(p.exports, s.all)
				h.enter(s, clear, a, "hub")
			}
		}
		if l, ok := what.Body.(*design.Link); ok {
			h.send(what, l, far, p.exports)
		}
	}
}

// send lets the far end of a link to the hub send more into it, but nothing that it holds itself.
func (h *hubDraft) send(link *design.Object, l *design.Link, far design.ID, ranges []netip.Prefix) {
	own := h.design.Exports(far)
	for n, e := range l.Ends {
		if h.partyOf(e.Gateway) != far {
			continue
		}
		clear, _ := apart(ranges, own)
		if s, err := sideOf(h.design, far); err == nil && s.is(design.KindNetwork) {
			h.enter(s, clear, h.get(e.Gateway), "gateway")
		}
		if l.Routing == design.RoutingBGP {
			return
		}
		more := prefix.Free(clear, slices.Concat(e.Routes, e.Remote))
		if len(more) == 0 {
			return
		}
		h.replace(design.Edited(link, func(b *design.Link) {
			if b.Routing == design.RoutingStatic {
				b.Ends[n].Routes = append(b.Ends[n].Routes, more...)
				return
			}
			b.Ends[n].Remote, b.Ends[1-n].Local = append(b.Ends[n].Remote, more...), append(b.Ends[1-n].Local, more...)
		}))
		h.step(h.title(far), "Send %s over %s, too", negotiate.Joined(more), link.Name)
	}
}

// memberOf is the party that an attachment brings to the hub; empty for a hub's own.
func (h *hubDraft) memberOf(attachment *design.Object) design.ID {
	what := attachment.Body.(*design.Attachment).What
	j, joins := design.JointOf(h.get(what))
	if !joins {
		return what
	}
	for _, end := range j.Ends {
		if p := h.partyOf(end); p != "" && p != h.object.ID {
			return p
		}
	}
	return ""
}

// partyOf is the party of something that is there or was drafted.
func (f *drafter) partyOf(id design.ID) design.ID {
	for o := f.get(id); o != nil; o = f.get(o.Parent) {
		if slices.Contains(design.Parties, o.Kind) {
			return o.ID
		}
	}
	return ""
}

// entries are those of the parties' own tables, toward what the others have and what is attached.
func (h *hubDraft) entries(parties []side) {
	for n, p := range parties {
		via := h.attached[p.party.ID]
		if via == nil || via.Body.(*design.Attachment).What != p.party.ID {
			continue // what comes by VPN has its entries at its own gateway
		}
		var far []netip.Prefix
		for m, other := range parties {
			if m != n {
				far = append(far, other.exports...)
			}
		}
		if h.design.Get(h.object.ID) != nil {
			far = append(far, h.design.Exports(h.object.ID)...)
		}
		clear, _ := apart(prefix.Minimal(far), p.all)
		h.enter(p, clear, via, "hub")
	}
}

// hubDraft is a hub that is being attached to.
type hubDraft struct {
	*drafter
	object   *design.Object
	profile  *provider.Profile
	owner    design.ID
	region   string
	table    *design.Object
	attached map[design.ID]*design.Object // by party
}

func (f *drafter) hub(hub *design.Object, beside side) *hubDraft {
	h := &hubDraft{drafter: f, attached: map[design.ID]*design.Object{}}
	if hub == nil {
		h.profile, h.region, h.owner = beside.profile, beside.region, beside.owner
		hub = f.put(
			design.KindHub, "", beside.cloud+" hub",
			&design.Hub{Cloud: beside.cloud, Region: beside.region, Owner: beside.owner},
		)
		f.builds("A new hub in "+beside.region, hub, false)
		f.step(hub.Name, "Make the hub in %s", beside.region)
		f.hourly("hub", h.profile.Prices.HubHour)
	} else {
		body := hub.Body.(*design.Hub)
		h.profile, h.region, h.owner = f.design.Profile(body.Cloud), body.Region, body.Owner
		f.builds("The hub "+hub.Name, hub, true)
	}
	h.object = hub
	for _, a := range f.design.Inside(hub.ID, design.KindAttachment) {
		if p := h.memberOf(a); p != "" && status.Exists(a) {
			h.attached[p] = a
		}
	}
	return h
}

// choose takes the table of the hub that the parties can meet in: that of one
// that is attached already, or of their segment; a new one if there is none.
func (h *hubDraft) choose(parties []side) {
	segment, bound := design.ID(""), design.ID("")
	for _, p := range parties {
		s := h.design.SegmentOf(p.party.ID)
		if a := h.attached[p.party.ID]; a != nil {
			bound = topology.BoundTable(h.design, a)
			s = orID(h.design.SegmentOf(bound), s)
		}
		if !design.Meets(s, segment) {
			h.out(
				"%s is in %s and what it would meet is in %s; between segments nothing passes", p.party.Name, h.design.Title(s),
				h.design.Title(segment),
			)
			return
		}
		segment = orID(segment, s)
	}
	tables := h.design.Inside(h.object.ID, design.KindHubTable)
	for _, fits := range []func(own design.ID) bool{
		func(own design.ID) bool { return own == segment },
		func(own design.ID) bool { return design.Meets(own, segment) },
	} {
		for _, t := range tables {
			if h.table == nil && (bound == "" || t.ID == bound) && fits(h.design.SegmentOf(t.ID)) {
				h.table = t
			}
		}
	}
	if h.table != nil {
		return
	}
	if len(tables) > 0 && !h.profile.Hub.ManyTables {
		h.out(
			"the table of %s is of %s, and a hub of its cloud has one only", h.object.Name,
			h.design.Title(h.design.SegmentOf(tables[0].ID)),
		)
		return
	}
	name := "main"
	if segment != "" {
		name = h.design.Title(segment)
	}
	h.table = h.put(design.KindHubTable, h.object.ID, name, &design.HubTable{Segment: segment})
	if len(tables) > 0 {
		h.step(h.object.Name, "Make the table %s", h.table.Name)
	}
}

func orID(a, b design.ID) design.ID {
	if a == "" {
		return b
	}
	return a
}

// check says why a party can not be attached.
func (h *hubDraft) check(p side) {
	body := h.object.Body.(*design.Hub)
	switch {
	case h.profile == nil || h.profile.Hub == nil:
		h.out("no profile says what a hub of %s allows; add one", body.Cloud)
		return
	case p.is(design.KindEdgeRouter):
		h.out("%s reaches a hub by a circuit; draft one from it to a network", p.party.Name)
		return
	case p.is(design.KindNetwork) && design.Slug(p.cloud) == design.Slug(body.Cloud) && p.region != h.region &&
		!h.profile.Networks.SpanRegions:
		h.out("%s is in %s and the hub in %s; make a hub there and join the two hubs", p.party.Name, p.region, h.region)
		return
	}
	if h.attached[p.party.ID] != nil {
		return
	}
	if most := h.profile.Limits.Attachments; most > 0 && len(h.attached) >= int(most) {
		h.out("%s has %d attachments, which is the most that %s allows", h.object.Name, len(h.attached), body.Cloud)
	}
	for what := range h.attached {
		if o := h.get(what); o.Kind != design.KindNetwork || what == p.party.ID {
			continue
		}
		if _, clash := apart(p.all, h.design.Published(what)); len(clash) > 0 {
			h.out(
				"%s has published %s, which is held by %s: the hub would go on sending it there; withdraw it first",
				h.title(what), negotiate.Joined(clash), p.party.Name,
			)
		}
	}
	if clash, by := h.clashing(p); len(clash) > 0 && !h.translated {
		h.out(
			"the hub refuses overlaps: %s of %s is held by %s too; keep it out of export at both, or map it",
			negotiate.Joined(clash), p.party.Name, h.title(by),
		)
	}
}

// clashing are the ranges of a network for which a hub that refuses overlaps would refuse it, and
// whose they are already.
func (h *hubDraft) clashing(p side) (clash []netip.Prefix, by design.ID) {
	if !h.profile.Hub.RefusesOverlaps || !p.is(design.KindNetwork) {
		return nil, ""
	}
	for a, body := range design.Each[design.Attachment](h.design.Inside(h.object.ID, design.KindAttachment)) {
		if _, met := apart(p.all, h.design.AttachmentExports(a)); len(met) > 0 && status.Exists(a) {
			clash, by = append(clash, met...), body.What
		}
	}
	return prefix.Minimal(clash), by
}

// attach joins one party to the hub and returns what was drafted, nil if it is
// attached already.
func (h *hubDraft) attach(p side, all []side, q Options, routing string) *design.Object {
	if a := h.attached[p.party.ID]; a != nil {
		h.builds("The attachment of "+p.party.Name, a, true)
		return nil
	}
	if !p.is(design.KindNetwork) || design.Slug(p.cloud) != design.Slug(h.object.Body.(*design.Hub).Cloud) {
		return h.byVPN(p, all, q, routing)
	}
	body := &design.Attachment{
		What: p.party.ID, Bound: h.table.ID, Feeds: []design.Ref{h.table.ID},
	}
	body.KeepOut, _ = h.clashing(p)
	if h.profile.Hub.SubnetPerZone {
		if body.Subnets = h.subnets(p); len(body.Subnets) == 0 {
			h.out("%s has no subnet that is not public for the attachment; add one in each zone", p.party.Name)
			return nil
		}
	}
	o := h.attachment(p, body)
	h.attached[p.party.ID] = o
	return o
}

func (h *hubDraft) attachment(p side, body *design.Attachment) *design.Object {
	foreign := p.owner != "" && h.owner != "" && p.owner != h.owner
	o := h.put(design.KindAttachment, h.object.ID, p.party.Name, body)
	h.builds("An attachment of "+h.title(body.What), o, false)
	h.step(h.object.Name, "Attach %s, bound to %s and feeding it", h.title(body.What), h.table.Name)
	h.hourly("attachment of "+p.party.Name, h.profile.Prices.AttachmentHour)
	if foreign {
		h.request(o, p.owner, h.owner)
	}
	return o
}

// subnets chooses one subnet for each zone, none that is public.
func (h *hubDraft) subnets(p side) []design.Ref {
	var out []design.Ref
	zones := map[string]bool{}
	var names []string
	for s, b := range design.Each[design.Subnet](h.design.Inside(p.party.ID, design.KindSubnet)) {
		if b.Public || zones[b.Zone] {
			continue
		}
		zones[b.Zone] = true
		out, names = append(out, s.ID), append(names, s.Name)
	}
	if len(out) > 0 {
		h.suggest(
			"Subnets of the attachment", joinWords(names),
			"one in each zone that has hosts, none public; hosts in a zone without one are cut off",
		)
	}
	return out
}

// byVPN attaches what is not in the hub's cloud over a VPN link to the hub; a hub of another cloud
// attaches the link, too.
func (h *hubDraft) byVPN(p side, all []side, q Options, routing string) *design.Object {
	near := h.vpnEnd(p, all)
	far := vpnEnds(h.design, p)
	if near == nil || len(far) == 0 {
		h.out("%s can not reach %s by VPN: %s", p.party.Name, h.object.Name, h.noVPN(p, near))
		return nil
	}
	if near.waits() { // rather by an end that starts
		slices.SortStableFunc(far, func(a, b end) int { return cmp.Compare(rank(a.waits()), rank(b.waits())) })
	}
	owners := far[0]
	if routing == "" {
		for _, r := range near.vpn.Routing {
			if slices.Contains(owners.routing(), r) && routing == "" {
				routing = r
			}
		}
	}
	link := joined(h.design, owners.gateway, near.gateway)
	if link != nil {
		h.builds("The link "+link.Name, link, true)
	} else {
		ike, esp, ok := h.agreed(owners, *near, routing)
		if !ok {
			return nil
		}
		owners.owner = "" // the attachment asks, not the link
		if link = h.vpn(owners, *near, routing, ike, esp, q); link == nil {
			return nil
		}
	}
	o := h.attachment(
		p, &design.Attachment{What: link.ID, Bound: h.table.ID, Feeds: []design.Ref{h.table.ID}},
	)
	h.attached[p.party.ID] = o
	if p.is(design.KindHub) {
		h.atOtherHub(p, link)
	}
	return o
}

// vpnEnd is the hub's end of a VPN link to a party, with what the hub knows; nil if its cloud has no
// such gateway.
func (h *hubDraft) vpnEnd(p side, all []side) *end {
	own := side{
		party: h.object, profile: h.profile, cloud: h.object.Body.(*design.Hub).Cloud, region: h.region, owner: h.owner,
	}
	for _, other := range all {
		if other.party != p.party {
			own.exports = append(own.exports, other.exports...)
		}
	}
	if h.design.Get(h.object.ID) != nil {
		own.exports = prefix.Minimal(append(own.exports, h.design.Exports(h.object.ID)...))
	}
	own.exports, _ = apart(own.exports, p.all)
	own.all = own.exports
	for n := range h.profile.VPN {
		if v := &h.profile.VPN[n]; slices.Contains(v.At, string(design.KindHub)) {
			e := &end{side: own, vpn: v}
			for _, g := range h.design.Inside(h.object.ID, design.KindGateway) {
				if h.design.VPNOf(g.ID) == v {
					e.gateway = g
				}
			}
			return e
		}
	}
	return nil
}

func (h *hubDraft) noVPN(p side, near *end) string {
	if near == nil {
		return h.object.Body.(*design.Hub).Cloud + " has no VPN gateway for a hub"
	}
	return noGateway(p)
}

// atOtherHub attaches a link between two hubs at the other one, too, so that its table learns
// what comes by it.
func (h *hubDraft) atOtherHub(p side, link *design.Object) {
	far := h.drafter.hub(p.party, p)
	far.choose([]side{{party: h.object}})
	if len(h.shape.Out) == 0 {
		far.attachment(
			side{party: h.object, owner: h.owner},
			&design.Attachment{
				What: link.ID, Bound: far.table.ID, Feeds: []design.Ref{far.table.ID},
			},
		)
	}
}

func rank(later bool) int {
	if later {
		return 1
	}
	return 0
}

// hubToHub attaches two hubs to each other.
func hubToHub(books *allocation.Books, a, b side, q Options) Shape {
	s := newShape("hubs", "Hub to hub")
	f := draft(books, &s, q)
	switch {
	case design.Slug(a.cloud) != design.Slug(b.cloud):
		f.out(
			"hubs are joined within one cloud, and these are in %s and %s; join them by VPN",
			a.cloud, b.cloud,
		)
	case a.profile == nil || a.profile.Hub == nil || a.profile.Hub.ToHub == "":
		f.out("%s does not join hubs", a.cloud)
	}
	if c := clashes(a, b); c != "" && a.profile != nil && a.profile.Hub != nil && a.profile.Hub.RefusesOverlaps {
		f.out("the hubs refuse overlaps: %s", c)
	}
	if len(s.Out) > 0 {
		return s
	}
	var subject *design.Object
	for _, x := range [2][2]side{{a, b}, {b, a}} {
		h := f.hub(x[0].party, x[0])
		if h.choose(nil); len(s.Out) > 0 {
			return s
		}
		if h.attached[x[1].party.ID] != nil {
			f.out("%s is attached to %s already", x[1].party.Name, x[0].party.Name)
			return s
		}
		o := h.attachment(
			x[1],
			&design.Attachment{
				What: x[1].party.ID, Bound: h.table.ID, Feeds: []design.Ref{h.table.ID},
			},
		)
		if subject == nil {
			subject = o
		}
		if h.profile.Hub.ToHub == "static" {
			f.hubEntries(h, x[1], o)
		}
	}
	f.costs(fmt.Sprintf("%d GB through both hubs", q.GB), cost.Volume(a.profile.Prices.HubGB, 2*q.GB))
	s.Survives = "any single failure of yours: both hubs are the cloud's own"
	s.Next = 1
	s.NextWhy = "one attachment to the nearer hub"
	if a.profile.Hub.ToHub == "static" {
		s.Next, s.NextWhy = 2, "one attachment to the nearer hub and a static entry at the other; none if a summary is "+
			"entered that holds it"
	}
	s.Subject, s.Monthly = subject.ID, cost.Sum(s.Costs)
	return s
}

// hubEntries are the static entries for the ranges beyond another hub.
func (f *drafter) hubEntries(h *hubDraft, far side, via *design.Object) {
	if len(far.exports) == 0 {
		return
	}
	table := h.table
	if now := f.own[table.ID]; now != nil {
		table = now
	}
	edited := design.Edited(table, func(body *design.HubTable) {
		for _, p := range far.exports {
			body.Routes = append(body.Routes, design.HubEntry{Prefix: p, Via: via.ID})
		}
	})
	f.replace(edited)
	f.step(h.object.Name, "Enter %s to %s in %s", negotiate.Joined(far.exports), far.party.Name, h.table.Name)
}

func attachmentFacts(f *Facts, d *design.Design, o *design.Object) {
	b := o.Body.(*design.Attachment)
	f.between(d, o.Parent, b.What)
	f.Shape, f.Tunnels, f.Survives = "attachment to a hub", 1, "any single failure of yours, in the zones that it serves"
	if p := d.ProfileOf(o.Parent); p != nil {
		f.add("attachment", cost.Monthly(p.Prices.AttachmentHour))
	}
	if d.Get(b.What).Kind != design.KindNetwork && d.Get(b.What).Kind != design.KindHub {
		f.B = o.Parent // a link or circuit shows its own far party
	}
}
