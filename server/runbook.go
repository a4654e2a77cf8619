package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/change"
	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/core/runbook"
	"dravin/store"
)

// Runbook is the order of work, with what has been done.
type Runbook struct {
	*runbook.Runbook
	Done    []store.Tick           `json:"done" doc:"Steps that somebody has done, the last first."`
	Changes map[string][]change.ID `json:"changes" doc:"Of which changes each step is part, by the step's ID."`
	Days    map[string]time.Time   `json:"days" doc:"By when what is waited for can be expected, by the object, where it is known since when it is waited and how long it takes."`
}

type tickIn struct {
	InDesign
	Body struct {
		Base int64  `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
		Step string `json:"step" maxLength:"800" doc:"The step's ID."`
		Code string `json:"code,omitempty" maxLength:"200" doc:"What the step brings, of one that needs something: the order code, the public addresses, the port."`
		// The steps of one change are those of a runbook of its own.
		Change string `json:"change,omitempty" maxLength:"40" doc:"Of whose runbook, by the change's ID; left out: of that of all work."`
	}
}

func (s *Server) runbookOperations(api huma.API) {
	register(api, huma.Operation{
		OperationID: "get-runbook", Method: http.MethodGet, Path: "/api/designs/{design}/runbook",
		Summary: "The order of work from today to what is planned",
	}, s.getRunbook)
	register(api, huma.Operation{
		OperationID: "tick-step", Method: http.MethodPost, Path: "/api/designs/{design}/runbook/done",
		Summary: "Write down that a step is done: the design says so, and today follows",
	}, s.tickStep)
	register(api, huma.Operation{
		OperationID: "untick-step", Method: http.MethodPost, Path: "/api/designs/{design}/runbook/undone",
		Summary: "Take back that a step is done: what it said of what is there is not said any more",
	}, s.untickStep)
}

type untickIn struct {
	InDesign
	Body struct {
		Base int64  `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
		Step string `json:"step" maxLength:"800" doc:"The step's ID."`
	}
}

type inBook struct {
	InDesign
	Change string `query:"change" maxLength:"40" doc:"Of which change alone, with what it needs, by its ID; left out: of all work."`
}

func (s *Server) untickStep(ctx context.Context, in *untickIn) (*answer[store.Info], error) {
	info, err := s.store.Untick(ctx, in.Design, in.Body.Base, author(ctx), in.Body.Step)
	if errors.Is(err, store.ErrNotFound) {
		return nil, missing("step", "nobody has done such a step, or it was taken back already")
	}
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(info, nil)
}

func (s *Server) getRunbook(ctx context.Context, in *inBook) (*answer[Runbook], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	out, _, err := s.runbookOf(ctx, v, change.ID(in.Change))
	return answering(out, err)
}

// runbookOf is the runbook of all work or of one change, without the steps that are done although the design can not
// say so.
func (s *Server) runbookOf(ctx context.Context, v *solved, of change.ID) (Runbook, *heldBook, error) {
	w, err := s.worksOf(ctx, v)
	if err != nil {
		return Runbook{}, nil, s.failed(err)
	}
	plan := v.design
	if of != "" {
		if err := w.find(of); err != nil {
			return Runbook{}, nil, err
		}
		if plan, _, _, err = w.plan(of); err != nil {
			return Runbook{}, nil, refused("change", "it can not be built alone: "+err.Error())
		}
	}
	h, err := s.bookOf(ctx, v, of, plan)
	if err != nil {
		return Runbook{}, nil, s.failed(err)
	}
	ticks, err := s.store.Ticks(ctx, v.info.ID)
	if err != nil {
		return Runbook{}, nil, s.failed(err)
	}
	book := *h.Runbook
	book.Steps, book.Holds = slices.Clone(book.Steps), 0
	for _, r := range v.on(design.Built).all.Proofs.All() {
		if r.Holds {
			book.Holds++
		}
	}
	out := Runbook{Runbook: &book, Done: []store.Tick{}, Changes: w.byStep(&book)}
	for _, t := range ticks {
		n := slices.IndexFunc(book.Steps, func(x runbook.Step) bool { return x.ID == t.Step })
		switch {
		case n >= 0 && t.Position <= h.From: // it was a step of another work
		case n >= 0 && len(book.Steps[n].Edits) > 0: // its edit was taken back
		case n >= 0 && slices.ContainsFunc(h.Owed, func(x runbook.Step) bool { return x.ID == t.Step }):
		case n >= 0:
			book.Steps = slices.Delete(book.Steps, n, n+1)
			out.Done = append(out.Done, t)
		default:
			out.Done = append(out.Done, t)
		}
	}
	out.Days = map[string]time.Time{}
	for _, g := range book.Gates {
		for _, t := range ticks {
			if g.Begun && g.Days > 0 && t.Step == g.Begins {
				out.Days[string(g.Object)] = t.At.AddDate(0, 0, int(g.Days))
			}
		}
	}
	return out, h, nil
}

func (s *Server) tickStep(ctx context.Context, in *tickIn) (*answer[store.Info], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	of := change.ID(in.Body.Change)
	book, h, err := s.runbookOf(ctx, v, of)
	if err != nil {
		return nil, err
	}
	n := slices.IndexFunc(book.Steps, func(x runbook.Step) bool { return x.ID == in.Body.Step })
	if n < 0 {
		return nil, missing("step", "there is no such step to do now; somebody may have done it, or the plan has changed")
	}
	x := book.Steps[n]
	edits := onBuilt(x.Edits)
	if x.Needs == lifecycle.NeedsCode {
		b := v.design.Get(x.Object).Body.(*design.Circuit)
		edits, err = lifecycle.EnterCode(v.design, v.design.Get(x.Object), in.Body.Code, b.CodeZone, b.Expires)
		if err != nil {
			return nil, refused("code", err.Error())
		}
	}
	if x.Needs == lifecycle.NeedsAddress || x.Needs == lifecycle.NeedsPort {
		if edits, err = lifecycle.Given(v.design, edits, x.Object, x.Needs, x.End, in.Body.Code); err != nil {
			return nil, refused("code", err.Error())
		}
	}
	for _, id := range x.After {
		if k := slices.IndexFunc(book.Steps, func(s runbook.Step) bool { return s.ID == id }); k >= 0 {
			return nil, refused("step", fmt.Sprintf(
				"it is set to what step %d brings; do that first: %s", book.Steps[k].N, book.Steps[k].Does,
			))
		}
	}
	owed, err := runbook.Owed(v.on(design.Built).all.Proofs, v.design, x.Edits, x.At)
	if err != nil {
		return nil, refused("step", "it needs what other steps make; do these first: "+err.Error())
	}
	then, err := h.without(x.ID, in.Body.Base+1)
	if err != nil {
		return nil, s.failed(err)
	}
	title := fmt.Sprintf("%s: %s", x.Where, x.Does)
	return s.commitSet(ctx, in.Design, store.ChangeSet{
		Base: in.Body.Base, Author: author(ctx), Reason: "Done: " + title, Edits: edits,
		Tick: &store.Tick{
			Step: x.ID, N: x.N, Title: title, Author: author(ctx), Box: x.At, Owed: owed, Change: of, Book: then,
		},
	})
}
