package finding

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/provider"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/sheet"
	"dravin/core/status"
	"dravin/core/words"
)

// collector gathers the findings of one check.
type collector struct {
	design   *design.Design
	findings *Findings
	tables   *route.Tables
	st       *status.Status
	out      []Finding
}

func (c *collector) add(
	code string,
	s Severity,
	subject design.ID,
	fixes []Fix,
	sentence string,
	args ...any,
) *Finding {
	if fixes == nil {
		fixes = []Fix{}
	}
	c.out = append(
		c.out,
		Finding{
			Code: code, Severity: s, Subjects: []design.ID{subject}, Sentence: fmt.Sprintf(sentence, args...),
			Evidence: []string{}, Fixes: fixes,
		},
	)
	return &c.out[len(c.out)-1]
}

// inUse is how bad it is that something does not work: less while it is only
// being drafted or built.
func inUse(d *design.Design, o *design.Object) Severity {
	if d.StateOf(o.ID) == design.Ready {
		return Broken
	}
	return Risk
}

// ends compares the two ends of a tunnel.
func (c *collector) ends(o, t *design.Object) {
	policy := o.Body.(*design.Link).Routing == design.RoutingSelectors
	ends := settings.SettingsOf(c.design, t, "")
	outcome := negotiate.Agree(ends[0], ends[1])
	var differing []sheet.Line
	for _, l := range sheet.Lines(c.design, t, [2]string{}) {
		switch {
		case l.Verdict == sheet.Unknown && strings.HasPrefix(l.Key, "address") && c.design.StateOf(o.ID) != design.NotBegun:
			c.add(
				"address-unknown", Risk, t.ID, nil, "%s of %s is not known yet: %s", l.Label, title(c.design, t), l.Why,
			)
		case l.Verdict == sheet.Beware && strings.HasSuffix(l.Key, "-life"):
			c.add(
				"lifetimes-differ", Untidy, t.ID, fixesOf(l), "the %s of %s differs, %s against %s: %s",
				words.Lower(l.Label), title(c.design, t), l.Values[0], l.Values[1], l.Why,
			)
		case l.Verdict == sheet.Beware && l.Key == "mtu":
			c.add("mtu-too-large", Risk, t.ID, fixesOf(l), "the MTU of %s is too large: %s", title(c.design, t), l.Why)
		case l.Verdict == sheet.Differs && !(policy && strings.HasPrefix(l.Key, "selectors")) &&
			!strings.HasPrefix(l.Key, "bgp") && !strings.HasPrefix(l.Key, "asn"):
			differing = append(differing, l)
		}
	}
	if len(differing) == 0 {
		return
	}
	severity := inUse(c.design, o)
	if outcome.Up {
		severity = Risk
	}
	f := c.add(
		"ends-differ", severity, t.ID, nil, "the two ends of %s differ in %s: %s",
		title(c.design, t), wordsOf(differing),
		outcome.Why,
	)
	for _, l := range differing {
		f.Evidence = append(f.Evidence, fmt.Sprintf("%s: %s against %s", l.Label, l.Values[0], l.Values[1]))
		f.Fixes = append(f.Fixes, fixesOf(l)...)
	}
}

func title(d *design.Design, tunnel *design.Object) string {
	return d.Get(tunnel.Parent).Name + ", " + tunnel.Name
}

func wordsOf(lines []sheet.Line) string {
	words := make([]string, len(lines))
	for n, l := range lines {
		words[n] = l.Label
	}
	return strings.Join(words, ", ")
}

func fixesOf(l sheet.Line) []Fix {
	out := []Fix{}
	for _, m := range l.Fixes {
		out = append(out, Fix{Title: m.Title + " (" + words.Lower(l.Label) + ")", Edits: m.Edits})
	}
	return out
}

// offeredByCloud finds proposals that a cloud's end is set to and that its cloud does not have: nobody can enter them.
func (c *collector) offeredByCloud(o, t *design.Object) {
	link := o.Body.(*design.Link)
	for n, e := range t.Body.(*design.Tunnel).Ends {
		v := c.design.VPNOf(link.Ends[n].Gateway)
		if v == nil {
			continue
		}
		for _, x := range []struct {
			proto    negotiate.Protocol
			set, has []string
		}{{negotiate.IKE, e.IKE, v.IKE}, {negotiate.ESP, e.ESP, v.ESP}} {
			other := slices.DeleteFunc(slices.Clone(x.set), func(p string) bool { return slices.Contains(x.has, p) })
			if len(x.has) == 0 || len(other) == 0 {
				continue
			}
			f := c.addWith(
				t.ID, "proposal-not-offered", Risk, link.Ends[n].Gateway,
				"%s is set to offer %s for %s on %s, which its cloud does not have; it has %s",
				settings.EndTitle(c.design, link, n), words.List(other), x.proto, title(c.design, t), words.List(x.has),
			)
			f.Line = strings.ToLower(fmt.Sprint(x.proto))
			f.Fixes = append(f.Fixes, Fix{
				Title: fmt.Sprintf("Let both ends offer %s for %s", words.List(x.has), x.proto),
				Edits: draft.SetOffers(t, x.proto, x.has),
			})
		}
	}
}

// proposals finds weak ones that an end is set to offer.
func (c *collector) proposals(o, t *design.Object) {
	c.offeredByCloud(o, t)
	for n, s := range settings.SettingsOf(c.design, t, "") {
		for _, offer := range []struct {
			proto negotiate.Protocol
			list  []string
		}{{negotiate.IKE, s.IKE}, {negotiate.ESP, s.ESP}} {
			var weak, fit []string
			why := ""
			for _, text := range offer.list {
				p, err := negotiate.ParseProposal(offer.proto, text)
				switch {
				case err != nil: // the two ends differ then, which is said elsewhere
				case p.Weak() != "":
					weak, why = append(weak, text), p.Weak()
				default:
					fit = append(fit, text)
				}
			}
			if len(weak) == 0 {
				continue
			}
			if len(fit) == 0 {
				fit = negotiate.Strong.IKE[:2]
				if offer.proto == negotiate.ESP {
					fit = negotiate.Strong.ESP[:2]
				}
			}
			end := settings.EndTitle(c.design, o.Body.(*design.Link), n)
			x := c.add(
				"weak-proposal",
				Risk,
				t.ID,
				[]Fix{
					{
						Title: fmt.Sprintf("Let both ends offer %s for %s only", strings.Join(fit, ", "), offer.proto),
						Edits: draft.SetOffers(t, offer.proto, fit),
					},
				},
				"%s offers a weak %s proposal on %s, %s: %s",
				end,
				offer.proto,
				title(c.design, t),
				strings.Join(weak, ", "),
				why,
			)
			x.Line = strings.ToLower(string(offer.proto))
		}
	}
}

// insideAllowed holds inside addresses against what the ends' profiles take.
func (c *collector) insideAllowed(o, t *design.Object) {
	if why, at := settings.InsideRefused(c.design, t); why != "" {
		f := c.add(
			"inside-not-allowed", inUse(c.design, o), t.ID, nil, "the inside range %s of %s %s (%s)",
			t.Body.(*design.Tunnel).Inside[0].Masked(), title(c.design, t), why, c.design.Title(at),
		)
		f.Line, f.more = "inside-1", otherInside(o.ID, t.ID)
	}
}

// otherInside fixes by a free inside range.
func otherInside(o, t design.ID) func(context.Context, *Findings) []Fix {
	return func(_ context.Context, f *Findings) []Fix {
		d := f.design()
		var rules [2]*provider.Inside
		for n, e := range d.Get(o).Body.(*design.Link).Ends {
			if v := d.VPNOf(e.Gateway); v != nil {
				rules[n] = &v.Inside
			}
		}
		free, err := draft.TakeInside(allocation.NewBooks(d), rules[0], rules[1])
		if err != nil {
			return nil
		}
		return []Fix{{Title: "Use the free inside range " + free.String(), Edits: draft.SetInside(d, d.Get(t), free)}}
	}
}

// insideTwice finds inside ranges that two tunnels have.
func (c *collector) insideTwice(*design.Object) {
	var ranges []netip.Prefix
	var of []*design.Object
	for t, body := range design.Each[design.Tunnel](c.design.Of(design.KindTunnel)) {
		if b := body; len(b.Inside) == 2 {
			ranges, of = append(ranges, b.Inside[0].Masked()), append(of, t)
		}
	}
	for x, y := range prefix.Pairs(ranges) {
		a, b := of[min(x, y)], of[max(x, y)]
		c.add(
			"inside-address-twice", Risk, b.ID, nil, "%s and %s both use the inside range %s", title(c.design, a),
			title(c.design, b), ranges[max(x, y)],
		).more = otherInside(b.Parent, b.ID)
	}
}

// tunnels finds links with fewer tunnels than there should be.
func (c *collector) tunnels(o *design.Object, tunnels []*design.Object) {
	l := o.Body.(*design.Link)
	want, why := 1, ""
	for _, e := range l.Ends {
		if v := c.design.VPNOf(e.Gateway); v != nil && int(v.Tunnels) > want {
			want, why = int(v.Tunnels), fmt.Sprintf(
				"a %s gateway of %s makes %d with each link, and one that is not set up fails at the next maintenance",
				v.Name, c.design.Title(e.Gateway), v.Tunnels,
			)
		} else if g := c.design.Get(e.Gateway).Body.(*design.Gateway); v == nil && fours(g) > want {
			want, why = 2, c.design.Title(e.Gateway)+" has a second public address that could carry another"
		}
	}
	c.unspoken(o, l, tunnels)
	if len(tunnels) == 0 || len(tunnels) >= want {
		return
	}
	x := c.add("single-tunnel", Risk, o.ID, nil, "%s has %d of %d tunnels: %s", o.Name, len(tunnels), want, why)
	x.Line, x.more = "tunnels", func(_ context.Context, f *Findings) []Fix {
		if edits := draft.AddTunnel(f.design(), f.design().Get(o.ID)); len(edits) > 0 {
			return []Fix{{Title: "Add a second tunnel with free inside addresses", Edits: edits}}
		}
		return nil
	}
}

// unspoken finds tunnels of a link that learns its routes which have no session, beside others that have.
func (c *collector) unspoken(o *design.Object, l *design.Link, tunnels []*design.Object) {
	if l.Routing != design.RoutingBGP {
		return
	}
	var like *design.Object
	for _, t := range tunnels {
		if all := c.design.Inside(t.ID, design.KindSession); len(all) > 0 && like == nil {
			like = all[0]
		}
	}
	for _, t := range tunnels {
		in := t.Body.(*design.Tunnel).Inside
		if like == nil || len(in) != 2 || len(c.design.Inside(t.ID, design.KindSession)) > 0 {
			continue
		}
		same := design.Edited(like, func(b *design.Session) {
			for n := range b.Ends {
				b.Ends[n].Address, b.Ends[n].Peer = in[n].Addr(), netip.Addr{}
			}
		})
		same.ID, same.Parent = design.IDFor(design.KindSession, string(t.ID)+"/"+like.Name), t.ID
		fix := Fix{
			Title: "Add a session like that of " + c.design.Get(like.Parent).Name,
			Edits: []design.Edit{design.PutEdit(same)},
		}
		c.add(
			"tunnel-without-session", Risk, t.ID, []Fix{fix},
			"%s has no BGP session, and the link learns its routes by sessions: nothing ever goes by it", title(c.design, t),
		)
	}
}

func fours(g *design.Gateway) int {
	n := 0
	for _, a := range g.Addresses {
		if a.Is4() {
			n++
		}
	}
	return n
}

// session finds sessions that do not come up, and ASNs kept in two places.
func (c *collector) session(o *design.Object) {
	s := o.Body.(*design.Session)
	carrier := c.design.Get(o.Parent)
	if carrier.Kind == design.KindTunnel {
		carrier = c.design.Get(carrier.Parent)
	}
	if !status.Exists(carrier) {
		return
	}
	set := settings.SessionEndsOf(c.design, o)
	name := "the session of " + status.CarrierName(c.design, o)
	if out := negotiate.AgreeSession(set[0], set[1]); !out.Up {
		f := c.add("session-down", inUse(c.design, carrier), o.ID, nil, "%s does not come up: %s", name, out.Why)
		for _, l := range sheet.Differing(sheet.SessionLines(c.design, o)) {
			f.Evidence = append(f.Evidence, fmt.Sprintf("%s: %s against %s", l.Label, l.Values[0], l.Values[1]))
			f.Fixes = append(f.Fixes, fixesOf(l)...)
		}
	}
	said := settings.BGPEnds(s)
	for _, f := range said[0].Families {
		if slices.Contains(said[1].Families, f) && !settings.HasNextHops(c.design, o, f) {
			c.add(
				"family-without-next-hop", Risk, o.ID, nil,
				"%s is to carry %s, of which its ends have no addresses there: what is announced of it has no next hop", name, f,
			).Line = "bgp-families"
		}
	}
	for n, e := range s.Ends {
		at := settings.Speaker(c.design, o, n)
		if at == nil {
			continue
		}
		if own := asnOf(at); own != 0 && own != e.ASN {
			body := design.Session{Ends: slices.Clone(s.Ends)}
			body.Ends[n].ASN = own
			c.add(
				"asn-in-two-places",
				Risk,
				o.ID,
				[]Fix{
					{
						Title: fmt.Sprintf("Use ASN %d in the session", own),
						Edits: []design.Edit{design.PutEdit(o.With(&body))},
					},
				},
				"%s has ASN %d, and %s uses %d for it",
				c.design.Title(at.ID),
				own,
				name,
				e.ASN,
			)
		}
	}
}

func asnOf(o *design.Object) uint32 {
	switch b := o.Body.(type) {
	case *design.Gateway:
		return b.ASN
	case *design.EdgeRouter:
		return b.ASN
	}
	return 0
}

var faultWords = map[string]string{
	"forwarding-off": "has forwarding off, so nothing passes through it",
	"source-check":   "checks that packets come from its own address, so nothing passes through it",
	"strict-reverse-path": "has a strict reverse-path filter, which drops what comes in by another way than it would " +
		"go out",
}

// faults finds gateways and boxes that can not do their work.
func (c *collector) faults(o *design.Object) {
	list := design.FaultsOf(o)
	for n, fault := range list {
		fixed := slices.Delete(slices.Clone(list), n, n+1)
		var body design.Body
		switch b := o.Body.(type) {
		case *design.Gateway:
			x := *b
			x.Faults = fixed
			body = &x
		case *design.Box:
			x := *b
			x.Faults = fixed
			body = &x
		}
		c.add(
			"gateway-does-not-forward", Broken, o.ID,
			[]Fix{{Title: "It is put right", Edits: []design.Edit{design.PutEdit(o.With(body))}}}, "%s %s",
			c.design.Title(o.ID), faultWords[fault],
		)
	}
}

// gateway finds gateways that can not do their work.
func (c *collector) gateway(o *design.Object) {
	g := o.Body.(*design.Gateway)
	c.faults(o)
	v := c.design.VPNOf(o.ID)
	if v == nil {
		return
	}
	if v.OwnSubnet > 0 && g.Subnet != "" {
		for _, p := range c.design.Ranges(g.Subnet) {
			if p.Bits() > int(v.OwnSubnet) {
				var fixes []Fix
				if edits := draft.LargerSubnet(c.design, o, v); edits != nil {
					fixes = []Fix{{Title: fmt.Sprintf("Give it a free /%d", v.OwnSubnet), Edits: edits}}
				}
				c.add(
					"gateway-too-small", Risk, o.ID, fixes,
					"the subnet %s of %s is too small: its cloud wants a /%d or larger", p, c.design.Title(o.ID),
					v.OwnSubnet,
				)
			}
		}
	}
	if most := c.design.ProfileOf(o.ID).Limits.Tunnels; most > 0 {
		n := 0
		for _, l := range c.design.Referring(o.ID, design.KindLink) {
			if status.Exists(l) {
				n += len(c.design.Inside(l.ID, design.KindTunnel))
			}
		}
		if n > int(most) {
			c.add(
				"gateway-too-small", Risk, o.ID, nil, "%s has %d tunnels, and its cloud allows %d",
				c.design.Title(o.ID), n,
				most,
			)
		}
	}
}
