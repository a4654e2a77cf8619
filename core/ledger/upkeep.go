package ledger

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

// UnneededOf names the translations that nothing needs any more: mappings of a range
// that nobody has, or that nobody else has; source pools of what keeps nothing out;
// rules behind another that takes everything.
func UnneededOf(t *route.Tables) []Unneeded {
	d := t.Design
	out := []Unneeded{}
	for o, m := range design.Each[design.Mapping](d.Of(design.KindMapping)) {
		party := d.Party(m.Gateway)
		held := slices.ContainsFunc(d.Exports(party.ID), m.Real.Overlaps)
		switch {
		case !held:
			out = append(
				out, Unneeded{o.ID, o.Name, fmt.Sprintf("nothing of %s is in %s any more", party.Name, m.Real)},
			)
		case !status.Exists(d.Get(m.Link)):
			out = append(
				out,
				Unneeded{
					o.ID, o.Name,
					fmt.Sprintf(
						"%s, toward which it maps, is %s", d.Title(m.Link),
						design.StateWord(design.StateOf(d.Get(m.Link))),
					),
				},
			)
		case !collides(d, party.ID, m.Real):
			out = append(
				out,
				Unneeded{
					o.ID, o.Name,
					fmt.Sprintf("nobody but %s holds any of %s, which could be known as it is", party.Name, m.Real),
				},
			)
		}
	}
	for o, body := range design.Each[design.Attachment](d.Of(design.KindAttachment)) {
		if a := body; a.Pool != "" &&
			len(prefix.Free(d.Ranges(a.What), d.AttachmentExports(o))) == 0 {
			out = append(
				out,
				Unneeded{
					o.ID, d.Title(o.ID),
					fmt.Sprintf(
						"its source pool hides nothing: all of %s is advertised to %s", d.Title(a.What),
						d.Title(o.Parent),
					),
				},
			)
		}
	}
	for _, box := range boxesOf(d) {
		out = append(out, shadowed(d, box)...)
	}
	return out
}

// collides reports whether another party holds any of a range.
func collides(d *design.Design, party design.ID, p netip.Prefix) bool {
	for _, k := range []design.Kind{design.KindLAN, design.KindInnerRoute, design.KindNetwork, design.KindOutside} {
		for _, o := range d.Of(k) {
			if d.Party(o.ID).ID != party && slices.ContainsFunc(design.RangesOf(o), p.Overlaps) {
				return true
			}
		}
	}
	return false
}

// shadowed are rules of a box that an earlier one of the same hook leaves nothing.
func shadowed(d *design.Design, box design.ID) []Unneeded {
	var out []Unneeded
	list := design.RulesOf(d.Get(box))
	for n, r := range list {
		for m, before := range list[:n] {
			if before.Hook == r.Hook && takesAllOf(before, r) {
				out = append(
					out,
					Unneeded{
						box, d.Title(box),
						fmt.Sprintf("its rule %d gets nothing: rule %d takes everything before it", n+1, m+1),
					},
				)
				break
			}
		}
	}
	return out
}

// takesAllOf reports whether whatever fits a rule fits an earlier one.
func takesAllOf(before, r design.Rule) bool {
	covers := func(wide, narrow []netip.Prefix) bool {
		return len(wide) == 0 || len(narrow) > 0 && !slices.ContainsFunc(narrow, func(p netip.Prefix) bool {
			return !slices.ContainsFunc(wide, func(w netip.Prefix) bool { return prefix.Contains(w, p) })
		})
	}
	source, destination := r.Source, r.Destination
	if r.Does == design.OneToOne {
		if r.Hook == design.Postrouting && len(source) == 0 {
			source = []netip.Prefix{r.Real}
		} else if r.Hook == design.Prerouting && len(destination) == 0 {
			destination = []netip.Prefix{r.Into}
		}
	}
	mine, theirs := before.Source, before.Destination
	if before.Does == design.OneToOne && before.Hook == design.Postrouting {
		mine = append(slices.Clone(mine), before.Real)
	} else if before.Does == design.OneToOne {
		theirs = append(slices.Clone(theirs), before.Into)
	}
	services := len(before.Services) == 0 || len(r.Services) > 0 && !slices.ContainsFunc(
		r.Services, func(s design.Service) bool { return !slices.Contains(before.Services, s) },
	)
	return (before.From == "" || before.From == r.From) && (before.Toward == "" || before.Toward == r.Toward) &&
		services && covers(mine, source) && covers(theirs, destination)
}

// Unanswered are the published services that lead to what does not listen for them.
func Unanswered(d *design.Design) []*design.Object {
	var out []*design.Object
	for o, l := range design.Each[design.Listener](d.Of(design.KindListener)) {
		e := walk.TargetOf(d, l)
		if e == nil {
			continue
		}
		if answers := e.Body.(*design.Endpoint).Answers; len(answers) > 0 &&
			!slices.Contains(answers, walk.Answering(d, l)) {
			out = append(out, o)
		}
	}
	return out
}
