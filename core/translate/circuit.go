package translate

import (
	"net/netip"

	"dravin/core/design"
)

// circuitJoining changes what is sent over a circuit, or expected on it.
var circuitJoining = joining{carry: carryCircuit, names: namesCircuit, untell: untellCircuit, replace: replaceCircuit}

func carryCircuit(e *editor, o *design.Object, n int, _, theirs []netip.Prefix) {
	var added []netip.Prefix
	edited := design.Edited(o, func(b *design.Circuit) { added = addMissing(&b.Ends[n].Routes, theirs) })
	at := o.Body.(*design.Circuit).Ends[n].At
	for _, p := range added {
		e.put(edited, Routes, e.party(at), at, "send %s over %s", p, o.Name)
	}
}

// namesCircuit holds for any range: all that its end has goes over it.
func namesCircuit(*design.Object, int, []netip.Prefix) bool { return true }

func untellCircuit(e *editor, o *design.Object, n int, p netip.Prefix) {
	e.editExpected(o, 1-n, func(list *[]netip.Prefix) bool { return takeOut(list, p) },
		"expect %s no longer over %s", p, o.Name)
}

func replaceCircuit(e *editor, o *design.Object, n int, real, mapped netip.Prefix) {
	e.editExpected(o, 1-n, func(list *[]netip.Prefix) bool { return translateIn(list, real, mapped) },
		"expect %s over %s instead of %s", mapped, o.Name, real)
}

// editExpected changes what one end of a circuit expects, and tells of it if anything changes.
func (e *editor) editExpected(
	o *design.Object, n int, change func(*[]netip.Prefix) bool, text string, args ...any,
) {
	changed := false
	edited := design.Edited(o, func(b *design.Circuit) { changed = change(&b.Ends[n].Routes) })
	if at := o.Body.(*design.Circuit).Ends[n].At; changed {
		e.put(edited, Routes, e.party(at), at, text, args...)
	}
}
