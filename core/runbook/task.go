package runbook

import (
	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/core/settings"
)

// task is one joint that is to be made, in parts that are each somebody's.
type task struct {
	joint design.Joint
	parts []part
}

// part is what one party does of it.
type part struct {
	key   string // of its step, with the joint
	at    design.ID
	end   int    // 1 or 2, 0 of what has none
	does  string // what is done beside entering what the instructions say; empty: nothing
	needs string
	edits func(*design.Design) []design.Edit
}

func nothing(*design.Design) []design.Edit { return nil }

// tasksOf is how a joint is made.
func tasksOf(d *design.Design, j design.Joint) []*task {
	x := &task{joint: j}
	switch b := j.Body.(type) {
	case *design.Link:
		x.parts = linkParts(d, j, b)
	case *design.Peering:
		for n, h := range b.Halves {
			if !h.Made {
				x.parts = append(x.parts, part{
					key: "half", at: h.Network, end: n + 1,
					edits: func(d *design.Design) []design.Edit {
						return []design.Edit{design.PutEdit(lifecycle.WithHalf(d.Get(j.ID), n, true))}
					},
				})
			}
		}
	case *design.Circuit:
		x.parts = circuitParts(d, j, b)
	default:
		x.parts = []part{{key: "attach", at: j.Ends[0], edits: func(d *design.Design) []design.Edit {
			return []design.Edit{design.PutEdit(d.Get(j.ID).InState(design.Ready))}
		}}}
	}
	if len(x.parts) == 0 {
		return nil
	}
	return []*task{x}
}

// linkParts set up first the end that waits to be asked: the one that starts finds it ready.
func linkParts(d *design.Design, j design.Joint, b *design.Link) (out []part) {
	starts := 0
	for _, t := range d.Tunnels(j.ID) {
		if settings.Starts(d, t, 1) {
			starts = 1
		}
	}
	whole := design.StateOf(j.Object) == design.Ready
	for _, n := range []int{1 - starts, starts} {
		if whole && lifecycle.SetUpAt(d, j.ID, n) {
			continue
		}
		out = append(out, part{
			key: "end", at: b.Ends[n].Gateway, end: n + 1,
			edits: func(d *design.Design) []design.Edit { return lifecycle.SetUp(d, d.Get(j.ID), n) },
		})
	}
	return out
}

// circuitParts order a circuit, have it accepted, and then set up both of its ends.
func circuitParts(d *design.Design, j design.Joint, b *design.Circuit) (out []part) {
	step := func(key, does, needs string, end int, edits func(*design.Design) []design.Edit) {
		out = append(out, part{key: key, at: j.Ends[end], end: end + 1, does: does, needs: needs, edits: edits})
	}
	to := func(s string, state design.State) func(*design.Design) []design.Edit {
		return func(d *design.Design) []design.Edit {
			return []design.Edit{design.PutEdit(design.Edited(d.Get(j.ID), func(c *design.Circuit) {
				c.Step, c.State = s, state
			}))}
		}
	}
	switch b.Step {
	case "":
		step("order", "order the circuit", "", 0, to(design.StepOrdered, design.Making))
		fallthrough
	case design.StepOrdered:
		step("code", "get the order code, and tell it to "+d.Title(j.Ends[1]), lifecycle.NeedsCode, 0,
			to(design.StepCode, design.Making))
		fallthrough
	case design.StepCode:
		step("accept", "accept the circuit with its order code", "", 1, to(design.StepAccepted, design.Making))
	}
	// An end that gets files gets them once the circuit counts: it is last.
	ends := []int{0, 1}
	if d.Party(j.Ends[0]).Kind != design.KindNetwork && d.Party(j.Ends[0]).Kind != design.KindHub {
		ends = []int{1, 0}
	}
	if d.Party(j.Ends[ends[0]]).Kind == design.KindNetwork || d.Party(j.Ends[ends[0]]).Kind == design.KindHub {
		step("end", "", "", ends[0], nothing)
	}
	step("end", "", "", ends[1], to(design.StepInUse, design.Ready))
	return out
}
