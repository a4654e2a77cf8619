package finding

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/lifecycle"
	"dravin/core/plan"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/words"
)

func (c *collector) request(o *design.Object) {
	if r := o.Body.(*design.Request); r.Answer == "" {
		c.add(
			"request-open", Untidy, r.For, nil, "%s asks %s for %s and waits for an answer", c.design.Title(r.From),
			c.design.Title(r.To), c.design.Title(r.For),
		)
	} else if joint := c.design.Get(r.For); r.Answer == "refused" && joint != nil &&
		c.design.StateOf(joint.ID) == design.Ready && c.st.Refused(joint) {
		gone := Fix{
			Title: "Say that " + c.design.Title(joint.ID) + " is gone",
			Edits: said(c.design, c.design.Built().Get(joint.ID).InState(design.Gone)),
		}
		accepted := design.Edited(o, func(b *design.Request) { b.Answer = "accepted" })
		c.add(
			"refused-and-ready", Risk, joint.ID,
			[]Fix{gone, {Title: "Say that it was accepted after all", Edits: said(c.design, accepted)}},
			"%s is said to be ready, and was refused%s: walks take it to be there", c.design.Title(joint.ID),
			c.st.Refusal(joint),
		)
	}
}

func (c *collector) peering(o *design.Object) {
	p := o.Body.(*design.Peering)
	v := c.st.Of(o.ID)
	if !status.Exists(o) {
		return
	}
	if v.Cause == status.RefusedForOverlap {
		c.add("peering-refused", Broken, o.ID, nil, "the peering %s is refused: %s", o.Name, v.Why)
	}
	there := p
	if b := c.design.Built().Get(o.ID); b != nil {
		there = b.Body.(*design.Peering)
	}
	for n, h := range p.Halves {
		far := p.Halves[1-n]
		if !there.Halves[n].Made && there.Halves[1-n].Made {
			severity := Broken
			if c.design.StateOf(o.ID) == design.Making {
				severity = Risk // the other half is on its way
			}
			c.add(
				"half-made-peering",
				severity,
				o.ID,
				[]Fix{
					{
						Title: "The half of " + c.design.Title(h.Network) + " is made",
						Edits: lifecycle.Half(c.design, o, n),
					},
				},
				"the peering %s waits for ever: %s has made its half and %s has not",
				o.Name,
				c.design.Title(far.Network),
				c.design.Title(h.Network),
			)
		}
		if h.UsesGateway && !far.LendsGateway {
			edited := design.Edited(o, func(fixed *design.Peering) { fixed.Halves[1-n].LendsGateway = true })
			c.add(
				"gateway-not-lent",
				Risk,
				o.ID,
				[]Fix{
					{
						Title: "Let " + c.design.Title(far.Network) + " lend its gateway",
						Edits: []design.Edit{design.PutEdit(edited)},
					},
				},
				"%s would use the gateway of %s over %s, which does not lend it",
				c.design.Title(h.Network),
				c.design.Title(far.Network),
				o.Name,
			)
		}
	}
	rule := c.design.ProfileOf(p.Halves[0].Network)
	for _, h := range p.Halves {
		if rule != nil && rule.Peering != nil &&
			(h.LendsGateway && !rule.Peering.LendGateway || h.AcceptForwarded && !rule.Peering.AcceptForwarded) {
			c.add(
				"peering-not-allowed", Risk, o.ID, nil,
				"%s is set to what its cloud does not allow: lending a gateway, or taking what is passed on", o.Name,
			)
			return
		}
	}
}

func (c *collector) circuit(o *design.Object) {
	b := o.Body.(*design.Circuit)
	if !status.Exists(o) {
		c.unused(o)
		return
	}
	set := func(change func(*design.Circuit)) []design.Edit {
		return []design.Edit{design.PutEdit(design.Edited(o, change))}
	}
	both := func(what func(design.CircuitEnd) string, copy func(to *design.CircuitEnd, from design.CircuitEnd)) []Fix {
		var out []Fix
		for n := range b.Ends {
			out = append(
				out,
				Fix{
					Title: fmt.Sprintf("Set %s to %s", c.design.Title(b.Ends[n].At), what(b.Ends[1-n])),
					Edits: set(func(x *design.Circuit) { copy(&x.Ends[n], b.Ends[1-n]) }),
				},
			)
		}
		return out
	}
	if x, y := b.Ends[0], b.Ends[1]; x.Mbps != y.Mbps {
		c.add(
			"circuit-speeds-differ",
			inUse(c.design, o),
			o.ID,
			both(
				func(e design.CircuitEnd) string { return fmt.Sprintf("%d Mbit/s", e.Mbps) },
				func(to *design.CircuitEnd, from design.CircuitEnd) { to.Mbps = from.Mbps },
			),
			"%s has %d Mbit/s at %s and %d at %s",
			o.Name,
			x.Mbps,
			c.design.Title(x.At),
			y.Mbps,
			c.design.Title(y.At),
		)
	}
	if x, y := b.Ends[0], b.Ends[1]; x.VLAN != y.VLAN {
		c.add(
			"circuit-tags-differ",
			inUse(c.design, o),
			o.ID,
			both(
				func(e design.CircuitEnd) string { return fmt.Sprintf("tag %d", e.VLAN) },
				func(to *design.CircuitEnd, from design.CircuitEnd) { to.VLAN = from.VLAN },
			),
			"%s has VLAN tag %d at %s and %d at %s",
			o.Name,
			x.VLAN,
			c.design.Title(x.At),
			y.VLAN,
			c.design.Title(y.At),
		)
	}
	var elsewhere []string
	for _, e := range b.Ends {
		if b.CodeZone != "" && e.Zone != "" && e.Zone != b.CodeZone {
			elsewhere = append(elsewhere, fmt.Sprintf("its end at %s is in %s", c.design.Title(e.At), e.Zone))
		}
	}
	if len(elsewhere) > 0 {
		c.add(
			"code-of-other-zone",
			inUse(c.design, o),
			o.ID,
			[]Fix{
				{
					Title: "Put both ends into " + b.CodeZone,
					Edits: set(func(x *design.Circuit) {
						for n := range x.Ends {
							x.Ends[n].Zone = b.CodeZone
						}
					}),
				},
			},
			"the order code of %s is for %s, and %s",
			o.Name,
			b.CodeZone,
			strings.Join(elsewhere, ", and "),
		)
	}
	for _, e := range b.Ends {
		if p := c.design.ProfileOf(e.At); p != nil && p.Circuit != nil && !slices.Contains(p.Circuit.Speeds, e.Mbps) {
			next := p.Circuit.Speeds[len(p.Circuit.Speeds)-1]
			if k := slices.IndexFunc(p.Circuit.Speeds, func(s uint32) bool { return s >= e.Mbps }); k >= 0 {
				next = p.Circuit.Speeds[k]
			}
			c.add(
				"circuit-speed-not-offered",
				Risk,
				o.ID,
				[]Fix{
					{
						Title: fmt.Sprintf("Order %d Mbit/s at both ends", next),
						Edits: set(func(x *design.Circuit) { x.Ends[0].Mbps, x.Ends[1].Mbps = next, next }),
					},
				},
				"%s has %d Mbit/s at %s, where only some speeds are sold: %s",
				o.Name,
				e.Mbps,
				c.design.Title(e.At),
				strings.Trim(fmt.Sprint(p.Circuit.Speeds), "[]"),
			)
		}
	}
	c.circuitAlone(o, b)
}

// circuitAlone finds a circuit whose cloud wants two.
func (c *collector) circuitAlone(o *design.Object, b *design.Circuit) {
	for n, e := range b.Ends {
		p := c.design.ProfileOf(e.At)
		if p == nil || p.Circuit == nil || !p.Circuit.Redundant {
			continue
		}
		zones := map[string]int{}
		for other, x := range design.Each[design.Circuit](c.design.Referring(e.At, design.KindCircuit)) {
			for m := range x.Ends {
				if x.Ends[m].At == e.At && x.Ends[1-m].At == b.Ends[1-n].At && status.Exists(other) {
					zones[x.Ends[m].Zone]++
				}
			}
		}
		if zones[e.Zone] > 1 && len(zones) == 1 {
			c.add(
				"circuits-in-one-zone", Risk, o.ID, nil, "%s and its partner are both in %s: one failure takes both",
				o.Name, e.Zone,
			)
		} else if len(zones) < 2 {
			x := c.add(
				"single-circuit", Risk, o.ID, nil, "%s is the only circuit there; two in different zones are wanted",
				o.Name,
			)
			x.more = func(ctx context.Context, all *Findings) []Fix { return all.seconds(ctx, o.ID) }
		}
	}
}

// seconds put a second beside a joint that stands alone, where that breaks nothing.
func (f *Findings) seconds(ctx context.Context, joint design.ID) []Fix {
	var out []Fix
	for _, s := range draft.Second(allocation.NewBooks(f.design()), joint) {
		if len(s.Out) == 0 && plan.Safe(ctx, f.proofs, s.Edits) {
			out = append(out, Fix{Title: s.Title, Edits: s.Edits})
		}
	}
	return out
}

func (c *collector) attachment(o *design.Object) {
	if !status.Exists(o) {
		return
	}
	a := o.Body.(*design.Attachment)
	p := c.design.ProfileOf(o.Parent)
	if p == nil || p.Hub == nil {
		return
	}
	if p.Hub.SubnetPerZone && c.design.Get(a.What).Kind == design.KindNetwork {
		c.attachedSubnets(o, a)
	}
	if v := topology.Refusal(c.st, o); !v.Up {
		c.refused(o, v)
	}
	if len(a.Feeds) == 0 {
		c.add(
			"attachment-feeds-nothing", Untidy, o.ID, nil,
			"the attachment of %s to %s feeds no table, so nobody there learns of it", c.design.Title(a.What),
			c.design.Title(o.Parent),
		)
	}
}

// attachedSubnets finds zones that an attachment does not serve, and public
// subnets that it stands in.
func (c *collector) attachedSubnets(o *design.Object, a *design.Attachment) {
	hub := c.design.Title(o.Parent)
	with := func(subnets []design.Ref) []design.Edit {
		edited := design.Edited(o, func(fixed *design.Attachment) { fixed.Subnets = subnets })
		return []design.Edit{design.PutEdit(edited)}
	}
	subnets := c.design.Inside(a.What, design.KindSubnet)
	served := map[string]bool{}
	for n, id := range a.Subnets {
		s := c.design.Get(id).Body.(*design.Subnet)
		served[s.Zone] = true
		if s.Public {
			var fixes []Fix
			if i := slices.IndexFunc(subnets, func(x *design.Object) bool {
				b := x.Body.(*design.Subnet)
				return b.Zone == s.Zone && !b.Public
			}); i >= 0 {
				fixes = []Fix{
					{
						Title: "Use " + subnets[i].Name + " instead",
						Edits: with(slices.Replace(slices.Clone(a.Subnets), n, n+1, subnets[i].ID)),
					},
				}
			}
			c.add(
				"attachment-in-public-subnet", Risk, o.ID, fixes,
				"the attachment of %s to %s is in the public subnet %s",
				c.design.Title(a.What), hub, c.design.Get(id).Name,
			)
		}
	}
	for _, x := range subnets {
		b := x.Body.(*design.Subnet)
		if !served[b.Zone] && b.Zone != "" {
			served[b.Zone] = true
			var fixes []Fix
			if !b.Public {
				fixes = []Fix{
					{Title: "Add " + x.Name + " to the attachment", Edits: with(append(slices.Clone(a.Subnets), x.ID))},
				}
			}
			c.add(
				"attachment-skips-zone", Risk, o.ID, fixes,
				"the attachment of %s to %s has no subnet in %s, so its hosts there are cut off",
				c.design.Title(a.What),
				hub, b.Zone,
			)
		}
	}
}

// refused tells of an attachment that the hub refuses for what it overlaps. The
// smallest range that ends the clash is kept out of export at both.
func (c *collector) refused(o *design.Object, v status.Verdict) {
	own := c.design.AttachmentExports(o)
	for _, other := range c.design.Inside(o.Parent, design.KindAttachment) {
		a, b, clash := topology.Clash(own, c.design.AttachmentExports(other))
		if other.ID == o.ID || !clash {
			continue
		}
		smaller := a
		if b.Bits() > a.Bits() {
			smaller = b
		}
		keep := func(x *design.Object) design.Edit {
			edited := design.Edited(x, func(body *design.Attachment) {
				body.KeepOut = append(body.KeepOut, smaller)
			})
			return design.PutEdit(edited)
		}
		f := c.add(
			"hub-refuses-overlap", Broken, o.ID,
			[]Fix{
				{
					Title: fmt.Sprintf("Keep %s out of export at both", smaller),
					Edits: []design.Edit{keep(o), keep(other)},
				},
			},
			"%s", v.Why,
		)
		f.Line = v.Line
		return
	}
}

// unused tells of something that is gone or was refused, and that others still
// count on.
func (c *collector) unused(o *design.Object) {
	var on []string
	for _, r := range c.design.Referring(o.ID, design.KindTable, design.KindAttachment, design.KindCircuit) {
		if status.Exists(r) {
			on = append(on, c.design.Title(r.ID))
		}
	}
	if len(on) > 0 {
		f := c.add(
			"out-of-use", Risk, o.ID, nil, "%s; %s %s on it", c.st.Of(o.ID).Why,
			words.Count(len(on), "thing", "things"), words.Verb(len(on), "counts", "count"),
		)
		f.Evidence = on
	}
}

// box tells of a hub or edge router that is not there.
func (c *collector) box(o *design.Object) {
	v := c.st.Of(o.ID)
	var on []string
	for _, j := range c.design.JointsAt(o.ID) {
		if status.Exists(j.Object) {
			on = append(on, j.Name)
		}
	}
	if !v.Up && len(on) > 0 {
		f := c.add(
			"out-of-use", Risk, o.ID, nil, "%s; %s %s at it", v.Why, words.Count(len(on), "joint", "joints"),
			words.Verb(len(on), "ends", "end"),
		)
		f.Evidence = on
	}
	if o.Kind == design.KindEdgeRouter && v.Up {
		c.oneEdge(o)
	}
}

// profiles finds clouds that nothing is known about.
func (c *collector) profiles(*design.Object) {
	seen := map[string]bool{}
	for _, o := range c.design.Inside("", design.KindNetwork, design.KindHub) {
		cloud := design.CloudOf(o)
		if c.design.Profile(cloud) == nil && !seen[cloud] {
			seen[cloud] = true
			c.add(
				"no-profile", Untidy, o.ID, nil,
				"there is no profile for %s, so nothing says what it allows; add one under Links, Profiles", cloud,
			)
		}
	}
}

// Expiring finds order codes that have ended, or end by the day ahead. Both days
// are dates such as 2026-11-23.
func Expiring(d *design.Design, today, ahead string) []Finding {
	c := &collector{design: d}
	for o, b := range design.Each[design.Circuit](d.Of(design.KindCircuit)) {
		if b.Step != design.StepCode || b.Expires == "" {
			continue
		}
		fixes := []Fix{}
		edited := design.Edited(o, func(fresh *design.Circuit) {
			fresh.Step, fresh.Code, fresh.CodeZone, fresh.Expires, fresh.State = design.StepOrdered, "", "", "", design.Making
		})
		fixes = append(
			fixes,
			Fix{Title: "Order anew and wait for another code", Edits: []design.Edit{design.PutEdit(edited)}},
		)
		switch {
		case b.Expires < today:
			c.add(
				"code-expired", Risk, o.ID, fixes, "the order code of %s ended on %s and was not accepted", o.Name,
				b.Expires,
			)
		case b.Expires <= ahead:
			c.add(
				"code-expires", Risk, o.ID, fixes, "the order code of %s ends on %s; accept it at %s before", o.Name,
				b.Expires, d.Title(b.Ends[1].At),
			)
		}
	}
	for n := range c.out {
		x := &c.out[n]
		x.Link, x.Line, x.Key = joinOf(d, x.Subjects), "code", x.Code+"-"+string(x.Subjects[0])
	}
	return c.out
}

// SharedKeys finds tunnels that have one pre-shared key between them. groups
// are the tunnels by key, two or more in each.
func SharedKeys(d *design.Design, groups [][]design.ID) []Finding {
	c := &collector{design: d}
	for _, g := range groups {
		links := map[design.ID]bool{}
		var names []string
		for _, id := range g {
			if t := d.Get(id); t != nil {
				links[t.Parent] = true
				names = append(names, title(d, t))
			}
		}
		if len(links) > 1 {
			f := c.add(
				"key-reused", Risk, g[0], nil,
				"%s have the same pre-shared key: who learns one has all; make a new key on the sheet of all but one",
				strings.Join(names, " and "),
			)
			f.Subjects, f.Link, f.Line, f.Key = g, joinOf(d, g), "key", "key-reused-"+string(g[0])
		}
	}
	return c.out
}
