package handover

import (
	"fmt"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/route"
)

// device is a sheet for a box that reads no open format: what it must be set to, role by role, in the order in which it
// is entered. It is said in the terms of the standards, and names no product's menus.
func device(b *box.Box) []File {
	p := &page{}
	p.line("%s: a device sheet", b.Title)
	p.line("%s", strings.Repeat("=", len([]rune(b.Title))+16))
	part := func(title string, lines func()) {
		at := p.Len()
		p.line("")
		p.line("%s", title)
		before := p.Len()
		lines()
		if p.Len() == before {
			p.Truncate(at)
		}
	}
	part("Routing instances: nothing passes between them but by the crossings below", func() { deviceInstances(p, b) })
	part("Interfaces", func() { deviceInterfaces(p, b) })
	part("IPsec tunnels (RFC 4301, RFC 7296)", func() { deviceTunnels(p, b) })
	part("Routes", func() { deviceRoutes(p, b) })
	part("BGP (RFC 4271)", func() { deviceSessions(p, b) })
	part("Address translation, in this order", func() {
		for n, r := range b.Rules {
			p.line("  [ ] %d. %s", n+1, ruleText(r))
		}
		for _, l := range b.Listeners {
			how := "rewrite what comes for"
			if l.Proxies {
				how = "end connections to"
			}
			p.line("  [ ] %s: %s %s %s, and go on to %s port %d", l.Name, how, l.Address, l.Service, l.Dials, l.Port)
		}
	})
	part("Filters", func() {
		for _, f := range b.Filters {
			where := "what it passes on"
			if f.Itself {
				where = "what is for the box itself"
			}
			p.line("  [ ] %s, for %s; what no rule is for: %s", f.Name, where, f.Manner.In)
			for n, note := range f.Notes {
				p.line("      %d. %s", n+1, note)
			}
		}
	})
	return []File{{
		Path: folders.name(b.Name) + "/device-sheet.txt", About: "what a device that reads none of these files must be set " +
			"to, by role",
		Content: p.String(),
	}}
}

// deviceInstances are the routing instances, what of LANs in none is theirs, and what leads from one into another.
func deviceInstances(p *page, b *box.Box) {
	if len(b.Instances) == 1 {
		return
	}
	for _, i := range b.Instances[1:] {
		p.line("  [ ] %s: a routing instance (RFC 4364 section 3) of its own", i.Title)
		for _, l := range b.LANs {
			if ranges := i.Behind[l.ID]; len(ranges) > 0 {
				p.line("      what comes by %s from %s is in it", l.Name, words(ranges))
			}
		}
	}
	for _, c := range b.Crossings {
		hides := ""
		if c.Hides {
			hides = "; what goes there leaves with the box's own address, and nobody there can start"
		}
		p.line(
			"  [ ] crossing %s: %s has routes to %s of %s%s", c.Name, b.Instances[c.From].Title, words(c.Ranges),
			b.Instances[c.To].Title, hides,
		)
		for _, f := range c.Filters {
			p.line("      %s; what no rule is for: %s", f.Name, f.Manner.In)
			for n, note := range f.Notes {
				p.line("      %d. %s", n+1, note)
			}
		}
	}
}

// within says in which routing instance something is, of a box that has several.
func within(b *box.Box, segment design.ID) string {
	if len(b.Instances) == 1 {
		return ""
	}
	for _, i := range b.Instances[1:] {
		if i.Segment == segment {
			return ", in the instance of " + i.Title
		}
	}
	return ", in no instance: where everything meets"
}

func deviceInterfaces(p *page, b *box.Box) {
	for _, a := range b.Addresses {
		p.line("  [ ] outside: %s", a)
	}
	for _, l := range b.LANs {
		tag := ""
		if l.VLAN != 0 {
			tag = fmt.Sprintf(", VLAN tag %d", l.VLAN)
		}
		p.line("  [ ] inside, %s: an address in %s%s%s", l.Name, words(l.Ranges), tag, within(b, l.Segment))
	}
	for _, a := range b.Stands {
		p.line("  [ ] its address beside hosts: %s", a)
	}
	for _, c := range b.Circuits {
		tag := ""
		if c.VLAN != 0 {
			tag = fmt.Sprintf(", VLAN tag %d", c.VLAN)
		}
		if c.Inside.IsValid() {
			p.line("  [ ] %s: %s, far end %s%s%s", c.Name, c.Inside, c.FarInside, tag, within(b, c.Segment))
		}
	}
}

func deviceTunnels(p *page, b *box.Box) {
	for _, l := range b.Links {
		for _, t := range l.Tunnels {
			p.line("  [ ] %s, %s, to %s", l.Name, t.Name, l.Far)
			kind := "policy-based: its selectors decide what enters it"
			if l.Routed() {
				kind = "route-based: an interface of its own"
				if own := t.Insides(); len(own) > 0 {
					kind += " with " + words(own)
				}
			}
			p.line("      %s%s", kind, within(b, t.Segment))
			p.line("      outside %s to %s", addressOr(t.Set.Address.String()), addressOr(t.Set.Peer.String()))
			p.line("      identities %s and %s, with a pre-shared key", t.Set.Identity, orFill(t.Set.PeerIdentity))
			p.line("      IKEv%d: %s; new keys after %d s", t.Set.Version, strings.Join(t.Set.IKE, ", "), t.Set.IKELife)
			p.line("      ESP: %s; new keys after %d s", strings.Join(t.Set.ESP, ", "), t.Set.ChildLife)
			p.line("      asks after %d s whether the far end lives", t.Set.DPD)
			for _, pair := range t.Pairs() {
				p.line("      selectors %s and %s", pair.Local, pair.Remote)
			}
			if t.Set.MTU != 0 {
				p.line("      MTU %d", t.Set.MTU)
			}
			if t.Starts {
				p.line("      this end starts")
			} else {
				p.line("      the far end starts")
			}
		}
	}
}

func deviceRoutes(p *page, b *box.Box) {
	for _, i := range b.Instances {
		in := within(b, i.Segment)
		for _, r := range i.Table.Routes {
			entered := r.Source == route.Static || r.Source == route.CircuitStatic || r.Entered()
			if entered && r.Learned == nil && r.Expected == "" {
				p.line("  [ ] %s by %s%s", r.Prefix, r.Via, in)
			}
		}
	}
}

func deviceSessions(p *page, b *box.Box) {
	for _, s := range b.Sessions {
		p.line(
			"  [ ] %s AS %d with %s AS %d, hold time %d s%s", s.Set.Address, s.Set.ASN, s.Set.Peer, s.Set.PeerASN,
			s.Set.Hold, within(b, s.Segment),
		)
		for _, x := range []struct {
			word  string
			rules []design.Filter
		}{{"take", s.Near.In}, {"announce", s.Near.Out}} {
			for n, f := range x.rules {
				p.line("      %s %d. %s", x.word, n+1, filterText(f))
			}
		}
		if len(s.Near.Out) == 0 {
			for _, f := range families(s.Set) {
				for _, i := range b.Instances {
					if i.Segment == s.Segment {
						p.line("      announce %s: %s", f.Code(), words(advertised(i.Announces, s.Joint, f)))
					}
				}
			}
		}
		if s.Near.MaxPrefixes > 0 {
			p.line("      takes %d routes at most", s.Near.MaxPrefixes)
		}
	}
	for _, x := range b.Summaries {
		p.line("  [ ] announce %s as a summary", x.Prefix)
	}
}

// filterText is a rule of a filter of a session in words.
func filterText(f design.Filter) string {
	what := "everything"
	if f.Prefix.IsValid() {
		what = f.Prefix.String()
		if f.From != 0 || f.To != 0 {
			from, to := f.Lengths()
			what += fmt.Sprintf(" and its parts of length %d to %d", from, to)
		}
	}
	var with []string
	for _, x := range []struct {
		is   bool
		text string
	}{
		{len(f.Has) > 0, "with one of " + strings.Join(f.Has, ", ")},
		{f.Through > 0, fmt.Sprintf("through AS %d", f.Through)},
		{f.Neighbour > 0, fmt.Sprintf("from AS %d", f.Neighbour)},
		{f.Born > 0, fmt.Sprintf("that begins in AS %d", f.Born)},
		{f.Longest > 0, fmt.Sprintf("by at most %d ASes", f.Longest)},
		{f.LocalPref > 0, fmt.Sprintf("gets local preference %d", f.LocalPref)},
		{f.MED > 0, fmt.Sprintf("gets MED %d", f.MED)},
		{f.Prepend > 0, fmt.Sprintf("own AS prepended %d times", f.Prepend)},
		{len(f.Communities) > 0, "gets " + strings.Join(f.Communities, ", ")},
		{len(f.Take) > 0, "loses " + strings.Join(f.Take, ", ")},
	} {
		if x.is {
			with = append(with, x.text)
		}
	}
	does := map[string]string{design.Accept: "let through", design.Refuse: "refuse", design.GoOn: "go on with"}[f.Does()]
	return strings.TrimSpace(does + " " + what + " " + strings.Join(with, ", "))
}

// ruleText is a translation in words.
func ruleText(r box.Rule) string {
	out := r.Hook + ": "
	if len(r.Source) > 0 {
		out += "from " + words(r.Source) + " "
	}
	if len(r.Destination) > 0 {
		out += "to " + words(r.Destination) + " "
	}
	if r.FromName != "" {
		out += "that came by " + r.FromName + " "
	}
	if r.TowardName != "" {
		out += "that leaves by " + r.TowardName + " "
	}
	if len(r.Services) > 0 {
		out += "on " + words(r.Services) + " "
	}
	switch r.Does {
	case design.OneToOne:
		return out + fmt.Sprintf("map %s to %s, host by host", r.Real.Masked(), r.Into.Masked())
	case design.FromPool:
		return out + fmt.Sprintf("hide behind %s", r.Into)
	case design.OwnAddress:
		return out + "hide behind the box's own address"
	case design.ToTarget:
		return out + fmt.Sprintf("send on to %s", r.Target)
	}
	return out + "leave as it is"
}
