package runbook

import (
	"slices"

	"dravin/core/design"
	"dravin/core/lifecycle"
)

// gate notes once that something waits for somebody; what is said last of it holds.
func (w *writer) gate(g Gate) {
	for n, known := range w.out.Gates {
		if known.Object == g.Object {
			if g.Begins != "" {
				w.out.Gates[n] = g
			}
			return
		}
	}
	w.out.Gates = append(w.out.Gates, g)
}

// brings notes what a step brings: a cloud's gateway that is made is given its public addresses. What is set to
// them comes after it.
func (w *writer) brings(s *Step, edits []design.Edit, after *estate) {
	for _, e := range edits {
		fresh := e.Object != nil && e.Object.Kind == design.KindGateway && w.now.design().Get(e.ID) == nil
		if fresh && s.Needs == "" && lifecycle.Addressless(after.design(), e.ID) && s.Object == e.ID {
			s.Needs = lifecycle.NeedsAddress
			w.gives[e.ID] = s.ID
		}
	}
	for _, end := range endsOf(w.of(s.Object), s.Object) {
		if by := w.gives[end]; by != "" && by != s.ID {
			s.After = append(s.After, by)
		}
	}
}

// endsOf are the ends of a joint; none of anything else.
func endsOf(d *design.Design, id design.ID) []design.ID {
	if o := d.Get(id); o != nil {
		if j, ok := design.JointOf(o); ok {
			return j.Ends[:]
		}
	}
	return nil
}

// ungiven reports whether a joint does not come up since its cloud gives an address of it only when it is made.
func (w *writer) ungiven(j design.Joint) bool {
	return slices.ContainsFunc(j.Ends[:], func(end design.ID) bool { return w.gives[end] != "" })
}
