package translate

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// linkJoining changes the selectors of a policy-based link, and the routes into any other.
var linkJoining = joining{carry: carryLink, names: namesLink, untell: untellLink, replace: replaceLink}

func carryLink(e *editor, o *design.Object, n int, ours, theirs []netip.Prefix) {
	e.editLink(o.ID, func(b *design.Link, say func(int, Phase, string, ...any)) {
		if b.Routing != design.RoutingSelectors {
			for _, p := range addMissing(&b.Ends[n].Routes, theirs) {
				say(n, Routes, "route %s into %s", p, o.Name)
			}
			return
		}
		near, far := &b.Ends[n], &b.Ends[1-n]
		for _, side := range []struct {
			end  int
			list *[]netip.Prefix
			add  []netip.Prefix
			word string
		}{
			{n, &near.Local, ours, "local"},
			{n, &near.Remote, theirs, "remote"},
			{1 - n, &far.Local, theirs, "local"},
			{1 - n, &far.Remote, ours, "remote"},
		} {
			for _, p := range addMissing(side.list, side.add) {
				say(side.end, Agreed, "in the selectors of %s add %s as %s", o.Name, p, side.word)
			}
		}
	})
}

func namesLink(o *design.Object, n int, ranges []netip.Prefix) bool {
	b := o.Body.(*design.Link)
	return len(prefix.Intersect(slices.Concat(b.Ends[n].Local, b.Ends[1-n].Routes), ranges)) > 0
}

func untellLink(e *editor, o *design.Object, n int, p netip.Prefix) {
	e.editLink(o.ID, func(b *design.Link, say func(int, Phase, string, ...any)) {
		near, far := &b.Ends[n], &b.Ends[1-n]
		if takeOut(&near.Local, p) {
			say(n, Agreed, "in the selectors of %s name %s no longer as local", o.Name, p)
		}
		if takeOut(&far.Remote, p) {
			say(1-n, Agreed, "in the selectors of %s name %s no longer as remote", o.Name, p)
		}
		if takeOut(&far.Routes, p) {
			say(1-n, Routes, "route %s no longer into %s", p, o.Name)
		}
	})
}

func replaceLink(e *editor, o *design.Object, n int, real, mapped netip.Prefix) {
	e.editLink(o.ID, func(b *design.Link, say func(int, Phase, string, ...any)) {
		near, far := &b.Ends[n], &b.Ends[1-n]
		if translateIn(&near.Local, real, mapped) {
			say(n, Agreed, "in the selectors of %s name %s as local instead of %s", o.Name, mapped, real)
		}
		if translateIn(&far.Remote, real, mapped) {
			say(1-n, Agreed, "in the selectors of %s name %s as remote instead of %s", o.Name, mapped, real)
		}
		if translateIn(&far.Routes, real, mapped) {
			say(1-n, Routes, "route %s into %s instead of %s", mapped, o.Name, real)
		}
	})
}

// editLink changes a copy of a link; what is said of its ends becomes changes.
func (e *editor) editLink(
	id design.ID,
	change func(b *design.Link, say func(end int, stage Phase, text string, args ...any)),
) {
	o := e.get(id)
	body := *o.Body.(*design.Link)
	body.Ends = slices.Clone(body.Ends)
	change(&body, func(end int, stage Phase, text string, args ...any) {
		gateway := body.Ends[end].Gateway
		e.put(o.With(&body), stage, e.party(gateway), gateway, text, args...)
	})
}
