package topology

import (
	"fmt"
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
		return !settings.HasNextHops(d, o, f)
	})
	out := status.Held{Verdict: s.Of(o.Parent), Session: outcome}
	if out.Up && !outcome.Up {
		out.Verdict = status.Down(
			status.SessionDown, o.ID, outcome.Parameter, "the session of %s is not established: %s",
			status.CarrierName(d, o), outcome.Why,
		)
	}
	if n, has := settings.Elsewhere(d, o); out.Up && n >= 0 {
		out.Verdict = status.Down(
			status.SessionDown, o.ID, lineOf("bgp-address", n),
			"the session of %s is not established: %s speaks from %s, and has %s there", status.CarrierName(d, o),
			set[n].Name, set[n].Address, has,
		)
	}
	return out
}

// attached is how the attachment of a joint that is attached to a hub itself stands: while it waits, or is refused, the
// hub tells nothing over it and takes nothing.
func attached(s *status.Status, joint design.ID) status.Verdict {
	for _, a := range s.Design().Referring(joint, design.KindAttachment) {
		if v := s.Of(a.ID); !v.Up {
			return v
		}
	}
	return status.Up
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
			return attached(s, joint)
		}
		if v.Up {
			v = status.Down(
				status.SessionDown, session.ID, "bgp-families", "the session of %s does not carry %s", o.Name,
				f,
			)
			if !settings.HasNextHops(s.Design(), session, f.Code()) {
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
