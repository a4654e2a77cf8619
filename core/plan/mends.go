package plan

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/core/prefix"
	"dravin/core/settings"
	"dravin/core/sheet"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/walk"
)

// known are all ranges by which the ends of the flow are known to anybody, and what is dialled.
func (x around) known() []netip.Prefix {
	d := x.state.design()
	var out []netip.Prefix
	for _, pair := range x.ranges() {
		for n, id := range pair {
			place := walk.HomeOf(d, id)
			for _, p := range d.Ranges(place) {
				out = append(out, p)
				if far := d.Party(walk.HomeOf(d, pair[1-n])); far != nil {
					if seen := walk.RangeSeenAs(x.state.built.Tables(), far.ID, place, p); seen.IsValid() {
						out = append(out, seen)
					}
				}
			}
		}
	}
	p := x.result.Proof
	if p.Dialled.IsValid() {
		out = append(out, prefix.Alone(p.Dialled))
	}
	if n := len(p.Forward); n > 0 { // as who it comes to where it stops
		out = append(out, prefix.Alone(p.Forward[n-1].Header.Src))
	}
	slices.SortFunc(out, func(a, b netip.Prefix) int { return a.Compare(b) })
	return slices.Compact(out)
}

// standingMends let what is down come up: answers and steps that somebody waits for, halves, lines of
// sheets that differ.
func standingMends(x around) (out []mend) {
	d := x.state.design()
	st := x.state.built.Tables().Status
	for _, o := range x.joints {
		if r := lifecycle.OpenRequest(d, o.ID); r != nil {
			if edits, err := lifecycle.Answer(d, r, true, "as planned"); err == nil {
				out = append(out, x.at(o, "accept the request "+r.Name, edits...))
			}
		}
		parts := append([]*design.Object{o}, topology.CarriersOf(d, o)...)
		parts = append(parts, topology.SessionsOf(d, o)...)
		for _, part := range slices.Compact(parts) {
			if topology.KindOf(part) != nil && !st.Of(part.ID).Up {
				for _, s := range lifecycle.Steps(d, part) {
					if s.Needs == "" && s.Key != "gone" {
						out = append(out, x.at(part, lower(s.Title)+": "+d.Title(part.ID), s.Edits...))
					}
				}
			}
			for _, l := range sheet.LinesOf(d, part) {
				if l.Verdict != sheet.Differs && part.Kind != design.KindAttachment && part.Kind != design.KindPeering {
					continue
				}
				for _, f := range l.Fixes {
					out = append(out, x.at(part, lower(f.Title), f.Edits...))
				}
			}
		}
	}
	return out
}

func lower(text string) string {
	if text == "" {
		return text
	}
	return string(text[0]|0x20) + text[1:]
}

// faultMends end what keeps boxes from forwarding.
func faultMends(x around) (out []mend) {
	for _, o := range x.objects {
		for _, fault := range design.FaultsOf(o) {
			without := func(list []string) []string {
				return slices.DeleteFunc(slices.Clone(list), func(f string) bool { return f == fault })
			}
			var now *design.Object
			switch o.Body.(type) {
			case *design.Gateway:
				now = design.Edited(o, func(b *design.Gateway) { b.Faults = without(b.Faults) })
			case *design.Box:
				now = design.Edited(o, func(b *design.Box) { b.Faults = without(b.Faults) })
			}
			out = append(out, x.at(o, "end "+fault+" at "+o.Name, design.PutEdit(now)))
		}
	}
	return out
}

// filterMends let sessions tell, take and hold what the flow needs.
func filterMends(x around) (out []mend) {
	d := x.state.design()
	known := x.known()
	for _, joint := range x.joints {
		for _, o := range topology.SessionsOf(d, joint) {
			for n := range o.Body.(*design.Session).Ends {
				end := func(text string, change func(*design.SessionEnd)) {
					if settings.FiltersFixed(d, o, n) {
						return
					}
					now := design.Edited(o, func(b *design.Session) { change(&b.Ends[n]) })
					if !design.Same(o, now) {
						out = append(out, x.at(o, text+" over "+joint.Name, design.PutEdit(now)))
					}
				}
				lets := func(list *[]design.Filter) {
					for _, p := range known {
						if len(*list) > 0 && !design.Lets(*list, p) {
							*list = append([]design.Filter{{Prefix: p}}, *list...)
						}
					}
				}
				end("take more", func(e *design.SessionEnd) { lets(&e.In) })
				end("announce more", func(e *design.SessionEnd) { lets(&e.Out) })
				end("announce what is learned elsewhere, too,", func(e *design.SessionEnd) {
					if len(e.Out) == 0 {
						for _, f := range prefix.Families {
							all := f.Everything()
							e.Out = append(e.Out, design.Filter{Prefix: all, From: 1, To: uint8(all.Addr().BitLen())})
						}
					}
				})
				end("take more routes", func(e *design.SessionEnd) {
					if e.MaxPrefixes > 0 {
						e.MaxPrefixes *= 4
					}
				})
				end("allow the own ASN in a path", func(e *design.SessionEnd) { e.AllowOwn = max(e.AllowOwn, 1) })
			}
		}
	}
	return out
}

// tableMends are entries of networks' tables: to publish again, to take out, to learn, to enter.
func tableMends(x around) (out []mend) {
	d := x.state.design()
	known := x.known()
	for _, o := range x.objects {
		t, ok := o.Body.(*design.Table)
		if !ok {
			out = append(out, gatewayMends(x, o, known)...)
			continue
		}
		change := func(text string, do func(*design.Table)) {
			if now := design.Edited(o, do); !design.Same(o, now) {
				out = append(out, x.at(o, text+" in "+o.Name, design.PutEdit(now)))
			}
		}
		change("learn what gateways and hubs know", func(b *design.Table) { b.Learns = "yes" })
		for n, e := range t.Routes {
			if !slices.ContainsFunc(known, e.Prefix.Overlaps) {
				continue
			}
			if e.Publish != design.Published {
				change(
					fmt.Sprintf("publish %s", e.Prefix),
					func(b *design.Table) { b.Routes[n].Publish = design.Published },
				)
			}
			change(fmt.Sprintf("no longer enter %s", e.Prefix), func(b *design.Table) {
				b.Routes = slices.Delete(b.Routes, n, n+1)
			})
		}
		for _, via := range waysAt(d, o.Parent, x.joints) {
			for _, p := range known {
				change(fmt.Sprintf("enter %s via %s", p, design.WayWords(d.Get, via)), func(b *design.Table) {
					if !prefix.Has(d.Ranges(o.Parent), p.Addr()) {
						b.Routes = slices.DeleteFunc(b.Routes, func(e design.Entry) bool { return e.Prefix == p })
						b.Routes = append(b.Routes, design.Entry{Prefix: p, Via: via})
					}
				})
			}
		}
	}
	return out
}

// waysAt are what entries of a network's tables may lead to, of some joints.
func waysAt(d *design.Design, network design.ID, joints []*design.Object) (out []design.ID) {
	for _, o := range joints {
		j, ok := design.JointOf(o)
		if !ok {
			continue
		}
		for _, end := range j.Ends {
			p := d.Party(end)
			switch {
			case p == nil || p.ID != network:
			case o.Kind == design.KindPeering || o.Kind == design.KindAttachment:
				out = append(out, o.ID)
			case !slices.Contains(out, end):
				out = append(out, end)
			}
		}
	}
	return out
}

// gatewayMends are what a gateway announces and knows.
func gatewayMends(x around, o *design.Object, known []netip.Prefix) (out []mend) {
	if _, ok := o.Body.(*design.Gateway); !ok {
		return nil
	}
	d := x.state.design()
	change := func(text string, do func(*design.Gateway)) {
		if now := design.Edited(o, do); !design.Same(o, now) {
			out = append(out, x.at(o, text+" at "+o.Name, design.PutEdit(now)))
		}
	}
	change("no longer keep out", func(g *design.Gateway) { g.KeepOut = prefix.Free(g.KeepOut, known) })
	change("announce more", func(g *design.Gateway) {
		for _, p := range known {
			if g.Announces == design.AnnounceList && prefix.Has(d.Ranges(o.Parent), p.Addr()) {
				g.List = prefix.Minimal(append(g.List, p))
			}
		}
	})
	change("announce the blocks", func(g *design.Gateway) {
		if g.Announces != design.AnnounceList {
			g.Announces = ""
		}
	})
	if d.Get(o.Parent).Kind == design.KindNetwork {
		change("know what the hubs know", func(g *design.Gateway) {
			g.HubRoutes = len(d.Referring(o.Parent, design.KindAttachment)) > 0
		})
	}
	if d.Get(o.Parent).Kind == design.KindSite {
		for n, r := range o.Body.(*design.Gateway).Routes {
			if slices.ContainsFunc(known, r.Prefix.Overlaps) {
				change(fmt.Sprintf("no longer route %s", r.Prefix), func(g *design.Gateway) {
					g.Routes = slices.Delete(g.Routes, n, n+1)
				})
			}
		}
	}
	return out
}

// hubMends are what attachments export and serve, and static entries of hubs.
func hubMends(x around) (out []mend) {
	d := x.state.design()
	known := x.known()
	for _, o := range x.joints {
		a, ok := o.Body.(*design.Attachment)
		if !ok {
			continue
		}
		change := func(text string, do func(*design.Attachment)) {
			if now := design.Edited(o, do); !design.Same(o, now) {
				out = append(out, x.at(o, text+" at "+d.Title(o.Parent), design.PutEdit(now)))
			}
		}
		change("no longer keep out of export", func(b *design.Attachment) { b.KeepOut = prefix.Free(b.KeepOut, known) })
		for s, body := range design.Each[design.Subnet](d.Inside(a.What, design.KindSubnet)) {
			if len(a.Subnets) > 0 && !body.Public && !topology.ServesZone(d, o, s) {
				change(
					"serve "+body.Zone+" by "+s.Name,
					func(b *design.Attachment) { b.Subnets = append(b.Subnets, s.ID) },
				)
			}
		}
		for _, t := range d.Inside(o.Parent, design.KindHubTable) {
			change("bind it to and feed "+t.Name, func(b *design.Attachment) {
				b.Bound = t.ID
				if !slices.Contains(b.Feeds, t.ID) {
					b.Feeds = append(b.Feeds, t.ID)
				}
			})
		}
	}
	for _, o := range x.objects {
		t, ok := o.Body.(*design.HubTable)
		if !ok {
			continue
		}
		change := func(text string, do func(*design.HubTable)) {
			if now := design.Edited(o, do); !design.Same(o, now) {
				out = append(out, x.at(o, text+" in "+d.Title(o.ID), design.PutEdit(now)))
			}
		}
		for n, e := range t.Routes {
			if slices.ContainsFunc(known, e.Prefix.Overlaps) {
				change(fmt.Sprintf("no longer enter %s", e.Prefix), func(b *design.HubTable) {
					b.Routes = slices.Delete(b.Routes, n, n+1)
				})
			}
		}
		for _, a := range x.joints {
			if a.Parent != o.Parent || a.Kind != design.KindAttachment {
				continue
			}
			for _, p := range known {
				change(fmt.Sprintf("enter %s via %s", p, a.Name), func(b *design.HubTable) {
					b.Routes = append(b.Routes, design.HubEntry{Prefix: p, Via: a.ID})
				})
			}
		}
	}
	return out
}

// peeringMends lend a gateway over a peering, both halves at once, and let what is forwarded in.
func peeringMends(x around) (out []mend) {
	d := x.state.design()
	for _, o := range x.joints {
		b, ok := o.Body.(*design.Peering)
		if !ok || !status.Exists(o) {
			continue
		}
		rule := d.ProfileOf(b.Halves[0].Network)
		if rule == nil || rule.Peering == nil {
			continue
		}
		for n := range b.Halves {
			if rule.Peering.LendGateway {
				now := design.Edited(o, func(b *design.Peering) {
					b.Halves[n].LendsGateway, b.Halves[1-n].UsesGateway = true, true
				})
				out = append(out, x.at(
					o, fmt.Sprintf(
						"lend the gateway of %s to %s", d.Title(b.Halves[n].Network), d.Title(b.Halves[1-n].Network),
					),
					design.PutEdit(now),
				))
			}
		}
	}
	return slices.DeleteFunc(out, func(m mend) bool { return design.Same(d.Get(m.change.Box), m.edits[0].Object) })
}

// callMends let callers in, and hosts answer.
func callMends(x around) (out []mend) {
	d := x.state.design()
	for o, l := range design.Each[design.Listener](d.Of(design.KindListener)) {
		if len(l.Callers) == 0 || !slices.Contains(x.parties, partyAt(d, l.At)) {
			continue
		}
		now := design.Edited(o, func(b *design.Listener) {
			for _, p := range x.known() {
				if !prefix.Has(b.Callers, p.Addr()) && p.Addr().Is4() == b.Address.Is4() {
					b.Callers = append(b.Callers, p)
				}
			}
		})
		if !design.Same(o, now) {
			out = append(out, x.at(d.Get(l.At), "let more call "+o.Name, design.PutEdit(now)))
		}
	}
	if stop := x.result.Stop(); stop != nil && stop.Code == walk.NotAnswered {
		if o := d.Get(stop.At.ID); o != nil && o.Kind == design.KindEndpoint {
			now := design.Edited(o, func(b *design.Endpoint) { b.Answers = append(b.Answers, x.intent.Service) })
			out = append(out, x.at(o, fmt.Sprintf("let %s answer %s", o.Name, x.intent.Service), design.PutEdit(now)))
		}
	}
	return out
}

func partyAt(d *design.Design, id design.ID) design.ID {
	if p := d.Party(id); p != nil {
		return p.ID
	}
	return ""
}

// hidingMends leave what goes over a joint out of what a gateway hides toward everything.
func hidingMends(x around) (out []mend) {
	d := x.state.design()
	for _, o := range x.joints {
		j, ok := design.JointOf(o)
		if !ok || !topology.BetweenBoxes(o.Kind) {
			continue
		}
		for _, end := range j.Ends {
			if d.Get(end).Kind != design.KindGateway {
				continue
			}
			if now := design.Exempted(d.Get(end), o.ID); now != nil {
				out = append(out, x.at(
					d.Get(end), fmt.Sprintf(
						"hide nothing toward %s at %s", o.Name, d.Get(end).Name,
					), design.PutEdit(now),
				))
			}
		}
	}
	return out
}
