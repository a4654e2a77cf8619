package runbook

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/lifecycle"
	"dravin/core/proof"
	"dravin/core/settings"
)

// make writes the steps of a task, and leaves the estate as it is after them.
func (w *writer) make(x *task) {
	first := len(w.out.Steps)
	if x.after == nil {
		if _, ok := w.tried(x); !ok {
			panic("runbook: what is planned can not be built at one go")
		}
	}
	before := w.now
	for n, p := range x.parts {
		if p.last {
			continue
		}
		edits, next := x.after[n].edits, x.after[n].then
		s := w.step(x, p, edits, next)
		s.Edits, x.id, x.name = edits, s.ID, w.subject(edits)
		if p.needs == lifecycle.NeedsAddress {
			x.gives = s.ID
		}
		w.now = next
		w.out.Steps = append(w.out.Steps, s)
	}
	w.now.settle()
	w.follow(x, before)
	w.also(x, before)
	made := w.out.Steps[first:]
	s := &made[len(made)-1]
	if x.joint.Object != nil && w.now.design().Get(x.joint.ID) != nil {
		s.Checks = append(s.Checks, w.ups(s, x.joint)...)
	}
	s.Checks = append(s.Checks, w.tries(*s, w.now)...)
	for _, p := range x.parts {
		if p.last {
			s := w.step(x, p, nil, w.now)
			s.ID = fmt.Sprintf("%s/%s/%d/%s", strings.ReplaceAll(x.id, "/", "-"), s.Party, p.end, p.key)
			w.out.Steps = append(w.out.Steps, s)
		}
	}
}

// ups show at the last step of a task that the joint is up.
func (w *writer) ups(s *Step, j design.Joint) []Check {
	var out []Check
	if b := w.now.box(s.At); b != nil && b.Linux {
		for _, c := range boxChecks(b, j, true) {
			// It forwards already, and what is proven not to come up is told elsewhere.
			if c.Kind != box.Forwards && w.now.proofs.Tables().Status.Of(c.Object).Up {
				out = append(out, c)
			}
		}
		return out
	}
	about := w.about(j)
	for _, i := range w.now.instructions(s.Party) {
		if up := i.Check.Kind == box.TunnelUp || i.Check.Kind == box.Established; up && about[i.ID] &&
			w.now.proofs.Tables().Status.Of(i.ID).Up {
			out = append(out, Check{Kind: i.Check.Kind, Text: i.Check.Text, Object: i.ID})
		}
	}
	return out
}

// blank is a step at a place, with who does it.
func (w *writer) blank(d *design.Design, at design.ID) Step {
	s := Step{
		Enter: []string{}, Files: []string{}, Run: []Command{}, Checks: []Check{}, Back: []string{},
		Changes: []design.Difference{}, Where: "the design", After: []string{}, Blinks: []Hit{},
	}
	party := d.Party(at)
	if party == nil {
		return s
	}
	s.Party, s.Where = party.ID, party.Name
	if own := d.Get(design.OwnerOf(party)); own != nil {
		s.Who = own.Name
	}
	if at != party.ID {
		s.At, s.Where = at, party.Name+", "+d.Get(at).Name
	}
	return s
}

// step is one part of a task as a step.
func (w *writer) step(x *task, p part, edits []design.Edit, after *estate) Step {
	d := after.design()
	if p.at != "" && d.Get(p.at) == nil { // it is taken away with what stands there
		d = w.now.design()
	}
	s := w.blank(d, p.at)
	s.Needs, s.End = p.needs, p.end
	for _, e := range edits {
		if c, ok := design.DifferenceOf(w.now.design(), after.design(), e.ID); ok {
			s.Changes = append(s.Changes, c)
		}
	}
	name := ""
	about := map[design.ID]bool{}
	if x.joint.Object != nil {
		name = x.joint.Name
		s.Object, s.Kind = x.joint.ID, x.joint.Kind
		s.ID = fmt.Sprintf("%s/%s/%d/%s", x.joint.ID, s.Party, p.end, p.key)
		about = w.about(x.joint)
	} else {
		name = w.subject(edits)
		s.Object = p.at
		if o := d.Get(p.at); o != nil {
			s.Kind = o.Kind
		} else if len(edits) > 0 {
			s.Object, s.Kind = edits[0].ID, w.either(edits[0].ID).Kind
		}
		s.ID = fmt.Sprintf("%s/%s/0/%s", s.Object, s.Party, mark(w.now.design(), after.design(), edits))
		if len(edits) == 0 {
			name = w.subject([]design.Edit{{ID: p.about}})
			s.ID = fmt.Sprintf("%s/%s/0/%s", s.Object, s.Party, p.key)
		}
	}
	for _, e := range edits {
		about[e.ID] = true
	}
	b := w.now.box(p.at)
	if then := after.box(p.at); then != nil {
		b = then
	}
	switch {
	case p.at == "":
		s.Does = "write down " + name + ": nobody does anything for it alone"
		s.Enter = append(s.Enter, inWords(s.Changes)...)
		s.Checks = append(s.Checks, Check{Kind: box.Listed, Text: "the design says so"})
		s.Back = []string{"take it out of the design"}
	case p.does != "":
		s.Does = p.does + ": " + name
		if p.enter != "" {
			s.Enter = append(s.Enter, p.enter)
			s.Checks = append(s.Checks, Check{Kind: box.Listed, Text: "the list at " + d.Title(p.at) + " says so"})
			if s.Back = []string{"take it away again"}; p.last {
				s.Back = []string{"make it again, with what it had"}
			}
			break
		}
		for _, i := range after.instructions(s.Party) {
			if i.ID == x.jointID() {
				s.Enter = append(s.Enter, i.Lines...)
			}
		}
		if len(s.Enter) == 0 {
			s.Enter = append(s.Enter, inWords(s.Changes)...)
		}
		s.Checks = append(s.Checks, Check{Kind: box.Listed, Text: "it is listed at " + d.Title(p.at)})
		s.Back = []string{"cancel it at " + d.Title(p.at)}
	case b != nil && b.Linux && d != after.design():
		s.At = p.at
		s.Does = "take away " + name
		s.Enter = append(s.Enter, "take it out of service, and what is said here to be taken away with it")
		s.Run = append(s.Run, takenDown(b.Name, w.had(b))...)
		s.Checks = append(s.Checks, Check{Kind: box.Listed, Text: "nothing of it runs any more"})
		s.Back = []string{"put it into service again, with the files that it had"}
	case b != nil && b.Linux && x.order != takeaway:
		s.At = p.at
		w.load(&s, b, d.Party(p.at), after)
		s.Does = "load the files with " + name
		s.Checks = append(s.Checks, boxChecks(b, x.joint, false)...)
	case b != nil && b.Linux:
		s.At = p.at
		w.load(&s, b, d.Party(p.at), after)
		s.Does = "load the files without " + name
		s.Checks = append(s.Checks, forwards)
	default:
		w.enter(&s, x, p, about, after, name)
	}
	if b != nil && b.Linux && len(s.Files) == 0 && p.does == "" && d == after.design() {
		s.Checks = []Check{} // it has nothing of ours that could be asked
		w.enter(&s, x, p, about, after, name)
	}
	s.Down, s.Moves, s.Works = w.differ(after)
	s.Blinks = w.blinks(w.now, after, p.at)
	w.brings(&s, edits, after)
	return s
}

// inWords are changes as lines.
func inWords(changes []design.Difference) (out []string) {
	for _, c := range changes {
		what := design.Word(c.Kind) + " " + c.Path
		switch {
		case len(c.Fields) == 0 || c.Fields[0].Old != "" && c.Fields[0].New != "" || c.Fields[0].Key != "name":
			out = append(out, what+": "+c.Text)
		case c.Fields[0].New == "":
			out = append(out, "take away: "+what)
		default:
			var says []string
			for _, f := range c.Fields[1:] {
				says = append(says, f.Key+" "+f.New)
			}
			out = append(out, strings.TrimSuffix(what+": "+strings.Join(says, ", "), ": "))
		}
	}
	return out
}

func (x *task) jointID() design.ID {
	if x.joint.Object == nil {
		return ""
	}
	return x.joint.ID
}

// subject is what edits that are done together are called.
func (w *writer) subject(edits []design.Edit) string {
	const most = 3
	var names []string
	for _, e := range edits {
		o := w.either(e.ID)
		if word := design.Word(o.Kind) + " " + o.Name; !slices.Contains(names, word) {
			names = append(names, word)
		}
	}
	if len(names) > most {
		return strings.Join(names[:most-1], ", ") + fmt.Sprintf(" and %d more", len(names)-most+1)
	}
	return strings.Join(names, ", ")
}

// enter fills in what is entered by hand: the instructions that are new or others, those that are none any more, and
// what no instruction tells.
func (w *writer) enter(s *Step, x *task, p part, about map[design.ID]bool, after *estate, name string) {
	verbs := map[bool]bool{}
	told := map[design.ID]bool{}
	s.Enter = append(s.Enter, p.anew...)
	// What is entered at this end is done with the other's, or made as a whole.
	whole := x != nil && len(s.Changes) == 0 || len(p.anew) > 0
	was, now := w.told(w.now, about, p.at, p.end), w.told(after, about, p.at, p.end)
	for _, i := range w.lines(after, about, p.at, p.end) {
		told[i.ID] = true
		if whole || !slices.Contains(was, text(i)) {
			verbs[true] = true
			s.Enter = append(append(s.Enter, i.Does), indented(i.Lines)...)
			if i.Check.Kind != box.TunnelUp && i.Check.Kind != box.Established {
				s.Checks = append(s.Checks, Check{Kind: i.Check.Kind, Text: i.Check.Text, Object: i.ID})
			}
		}
	}
	for _, i := range w.lines(w.now, about, p.at, p.end) {
		if after.design().Get(i.ID) == nil || !slices.ContainsFunc(now, func(t string) bool {
			return strings.HasPrefix(t, string(i.ID)+" ")
		}) {
			verbs[false] = true
			s.Enter = append(s.Enter, "take away: "+i.Does)
		}
		told[i.ID] = true
	}
	for _, c := range s.Changes {
		if !told[c.ID] {
			s.Enter = append(s.Enter, inWords([]design.Difference{c})...)
		}
	}
	s.Does = "enter " + name
	made, gone := 0, 0
	for _, c := range s.Changes {
		if w.now.design().Get(c.ID) == nil {
			made++
		} else if after.design().Get(c.ID) == nil {
			gone++
		}
	}
	switch {
	case verbs[false] && !verbs[true], gone > 0 && gone == len(s.Changes):
		s.Does = "take away " + name
	case made > 0 && made == len(s.Changes):
		s.Does = "make " + name
	}
	if len(s.Enter) == 0 {
		s.Enter = append(s.Enter, "nothing is entered here for it")
	}
	if len(s.Checks) == 0 {
		where := s.Where
		s.Checks = append(s.Checks, Check{Kind: box.Listed, Text: "it is listed at " + where + " with these values"})
	}
	s.Back = []string{"take out again what this step has entered, last things first, and enter again what it took away"}
}

// about are the objects that instructions of a joint are about: itself, what carries it, its sessions, and what is
// mapped on it.
func (w *writer) about(j design.Joint) map[design.ID]bool {
	out := map[design.ID]bool{j.ID: true}
	for _, d := range []*design.Design{w.now.design(), w.plan} {
		for _, o := range (jointWork{j}).of(d) {
			out[o.ID] = true
		}
		for _, m := range d.Referring(j.ID, design.KindMapping) {
			out[m.ID] = true
		}
	}
	return out
}

// lines are the instructions about objects at one end of a joint, or at a place.
func (w *writer) lines(e *estate, about map[design.ID]bool, at design.ID, end int) (out []box.Instruction) {
	p := e.design().Party(at)
	if p == nil {
		return nil
	}
	for _, i := range e.instructions(p.ID) {
		if about[i.ID] && i.Due && (i.End == end || i.End == 0 || end == 0) {
			out = append(out, i)
		}
	}
	return out
}

// told is [writer.lines] as text, to be compared.
func (w *writer) told(e *estate, about map[design.ID]bool, at design.ID, end int) (out []string) {
	for _, i := range w.lines(e, about, at, end) {
		out = append(out, text(i))
	}
	return out
}

// text is all that an instruction says to enter.
func text(i box.Instruction) string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s %d %s", i.ID, i.End, i.Does)
	for _, l := range i.Lines {
		if !strings.HasPrefix(l, "status: ") {
			out.WriteString("\n" + l)
		}
	}
	return out.String() + values(i)
}

// values are the values of an instruction alone, without how far it has come.
func values(i box.Instruction) string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s %d", i.ID, i.End)
	for _, s := range i.Set {
		if last := s.Key[strings.LastIndexByte(s.Key, '/')+1:]; last != "state" && last != "made" && last != "step" {
			fmt.Fprintf(&out, "\n%s=%s", s.Key, strings.Join(s.Values, ","))
		}
	}
	return out.String()
}

func indented(lines []string) (out []string) {
	for _, l := range lines {
		out = append(out, "  "+l)
	}
	return out
}

// had are the files that a box has by now; none of one that was asked for nothing so far.
func (w *writer) had(b *box.Box) map[string]string {
	if files := w.loaded[b.ID]; files != nil {
		return files
	}
	if begun := w.begun.box(b.ID); begun == nil || begun.Idle() {
		return nil
	}
	return w.begun.filesOf(w.begun.design().Party(b.ID).ID, w.begun.design().Get(b.ID).Name)
}

// load fills in what is done at a box of one's own: which of its files are others, and the lines that put them into
// use and that put those of before back.
func (w *writer) load(s *Step, b *box.Box, party *design.Object, after *estate) {
	old, now := w.had(b), after.filesOf(party.ID, b.Name)
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
	for _, name := range w.renamed(b) { // who starts ends it, and starts it anew under the other name
		s.Run = slices.DeleteFunc(s.Run, func(c Command) bool { return c.Line == terminates(name) })
		s.Back = slices.DeleteFunc(s.Back, func(l string) bool { return l == terminates(name) })
	}
}

// prepares are the lines that make a box ready for what it has not been handed before.
func (w *writer) prepares(b *box.Box) (out []Command) {
	ready := w.prepared[b.ID]
	if begun := w.begun.box(b.ID); ready == nil && begun != nil && !begun.Idle() {
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
	now, had := w.now.filesOf(party.ID, b.Name), w.had(b)
	for path, text := range now {
		if had[path] != text && !slices.Contains(watched, path) {
			return true
		}
	}
	return false
}

// boxChecks are the lines that show at a box of one's own that a joint is set up, and, once both ends are, that it is
// up.
func boxChecks(b *box.Box, j design.Joint, last bool) (out []Check) {
	if j.Object == nil {
		return []Check{forwards}
	}
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
	return append(out, forwards)
}

// forwards is the check of a box of one's own that has its rules and routes.
var forwards = Check{
	Kind: box.Forwards, Text: "it forwards, and has its rules loaded",
	Line: "nft list tables | grep -q dravin && sysctl -n net.ipv4.ip_forward | grep -q 1",
}

// tries are the flows of intents that work from this step on.
func (w *writer) tries(s Step, after *estate) (out []Check) {
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

// follow adds steps for other boxes of one's own whose files are others once a task is done; without one, those that
// owe it from before.
func (w *writer) follow(x *task, before *estate) {
	d := w.now.design()
	for _, o := range w.followers(x) {
		b := w.now.box(o.ID)
		if !b.Linux {
			continue
		}
		party := d.Party(o.ID)
		s := w.blank(d, o.ID)
		s.Object, s.Kind, s.At = o.ID, o.Kind, o.ID
		s.Does = "load the files that are others by what was done elsewhere"
		if x != nil && x.joint.Object != nil && x.joint.Kind == design.KindLink &&
			slices.Contains(x.joint.Ends[:], o.ID) && !w.changesMore(b, party) {
			continue
		}
		if w.load(&s, b, party, w.now); len(s.Files) == 0 {
			continue
		}
		s.ID = fmt.Sprintf("%s/%s/0/follow-%s", o.ID, party.ID, w.filesMark(o.ID, s.Files))
		if x != nil && x.gives != "" {
			s.After = append(s.After, x.gives)
		}
		s.Checks = append(s.Checks, forwards)
		s.Down, s.Moves, s.Works = w.differ(w.now)
		s.Blinks = w.blinks(before, w.now, o.ID)
		w.out.Steps = append(w.out.Steps, s)
	}
}

// followers are the boxes in the order in which they follow a task: of a link, the end that starts comes last, so that
// it finds the other with what it is asked for.
func (w *writer) followers(x *task) (out []*design.Object) {
	d := w.now.design()
	var last []*design.Object
	for _, k := range []design.Kind{design.KindGateway, design.KindBox, design.KindEdgeRouter} {
		for _, o := range d.Of(k) {
			if x != nil && x.joint.Object != nil && w.startsAt(x.joint.ID, o.ID) {
				last = append(last, o)
			} else {
				out = append(out, o)
			}
		}
	}
	return append(out, last...)
}

// startsAt reports whether a gateway is the end of a link that starts.
func (w *writer) startsAt(link, gateway design.ID) bool {
	d := w.now.design()
	o := d.Get(link)
	if o == nil || o.Kind != design.KindLink {
		return false
	}
	for n, e := range o.Body.(*design.Link).Ends {
		starts := func(t *design.Object) bool { return settings.Starts(d, t, n) }
		if e.Gateway == gateway && slices.ContainsFunc(d.Tunnels(link), starts) {
			return true
		}
	}
	return false
}

// filesMark is a short name for some files of a box as they are loaded.
func (w *writer) filesMark(box design.ID, paths []string) string {
	sum := sha256.New()
	for _, p := range paths {
		fmt.Fprintf(sum, "%s\n%s\n", p, w.loaded[box][p])
	}
	return hex.EncodeToString(sum.Sum(nil)[:4])
}

// Also are the steps right after one that say at other parties what it did: they are left once it is done.
func (r *Runbook) Also(id string) (out []Step) {
	for _, s := range r.Steps {
		if strings.HasPrefix(s.ID, strings.ReplaceAll(id, "/", "-")+"/") {
			out = append(out, s)
		}
	}
	return out
}

// Owed are the files that boxes of one's own have, but for the one at which edits are done, where these are others once
// they are done: each has them until it follows.
func Owed(built *proof.Proofs, plan *design.Design, edits []design.Edit, at design.ID) (Loaded, error) {
	before := newEstate(built)
	then, err := before.with(edits, plan)
	if err != nil {
		return nil, err
	}
	out := Loaded{}
	for _, k := range []design.Kind{design.KindGateway, design.KindBox, design.KindEdgeRouter} {
		for _, o := range then.design().Of(k) {
			b, was := then.box(o.ID), before.box(o.ID)
			if !b.Linux || o.ID == at || was == nil || was.Idle() && b.Idle() {
				continue
			}
			had := Has{Files: map[string]string{}, Prepared: []string{}}
			if !was.Idle() {
				had.Prepared = was.Prepare
				had.Files = before.filesOf(before.design().Party(o.ID).ID, before.design().Get(o.ID).Name)
			}
			if !maps.Equal(had.Files, then.filesOf(then.design().Party(o.ID).ID, o.Name)) {
				out[o.ID] = had
			}
		}
	}
	return out, nil
}

// also adds steps for those who enter by hand what was done elsewhere: a rule that stands at the hosts of several, say.
func (w *writer) also(x *task, before *estate) {
	if x.joint.Object != nil {
		return // both ends have their steps
	}
	done, about := map[design.ID]bool{}, map[design.ID]bool{}
	for _, p := range x.parts {
		for _, d := range []*design.Design{before.design(), w.now.design()} {
			if party := d.Party(p.at); party != nil {
				done[party.ID] = true
			}
		}
	}
	for _, a := range x.after {
		for _, e := range a.edits {
			about[e.ID] = true
		}
	}
	d := w.now.design()
	for _, party := range d.Inside("", design.Parties...) {
		if done[party.ID] || party.Kind == design.KindOutside {
			continue
		}
		was := w.told(before, about, party.ID, 0)
		if now := w.told(w.now, about, party.ID, 0); slices.Equal(was, now) {
			continue
		}
		s := w.blank(d, party.ID)
		s.Object, s.Kind = party.ID, party.Kind
		s.ID = fmt.Sprintf("%s/%s/0/also", w.root(x), party.ID)
		now := w.now
		w.now = before
		w.enter(&s, nil, part{at: party.ID}, about, now, w.called(x))
		w.now = now
		if s.Enter = slices.DeleteFunc(s.Enter, func(l string) bool { return l == box.Bound }); len(s.Enter) == 0 {
			continue
		}
		s.Down, s.Moves, s.Works = w.differ(w.now)
		w.out.Steps = append(w.out.Steps, s)
	}
}

// root names the task of a step that follows it.
func (w *writer) root(x *task) string {
	if x.joint.Object != nil {
		return string(x.joint.ID)
	}
	return strings.ReplaceAll(x.id, "/", "-")
}

// called is what a task is about.
func (w *writer) called(x *task) string {
	if x.joint.Object != nil {
		return x.joint.Name
	}
	return x.name
}
