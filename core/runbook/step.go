package runbook

import (
	"fmt"
	"slices"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/topology"
)

// make writes the steps of a task, and leaves the estate as it is after them.
func (w *writer) make(x *task) {
	first := len(w.out.Steps)
	for _, p := range x.parts {
		next, err := w.now.with(p.edits(w.now.design()))
		if err != nil {
			w.out.Cannot = append(w.out.Cannot, x.joint.Name+": "+err.Error())
			return
		}
		s := w.step(x, p, next)
		s.Edits = p.edits(w.now.design())
		w.now = next
		w.out.Steps = append(w.out.Steps, s)
	}
	if !w.now.proofs.Tables().Status.Of(x.joint.ID).Up {
		why := w.now.proofs.Tables().Status.Of(x.joint.ID).Why
		w.out.Cannot = append(w.out.Cannot, w.now.design().Title(x.joint.ID)+": once it is made, "+why)
	}
	w.follow(x)
	if made := w.out.Steps[first:]; len(made) > 0 {
		s := &made[len(made)-1]
		s.Checks = append(s.Checks, w.ups(s, x.joint)...)
		s.Checks = append(s.Checks, w.tries(*s, w.now)...)
	}
}

// ups show at the last step of a task that the joint is up.
func (w *writer) ups(s *Step, j design.Joint) []Check {
	var out []Check
	if b := box.Of(w.now.proofs.Tables(), s.At); b != nil && b.Linux {
		for _, c := range boxChecks(b, j, true) {
			if c.Kind != box.Forwards { // which it has already
				out = append(out, c)
			}
		}
		return out
	}
	for _, i := range box.Instructions(w.now.proofs.Tables(), s.Party) {
		if up := i.Check.Kind == box.TunnelUp || i.Check.Kind == box.Established; up && w.about(j)[i.ID] {
			out = append(out, Check{Kind: i.Check.Kind, Text: i.Check.Text, Object: i.ID})
		}
	}
	return out
}

// step is one part of a task as a step.
func (w *writer) step(x *task, p part, after estate) Step {
	d := after.design()
	party := d.Party(p.at)
	s := Step{
		ID: fmt.Sprintf("%s/%s/%d/%s", x.joint.ID, party.ID, p.end, p.key), Object: x.joint.ID, Kind: x.joint.Kind,
		Party: party.ID, Where: party.Name, Who: d.Title(design.OwnerOf(party)), Enter: []string{}, Files: []string{},
		Run: []Command{}, Checks: []Check{}, Needs: p.needs,
	}
	if design.OwnerOf(party) == "" {
		s.Who = ""
	}
	if p.at != party.ID {
		s.At, s.Where = p.at, party.Name+", "+d.Get(p.at).Name
	}
	told := w.told(x.joint, p, after)
	switch b := box.Of(after.proofs.Tables(), p.at); {
	case p.does != "":
		s.Does = p.does + ": " + x.joint.Name
		for _, i := range told {
			if i.ID == x.joint.ID {
				s.Enter = append(s.Enter, i.Lines...)
			}
		}
		s.Checks = append(s.Checks, Check{Kind: box.Listed, Text: "it is listed at " + d.Title(p.at)})
		s.Back = []string{"cancel it at " + d.Title(p.at)}
	case b != nil && b.Linux:
		s.At = p.at
		w.load(&s, b, party, after)
		s.Does = "load the files with " + x.joint.Name
		s.Checks = append(s.Checks, boxChecks(b, x.joint, false)...)
	default:
		s.Does = "enter " + x.joint.Name
		for _, i := range told {
			s.Enter = append(append(s.Enter, i.Does), indented(i.Lines)...)
			if i.Check.Kind != box.TunnelUp && i.Check.Kind != box.Established {
				s.Checks = append(s.Checks, Check{Kind: i.Check.Kind, Text: i.Check.Text, Object: i.ID})
			}
		}
		if len(s.Checks) == 0 {
			s.Checks = append(s.Checks, Check{Kind: box.Listed, Text: "it is listed at " + d.Title(p.at) + " with these values"})
		}
		s.Back = []string{"take out again what this step has entered, last things first"}
	}
	s.Down, s.Moves, s.Works = w.differ(after)
	return s
}

// about are the objects that instructions of a joint are about: itself, what carries it, its sessions, and what is
// mapped on it.
func (w *writer) about(j design.Joint) map[design.ID]bool {
	d := w.now.design()
	out := map[design.ID]bool{j.ID: true}
	for _, c := range topology.CarriersOf(d, j.Object) {
		out[c.ID] = true
		for _, s := range d.Inside(c.ID, design.KindSession) {
			out[s.ID] = true
		}
	}
	for _, m := range d.Referring(j.ID, design.KindMapping) {
		out[m.ID] = true
	}
	return out
}

// told are the instructions of a part.
func (w *writer) told(j design.Joint, p part, after estate) (out []box.Instruction) {
	about := w.about(j)
	for _, i := range box.Instructions(after.proofs.Tables(), after.design().Party(p.at).ID) {
		if about[i.ID] && (i.End == p.end || i.End == 0 || p.end == 0) {
			out = append(out, i)
		}
	}
	return out
}

func indented(lines []string) (out []string) {
	for _, l := range lines {
		out = append(out, "  "+l)
	}
	return out
}

// had are the files that a box has by now; none of one that was asked for nothing so far.
func (w *writer) had(b *box.Box, party *design.Object) map[string]string {
	if files := w.loaded[b.ID]; files != nil {
		return files
	}
	if begun := box.Of(w.begun.proofs.Tables(), b.ID); begun == nil || begun.Idle() {
		return nil
	}
	return filesOf(w.begun.proofs.Tables(), party.ID, b.Name)
}

// load fills in what is done at a box of one's own: which of its files are others, and the lines that put them into
// use and that put those of before back.
func (w *writer) load(s *Step, b *box.Box, party *design.Object, after estate) {
	old, now := w.had(b, party), filesOf(after.proofs.Tables(), party.ID, b.Name)
	if old == nil && b.Idle() {
		return // it has been handed nothing, and still needs nothing
	}
	w.loaded[b.ID] = now
	var changed, fresh, kept []string
	for path, text := range now {
		if old[path] != text {
			changed = append(changed, path)
			if _, had := old[path]; had {
				kept = append(kept, path)
			} else {
				fresh = append(fresh, path)
			}
		}
	}
	slices.Sort(changed)
	slices.Sort(fresh)
	slices.Sort(kept)
	s.Files = append(s.Files, changed...)
	if len(changed) == 0 {
		return
	}
	s.Enter = append(s.Enter, "copy the files that are listed to "+Handed(b.Name)+" of the box, as they were handed over")
	s.Run = append(s.Run, w.prepares(b)...)
	s.Run = append(s.Run, handedOver(b.Name, old, now, changed, fresh)...)
	s.Back = append(s.Back, wayBack(b.Name, old, now, fresh, kept)...)
}

// prepares are the lines that make a box ready for what it has not been handed before.
func (w *writer) prepares(b *box.Box) (out []Command) {
	ready := w.prepared[b.ID]
	if begun := box.Of(w.begun.proofs.Tables(), b.ID); ready == nil && begun != nil && !begun.Idle() {
		ready = begun.Prepare
	}
	for _, l := range b.Prepare {
		if !slices.Contains(ready, l) {
			out = append(out, Command{l, "once, on a fresh Debian"})
		}
	}
	w.prepared[b.ID] = b.Prepare
	return out
}

// watched are the files of which a box's watcher sees by itself that a link is up by now.
var watched = []string{"dravin/routes.sh", "dravin/watch.sh"}

// changesMore reports whether files of a box are others than those that it has, beside what its watcher sees to.
func (w *writer) changesMore(b *box.Box, party *design.Object) bool {
	now, had := filesOf(w.now.proofs.Tables(), party.ID, b.Name), w.had(b, party)
	for path, text := range now {
		if had[path] != text && !slices.Contains(watched, path) {
			return true
		}
	}
	return false
}

// filesOf are the files of one box by path.
func filesOf(t *route.Tables, party design.ID, name string) map[string]string {
	out := map[string]string{}
	for _, f := range handover.Of(handover.Render(t, party, nil), name) {
		out[f.Path] = f.Content
	}
	return out
}

// boxChecks are the lines that show at a box of one's own that a joint is set up, and, once both ends are, that it is
// up.
func boxChecks(b *box.Box, j design.Joint, last bool) (out []Check) {
	for _, l := range b.Links {
		for _, t := range l.Tunnels {
			if l.ID != j.ID {
				continue
			}
			name, children := handover.ConnectionName(l, t)
			if !last {
				out = append(out, Check{
					Kind: box.Listed, Text: "its daemon has the connection of " + t.Name, Object: t.ID,
					Line: "swanctl --list-conns | grep -q '^" + name + ":'",
				})
				continue
			}
			out = append(out, Check{
				Kind: box.TunnelUp, Text: fmt.Sprintf("%s is established, with %d child SAs", t.Name, len(children)),
				Line: "swanctl --list-sas --ike " + name + " | grep -q INSTALLED", Object: t.ID,
			})
		}
	}
	for _, s := range b.Sessions {
		if s.Joint != j.ID {
			continue
		}
		name := handover.ProtocolName(s)
		c := Check{
			Kind: box.Listed, Text: "its daemon has the session with " + s.Set.Peer.String(), Object: s.ID,
			Line: "birdc show protocols " + name + " | grep -q BGP",
		}
		if last {
			c.Kind, c.Text = box.Established, "the session with "+s.Set.Peer.String()+" is established"
			c.Line = "birdc show protocols " + name + " | grep -q Established"
		}
		out = append(out, c)
	}
	return append(out, Check{
		Kind: box.Forwards, Text: "it forwards, and has its rules loaded",
		Line: "nft list tables | grep -q dravin && sysctl -n net.ipv4.ip_forward | grep -q 1",
	})
}

// tries are the flows of intents that work from this step on.
func (w *writer) tries(s Step, after estate) (out []Check) {
	was := map[design.ID]bool{}
	for _, old := range w.out.Steps {
		for _, h := range old.Works {
			was[h.Intent] = true
		}
	}
	for _, h := range s.Works {
		if was[h.Intent] {
			continue
		}
		r := after.proofs.Intent(h.Intent)
		out = append(out, Check{
			Kind: box.Answered, Intent: h.Intent,
			Text: fmt.Sprintf("%s: from %s dial %s on %s", h.Name, r.Proof.From.Title, r.Proof.Dialled, r.Proof.Service),
		})
	}
	return out
}

// follow adds steps for other boxes whose files are others once a joint is made.
func (w *writer) follow(x *task) {
	d := w.now.design()
	for _, k := range []design.Kind{design.KindGateway, design.KindBox, design.KindEdgeRouter} {
		for _, o := range d.Of(k) {
			b := box.Of(w.now.proofs.Tables(), o.ID)
			if !b.Linux {
				continue
			}
			party := d.Party(o.ID)
			s := Step{
				ID: fmt.Sprintf("%s/%s/0/follow-%s", x.joint.ID, party.ID, o.ID), Object: o.ID, Kind: o.Kind, Party: party.ID,
				At: o.ID, Where: party.Name + ", " + o.Name, Does: "load the files that " + x.joint.Name + " changes",
				Enter: []string{}, Files: []string{}, Run: []Command{}, Checks: []Check{},
			}
			if own := d.Get(design.OwnerOf(party)); own != nil {
				s.Who = own.Name
			}
			if x.joint.Kind == design.KindLink && slices.Contains(x.joint.Ends[:], o.ID) && !w.changesMore(b, party) {
				continue
			}
			if w.load(&s, b, party, w.now); len(s.Files) == 0 {
				continue
			}
			s.Checks = append(s.Checks, Check{
				Kind: box.Forwards, Text: "it forwards, and has its rules loaded",
				Line: "nft list tables | grep -q dravin && sysctl -n net.ipv4.ip_forward | grep -q 1",
			})
			s.Down, s.Moves, s.Works = w.differ(w.now)
			w.out.Steps = append(w.out.Steps, s)
		}
	}
}
