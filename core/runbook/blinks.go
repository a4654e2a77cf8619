package runbook

import (
	"fmt"
	"maps"
	"slices"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/negotiate"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
)

// blinks are the intents that go, before and after something is done at a box, by a session or tunnel that starts anew
// meanwhile: daemons know both by their names, and end what is called otherwise.
func (w *writer) blinks(before, after *estate, at design.ID) []Hit {
	out := []Hit{}
	a, b := before.box(at), after.box(at)
	if a == nil || b == nil {
		return out
	}
	was, now := running(a), running(b)
	var anew []status.Thing
	for _, id := range slices.Sorted(maps.Keys(was)) {
		if now[id] != "" && now[id] != was[id] {
			anew = append(anew, status.Thing{Object: id})
		}
	}
	if len(anew) == 0 {
		return out
	}
	names := after.design().Title(anew[0].Object)
	if len(anew) > 1 {
		names += fmt.Sprintf(" and %d more", len(anew)-1)
	}
	meanwhile := proof.Of(route.Solve(after.design(), status.Condition{Without: anew}))
	for _, r := range after.proofs.All() {
		old := before.proofs.Intent(r.Intent)
		if r.Never || !r.Holds || !old.Holds {
			continue
		}
		if then := meanwhile.Intent(r.Intent); !then.Holds || way(then) != way(r) {
			out = append(out, Hit{r.Intent, r.Name, names + " starts anew, and carries nothing until it is up"})
		}
	}
	return out
}

// running are the sessions and tunnels of a box, each with what it can not be changed in without starting anew.
func running(b *box.Box) map[design.ID]string {
	out := map[design.ID]string{}
	for _, s := range b.Sessions {
		out[s.ID] = handover.ProtocolName(s) + fmt.Sprint(unfiltered(s.Set))
	}
	for _, l := range b.Links {
		for _, t := range l.Tunnels {
			name, _ := handover.ConnectionName(l, t)
			out[t.ID] = name
		}
	}
	return out
}

// unfiltered is an end of a session without what is changed while it runs.
func unfiltered(e negotiate.BGPEnd) negotiate.BGPEnd {
	e.Name, e.MaxPrefixes = "", 0
	return e
}

// renamed are the connections of tunnels that stay and are called otherwise, under either name, at a box that waits to
// be asked for them.
func (w *writer) renamed(b *box.Box) (out []string) {
	begun := w.begun.box(b.ID)
	if begun == nil {
		return nil
	}
	was := map[design.ID]string{}
	for _, l := range begun.Links {
		for _, t := range l.Tunnels {
			was[t.ID], _ = handover.ConnectionName(l, t)
		}
	}
	for _, l := range b.Links {
		for _, t := range l.Tunnels {
			name, _ := handover.ConnectionName(l, t)
			if old := was[t.ID]; old != "" && old != name && !w.startsAt(l.ID, b.ID) {
				out = append(out, old, name)
			}
		}
	}
	return out
}
