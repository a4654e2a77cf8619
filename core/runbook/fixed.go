package runbook

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/lifecycle"
)

// remade is something that can not be changed once it is made: a second one is made beside it, what uses the first is
// moved to that, and the first is taken away. The edits are those of the move.
type remade struct {
	id     design.ID
	what   string // as a word
	second string // what is made
	uses   string // what is moved
	first  string // what is taken away
	needs  string // what the second one is given
}

// around are the parts of what is made a second time, around the one that moves.
func around(move part, of ...*remade) (out []part) {
	seconds, firsts := []part{}, []part{}
	for _, r := range of {
		sum := shortened(string(r.id) + r.second + r.first)
		p := part{at: move.at, end: move.end, edits: none, about: r.id}
		p.key, p.does = "second-"+sum, "make a second "+r.what+" beside the first"
		p.enter = fmt.Sprintf(
			"%s, with all that the next step here lists; the first stays until %s have moved", r.second, r.uses,
		)
		seconds = append(seconds, p)
		p.key, p.does, p.last = "first-"+sum, "take the first "+r.what+" away", true
		p.enter = r.first + ": nothing uses it any more"
		firsts = append(firsts, p)
		move.needs = cmp.Or(move.needs, r.needs)
		move.anew = append(move.anew, fmt.Sprintf(
			"what is listed here is all of the second %s: let %s move to it, one after the other", r.what, r.uses,
		))
	}
	return slices.Concat(seconds, []part{move}, firsts)
}

// remadeLink is a link that has other ranges at an end, from 0, where its cloud can not change these. Nil: it has not.
func remadeLink(was, then *design.Design, link design.ID, end int) *remade {
	a, b := was.Get(link), then.Get(link)
	if a == nil || b == nil || a.Kind != design.KindLink || b.Kind != design.KindLink {
		return nil
	}
	x, y := a.Body.(*design.Link).Ends[end], b.Body.(*design.Link).Ends[end]
	v := was.VPNOf(x.Gateway)
	if v == nil || !v.StaticFixed || slices.Equal(x.Routes, y.Routes) && slices.Equal(x.Remote, y.Remote) {
		return nil
	}
	return &remade{
		id: link, what: "connection", uses: "its flows",
		second: "make one with these ranges: " + ranges(slices.Concat(y.Routes, y.Remote)),
		first:  "take away the one with these: " + ranges(slices.Concat(x.Routes, x.Remote)),
	}
}

// remadeBy is what edits change at a place that can not be changed there; none: all of it can.
func remadeBy(was *design.Design, edits []design.Edit) (out []*remade) {
	for _, e := range edits {
		a := was.Get(e.ID)
		if a == nil || e.Object == nil || e.Object.Kind != a.Kind {
			continue
		}
		if r := remadeObject(was, a, e.Object); r != nil {
			out = append(out, r)
			if a.Kind == design.KindNetwork { // with all that stands in it
				return []*remade{r}
			}
		}
	}
	return out
}

func remadeObject(was *design.Design, a, then *design.Object) *remade {
	switch b := a.Body.(type) {
	case *design.Gateway:
		return remadeGateway(was, a, then.Body.(*design.Gateway))
	case *design.Network:
		now := then.Body.(*design.Network)
		if elsewhere(b.Cloud, b.Region, now.Cloud, now.Region) {
			return moving(
				a, "its subnets, gateways and hosts", "in "+b.Cloud+", "+b.Region, "in "+now.Cloud+", "+now.Region,
			)
		}
		if replaced(b.Blocks, now.Blocks) {
			r := moving(a, "its subnets", "with "+ranges(b.Blocks), "with "+ranges(now.Blocks))
			r.what = "block"
			return r
		}
	case *design.Hub:
		if now := then.Body.(*design.Hub); elsewhere(b.Cloud, b.Region, now.Cloud, now.Region) {
			return moving(a, "its attachments", "in "+b.Cloud+", "+b.Region, "in "+now.Cloud+", "+now.Region)
		}
	case *design.Subnet:
		if now := then.Body.(*design.Subnet); replaced(b.Prefixes, now.Prefixes) {
			return moving(a, "its hosts", "with "+ranges(b.Prefixes), "with "+ranges(now.Prefixes))
		}
	}
	return nil
}

// elsewhere reports whether a cloud or region is another; one that nobody has told so far is none.
func elsewhere(cloud, region, thenCloud, thenRegion string) bool {
	return cloud != thenCloud || region != "" && thenRegion != "" && region != thenRegion
}

func moving(o *design.Object, uses, from, to string) *remade {
	what := design.Word(o.Kind)
	return &remade{id: o.ID, what: what, uses: uses, second: "make one " + to, first: "take away the one " + from}
}

// remadeGateway is a cloud's gateway with another ASN or of another kind. The second one has public addresses of its
// own, unless the plan says already which.
func remadeGateway(was *design.Design, a *design.Object, then *design.Gateway) *remade {
	v, b := was.VPNOf(a.ID), a.Body.(*design.Gateway)
	if v == nil {
		return nil
	}
	of := func(g *design.Gateway) string { return cmp.Or(g.VPN, was.ProfileOf(a.ID).VPN[0].Name) }
	if !(v.ASNFixed && b.ASN != then.ASN) && design.Slug(of(b)) == design.Slug(of(then)) {
		return nil
	}
	has := func(g *design.Gateway) string {
		if g.ASN == 0 {
			return "of the kind " + of(g)
		}
		return fmt.Sprintf("of the kind %s, with ASN %d", of(g), g.ASN)
	}
	r := moving(a, "its links", has(b), has(then))
	if slices.Equal(b.Addresses, then.Addresses) {
		r.needs = lifecycle.NeedsAddress
	}
	return r
}

// replaced reports whether a range is gone and another of its family has come: one that only comes, or only goes, is
// entered as such.
func replaced(was, then []netip.Prefix) bool {
	for _, p := range was {
		for _, q := range then {
			if !slices.Contains(then, p) && !slices.Contains(was, q) && p.Addr().Is4() == q.Addr().Is4() {
				return true
			}
		}
	}
	return false
}

func ranges(of []netip.Prefix) string {
	if len(of) == 0 {
		return "none"
	}
	var out []string
	for _, p := range of {
		out = append(out, p.String())
	}
	return strings.Join(out, ", ")
}
