package status

import (
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/settings"
)

// gateway is the box itself: with what it is in, and what is known to be wrong
// with it. Strict reverse-path filtering depends on the packet; walks judge it.
func (s *Status) gateway(o *design.Object) Verdict {
	if hub := s.d.Get(o.Parent); hub != nil && hub.Kind == design.KindHub {
		if v := s.Of(hub.ID); !v.Up {
			return v
		}
	}
	return s.faultless(o)
}

// faultless is a gateway or box as far as what is known to be wrong with it goes.
func (s *Status) faultless(o *design.Object) Verdict {
	faults := design.FaultsOf(o)
	switch {
	case slices.Contains(faults, design.ForwardingOff):
		return down(DoesNotForward, o.ID, "faults", "%s has forwarding off", s.d.Title(o.ID))
	case slices.Contains(faults, design.SourceCheck):
		return down(DoesNotForward, o.ID, "faults", "%s may only send what comes from its own address", s.d.Title(o.ID))
	}
	return up
}

// FiltersStrictly reports whether a box takes a packet only from where its route
// back to the source leaves (RFC 3704, section 2.2). Linux has it for IPv4 alone.
func FiltersStrictly(o *design.Object) bool {
	return slices.Contains(design.FaultsOf(o), design.StrictReversePath)
}

// listener is up while who listens is there; a cloud's own, where its profile
// offers such and the target is in the same cloud.
func (s *Status) listener(o *design.Object, l *design.Listener) Verdict {
	at := s.d.Get(l.At)
	if v := s.taken(at); !v.Up {
		return v
	}
	network, ok := at.Body.(*design.Network)
	if !ok {
		return up
	}
	profile := s.d.ProfileOf(at.ID)
	if profile == nil || !profile.Translation.PrivateEndpoint {
		return down(NotAccepted, o.ID, "", "%s offers no private endpoints, so that %s can not be in %s", network.Cloud, o.Name, at.Name)
	}
	if far, ok := s.d.Party(l.Target).Body.(*design.Network); l.Target != "" && s.d.Get(l.Target).Kind == design.KindEndpoint && (!ok || !strings.EqualFold(far.Cloud, network.Cloud)) {
		return down(NotAccepted, o.ID, "", "a private endpoint leads to what is in %s, and %s is not", network.Cloud, s.d.Title(l.Target))
	}
	return up
}

// ending is how something that ends a link or circuit stands for it: a box that
// does not forward still ends tunnels.
func (s *Status) ending(id design.ID) Verdict {
	o := s.d.Get(id)
	if v := s.taken(o); !v.Up {
		v.Cause = LinkDown
		return v
	}
	if o.Kind == design.KindEdgeRouter {
		return s.Of(id)
	}
	if hub := s.d.Get(o.Parent); hub != nil && hub.Kind == design.KindHub {
		return s.Of(hub.ID)
	}
	return up
}

// link is up if a tunnel is.
func (s *Status) link(o *design.Object) Verdict {
	if v := s.made(o); !v.Up {
		return v
	}
	var first Verdict
	for n, t := range s.d.Inside(o.ID, design.KindTunnel) {
		v := s.Of(t.ID)
		if v.Up {
			return up
		}
		if n == 0 {
			first = v
		}
	}
	if first.Cause == "" {
		return down(LinkDown, o.ID, "tunnels", "%s has no tunnel", o.Name)
	}
	return first
}

// tunnel is up if its two ends agree and reach each other.
func (s *Status) tunnel(o *design.Object, t *design.Tunnel) (Verdict, negotiate.Outcome) {
	parent := s.d.Get(o.Parent)
	l := parent.Body.(*design.Link)
	set := settings.SettingsOf(s.d, o, "")
	if slices.Contains(s.c.OtherKeys, o.ID) {
		set[0].Key, set[1].Key = "ours", "theirs"
	}
	outcome := negotiate.Agree(set[0], set[1])
	if v := s.taken(parent); !v.Up {
		return v, outcome
	}
	if v := s.made(parent); !v.Up {
		return v, outcome
	}
	name := parent.Name + ", " + o.Name
	for n, e := range l.Ends {
		if v := s.ending(e.Gateway); !v.Up {
			return v, outcome
		}
		if len(t.Outside) == 2 && s.addressGone(t.Outside[n]) {
			return down(LinkDown, o.ID, "", "the address %s is taken away", t.Outside[n]), outcome
		}
		if len(t.Outside) == 2 && s.c.Horizon == Today && !negotiate.Known(t.Outside[n]) {
			return down(NotThereYet, o.ID, lineOf("address", n), "the address of %s at %s has not been given yet", name, s.d.Title(e.Gateway)), outcome
		}
		if v := s.endMade(o, t, n, name); !v.Up {
			return v, outcome
		}
	}
	if !outcome.Up {
		return down(LinkDown, o.ID, outcome.Parameter, "the two ends of %s do not agree: %s", name, outcome.Why), outcome
	}
	if why, at := settings.InsideRefused(s.d, o); why != "" {
		return down(
			LinkDown, o.ID, "inside-1", "the inside range %s of %s %s (%s)", t.Inside[0].Masked(), name, why,
			s.d.Title(at),
		), outcome
	}
	if !settings.Starts(s.d, o, 0) && !settings.Starts(s.d, o, 1) {
		return down(
			LinkDown, o.ID, "starts", "both ends of %s wait for the other to start, so that nobody does", name,
		), outcome
	}
	return up, outcome
}

// endMade is how far one end of a tunnel is set up, where it is said.
func (s *Status) endMade(o *design.Object, t *design.Tunnel, n int, name string) Verdict {
	if len(t.Ends) != 2 || t.Ends[n].State == "" || t.Ends[n].State == design.Ready {
		return up
	}
	at := s.d.Title(s.d.Get(o.Parent).Body.(*design.Link).Ends[n].Gateway)
	if st := t.Ends[n].State; s.c.Horizon == Today || !(st == design.Drafted || st == design.Making) {
		return down(HalfMade, o.ID, "setup", "%s is %s at %s", name, design.StateWord(st), at)
	}
	return up
}

func lineOf(key string, n int) string { return key + "-" + string(rune('1'+n)) }

// session is established if what carries it is up and its two ends agree.
func (s *Status) session(o *design.Object) (Verdict, negotiate.SessionOutcome) {
	set := settings.SessionEndsOf(s.d, o)
	outcome := negotiate.AgreeSession(set[0], set[1])
	carrier := s.d.Get(o.Parent)
	var v Verdict
	if c, ok := carrier.Body.(*design.Circuit); ok {
		v = s.line(carrier, c)
	} else {
		v = s.Of(carrier.ID)
	}
	if !v.Up {
		return v, outcome
	}
	if !outcome.Up {
		return down(SessionDown, o.ID, outcome.Parameter, "the session of %s is not established: %s", CarrierName(s.d, o), outcome.Why), outcome
	}
	return up, outcome
}

// CarrierName is what carries a session, as people call it.
func CarrierName(d *design.Design, session *design.Object) string {
	carrier := d.Get(session.Parent)
	if carrier.Kind == design.KindTunnel {
		return d.Get(carrier.Parent).Name + ", " + carrier.Name
	}
	return carrier.Name
}

// Brings is how what a link or circuit brings into tables stands: routes of a
// family that are learned need a session that is up, others what carries them.
func (s *Status) Brings(id design.ID, v4 bool) Verdict {
	v := s.Of(id)
	o := s.d.Get(id)
	if !v.Up || o == nil {
		return v
	}
	var carriers []*design.Object
	learned := false
	switch b := o.Body.(type) {
	case *design.Link:
		learned, carriers = b.Routing == design.RoutingBGP, s.d.Inside(id, design.KindTunnel)
	case *design.Circuit:
		learned, carriers = len(s.d.Inside(id, design.KindSession)) > 0, []*design.Object{o}
	}
	if !learned {
		return v
	}
	return s.learned(o, carriers, v4)
}

// learned is up if a session over one of the carriers is, for a family.
func (s *Status) learned(o *design.Object, carriers []*design.Object, v4 bool) Verdict {
	family := map[bool]string{true: "ipv4", false: "ipv6"}[v4]
	var first Verdict
	for _, c := range carriers {
		for _, session := range s.d.Inside(c.ID, design.KindSession) {
			v := s.Of(session.ID)
			if v.Up && slices.Contains(s.Session(session.ID).Families, family) {
				return up
			}
			if v.Up {
				v = down(SessionDown, session.ID, "bgp-families", "the session of %s does not carry %s", o.Name, map[bool]string{true: "IPv4", false: "IPv6"}[v4])
			}
			if first.Cause == "" {
				first = v
			}
		}
	}
	if first.Cause == "" {
		return down(SessionDown, o.ID, "sessions", "%s has no BGP session", o.Name)
	}
	return first
}

// circuit is up if it was activated and its two ends match.
func (s *Status) circuit(o *design.Object, c *design.Circuit) Verdict { return s.line(o, c) }

func (s *Status) line(o *design.Object, c *design.Circuit) Verdict {
	if v := s.taken(o); !v.Up {
		return v
	}
	if v := s.made(o); !v.Up {
		return v
	}
	if v := s.activated(o, c); !v.Up {
		return v
	}
	for _, e := range c.Ends {
		if v := s.ending(e.At); !v.Up {
			return v
		}
		if s.zoneGone(e.Zone) {
			return down(LinkDown, o.ID, "", "the zone %s is taken away", e.Zone)
		}
	}
	x, y := c.Ends[0], c.Ends[1]
	switch {
	case x.Zone != y.Zone && x.Zone != "" && y.Zone != "":
		return down(LinkDown, o.ID, "zone", "%s is in %s at one end and in %s at the other", o.Name, x.Zone, y.Zone)
	case x.Mbps != y.Mbps:
		return down(LinkDown, o.ID, "speed", "%s has %d Mbit/s at one end and %d at the other", o.Name, x.Mbps, y.Mbps)
	case x.VLAN != y.VLAN:
		return down(LinkDown, o.ID, "vlan", "%s has VLAN tag %d at one end and %d at the other", o.Name, x.VLAN, y.VLAN)
	}
	for _, e := range c.Ends {
		if c.CodeZone != "" && e.Zone != "" && e.Zone != c.CodeZone {
			return down(LinkDown, o.ID, "code", "the order code of %s is for %s, and its end is in %s", o.Name, c.CodeZone, e.Zone)
		}
	}
	return s.addressed(o, c)
}

// addressed wants addresses on a circuit into which a box of one's own routes without a
// session: it has no next hop else.
func (s *Status) addressed(o *design.Object, c *design.Circuit) Verdict {
	if len(s.d.Inside(o.ID, design.KindSession)) > 0 || c.Ends[0].Inside.IsValid() && c.Ends[1].Inside.IsValid() {
		return up
	}
	for _, e := range c.Ends {
		at := s.d.Get(e.At)
		if len(e.Routes) > 0 && (at.Kind == design.KindEdgeRouter || s.d.Get(at.Parent).Kind == design.KindSite) {
			return down(
				LinkDown, o.ID, "inside",
				"%s has routes at %s, and neither a session nor addresses on the circuit to send them to", o.Name,
				s.d.Title(e.At),
			)
		}
	}
	return up
}

// activated tells whether the steps of a circuit's making are done, as far as the
// horizon wants.
func (s *Status) activated(o *design.Object, c *design.Circuit) Verdict {
	if s.c.Horizon == Today && c.Step != "" && c.Step != design.StepInUse && c.Step != design.StepAccepted {
		return down(NotThereYet, o.ID, "code", "%s is ordered and not accepted yet", o.Name)
	}
	return up
}

// peering is up if both halves are made and no blocks overlap.
func (s *Status) peering(o *design.Object, p *design.Peering) Verdict {
	if v := s.made(o); !v.Up {
		return v
	}
	for _, h := range p.Halves {
		if v := s.party(h.Network); !v.Up {
			return v
		}
	}
	st := design.StateOf(o)
	for n, h := range p.Halves {
		far := p.Halves[1-n]
		switch {
		case h.Made:
		case s.c.Horizon == Built && (st == design.Drafted || st == design.Making): // it is planned, as the other is
		case far.Made:
			return down(HalfMade, o.ID, "half", "%s has not made its half of the peering %s", s.d.Title(h.Network), o.Name)
		default:
			return down(NotThereYet, o.ID, "half", "neither half of the peering %s is made", o.Name)
		}
	}
	if v := s.regions(o, p); !v.Up {
		return v
	}
	for _, a := range s.d.Ranges(p.Halves[0].Network) {
		for _, b := range s.d.Ranges(p.Halves[1].Network) {
			if a.Overlaps(b) {
				return down(RefusedForOverlap, o.ID, "", "%s of %s overlaps %s of %s, and a peering is refused where blocks overlap", a, s.d.Title(p.Halves[0].Network), b, s.d.Title(p.Halves[1].Network))
			}
		}
	}
	return up
}

// regions holds a peering against what its cloud allows between regions.
func (s *Status) regions(o *design.Object, p *design.Peering) Verdict {
	x, y := s.d.Get(p.Halves[0].Network).Body.(*design.Network), s.d.Get(p.Halves[1].Network).Body.(*design.Network)
	rule := s.d.Profile(x.Cloud)
	if rule != nil && rule.Peering != nil && !rule.Peering.BetweenRegions && x.Region != y.Region {
		return down(NotAccepted, o.ID, "", "%s has no peering between regions, and %s joins %s and %s", x.Cloud, o.Name, x.Region, y.Region)
	}
	return up
}

func (s *Status) party(id design.ID) Verdict {
	if o := s.d.Get(id); o != nil {
		return s.taken(o)
	}
	return up
}

// attachment is up if its hub is there and takes it, and what is attached is up.
func (s *Status) attachment(o *design.Object, a *design.Attachment) Verdict {
	if v := s.Of(o.Parent); !v.Up {
		return v
	}
	if v := s.made(o); !v.Up {
		return v
	}
	what := s.d.Get(a.What)
	switch what.Kind {
	case design.KindLink, design.KindCircuit, design.KindHub:
		if v := s.Of(what.ID); !v.Up {
			return v
		}
	default:
		if v := s.party(what.ID); !v.Up {
			return v
		}
	}
	if what.Kind == design.KindHub {
		if v := s.otherHub(o, what); !v.Up {
			return v
		}
	}
	return s.Refusal(o)
}

// otherHub wants the far hub to be attached to this one, too.
func (s *Status) otherHub(o, far *design.Object) Verdict {
	for _, back := range s.d.Inside(far.ID, design.KindAttachment) {
		if back.Body.(*design.Attachment).What == o.Parent {
			if v := s.taken(back); !v.Up {
				return v
			}
			return s.made(back)
		}
	}
	return down(HalfMade, o.ID, "", "%s is attached to %s and not the other way round", far.Name, s.d.Title(o.Parent))
}

// Refusal tells whether the hub refuses an attachment for what it overlaps: what
// was there first stands. It is told of what is not made yet, too.
func (s *Status) Refusal(o *design.Object) Verdict {
	p := s.d.ProfileOf(o.Parent)
	if p == nil || p.Hub == nil || !p.Hub.RefusesOverlaps {
		return up
	}
	own := s.d.AttachmentExports(o)
	for _, other := range s.d.Inside(o.Parent, design.KindAttachment) {
		if other.ID == o.ID || !s.before(other, o) || !s.made(other).Up || s.Of(other.ID).Cause == RefusedForOverlap {
			continue
		}
		if a, b, clash := Clash(own, s.d.AttachmentExports(other)); clash {
			return down(RefusedForOverlap, o.ID, "keep-out", "%s refuses %s: %s overlaps %s of %s", s.d.Title(o.Parent), o.Name, a, b, other.Name)
		}
	}
	return up
}

// before tells whether one attachment was there before another: what is ready
// came before what is not; else the order of the design decides.
func (s *Status) before(a, b *design.Object) bool {
	x, y := design.StateOf(a) == design.Ready, design.StateOf(b) == design.Ready
	if x != y {
		return x
	}
	for _, o := range s.d.Inside(a.Parent, design.KindAttachment) {
		if o.ID == a.ID || o.ID == b.ID {
			return o.ID == a.ID
		}
	}
	return false
}

// Clash is the first pair of overlapping ranges of two lists.
func Clash(a, b []netip.Prefix) (x, y netip.Prefix, found bool) {
	for _, p := range a {
		for _, q := range b {
			if p.Overlaps(q) {
				return p, q, true
			}
		}
	}
	return x, y, false
}

// Join is two parties that something joins.
type Join struct {
	A, B design.ID // parties
	By   design.ID
}

// Joins lists what is meant to join which parties under the horizon, in
// canonical order; whether its ends agree is not asked.
func (s *Status) Joins() []Join {
	var out []Join
	for j := range s.d.Joints() {
		a, b := s.d.PartiesOf(j)
		if a == "" || b == "" || a == b || !s.Intended(j.Object) || j.Kind == design.KindPeering && !s.halves(j.Object) {
			continue
		}
		out = append(out, Join{A: a, B: b, By: j.ID})
	}
	return out
}

// halves tells whether a peering counts as whole under the horizon.
func (s *Status) halves(o *design.Object) bool {
	v := s.Of(o.ID)
	return v.Up || v.Cause != HalfMade && v.Cause != NotThereYet
}
