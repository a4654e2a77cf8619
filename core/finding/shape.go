package finding

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/prefix"
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/words"
)

// asns finds speakers that share an ASN and hear of each other over another
// autonomous system, so that each discards what the other announces (RFC 4271
// section 9.1.2). Two that speak to each other directly are internal peers, and two routers of one place hold the same:
// neither needs to hear of the other.
func (c *collector) asns(*design.Object) {
	counts := func(j design.Joint) bool {
		// Where routes are entered by hand, no path tells who passed them on.
		k := topology.KindOf(j.Object)
		return k.Learns != nil && (j.Kind == design.KindCircuit || k.Learns(c.design, j.Object)) &&
			status.Exists(j.Object) &&
			asnOf(c.design.Get(j.Ends[0])) != 0 && asnOf(c.design.Get(j.Ends[1])) != 0
	}
	joined := topology.Ends(c.design, counts)
	whole := joined.Components()
	own := topology.Ends(c.design, func(j design.Joint) bool {
		return counts(j) && asnOf(c.design.Get(j.Ends[0])) == asnOf(c.design.Get(j.Ends[1]))
	}).Components()
	asn := map[design.ID]uint32{}
	for id := range whole {
		if asn[id] = asnOf(c.design.Get(id)); own[id] == "" {
			own[id] = id
		}
	}
	speakers := slices.Sorted(maps.Keys(asn))
	said := map[[2]string]int{} // where in out, by what is joined and the ASN
	for k, id := range speakers {
		first := slices.IndexFunc(
			speakers[:k],
			func(a design.ID) bool {
				return asn[a] == asn[id] && whole[a] == whole[id] && own[a] != own[id] &&
					c.design.Party(a) != c.design.Party(id)
			},
		)
		if first < 0 || asn[id] == 0 {
			continue
		}
		key := [2]string{string(whole[id]), fmt.Sprint(asn[id])}
		if at, ok := said[key]; ok {
			f := &c.out[at]
			f.Evidence, f.Subjects = append(f.Evidence, c.design.Title(id)+" has it too"), append(f.Subjects, id)
			continue
		}
		other := speakers[first]
		f := c.add(
			"asn-used-twice",
			Risk,
			id,
			nil,
			"%s and %s both have ASN %d and are joined over others that speak BGP, so each discards what it hears of the other",
			c.design.Title(other),
			c.design.Title(id),
			asn[id],
		)
		f.Subjects = []design.ID{id, other}
		f.more = otherASN(c.design.Party(id).ID, asn[id])
		said[key] = len(c.out) - 1
	}
}

// otherASN gives everything of a party that has an ASN a free one.
func otherASN(party design.ID, old uint32) func(context.Context, *Findings) []Fix {
	return func(_ context.Context, f *Findings) []Fix {
		free, err := allocation.NewBooks(f.design()).ASN()
		if err != nil {
			return nil
		}
		return []Fix{
			{
				Title: fmt.Sprintf("Give %s the free ASN %d", f.design().Title(party), free),
				Edits: draft.Renumber(f.design(), party, old, free),
			},
		}
	}
}

// bothWait finds a link of which each end waits for the other to start.
func (c *collector) bothWait(o *design.Object) {
	for _, t := range c.design.Inside(o.ID, design.KindTunnel) {
		if !settings.Starts(c.design, t, 0) && !settings.Starts(c.design, t, 1) {
			c.add(
				"both-ends-wait", inUse(c.design, o), t.ID, nil,
				"both ends of %s wait for the other to start, so that nobody does", title(c.design, t),
			)
		}
	}
}

// outgrown finds fixed ranges of a tunnel that is made and that the far party has
// outgrown.
func (c *collector) outgrown(o *design.Object) {
	l := o.Body.(*design.Link)
	made := c.design.StateOf(o.ID) == design.Ready
	if made && !c.st.Of(o.ID).Up || !c.st.Intended(o) || l.Routing == design.RoutingBGP {
		return
	}
	for n, e := range l.Ends {
		v := c.design.VPNOf(e.Gateway)
		far := c.design.Party(l.Ends[1-n].Gateway)
		if v == nil || !v.StaticFixed || far == nil {
			continue
		}
		known := slices.Concat(e.Routes, e.Remote)
		for _, body := range design.Each[design.Mapping](c.design.Referring(l.Ends[1-n].Gateway, design.KindMapping)) {
			if b := body; b.Link == o.ID {
				known = append(known, b.Real)
			}
		}
		if lost := prefix.Free(ofFamilies(c.design.Exports(far.ID), known), known); len(lost) > 0 {
			then := "which %s can not change once it is made; it takes a new tunnel"
			if !made {
				then = "which %s can not change once it is made; add them before"
			}
			c.add(
				"fixed-ranges-outgrown", Risk, o.ID, nil, "%s of %s is not in the ranges of %s, "+then,
				words.List(texts(lost)), far.Name, o.Name, c.design.Title(e.Gateway),
			)
		}
	}
}

func texts(ps []netip.Prefix) []string {
	out := make([]string, len(ps))
	for n, p := range ps {
		out[n] = p.String()
	}
	return out
}

// ofFamilies are the ranges of the families that others have.
func ofFamilies(ps, others []netip.Prefix) []netip.Prefix {
	return slices.DeleteFunc(slices.Clone(ps), func(p netip.Prefix) bool {
		return !slices.ContainsFunc(others, func(o netip.Prefix) bool { return o.Addr().Is4() == p.Addr().Is4() })
	})
}

// defaultRoute finds a link that takes everything and whose far address is of
// the same family: the way to that address must stay outside.
func (c *collector) defaultRoute(o *design.Object) {
	for _, e := range o.Body.(*design.Link).Ends {
		at := c.design.Party(e.Gateway)
		for _, r := range e.Routes {
			if r.Bits() == 0 && at != nil && at.Kind == design.KindSite {
				c.add(
					"default-over-link",
					Untidy,
					o.ID,
					nil,
					"%s sends everything into %s; the way to the far public address must stay outside, which the rendered files "+
						"see to and a box set up by hand must",
					c.design.Title(e.Gateway),
					o.Name,
				)
			}
		}
	}
}

// oneGateway finds a site whose every link ends at one gateway, though it has
// several.
func (c *collector) oneGateway(site *design.Object) {
	ending, all := map[design.ID]bool{}, 0
	for _, g := range c.design.Inside(site.ID, design.KindGateway) {
		for _, j := range c.design.JointsAt(g.ID) {
			if status.Exists(j.Object) {
				ending[g.ID] = true
				all++
			}
		}
	}
	if all < 2 || len(ending) > 1 {
		return
	}
	for id := range ending {
		c.add(
			"one-gateway-ends-all", Untidy, id, nil,
			"%s ends all %d links and circuits of %s: one failure takes them all", c.design.Title(id), all, site.Name,
		)
	}
}

// oneEdge finds an edge router that ends all circuits of several parties.
func (c *collector) oneEdge(o *design.Object) {
	parties := map[design.ID]bool{}
	for _, j := range c.design.JointsAt(o.ID) {
		far, _, _ := j.Far(o.ID)
		if p := c.design.Party(far); p != nil && status.Exists(j.Object) {
			parties[p.ID] = true
		}
	}
	if len(parties) > 1 && len(c.design.Of(design.KindEdgeRouter)) == 1 {
		c.add(
			"one-edge-router", Untidy, o.ID, nil, "%s ends the circuits of %d parties: one failure takes them all",
			o.Name, len(parties),
		)
	}
}
