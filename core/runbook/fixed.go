package runbook

import (
	"slices"

	"dravin/core/design"
)

// fixed says of what a step changes that it can not be changed there once it is made: a second one is made, what uses
// the first is moved to it, and the first is taken away. Empty: all of it can be changed.
func (w *writer) fixed(s *Step, p part, after *estate) string {
	was, d := w.now.design(), after.design()
	for _, c := range s.Changes {
		a, b := was.Get(c.ID), d.Get(c.ID)
		if a == nil || b == nil {
			continue
		}
		unlike := design.FieldsUnlike(a, b)
		switch {
		case a.Kind == design.KindGateway:
			v := was.VPNOf(a.ID)
			if v == nil {
				continue
			}
			what := ""
			if v.ASNFixed && slices.Contains(unlike, "asn") {
				what = "the ASN"
			} else if slices.Contains(unlike, "vpn") {
				what = "the kind"
			}
			if what != "" {
				return was.Title(a.ID) + " can not change " + what + " once it is made: make a second gateway with all that is" +
					" listed here, move its links to that one by one, and take the first away"
			}
		case a.Kind == design.KindLink && p.end > 0:
			if fixedRanges(was, d, a.ID, p.end-1) {
				at := a.Body.(*design.Link).Ends[p.end-1].Gateway
				return was.Title(at) + " can not change the ranges of a tunnel once it is made: let traffic move to the second" +
					" connection, which has all that is listed here"
			}
		}
	}
	return ""
}

// fixedRanges reports whether ranges of an end of a link, from 0, differ that its cloud can not change once it is made.
func fixedRanges(was, then *design.Design, link design.ID, end int) bool {
	a, b := was.Get(link), then.Get(link)
	if a == nil || b == nil || a.Kind != design.KindLink || b.Kind != design.KindLink {
		return false
	}
	x, y := a.Body.(*design.Link).Ends[end], b.Body.(*design.Link).Ends[end]
	v := was.VPNOf(x.Gateway)
	return v != nil && v.StaticFixed && (!slices.Equal(x.Routes, y.Routes) || !slices.Equal(x.Remote, y.Remote))
}
