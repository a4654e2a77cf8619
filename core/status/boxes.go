package status

import (
	"slices"
	"strings"

	"dravin/core/design"
)

// gateway is the box itself: with what it is in, and what is known to be wrong
// with it. Strict reverse-path filtering depends on the packet; walks judge it.
func (s *Status) gateway(o *design.Object) Verdict {
	if hub := s.design.Get(o.Parent); hub != nil && hub.Kind == design.KindHub {
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
		return Down(DoesNotForward, o.ID, "faults", "%s has forwarding off", s.design.Title(o.ID))
	case slices.Contains(faults, design.SourceCheck):
		return Down(
			DoesNotForward, o.ID, "faults", "%s may only send what comes from its own address", s.design.Title(o.ID),
		)
	}
	return Up
}

// FiltersStrictly reports whether a box takes a packet only from where its route
// back to the source leaves (RFC 3704, section 2.2). Linux has it for IPv4 alone.
func FiltersStrictly(o *design.Object) bool {
	return slices.Contains(design.FaultsOf(o), design.StrictReversePath)
}

// listener is up while who listens is there; a cloud's own, where its profile
// offers such and the target is in the same cloud.
func (s *Status) listener(o *design.Object, l *design.Listener) Verdict {
	at := s.design.Get(l.At)
	if v := s.Taken(at); !v.Up {
		return v
	}
	network, ok := at.Body.(*design.Network)
	if !ok {
		return Up
	}
	profile := s.design.ProfileOf(at.ID)
	if profile == nil || !profile.Translation.PrivateEndpoint {
		return Down(
			NotAccepted, o.ID, "", "%s offers no private endpoints, so that %s can not be in %s", network.Cloud, o.Name,
			at.Name,
		)
	}
	if far, ok := s.design.Party(l.Target).Body.(*design.Network); l.Target != "" &&
		s.design.Get(l.Target).Kind == design.KindEndpoint && (!ok || !strings.EqualFold(far.Cloud, network.Cloud)) {
		return Down(
			NotAccepted, o.ID, "", "a private endpoint leads to what is in %s, and %s is not", network.Cloud,
			s.design.Title(l.Target),
		)
	}
	return Up
}

// Ending is how something that ends a link or circuit stands for it: a box that
// does not forward still ends tunnels.
func (s *Status) Ending(id design.ID) Verdict {
	o := s.design.Get(id)
	if v := s.Taken(o); !v.Up {
		v.Cause = LinkDown
		return v
	}
	if o.Kind == design.KindEdgeRouter {
		return s.Of(id)
	}
	if hub := s.design.Get(o.Parent); hub != nil && hub.Kind == design.KindHub {
		return s.Of(hub.ID)
	}
	return Up
}

// Party is whether a party is there.
func (s *Status) Party(id design.ID) Verdict {
	if o := s.design.Get(id); o != nil {
		return s.Taken(o)
	}
	return Up
}

// CarrierName is what carries a session, as people call it.
func CarrierName(d *design.Design, session *design.Object) string {
	carrier := d.Get(session.Parent)
	if carrier.Kind == design.KindTunnel {
		return d.Get(carrier.Parent).Name + ", " + carrier.Name
	}
	return carrier.Name
}
