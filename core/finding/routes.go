package finding

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/walk"
	"dravin/core/words"
)

// expected holds what is expected over a link or circuit against what is
// learned: what is missing, and what came unasked.
func (c *collector) expected(o *design.Object) {
	j, ok := design.JointOf(o)
	if !ok || !c.st.Intended(o) {
		return
	}
	for _, end := range j.Ends {
		var wanted []netip.Prefix
		for _, x := range route.ExpectedAt(c.design, end) {
			if x.Joint == o.ID {
				wanted = append(wanted, x.Prefix)
			}
		}
		if len(wanted) > 0 {
			c.heldAgainst(o, end, wanted)
		}
	}
}

func (c *collector) heldAgainst(o *design.Object, end design.ID, wanted []netip.Prefix) {
	learned := c.learnedBy(o, end)
	var missing, unasked []netip.Prefix
	var why []string
	for _, w := range wanted {
		if _, has := slices.BinarySearchFunc(learned, w, prefix.Compare); has ||
			!topology.Brings(c.st, o.ID, prefix.FamilyOf(w.Addr())).Up {
			continue
		}
		missing = append(missing, w)
		why = append(why, w.String()+": "+c.whyNot(o, end, w))
	}
	for _, l := range learned {
		if !slices.Contains(wanted, l) {
			unasked = append(unasked, l)
		}
	}
	if len(missing) > 0 {
		f := c.add(
			"expected-not-learned",
			Risk,
			o.ID,
			c.expecting(
				o,
				end,
				slices.DeleteFunc(
					slices.Clone(wanted),
					func(p netip.Prefix) bool { return slices.Contains(missing, p) },
				),
			),
			"%s expects %s over %s and does not learn it",
			c.design.Title(end),
			words.List(texts(missing)),
			o.Name,
		)
		f.Evidence, f.Subjects = why, append(f.Subjects, end)
	}
	if len(unasked) > 0 {
		f := c.add(
			"learned-unasked", Untidy, o.ID, c.expecting(o, end, slices.Concat(wanted, unasked)),
			"%s learns %s over %s, which it does not expect", c.design.Title(end), words.List(texts(unasked)), o.Name,
		)
		f.Subjects = append(f.Subjects, end)
	}
}

// learnedBy are the ranges that a box has learned over a joint, its best routes
// and others. What a hub's gateway learns is in the tables that it feeds.
func (c *collector) learnedBy(o *design.Object, end design.ID) []netip.Prefix {
	var out []netip.Prefix
	seen := map[netip.Prefix]bool{}
	for _, s := range route.SessionsOf(c.design, end) {
		carrier := c.design.Get(s.Parent)
		if s.Parent != o.ID && carrier.Parent != o.ID {
			continue
		}
		n := 0
		if at := settings.Speaker(c.design, s, 0); at != nil && at.ID == end {
			n = 1
		}
		for _, x := range c.tables.Exchanged(s.ID, n) {
			if x.Taken && !seen[x.Prefix] {
				seen[x.Prefix] = true
				out = append(out, x.Prefix)
			}
		}
	}
	slices.SortFunc(out, prefix.Compare)
	return out
}

// whyNot says why a range is not learned over a joint.
func (c *collector) whyNot(o *design.Object, end design.ID, p netip.Prefix) string {
	far := c.design.Title(end)
	if j, ok := design.JointOf(o); ok {
		id, _, _ := j.Far(end)
		far = c.design.Title(id)
	}
	for _, h := range c.tables.Spread(p).Halts {
		if h.Joint == o.ID && h.To == end {
			if h.Rule != "" {
				return h.Why + " (" + h.Rule + ")"
			}
			return h.Why
		}
	}
	return far + " does not have it"
}

// expecting is the fix that lets an end expect what it learns.
func (c *collector) expecting(o *design.Object, end design.ID, list []netip.Prefix) []Fix {
	title := fmt.Sprintf("Let %s expect what it learns", c.design.Title(end))
	switch b := o.Body.(type) {
	case *design.Link:
		body := *b
		body.Ends = slices.Clone(b.Ends)
		_, _, n, _ := b.End(end)
		body.Ends[n].Routes = list
		return []Fix{{Title: title, Edits: []design.Edit{design.PutEdit(o.With(&body))}}}
	case *design.Circuit:
		body := *b
		body.Ends = slices.Clone(b.Ends)
		for n := range body.Ends {
			if body.Ends[n].At == end {
				body.Ends[n].Routes = list
			}
		}
		return []Fix{{Title: title, Edits: []design.Edit{design.PutEdit(o.With(&body))}}}
	}
	return nil
}

// beaten finds what came over a link or circuit and never gets a packet: a range
// of one's own, a peered one or an entry goes before it.
func (c *collector) beaten(o *design.Object) {
	for _, segment := range route.Instances(c.design, o) {
		p := c.tables.PointIn(o.ID, segment)
		var said []string
		var learned prefix.Table[route.Route]
		for _, r := range p.Routes {
			if r.Learned != nil && r.Unusable == "" && r.Prefix.Bits() > 0 {
				learned.Add(r.Prefix, r)
			}
		}
		for _, x := range p.Routes {
			if x.Learned != nil || x.Unusable != "" {
				continue
			}
			learned.Covering(x.Prefix, func(r route.Route) {
				if x.Hop != r.Hop && silently(p, x, r) {
					said = append(
						said,
						fmt.Sprintf(
							"%s, learned by %s, is beaten by %s (%s, %s)", r.Prefix, r.Via, x.Prefix, x.Source, x.Via,
						),
					)
				}
			})
		}
		if len(said) > 0 {
			f := c.add(
				"learned-route-beaten", Risk, o.ID, nil, "%s sends elsewhere what it learned: %s", p.Title, said[0],
			)
			f.Evidence = said
			f.Line = string(segment)
		}
	}
}

// silently reports whether a route of a table keeps packets from another: one as long
// that goes before it, or a longer one that is not learned.
func silently(p *route.Point, x, r route.Route) bool {
	if x.Prefix == r.Prefix {
		first := slices.IndexFunc(
			p.Routes, func(y route.Route) bool { return y.Prefix == x.Prefix && y.Unusable == "" },
		)
		return x.Source != r.Source && p.Routes[first].Hop == x.Hop && p.Routes[first].Source == x.Source
	}
	near := x.Source == route.Connected || x.Source == route.Local || x.Source == route.Inner ||
		x.Source == route.Peered
	return near && x.Prefix.Bits() > r.Prefix.Bits() && prefix.Contains(r.Prefix, x.Prefix)
}

// chance finds equal routes for one range that lead to different far ends, and
// choices that nobody made.
func (c *collector) chance(o *design.Object) {
	for _, segment := range route.Instances(c.design, o) {
		c.chanceIn(o, c.tables.PointIn(o.ID, segment))
	}
}

func (c *collector) chanceIn(o *design.Object, p *route.Point) {
	var f *Finding
	say := func(line, format string, args ...any) {
		if f == nil {
			f = c.add("chance-decides", Risk, o.ID, nil, format, args...)
			f.Line = string(p.Segment)
		}
		f.Evidence = append(f.Evidence, line)
	}
	for n, b := range p.Routes {
		if b.Unusable == "" && b.Learned != nil && b.Learned.Chance && b.Hop.Kind != route.Gateway {
			say(
				fmt.Sprintf("%s by %s: %s", b.Prefix, b.Via, b.Learned.By),
				"%s has several routes for %s, and only the %s chooses %s", p.Title, b.Prefix, b.Learned.By, b.Via,
			)
		}
		if n == 0 {
			continue
		}
		a := p.Routes[n-1]
		if a.Prefix != b.Prefix || a.Source != b.Source || a.Unusable != "" || b.Unusable != "" ||
			a.Learned != nil && b.Learned != nil || c.tables.FarEnd(p, a.Hop) == c.tables.FarEnd(p, b.Hop) {
			continue
		}
		say(
			fmt.Sprintf("%s: both are %s; Dravin takes %s", a.Prefix, a.Source, a.Via),
			"%s has two equal routes for %s, by %s and by %s, and nothing says which wins", p.Title, a.Prefix, a.Via,
			b.Via,
		)
	}
}

// troubles finds routes that never settle, or settle in more than one way.
func (c *collector) troubles(*design.Object) {
	for _, t := range c.tables.Troubles() {
		var at []string
		var subjects []design.ID
		for _, s := range t.Speakers {
			at = append(at, c.tables.TitleOf(s))
			if id := c.tables.BoxOf(s); !slices.Contains(subjects, id) {
				subjects = append(subjects, id)
			}
		}
		if len(subjects) == 0 {
			continue
		}
		code, format := "routes-depend-on-order", "%s: %s choose one way or another, depending on who hears first; let "+
			"one preference decide"
		severity := Risk
		if t.Never {
			code, format, severity = "routes-never-settle", "%s: %s change their choice for ever, as each choice makes "+
				"another one better; take one preference away", Broken
		}
		f := c.add(code, severity, subjects[0], nil, format, words.List(texts(t.Prefixes)), strings.Join(at, ", "))
		f.Subjects, f.Evidence = subjects, texts(t.Prefixes)
	}
}

// oneWay finds parties that have a way to another over a third, while that one
// has none back.
func (c *collector) oneWay(o *design.Object) {
	party := c.design.Party(o.ID)
	if party == nil || party.Kind == design.KindHub {
		return
	}
	own := c.design.Exports(party.ID)
	said := map[design.ID]bool{}
	defer func() { c.oneWayByHand(o, party, said) }()
	for _, r := range c.tables.Point(o.ID).Routes {
		if r.Learned == nil || r.Unusable != "" || len(r.Learned.Path) < 2 {
			continue
		}
		way := c.tables.Way(route.Key{At: o.ID}, &r)
		if len(way) < 3 {
			continue
		}
		born := c.design.Party(way[0].At)
		if born == nil || born.ID == party.ID || said[born.ID] {
			continue
		}
		said[born.ID] = true
		if lost := c.unknownAt(way[0].At, own); len(lost) > 0 {
			f := c.add(
				"one-way-transit", Risk, o.ID, nil, "%s has a way to %s over %s, and %s has none back to %s",
				c.design.Title(o.ID), born.Name, way[len(way)-2].Title, born.Name, words.List(texts(lost)),
			)
			f.Subjects = append(f.Subjects, way[0].At)
		}
	}
}

// oneWayByHand finds what is sent by hand over another party to a third, from which the
// answer does not find back.
func (c *collector) oneWayByHand(o, party *design.Object, said map[design.ID]bool) {
	for _, r := range c.tables.Point(o.ID).Routes {
		if r.Learned != nil || r.Unusable != "" || r.Prefix.Bits() == 0 || !r.Hop.Leaves() {
			continue
		}
		over := c.design.Party(c.tables.FarEnd(c.tables.Point(o.ID), r.Hop))
		to := prefix.FirstHost(r.Prefix)
		for _, place := range c.tables.Holders(to) {
			far := c.design.Party(place)
			if over == nil || far.ID == over.ID || far.ID == party.ID || said[far.ID] {
				continue
			}
			from, err := walk.HostOf(c.design, party.ID, prefix.FamilyOf(to))
			if err != nil {
				continue
			}
			p := walk.Prove(
				c.tables, walk.Flow{From: from, To: to, Meant: place, Service: design.Service{Proto: "icmp"}},
			)
			if p.Stop != nil && p.Stop.Code == walk.ReplyNoRoute {
				said[far.ID] = true
				f := c.add(
					"one-way-transit", Risk, o.ID, nil, "%s has a way to %s over %s, and %s has none back: %s",
					c.design.Title(o.ID), far.Name, over.Name, far.Name, p.Stop.Why,
				)
				f.Subjects = append(f.Subjects, p.Stop.At.ID)
			}
		}
	}
}

// unknownAt are the ranges of which a box has no route.
func (c *collector) unknownAt(box design.ID, list []netip.Prefix) []netip.Prefix {
	p := c.tables.Point(box)
	if p == nil {
		return nil
	}
	var out []netip.Prefix
	for _, r := range list {
		choice := p.Lookup(prefix.FirstHost(r))
		if choice.Winner == nil || choice.Winner.Source == route.Implied {
			out = append(out, r)
		}
	}
	if len(out) < len(list) {
		return nil // some are kept back, as somebody may want
	}
	return out
}

// entries finds entries of a table that lead to what is not there, everywhere,
// or over a peering to what is not the peer's.
func (c *collector) entries(o *design.Object) {
	p := c.tables.Point(o.ID)
	for _, r := range p.Routes {
		if r.Source != route.Static {
			continue
		}
		switch {
		case r.Down != nil && r.Swallows:
			c.add(
				"entry-leads-nowhere", Risk, o.ID, nil,
				"the entry %s of %s leads to %s, which is down: its packets are lost", r.Prefix, p.Title, r.Via,
			).Line = r.Prefix.String()
		case r.Down != nil || r.Unusable != "" && r.Hop.Kind == route.BlackHole:
			c.add(
				"entry-leads-nowhere", Risk, o.ID, nil, "the entry %s of %s is not used: %s", r.Prefix, p.Title,
				r.Unusable,
			).Line = r.Prefix.String()
		case r.Prefix.Bits() == 0 && o.Kind == design.KindTable:
			c.add(
				"default-swallows", Untidy, o.ID, nil,
				"%s sends everything that it does not know to %s: what should fail does not", p.Title, r.Via,
			).Line = r.Prefix.String()
		}
		if r.Hop.Kind != route.Peer {
			continue
		}
		if b, ok := c.design.Get(r.Hop.To).Body.(*design.Peering); ok {
			c.beyondPeer(o, p, r, b)
		}
	}
}

func (c *collector) beyondPeer(o *design.Object, p *route.Point, r route.Route, b *design.Peering) {
	for _, h := range b.Halves {
		if h.Network == p.Party.ID || h.Enters != "" || h.LendsGateway {
			continue
		}
		if !slices.ContainsFunc(c.design.Ranges(h.Network), func(x netip.Prefix) bool { return x.Overlaps(r.Prefix) }) {
			c.add(
				"peering-not-transitive", Risk, o.ID, nil, "%s sends %s over %s, which carries only what is of %s",
				p.Title, r.Prefix, r.Via, c.design.Title(h.Network),
			).Line = r.Prefix.String()
		}
	}
}

// summaries finds holes that a box's summaries hide.
func (c *collector) summaries(o *design.Object) {
	var list []design.Summary
	switch b := o.Body.(type) {
	case *design.Gateway:
		list = b.Summaries
	case *design.EdgeRouter:
		list = b.Summaries
	}
	for _, s := range list {
		var parts []netip.Prefix
		for _, r := range c.tables.Point(o.ID).Routes {
			if r.Unusable == "" && r.Source != route.Implied && r.Prefix.Bits() > s.Prefix.Bits() &&
				prefix.Contains(s.Prefix, r.Prefix) {
				parts = append(parts, r.Prefix)
			}
		}
		hole := prefix.Free([]netip.Prefix{s.Prefix}, parts)
		switch {
		case len(parts) == 0:
			c.add(
				"summary-of-nothing", Untidy, o.ID, nil, "%s would announce %s and has no part of it, so it does not",
				c.design.Title(o.ID), s.Prefix,
			).Line = s.Prefix.String()
		case len(hole) > 0:
			f := c.add(
				"summary-hides-hole", Untidy, o.ID, nil,
				"%s announces %s, of which nobody has %s: what is sent there is lost at it",
				c.design.Title(o.ID), s.Prefix,
				words.List(texts(hole)),
			)
			f.Line, f.Evidence = s.Prefix.String(), texts(hole)
		}
	}
}

// segmentsMeet finds what is in no segment and joins parties that are in
// different ones.
func (c *collector) segmentsMeet(*design.Object) {
	var f *Finding
	for j := range c.design.Joints() {
		if j.Kind != design.KindLink && j.Kind != design.KindCircuit || !status.Exists(j.Object) ||
			c.design.SegmentOf(j.ID) != "" {
			continue
		}
		met := map[string]bool{}
		for _, end := range j.Ends {
			for _, s := range c.segmentsAt(end) {
				met[s] = true
			}
		}
		names := slices.Sorted(maps.Keys(met))
		if len(names) < 2 {
			continue
		}
		if f == nil {
			f = c.add(
				"segments-meet", Untidy, j.ID, nil,
				"%s is in no segment, so %s meet over it; name the segment that it carries", j.Name, words.List(names),
			)
		}
		f.Evidence = append(f.Evidence, fmt.Sprintf("%s: %s", j.Name, strings.Join(names, ", ")))
		if !slices.Contains(f.Subjects, j.ID) {
			f.Subjects = append(f.Subjects, j.ID)
		}
	}
}

// segmentsAt names the segments of what stands behind an end of a joint, but for
// what is in its tunnels.
func (c *collector) segmentsAt(end design.ID) []string {
	o := c.design.Get(end)
	p := c.design.Party(end)
	if p == nil {
		return nil
	}
	var out []string
	add := func(id design.ID) {
		if s := c.design.SegmentOf(id); s != "" && !slices.Contains(out, c.design.Title(s)) {
			out = append(out, c.design.Title(s))
		}
	}
	add(p.ID)
	if p.Kind == design.KindSite && o.Kind == design.KindGateway {
		for _, place := range c.design.Inside(p.ID, design.KindLAN, design.KindInnerRoute) {
			add(place.ID)
		}
	}
	return out
}

// sessionLimit finds sessions that dropped for a limit, that are near it, or
// that would announce more than the cloud lets out.
func (c *collector) sessionLimit(o *design.Object) {
	v := c.st.Of(o.ID)
	carrier := c.design.Get(o.Parent)
	if !v.Up && v.Line == "bgp-max" {
		f := c.add("session-down", Broken, o.ID, nil, "%s; a summary needs fewer", v.Why)
		f.Line = v.Line
		return
	}
	if !v.Up {
		return
	}
	for n := range 2 {
		taken := c.tables.Taken(o.ID, n)
		at, from := settings.Speaker(c.design, o, n), settings.Speaker(c.design, o, 1-n)
		if at == nil || from == nil {
			continue
		}
		if most := int(route.Limit(c.design, o, n)); most > 0 && taken*10 >= most*9 {
			f := c.add(
				"limit-near", Risk, o.ID, nil,
				"%s takes %d routes on a session of %s, and %d are learned: a few more drop it",
				c.design.Title(at.ID), most,
				c.design.Title(carrier.ID), taken,
			)
			f.Line = fmt.Sprintf("bgp-max-%d", n+1)
		}
		if p := c.design.VPNOf(from.ID); p != nil && carrier.Kind == design.KindTunnel && p.MaxRoutesOut > 0 &&
			taken > int(p.MaxRoutesOut) {
			c.add(
				"too-many-routes", Risk, o.ID, nil,
				"%s would announce %d routes on a session of %s, and its cloud lets %d out; a summary needs fewer",
				c.design.Title(from.ID), taken, c.design.Title(carrier.ID), p.MaxRoutesOut,
			)
		}
	}
}

// tableLimit finds tables that hold more than their cloud takes, with the
// smallest summary of what leads one way that would do.
func (c *collector) tableLimit(o *design.Object) {
	u, ok := c.tables.UseOf(o.ID)
	if !ok || u.Most == 0 || u.Has*10 < u.Most*9 {
		return
	}
	if u.Has <= u.Most {
		c.add("limit-near", Risk, o.ID, nil, "%s has %d entries, and its cloud takes %d", u.Title, u.Has, u.Most)
		return
	}
	f := c.add(
		"too-many-routes", inUse(c.design, o), o.ID, nil, "%s has %d entries, and its cloud takes %d; a summary needs fewer",
		u.Title, u.Has, u.Most,
	)
	for _, s := range c.tables.Summarised(o.ID) {
		f.Evidence = append(f.Evidence, s.Words())
	}
}
