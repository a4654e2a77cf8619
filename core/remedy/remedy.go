// Package remedy finds what would let one flow work, or an intent survive what it dies of. It asks the planner, and
// tries each of its answers on the design as it is: what is offered lets the flow work, lets everything hold that held,
// and so lets nothing leak that must never work.
package remedy

import (
	"context"
	"fmt"
	"slices"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/plan"
	"dravin/core/proof"
	"dravin/core/walk"
)

// Remedy is a change, tried.
type Remedy struct {
	Title string        `json:"title"`
	Edits []design.Edit `json:"edits"`
	// Proof is the walk of the flow with it; none for what survives a failure.
	Proof *walk.Proof `json:"proof,omitempty"`
}

// most is how many remedies are offered.
const most = 5

// asked is the intent that stands in for a flow that nobody asked for.
const asked design.ID = "asked-for-a-remedy"

// ForFlow are the changes that would let a flow work, the simplest first. The error is that of the context, or
// says why nothing can be planned.
func ForFlow(ctx context.Context, built *proof.Proofs, from, to design.ID, s design.Service) ([]Remedy, error) {
	d := built.Tables().Design
	stand := &design.Object{
		ID: asked, Kind: design.KindIntent, Name: "asked for a remedy", Body: &design.Intent{
			From: from, To: to, Service: s,
		},
	}
	edits := []design.Edit{design.PutEdit(stand)}
	next, _, err := d.Apply(edits)
	if err != nil {
		return nil, fmt.Errorf(
			"changes are worked out for what an intent can ask for, between hosts, places, parties or the internet; "+
				"%s to %s is not", d.Title(from), d.Title(to),
		)
	}
	p, err := plan.For(
		ctx, following(built, next, edits), plan.Question{
			Intents: []design.ID{asked},
		}, nil,
	)
	if err != nil {
		return nil, err
	}
	out := []Remedy{}
	for _, o := range p.Options {
		if o.Refused != "" || !o.Holds[asked] || len(out) == most {
			continue
		}
		r := Remedy{Title: o.Title, Edits: without(o.Edits, asked)}
		if tried(ctx, built, r.Edits, func(after *proof.Proofs) bool {
			f, err := walk.FlowBetween(after.Tables(), from, to, s)
			if err != nil {
				return false
			}
			proven := walk.Prove(after.Tables(), f)
			r.Proof = &proven
			return proven.Works
		}) {
			out = append(out, r)
		}
	}
	return out, ctx.Err()
}

// ForFailure are the changes by which the intents that die of a failure survive it.
func ForFailure(ctx context.Context, built *proof.Proofs, failed proof.Drill) ([]Remedy, error) {
	d := built.Tables().Design
	var dies []design.ID
	var edits []design.Edit
	for _, h := range failed.Dies {
		o := d.Get(h.Intent)
		if h.Never || o == nil {
			continue
		}
		dies = append(dies, h.Intent)
		edits = append(edits, design.PutEdit(design.Edited(o, func(b *design.Intent) { b.Survives = true })))
	}
	out := []Remedy{}
	if len(dies) == 0 {
		return out, nil
	}
	try := func(title string, change []design.Edit) {
		if len(change) > 0 && len(out) < most && tried(ctx, built, change, func(after *proof.Proofs) bool {
			return survives(ctx, after, failed, dies)
		}) {
			out = append(out, Remedy{Title: title, Edits: change})
		}
	}
	for _, id := range joints(d, failed) {
		for _, s := range draft.Second(allocation.NewBooks(d), id) {
			if len(s.Out) == 0 {
				try(s.Title, s.Edits)
			}
		}
	}
	next, _, err := d.Apply(edits)
	if err != nil || len(dies) > mostPlanned {
		return out, err
	}
	p, err := plan.For(
		ctx, following(built, next, edits),
		plan.Question{Intents: dies, Wish: plan.Surviving}, nil,
	)
	if err != nil {
		return out, nil // whoever asked looks at the context
	}
	for _, o := range p.Options {
		if o.Refused == "" {
			try(o.Title, without(o.Edits, dies...))
		}
	}
	return out, ctx.Err()
}

// mostPlanned is up to how many intents are planned for together.
const mostPlanned = 12

// joints are the joints that a failure takes away, or takes a part of.
func joints(d *design.Design, x proof.Drill) (out []design.ID) {
	for _, t := range x.Things {
		for o := d.Get(t.Object); o != nil; o = d.Get(o.Parent) {
			if _, ok := design.JointOf(o); ok {
				out = append(out, o.ID)
			}
		}
	}
	return out
}

// survives reports whether intents hold without what has failed.
func survives(ctx context.Context, after *proof.Proofs, failed proof.Drill, dies []design.ID) bool {
	x, err := proof.DrillsOf(ctx, after)
	if err != nil {
		return false
	}
	again, err := x.Without(ctx, failed.Things...)
	return err == nil &&
		!slices.ContainsFunc(again.Dies, func(h proof.Hit) bool { return slices.Contains(dies, h.Intent) })
}

// tried reports whether a change works, and breaks nothing that held.
func tried(ctx context.Context, built *proof.Proofs, edits []design.Edit, works func(*proof.Proofs) bool) bool {
	d := built.Tables().Design
	next, _, err := d.Apply(edits)
	if err != nil || ctx.Err() != nil {
		return false
	}
	after := following(built, next, edits)
	for _, o := range d.Of(design.KindIntent) {
		if built.Intent(o.ID).Holds && next.Get(o.ID) != nil && !after.Intent(o.ID).Holds {
			return false
		}
	}
	return works(after)
}

func following(p *proof.Proofs, next *design.Design, edits []design.Edit) *proof.Proofs {
	if p == nil {
		return nil
	}
	t := p.Tables().After(next, p.Tables().Design.ChangedBy(edits, next))
	return p.After(t, t.Changes())
}

// without are edits but for those of intents, whom rules no longer name where they only stood in.
func without(edits []design.Edit, intents ...design.ID) []design.Edit {
	out := []design.Edit{}
	for _, e := range edits {
		if slices.Contains(intents, e.ID) {
			continue
		}
		if e.Object != nil && e.Object.Kind == design.KindFilter && slices.Contains(intents, asked) {
			e = design.PutEdit(design.Edited(e.Object, func(f *design.PacketFilter) {
				f.Rules = slices.Clone(f.Rules)
				for n := range f.Rules {
					f.Rules[n].For = slices.DeleteFunc(
						slices.Clone(f.Rules[n].For), func(id design.ID) bool { return id == asked },
					)
				}
			}))
		}
		out = append(out, e)
	}
	return out
}
