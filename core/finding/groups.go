package finding

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/overlap"
	"dravin/core/prefix"
	"dravin/core/proof"
	"dravin/core/walk"
)

// Groups are the overlap groups, worst first, weighed by what is known of the
// intents, too: where all that touch a group hold, nothing is broken.
func (f *Findings) Groups() []overlap.Group {
	return f.groups.Get(f.design(), "", func(view *design.Design) []overlap.Group {
		out := overlap.Find(view)
		proofs := f.proofs.Watched(view)
		for n := range out {
			reweigh(view, proofs, &out[n])
		}
		slices.SortStableFunc(out, func(a, b overlap.Group) int {
			return slices.Index(overlap.Weights, a.Weight) - slices.Index(overlap.Weights, b.Weight)
		})
		return out
	})
}

func reweigh(d *design.Design, proofs *proof.Proofs, g *overlap.Group) {
	if slices.ContainsFunc(g.Intents, func(id design.ID) bool { return across(d, id, g) && !proofs.Intent(id).Holds }) {
		g.Weight = overlap.Breaks // joined or not: what must talk can not while both hold the range
		return
	}
	if g.Weight != overlap.Breaks && g.Weight != overlap.Joined && g.Weight != overlap.Planned {
		return
	}
	if keptApart(d, g.Claims) {
		g.Weight = overlap.Answered
		g.Sentence += "; it is kept out of what is exported"
		return
	}
	planned := g.Weight == overlap.Planned && len(g.Intents) > 0 && translated(d, g)
	if g.Weight != overlap.Breaks && !planned ||
		slices.ContainsFunc(g.Intents, func(id design.ID) bool { return !proofs.Intent(id).Holds }) {
		return
	}
	if g.Weight = overlap.Joined; planned || translated(d, g) {
		g.Weight = overlap.Answered
		g.Sentence += "; what must talk does, by translation"
	}
}

// across reports whether an intent must hold between two parties that both hold a group's ranges.
func across(d *design.Design, intent design.ID, g *overlap.Group) bool {
	in := d.Get(intent).Body.(*design.Intent)
	if in.Never {
		return false
	}
	at := func(end design.ID) (out []design.ID) {
		for _, c := range g.Claims {
			if c.Party != "" && d.Get(c.Owner) != nil && d.Concerns(end, c.Owner) {
				out = append(out, c.Party)
			}
		}
		return out
	}
	from := at(in.From)
	return len(from) > 0 && slices.ContainsFunc(at(in.To), func(p design.ID) bool { return p != from[0] })
}

// mostPairs bounds how many pairs of a group are looked at.
const mostPairs = 2000

// keptApart reports whether, of every two claims of different parties, each that is
// a network's keeps what they share out of all that it is joined by.
func keptApart(d *design.Design, claims []overlap.Claim) bool {
	n := 0
	for p := range overlap.Pairs(claims, false) {
		if n++; n > mostPairs || !keptOut(d, p.A.Party, p.Shared) || !keptOut(d, p.B.Party, p.Shared) {
			return false
		}
	}
	return n > 0
}

// keptOut reports whether a network is joined by attachments alone, each of which
// keeps a range out of export.
func keptOut(d *design.Design, party design.ID, p netip.Prefix) bool {
	o := d.Get(party)
	if o == nil || o.Kind != design.KindNetwork || len(d.Referring(party, design.KindPeering)) > 0 {
		return false
	}
	for _, g := range d.Inside(party, design.KindGateway) {
		if len(d.JointsAt(g.ID)) > 0 {
			return false
		}
	}
	attached := d.Referring(party, design.KindAttachment)
	return len(attached) > 0 && !slices.ContainsFunc(attached, func(a *design.Object) bool {
		return len(prefix.Free([]netip.Prefix{p}, a.Body.(*design.Attachment).KeepOut)) > 0
	})
}

// translated reports whether anything of a group's parties is translated, hidden or
// published.
func translated(d *design.Design, g *overlap.Group) bool {
	parties := map[design.ID]bool{}
	for _, c := range g.Claims {
		parties[c.Party] = true
	}
	for _, box := range walk.Translators(d) {
		if p := d.Party(box); p != nil && parties[p.ID] {
			return true
		}
	}
	for _, id := range g.Intents {
		in := d.Get(id).Body.(*design.Intent)
		if len(walk.LeadingTo(d, in.To)) > 0 {
			return true
		}
	}
	return slices.ContainsFunc(d.Of(design.KindAttachment), func(a *design.Object) bool {
		b := a.Body.(*design.Attachment)
		return b.Pool != "" && parties[b.What]
	})
}
