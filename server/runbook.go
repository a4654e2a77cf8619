package server

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/core/runbook"
	"dravin/store"
)

// Runbook is the order of work, with what has been done.
type Runbook struct {
	*runbook.Runbook
	Done []store.Tick `json:"done" doc:"Steps that somebody has done, the last first."`
}

type tickIn struct {
	InDesign
	Body struct {
		Base int64  `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
		Step string `json:"step" maxLength:"800" doc:"The step's ID."`
		Code string `json:"code,omitempty" maxLength:"200" doc:"The order code, of a step that needs one."`
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
}

func (s *Server) getRunbook(ctx context.Context, in *InDesign) (*answer[Runbook], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(s.runbookOf(ctx, v))
}

// runbookOf is the runbook without the steps that are done although the design can not say so.
func (s *Server) runbookOf(ctx context.Context, v *solved) (Runbook, error) {
	has, err := s.store.Loaded(ctx, v.info.ID)
	if err != nil {
		return Runbook{}, s.failed(err)
	}
	book, err := queued(ctx, s.plans, func() (*runbook.Runbook, error) {
		return runbook.Of(ctx, v.on(design.Built).all.Proofs, v.design, has)
	})
	if err != nil {
		return Runbook{}, s.failed(err)
	}
	ticks, err := s.store.Ticks(ctx, v.info.ID)
	if err != nil {
		return Runbook{}, s.failed(err)
	}
	out := Runbook{Runbook: book, Done: []store.Tick{}}
	for _, t := range ticks {
		n := slices.IndexFunc(book.Steps, func(x runbook.Step) bool { return x.ID == t.Step })
		switch {
		case n >= 0 && len(book.Steps[n].Edits) > 0: // its edit was taken back
		case n >= 0:
			book.Steps = slices.Delete(book.Steps, n, n+1)
			out.Done = append(out.Done, t)
		default:
			out.Done = append(out.Done, t)
		}
	}
	return out, nil
}

func (s *Server) tickStep(ctx context.Context, in *tickIn) (*answer[store.Info], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	book, err := s.runbookOf(ctx, v)
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
		var err error
		edits, err = lifecycle.EnterCode(v.design, v.design.Get(x.Object), in.Body.Code, b.CodeZone, b.Expires)
		if err != nil {
			return nil, refused("code", err.Error())
		}
	}
	owed, err := runbook.Owed(v.on(design.Built).all.Proofs, v.design, x.Edits, x.At)
	if err != nil {
		return nil, refused("step", "it needs what other steps make; do these first: "+err.Error())
	}
	title := fmt.Sprintf("%s: %s", x.Where, x.Does)
	return s.commitSet(ctx, in.Design, store.ChangeSet{
		Base: in.Body.Base, Author: author(ctx), Reason: "Done: " + title, Edits: edits,
		Tick: &store.Tick{Step: x.ID, Title: title, Author: author(ctx), Box: x.At, Owed: owed},
	})
}
