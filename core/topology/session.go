package topology

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/settings"
	"dravin/core/status"
)

// judgeSession is established if what carries it is up and its two ends agree.
func judgeSession(s *status.Status, o *design.Object) status.Held {
	d := s.Design()
	set := settings.SessionEndsOf(d, o)
	outcome := negotiate.AgreeSession(set[0], set[1])
	outcome.Families = slices.DeleteFunc(slices.Clone(outcome.Families), func(f string) bool {
		return !HasNextHops(d, o, f)
	})
	out := status.Held{Verdict: s.Of(o.Parent), Session: outcome}
	if out.Up && !outcome.Up {
		out.Verdict = status.Down(
			status.SessionDown, o.ID, outcome.Parameter, "the session of %s is not established: %s",
			status.CarrierName(d, o), outcome.Why,
		)
	}
	return out
}

// HasNextHops reports whether both ends of a session have addresses of a family where it runs: a route of it that
// either announces has one as its next hop (RFC 4271 section 5.1.3, RFC 2545 section 3), and without it nobody can use
// the route.
func HasNextHops(d *design.Design, session *design.Object, family string) bool {
	body := session.Body.(*design.Session)
	of := func(a netip.Addr) bool { return a.IsValid() && prefix.FamilyOf(a).Code() == family }
	if !slices.ContainsFunc(body.Ends, func(e design.SessionEnd) bool { return !of(e.Address) }) {
		return true
	}
	var inside [][]netip.Prefix
	switch b := d.Get(session.Parent).Body.(type) {
	case *design.Tunnel:
		inside = [][]netip.Prefix{b.Inside, b.Inside6}
	case *design.Circuit:
		inside = [][]netip.Prefix{{b.Ends[0].Inside, b.Ends[1].Inside}}
	}
	return slices.ContainsFunc(inside, func(two []netip.Prefix) bool {
		return len(two) == 2 && of(two[0].Addr()) && of(two[1].Addr())
	})
}

// Brings is how what a joint brings into tables stands: routes of a family that are learned
// need a session that is up, others what carries them.
func Brings(s *status.Status, joint design.ID, f prefix.Family) status.Verdict {
	v, o := s.Of(joint), s.Design().Get(joint)
	k := KindOf(o)
	if !v.Up || k == nil || k.Learns == nil || !k.Learns(s.Design(), o) {
		return v
	}
	var first status.Verdict
	for _, session := range SessionsOf(s.Design(), o) {
		v := s.Of(session.ID)
		if v.Up && slices.Contains(s.Session(session.ID).Families, f.Code()) {
			return status.Up
		}
		if v.Up {
			v = status.Down(
				status.SessionDown, session.ID, "bgp-families", "the session of %s does not carry %s", o.Name,
				f,
			)
			if !HasNextHops(s.Design(), session, f.Code()) {
				v.Why += fmt.Sprintf(": its ends have no addresses of %s there, and so no next hop", f)
			}
		}
		if first.Cause == "" {
			first = v
		}
	}
	if first.Cause == "" {
		return status.Down(status.SessionDown, o.ID, "sessions", "%s has no BGP session", o.Name)
	}
	return first
}
