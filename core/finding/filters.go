package finding

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/passes"
	"dravin/core/prefix"
	"dravin/core/route"
)

// filters holds each filter against the intents, its platform and its own rules.
func (c *collector) filters(*design.Object) {
	var ids []design.ID
	for _, o := range c.design.Of(design.KindFilter) {
		ids = append(ids, o.ID)
	}
	told := map[design.ID]bool{}
	for n, h := range c.findings.needs.Filters(ids) {
		o := c.design.Get(ids[n])
		b := o.Body.(*design.PacketFilter)
		c.filterPlatform(o, b)
		for _, s := range h.Sides {
			for _, r := range s.Rules {
				c.filterRule(o, b, r)
			}
			for _, m := range s.Missing {
				if m.Need.Errors {
					c.once(
						"errors-refused", Risk, o,
						"%s lets no %s come to %s: where a tunnel is on the way, packets that are too large "+
							"vanish without a word",
						o.Name, m.Service, m.To,
					)
					continue
				}
				c.beforeMapping(o, b, s, m)
				c.pingOnly(o, m)
			}
			c.portOnly(o, s, told)
		}
	}
}

// filterRule finds rules that nothing needs or that do nothing.
func (c *collector) filterRule(o *design.Object, b *design.PacketFilter, r passes.Rule) {
	line := fmt.Sprintf("rules[%d]", r.N)
	fix := Fix{
		Title: fmt.Sprintf("Take rule %d out of %s", r.N+1, o.Name),
		Edits: []design.Edit{design.PutEdit(design.Edited(o, func(f *design.PacketFilter) {
			f.Rules = slices.Delete(slices.Clone(f.Rules), r.N, r.N+1)
		}))},
	}
	add := func(code string, severity Severity, format string, args ...any) {
		f := c.add(code, severity, o.ID, nil, format, args...)
		f.Line, f.Fixes = line, append(f.Fixes, fix)
		f.Evidence = append(f.Evidence, r.Text)
	}
	switch r.Standing {
	case passes.NeverFits:
		add("rule-never-fits", Untidy, "rule %d of %s fits nothing that comes by: %s", r.N+1, o.Name, r.Text)
	case passes.Shadowed:
		add("rule-shadowed", Untidy, "rule %d of %s is never asked: rule %d is for all of it", r.N+1, o.Name, r.By)
	case passes.Contradicts:
		add(
			"rule-contradicted", Risk, "rule %d of %s does nothing: rule %d does the contrary for all of it", r.N+1,
			o.Name, r.By,
		)
	case passes.Unneeded:
		add("rule-unneeded", Untidy, "no intent needs rule %d of %s: %s", r.N+1, o.Name, r.Text)
	}
	if passes.Everything(b.Rules[r.N]) && b.Rules[r.N].Direction != design.Outgoing {
		add("everything-open", Risk, "rule %d of %s lets everything pass from anywhere to anywhere", r.N+1, o.Name)
	}
}

// filterPlatform holds a filter against what its platform says.
func (c *collector) filterPlatform(o *design.Object, b *design.PacketFilter) {
	m := filter.MannerOf(c.design, b)
	if m.Most > 0 && len(b.Rules)*5 >= m.Most*4 {
		severity := Untidy
		if len(b.Rules) > m.Most {
			severity = Risk
		}
		c.add(
			"filter-nearly-full", severity, o.ID, nil, "%s has %d rules, and the platform takes %d", o.Name,
			len(b.Rules), m.Most,
		)
	}
	k := c.design.FilterKindOf(b)
	if k == nil || k.DefaultsChosen {
		return
	}
	for _, x := range []struct{ field, believed, is, what string }{
		{"default", b.Default, k.In, "comes in"}, {"default_out", b.DefaultOut, k.Out, "goes out"},
	} {
		if x.believed != "" && x.believed != x.is {
			c.add(
				"filter-default", Risk, o.ID, nil, "%s says that it would %s what %s and no rule is for, and the "+
					"cloud does %s it",
				o.Name, x.believed, x.what, x.is,
			).Line = x.field
		}
	}
}

// beforeMapping finds a rule that was made for a range that is not on the wire there any more: what is missing would
// pass by a rule of the same services that names the real range of a mapped one.
func (c *collector) beforeMapping(o *design.Object, b *design.PacketFilter, s passes.Side, m passes.Missing) {
	for _, r := range s.Rules {
		body := b.Rules[r.N]
		for _, g := range c.mappings() {
			named := prefixesIn(body, g[0])
			if named == nil || r.Refuses || !prefix.Contains(g[1], m.Need.From) && !prefix.Contains(g[1], m.Need.To) ||
				len(body.Services) > 0 && !slices.Contains(r.Services, m.Service) {
				continue
			}
			f := c.add(
				"rule-before-mapping", Broken, o.ID, nil,
				"rule %d of %s still names %s, and what comes by is %s now: %s is "+
					"refused", r.N+1, o.Name, named[0], g[1], m.Text,
			)
			f.Line = fmt.Sprintf("rules[%d]", r.N)
			f.Fixes = append(f.Fixes, Fix{
				Title: fmt.Sprintf("Name the mapped range in rule %d", r.N+1),
				Edits: []design.Edit{design.PutEdit(design.Edited(o, func(f *design.PacketFilter) {
					f.Rules = slices.Clone(f.Rules)
					f.Rules[r.N].From = renamed(f.Rules[r.N].From, g)
					f.Rules[r.N].To = renamed(f.Rules[r.N].To, g)
				}))},
			})
			return
		}
	}
}

// mappings are the real and the mapped ranges of all one-to-one mappings.
func (c *collector) mappings() (out [][2]netip.Prefix) {
	for _, p := range c.design.Inside("", design.KindSite, design.KindNetwork, design.KindHub) {
		out = append(out, filter.MapsOf(c.design, p.ID)...)
	}
	return out
}

func prefixesIn(r design.FilterRule, real netip.Prefix) (out []netip.Prefix) {
	for _, p := range slices.Concat(r.From, r.To) {
		if prefix.Contains(real, p) {
			out = append(out, p)
		}
	}
	return out
}

// renamed are ranges with those in the real range as they are in the mapped one.
func renamed(list []netip.Prefix, m [2]netip.Prefix) (out []netip.Prefix) {
	for _, p := range list {
		if q := prefix.TranslatePrefix(p, m[0], m[1]); q.IsValid() {
			p = q
		}
		out = append(out, p)
	}
	return out
}

// pingOnly tells where a port is shut that an intent needs and ping is open: that a host answers proves nothing.
func (c *collector) pingOnly(o *design.Object, m passes.Missing) {
	if ported(m.Need) && c.pings(m.Need) {
		c.once(
			"ping-open-port-shut", Risk, o,
			"%s lets ping from %s to %s pass and refuses %s: that it answers ping proves nothing", o.Name, m.From, m.To,
			m.Service,
		)
	}
}

// portOnly tells where a port is open and ping is shut, once for a filter and for an intent.
func (c *collector) portOnly(o *design.Object, s passes.Side, told map[design.ID]bool) {
	for _, r := range s.Rules {
		for _, x := range r.Live {
			if ported(x) && !r.Refuses && !told[x.Intent] && !c.pings(x) {
				told[x.Intent] = true
				c.once(
					"port-open-ping-shut", Untidy, o,
					"%s lets %s pass and refuses ping: that it does not answer ping proves nothing", o.Name, x.Traffic,
				)
				return
			}
		}
	}
}

func (c *collector) once(code string, severity Severity, o *design.Object, format string, args ...any) {
	if !slices.ContainsFunc(c.out, func(f Finding) bool { return f.Code == code && f.Subjects[0] == o.ID }) {
		c.add(code, severity, o.ID, nil, format, args...)
	}
}

func ported(x passes.Need) bool { return !x.Replies && !x.Errors && x.Traffic.First != 0 }

// pings is a filter's word on a ping where something is needed.
func (c *collector) pings(x passes.Need) bool {
	p := filter.Packet{
		Src: prefix.FirstHost(x.From), Dst: prefix.FirstHost(x.To), Proto: "icmp", Message: design.EchoRequest,
	}
	return c.tables.Filter(x.Filter).Decide(p, x.Direction, nil).Allows
}

// outsiders tells where an outside party may do more than is agreed.
func (c *collector) outsiders(*design.Object) {
	parties := c.design.Outsiders()
	if len(parties) == 0 {
		return
	}
	var ids []design.ID
	for _, o := range c.design.Of(design.KindFilter) {
		ids = append(ids, o.ID)
	}
	for n, h := range c.findings.needs.Filters(ids) {
		o := c.design.Get(ids[n])
		for _, p := range parties {
			if h.Party == p.ID {
				continue // it is the party's own affair
			}
			for _, s := range h.Sides {
				for _, r := range s.Rules {
					c.moreThanAgreed(o, p, s.Direction, r)
				}
			}
		}
	}
	for o, b := range design.Each[design.Crossing](c.design.Of(design.KindCrossing)) {
		c.unfiltered(o, b, parties)
	}
}

func (c *collector) moreThanAgreed(o, party *design.Object, direction string, r passes.Rule) {
	b := o.Body.(*design.PacketFilter)
	body := b.Rules[r.N]
	names := filter.NamedAt(c.design, b, party.ID)
	var of filter.Rule
	for _, x := range c.tables.Filter(o.ID).Rules(direction) {
		if x.N == r.N {
			of = x
		}
	}
	from := slices.ContainsFunc(of.From, func(p netip.Prefix) bool { return slices.ContainsFunc(names, p.Overlaps) })
	if r.Refuses || !from || body.Replies {
		return
	}
	agreed := func(to netip.Prefix, t design.Traffic) bool {
		return slices.ContainsFunc(r.Live, func(x passes.Need) bool {
			return prefix.Contains(x.To, to) && x.Traffic == t && slices.ContainsFunc(names, x.From.Overlaps)
		})
	}
	more := of.To == nil || len(of.Services) == 0
	for _, to := range of.To {
		for _, t := range of.Services {
			more = more || !agreed(to, t)
		}
	}
	if more {
		f := c.add(
			"more-than-agreed", Risk, o.ID, nil, "%s may do more than the intents ask for: %s "+
				"%s", party.Name, o.Name, r.Text,
		)
		f.Subjects, f.Line = append(f.Subjects, party.ID), fmt.Sprintf("rules[%d]", r.N)
		plan := c.findings.needs.FromIntents(passes.Wish{Filters: []design.ID{o.ID}, Keep: false})
		if len(plan.Edits) > 0 {
			f.Fixes = append(
				f.Fixes, Fix{Title: "Let pass at " + o.Name + " exactly what intents need", Edits: plan.Edits},
			)
		}
	}
}

// unfiltered tells of a crossing between an outside party and others that no filter stands at.
func (c *collector) unfiltered(o *design.Object, b *design.Crossing, parties []*design.Object) {
	if b.Does == design.CrossingServices {
		return
	}
	at := append(route.CrossedAt(c.design, o.ID), o.ID)
	has := slices.ContainsFunc(
		at, func(id design.ID) bool { return len(c.design.FiltersAt(id, false)) > 0 },
	)
	for _, p := range parties {
		for _, segment := range c.design.SegmentsOf(p.ID) {
			if !has && (segment == b.From || segment == b.To) {
				f := c.add(
					"crossing-unfiltered", Risk, o.ID, nil,
					"%s crosses by %s, and no filter there says what for", p.Name, o.Name,
				)
				f.Subjects = append(f.Subjects, p.ID)
				return
			}
		}
	}
}
