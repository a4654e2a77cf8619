package translate

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/settings"
)

// keptLocal keeps the ranges of sites that nobody beyond needs out of what their
// links and circuits tell: whoever needs another's range like it is no longer led
// astray.
func (pl *planner) keptLocal(give func(*Option) bool) bool {
	var local []design.ID
	for _, id := range pl.scope.places {
		if o := pl.design.Get(id); (o.Kind == design.KindLAN || o.Kind == design.KindInnerRoute) &&
			pl.scope.weight[id] == 0 &&
			!pl.scope.settled[id] && !pl.keeps(id) && pl.told(id) {
			local = append(local, id)
		}
	}
	if len(local) == 0 || len(pl.scope.needs) == 0 {
		pl.exclude(
			"Keeping a range out of what is exported: of those that collide, each is needed by somebody, or advertised to " +
				"nobody",
		)
		return true
	}
	return give(
		pl.try(KeepOut, "Keep "+pl.titles(local)+" out of what is advertised beyond", func(e *editor, o *Option) error {
			for _, id := range local {
				for _, p := range pl.design.Ranges(id) {
					pl.keepLocal(e, id, p)
				}
			}
			pl.open(e, mapped{}, nil)
			if len(e.order) == 0 {
				return fmt.Errorf("nothing advertises it")
			}
			o.Start, o.Both, o.Tells = "Everyone else can start; what is kept out is reached within its site alone.", true, true
			o.Next = "One more with the same range that is needed at home only is kept out, too."
			return nil
		}),
	)
}

// sideOf are all gateways of a place's site with the joints that end there.
func (pl *planner) sideOf(place design.ID) []edge {
	return pl.jointsOf(pl.design.Party(place))
}

// keepLocal takes a range out of what the joints of its site say of it.
func (pl *planner) keepLocal(e *editor, place design.ID, p netip.Prefix) {
	for _, x := range pl.sideOf(place) {
		e.untell(x, p)
	}
}

// silence lets a session's end no longer announce a range.
func (e *editor) silence(session design.ID, n int, party design.ID, p netip.Prefix, joint string) {
	o := e.get(session)
	if settings.FiltersFixed(e.design, o, n) {
		return
	}
	s := design.Session{Ends: slices.Clone(o.Body.(*design.Session).Ends)}
	out := slices.Clone(s.Ends[n].Out)
	if len(out) == 0 { // it announced everything of its own
		for _, own := range e.design.Exports(party) {
			out = append(out, design.Filter{Prefix: own})
		}
	}
	kept := slices.DeleteFunc(
		slices.Clone(out), func(f design.Filter) bool { return f.Prefix == p && f.Does() == design.Accept },
	)
	if len(s.Ends[n].Out) > 0 && !design.Lets(out, p) {
		return // it is announced to nobody there
	}
	if len(kept) == len(out) || len(kept) == 0 { // it is part of something that is announced, or all of it
		kept = append([]design.Filter{{Prefix: p, To: uint8(p.Addr().BitLen()), Verdict: design.Refuse}}, kept...)
	}
	s.Ends[n].Out = kept
	e.put(o.With(&s), Routes, party, o.ID, "announce %s no longer over %s", p, joint)
}

// takeOut takes a range out of a list, and tells whether any of it was there.
func takeOut(list *[]netip.Prefix, p netip.Prefix) bool {
	if !slices.ContainsFunc(*list, func(x netip.Prefix) bool { return x.Bits() > 0 && x.Overlaps(p) }) {
		return false // a default route tells of nothing
	}
	var out []netip.Prefix
	for _, x := range *list {
		if x.Bits() > 0 && x.Overlaps(p) {
			out = append(out, prefix.Free([]netip.Prefix{x}, []netip.Prefix{p})...)
			continue
		}
		out = append(out, x)
	}
	*list = out
	return true
}
