package finding

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/ledger"
	"dravin/core/overlap"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/walk"
)

// translations looks at what a gateway or box translates: what its cloud does not
// do, more rules than it takes, pools that others hold, and hiding that takes links
// along.
func (c *collector) translations(o *design.Object) {
	d := c.design
	rules := design.RulesOf(o)
	told := map[string]bool{}
	does := func(what string) {
		if why := route.NotOffered(d, o.ID, what); why != "" && !told[what] {
			told[what] = true
			c.add(
				"translation-not-offered", Broken, o.ID, nil, "%s is to translate (%s), and does not: %s", title(d, o),
				what, why,
			)
		}
	}
	if len(d.Referring(o.ID, design.KindMapping)) > 0 {
		does(design.OneToOne)
	}
	for _, body := range d.ListenersAt(o.ID) {
		if o.Kind == design.KindGateway && !body.Proxies() {
			does(design.ToTarget)
		}
	}
	for _, r := range rules {
		does(r.Does)
		if r.Into.IsValid() {
			c.heldElsewhere(o, "the range "+r.Into.String()+" of a rule of "+title(d, o), r.Into)
		}
	}
	if told, takes := route.RulesTaken(d, o.ID); takes > 0 && told > takes {
		c.add(
			"translation-rules-limit", Risk, o.ID, nil, "%s has %d rules and mappings, and its cloud takes %d",
			title(d, o), told, takes,
		)
	}
	if o.Kind == design.KindGateway {
		c.hidesLinks(o, rules)
	}
}

// heldElsewhere tells of a pool, mapped range or listener that somebody else holds.
// What lies among the party's own hosts is no matter of its own: who else has their
// range collides with them.
func (c *collector) heldElsewhere(o *design.Object, what string, p netip.Prefix) {
	own := c.design.Party(o.ID)
	if l, ok := o.Body.(*design.Listener); ok {
		own = c.design.Party(l.At)
	}
	if own != nil &&
		slices.ContainsFunc(c.design.Exports(own.ID), func(r netip.Prefix) bool { return prefix.Contains(r, p) }) {
		return
	}
	space := c.findings.claims.Get(c.design, "", claimsOf)
	space.Covering(p, func(x overlap.Claim) {
		if x.Kind != design.KindMapping && x.Kind != design.KindReservation && own != nil && x.Party != own.ID {
			c.addWith(x.Owner, "pool-collides", Broken, o.ID, "%s lies in %s, which %s holds", what, x.Prefix, x.Title)
		}
	})
}

func claimsOf(view *design.Design) *prefix.Table[overlap.Claim] {
	var t prefix.Table[overlap.Claim]
	for _, x := range overlap.Claims(view) {
		t.Add(x.Prefix, x)
	}
	return &t
}

// hidesLinks finds hiding that is meant for the internet and takes what selectors
// should take: that works when it is started from the far side only.
func (c *collector) hidesLinks(o *design.Object, rules []design.Rule) {
	for n, r := range rules {
		if r.Hook != design.Postrouting || r.Toward != "" || r.Does != design.OwnAddress && r.Does != design.FromPool {
			continue
		}
		for _, j := range c.design.Referring(o.ID, design.KindLink) {
			near, _, _, ok := j.Body.(*design.Link).End(o.ID)
			if !ok || !c.st.Intended(j) || j.Body.(*design.Link).Routing != design.RoutingSelectors {
				continue
			}
			taken := prefix.Free(near.Remote, exempted(rules[:n], r, j.ID, near.Remote))
			if len(r.Source) > 0 && len(prefix.Intersect(near.Local, r.Source)) == 0 {
				continue // it hides nobody whom the link's selectors name
			}
			if len(r.Destination) > 0 {
				taken = prefix.Intersect(taken, r.Destination)
			}
			if len(taken) == 0 {
				continue
			}
			f := c.addWith(
				j.ID,
				"hides-link-traffic",
				Risk,
				o.ID,
				"rule %d of %s hides what it sends to %s, too: %s has no selector for the hidden source, and works only when "+
					"the far side starts",
				n+1,
				title(c.design, o),
				taken[0],
				j.Name,
			)
			edited := design.Edited(o, func(body *design.Gateway) {
				body.Translate = slices.Insert(
					slices.Clone(rules), n,
					design.Rule{Hook: design.Postrouting, Does: design.Nothing, Destination: near.Remote},
				)
			})
			f.Fixes = append(
				f.Fixes,
				Fix{
					Title: fmt.Sprintf("Exempt %s before it", taken[0]),
					Edits: []design.Edit{design.PutEdit(edited)},
				},
			)
		}
	}
}

// exempted are the destinations over a link that rules before a hiding one leave alone,
// for all that it would hide.
func exempted(before []design.Rule, hides design.Rule, link design.ID, remote []netip.Prefix) []netip.Prefix {
	var out []netip.Prefix
	for _, b := range before {
		all := len(b.Source) == 0 || len(hides.Source) > 0 && len(prefix.Free(hides.Source, b.Source)) == 0
		if b.Hook != design.Postrouting || b.Does != design.Nothing || !all || len(b.Services) > 0 ||
			b.From != "" && b.From != hides.From || b.Toward != "" && b.Toward != link {
			continue
		}
		if len(b.Destination) == 0 {
			return remote
		}
		out = append(out, b.Destination...)
	}
	return out
}

// mapped finds a mapping whose range the far end does not send back.
func (c *collector) mapped(o *design.Object) {
	m := o.Body.(*design.Mapping)
	j, ok := design.JointOf(c.design.Get(m.Link))
	if !ok || !c.st.Of(m.Link).Up || route.NotOffered(c.design, m.Gateway, design.OneToOne) != "" {
		return
	}
	far, _, _ := j.Far(m.Gateway)
	p := c.tables.Point(far)
	if hub := c.design.Get(c.design.Get(far).Parent); hub != nil && hub.Kind == design.KindHub || p == nil {
		return
	}
	a := prefix.FirstHost(m.Mapped)
	if slices.ContainsFunc(
		p.Selectors, func(s route.Selector) bool { return s.Link == j.ID && s.Remote.Overlaps(m.Mapped) },
	) {
		return
	}
	if w := p.Lookup(a).Winner; w == nil || w.Hop.To != j.ID {
		c.addWith(
			far, "mapped-range-unknown", Risk, o.ID,
			"%s does not send %s into %s: what %s starts is not answered, and nobody beyond can start",
			c.design.Title(far),
			m.Mapped, j.Name, c.design.Title(m.Gateway),
		)
	}
}

// publishedService looks at a listener: whether it is there, and its target
// listens.
func (c *collector) publishedService(o *design.Object) {
	l := o.Body.(*design.Listener)
	if v := c.st.Of(o.ID); !v.Up {
		c.add("published-service-down", Broken, o.ID, nil, "%s is not reached: %s", o.Name, v.Why)
	}
	if slices.Contains(ledger.Unanswered(c.design), o) {
		to, port := c.design.DialOf(l)
		c.addWith(
			l.Target, "published-service-unanswered", Risk, o.ID,
			"%s leads to %s port %d, where %s does not answer that", o.Name, to, port, c.design.Title(l.Target),
		)
	}
	if home := c.design.Get(walk.HomeOf(c.design, l.Target)); l.Hides && !l.Proxies() && home != nil &&
		home.Kind == design.KindLAN &&
		home.Parent == c.design.Get(l.At).Parent &&
		!slices.ContainsFunc(design.StandsAt(c.design.Get(l.At)), func(a netip.Addr) bool {
			return slices.ContainsFunc(design.RangesOf(home), func(r netip.Prefix) bool { return r.Contains(a) })
		}) {
		c.add(
			"own-address-unknown",
			Risk,
			o.ID,
			nil,
			"%s hides callers behind the address that %s has in %s, and nobody has said which that is: set what it stands at",
			o.Name,
			c.design.Title(l.At),
			c.design.Title(home.ID),
		)
	}
	c.heldElsewhere(o, "the address "+l.Address.String()+" of "+o.Name, prefix.Alone(l.Address))
	for _, place := range c.design.Inside(c.design.Party(l.At).ID, design.KindLAN) {
		if prefix.Has(allocation.GivenOut(c.design, place.ID), l.Address) {
			c.add(
				"address-given-out", Risk, o.ID, nil, "%s listens on %s, which %s gives out to hosts", o.Name, l.Address,
				c.design.Title(place.ID),
			)
		}
	}
}

// apart finds LANs of two segments that a gateway can not tell apart: of one range, and without VLAN tags that differ.
func (c *collector) apart(o *design.Object) {
	lans := route.LANsOf(c.design, o)
	for n, a := range lans {
		for _, b := range lans[:n] {
			x, y := c.design.SegmentOf(a.ID), c.design.SegmentOf(b.ID)
			tags := [2]uint16{a.Body.(*design.LAN).VLAN, b.Body.(*design.LAN).VLAN}
			if x == "" || y == "" || x == y || tags[0] != tags[1] {
				continue
			}
			if p, same := sameRange(c.design.Ranges(a.ID), c.design.Ranges(b.ID)); same {
				f := c.add(
					"lans-not-told-apart", Broken, a.ID, nil,
					"%s and %s have %s in two segments and no VLAN tags that differ: %s can not tell them apart, and its script "+
						"sets up nothing", c.design.Title(a.ID), c.design.Title(b.ID), p, c.design.Title(o.ID),
				)
				f.Subjects = append(f.Subjects, b.ID, o.ID)
			}
		}
	}
}

func sameRange(a, b []netip.Prefix) (netip.Prefix, bool) {
	for _, p := range a {
		if slices.Contains(b, p) {
			return p, true
		}
	}
	return netip.Prefix{}, false
}

// pools tells of pools that are full, or soon will be.
func (c *collector) pools(*design.Object) {
	for _, p := range ledger.Pools(c.tables) {
		switch {
		case p.Hosts > p.Fits:
			c.add("pool-too-small", Risk, p.At, c.largerPool(p), "the pool %s at %s: %s", p.Pool, p.Title, p.Ends)
		case p.Percent >= 80:
			c.add(
				"pool-fills", Untidy, p.At, nil, "the pool %s at %s is %d %% full when all hosts are there: %s", p.Pool,
				p.Title, p.Percent, p.Ends,
			)
		}
	}
}

// unneeded names translations that nothing needs any more.
func (c *collector) unneeded(*design.Object) {
	for _, u := range ledger.UnneededOf(c.tables) {
		c.add("translation-unneeded", Untidy, u.Of, nil, "%s: %s", u.Title, u.Why)
	}
}

// addWith is add, of two subjects.
func (c *collector) addWith(
	second design.ID,
	code string,
	s Severity,
	subject design.ID,
	sentence string,
	args ...any,
) *Finding {
	f := c.add(code, s, subject, nil, sentence, args...)
	f.Subjects = append(f.Subjects, second)
	return f
}
