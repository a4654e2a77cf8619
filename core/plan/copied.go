package plan

import (
	"context"
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/proof"
	"dravin/core/topology"
	"dravin/core/translate"
	"dravin/core/walk"
)

// mostWalked bounds how many flows of copies are walked.
const mostWalked = 3000

// Copied proves copies: each reaches what its source reaches, and is reached like it, over the joints
// that were copied along. What tables lack for that is entered; what does not work then is noted.
func Copied(ctx context.Context, built *proof.Proofs, source design.ID, c draft.Copies) (draft.Copies, error) {
	d := built.Tables().Design
	next, _, err := d.Apply(c.Edits)
	if err != nil {
		return c, nil // the design tells what is wrong with it
	}
	after := following(built, next, d.ChangedBy(c.Edits, next))
	var failing []translate.Flow
	walked := 0
	for _, flow := range workingAt(built, source) {
		for _, made := range c.Made {
			if walked++; walked > mostWalked {
				break
			}
			if err := ctx.Err(); err != nil {
				return c, err
			}
			like := likeIn(d, next, source, made, flow)
			if like.From != "" && like.To != "" && !works(after, like) {
				failing = append(failing, like)
			}
		}
	}
	if len(failing) == 0 {
		return c, nil
	}
	if edits, _ := translate.Carried(after, failing); len(edits) > 0 {
		if carried, _, err := next.Apply(edits); err == nil {
			after = following(after, carried, next.ChangedBy(edits, carried))
			c.Edits = d.EditsTo(carried)
		}
	}
	for _, f := range failing {
		if !works(after, f) && len(c.Notes) < mostSuggestions {
			d := after.Tables().Design
			c.Notes = append(c.Notes, fmt.Sprintf(
				"%s does not reach %s as its source does; plan what they must say to each other", d.Title(
					f.From,
				), d.Title(f.To),
			))
		}
	}
	return c, nil
}

// workingAt are the flows between the places of a party and those of whom it is joined to that work.
func workingAt(built *proof.Proofs, party design.ID) (out []translate.Flow) {
	d := built.Tables().Design
	var far []design.ID
	for _, l := range topology.Drawn(d).Near(party) {
		if !slices.Contains(far, l.To) {
			far = append(far, l.To)
		}
	}
	for _, own := range d.Inside(party, design.HostPlaces...) {
		for _, f := range far {
			for _, place := range d.Inside(f, design.HostPlaces...) {
				for _, flow := range []translate.Flow{{From: own.ID, To: place.ID}, {From: place.ID, To: own.ID}} {
					if works(built, flow) {
						out = append(out, flow)
					}
				}
			}
		}
	}
	return out
}

// Carries reports whether what must answer in one place is reached from another, and the answer comes back.
func Carries(p *proof.Proofs, from, to design.ID) bool {
	return works(p, translate.Flow{From: from, To: to})
}

func works(p *proof.Proofs, f translate.Flow) bool {
	t := p.Tables()
	flow, err := walk.FlowBetween(t, f.From, f.To, serviceAt(t.Design, f.To))
	return err == nil && walk.Prove(t, flow).Works
}

// likeIn is a flow of a source as it is of its copy.
func likeIn(d, next *design.Design, source, made design.ID, f translate.Flow) translate.Flow {
	like := func(id design.ID) design.ID {
		if p := d.Party(id); p == nil || p.ID != source {
			return id
		}
		o := d.Get(id)
		for _, x := range next.Inside(made, o.Kind) {
			if x.Name == o.Name {
				return x.ID
			}
		}
		return ""
	}
	return translate.Flow{From: like(f.From), To: like(f.To)}
}
