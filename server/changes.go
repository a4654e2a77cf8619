package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/change"
	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/proof"
	solving "dravin/core/snapshot"
	"dravin/store"
)

// EditIn is an edit as it comes in; its object's body is checked against its
// kind by the core, which names the field.
type EditIn struct {
	Side   string `json:"side,omitempty" enum:"planned,built,both" doc:"What it is said of: of the plan, of what is there, which the plan follows as far as it does not differ there, or of both alike. Left out: of the plan."`
	Op     string `json:"op" enum:"put,remove"`
	ID     string `json:"id" maxLength:"128"`
	Object *struct {
		ID     string          `json:"id" maxLength:"128"`
		Kind   string          `json:"kind" maxLength:"40"`
		Parent string          `json:"parent,omitempty" maxLength:"128"`
		Name   string          `json:"name" maxLength:"320"`
		Body   json.RawMessage `json:"body" doc:"One of the bodies in components.schemas, as the kind says."`
	} `json:"object,omitempty"`
}

type changeIn struct {
	InDesign
	Body struct {
		Base   int64    `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
		Reason string   `json:"reason" minLength:"1" maxLength:"200" doc:"What for, in the words of the history."`
		Edits  []EditIn `json:"edits" minItems:"1" maxItems:"100000"`
		Change string   `json:"change,omitempty" maxLength:"40" doc:"Of which change it is part, by ID; new: of one of its own, which the reason names; left out: of that which makes what is edited, else of one of its own."`
		Why    string   `json:"why,omitempty" maxLength:"2000" doc:"What a change of its own is for."`
	}
}

type previewIn struct {
	InDesign
	Side Side `query:"side" doc:"Of which side."`
	Body struct {
		Edits []EditIn `json:"edits" minItems:"1" maxItems:"100000"`
	}
}

// Preview is what edits would lead to.
type Preview struct {
	Intents  []proof.Result    `json:"intents"`
	Findings []finding.Finding `json:"findings"`
}

type stepIn struct {
	InDesign
	Body struct {
		Base int64 `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
	}
}

const maxChangeBytes = 16 << 20

func (s *Server) changeOperations(api huma.API) {
	register(
		api,
		huma.Operation{
			OperationID: "change", Method: http.MethodPost, Path: "/api/designs/{design}/changes",
			Summary: "Apply a change set, whole or not at all", MaxBodyBytes: maxChangeBytes,
		},
		s.change,
	)
	register(
		api,
		huma.Operation{
			OperationID:  "preview",
			Method:       http.MethodPost,
			Path:         "/api/designs/{design}/preview",
			Summary:      "What a change set would lead to; nothing is stored",
			MaxBodyBytes: maxChangeBytes,
		},
		s.preview,
	)
	step := func(id, summary string, do func(context.Context, string, int64, string) (store.Info, error)) {
		register(
			api,
			huma.Operation{
				OperationID: id,
				Method:      http.MethodPost,
				Path:        "/api/designs/{design}/" + id,
				Summary:     summary,
			},
			func(ctx context.Context, in *stepIn) (*answer[store.Info], error) {
				info, err := do(ctx, in.Design, in.Body.Base, author(ctx))
				if err != nil {
					return nil, s.failed(err)
				}
				return answering(info, nil)
			},
		)
	}
	step("undo", "Take the last change back", s.store.Undo)
	step("redo", "Bring the change undone last back", s.store.Redo)
	register(
		api,
		huma.Operation{
			OperationID: "get-history",
			Method:      http.MethodGet,
			Path:        "/api/designs/{design}/history",
			Summary:     "The journal after a position, oldest first",
		},
		func(ctx context.Context, in *struct {
			InDesign
			After int64 `query:"after" minimum:"0" maximum:"9007199254740991" doc:"The position; 0 for all."`
			Look  int64 `query:"look" minimum:"0" maximum:"9007199254740991" doc:"The last look at keys that was read; 0 for all."`
		}) (*answer[[]store.Change], error) {
			list, err := s.store.History(ctx, in.Design, in.After, in.Look)
			if err != nil {
				return nil, s.failed(err)
			}
			return answering(list, nil)
		},
	)
}

func (s *Server) change(ctx context.Context, in *changeIn) (*answer[store.Info], error) {
	if !design.IsLine(in.Body.Reason) {
		return nil, refused("reason", "the reason holds a control character; write plain text")
	}
	edits, err := decode(in.Body.Edits)
	if err != nil {
		return nil, s.failed(err)
	}
	if said(edits) {
		v, err := s.solved.get(ctx, in.Design)
		if err != nil {
			return nil, s.failed(err)
		}
		edits = v.design.Said(edits)
	}
	if !design.IsText(in.Body.Why) {
		return nil, refused("why", "it holds a control character; write plain text")
	}
	set := store.ChangeSet{Base: in.Body.Base, Author: author(ctx), Reason: in.Body.Reason, Edits: edits}
	set.Work.Why = in.Body.Why
	if in.Body.Change != "" {
		set.Work.Changes = []change.ID{change.ID(in.Body.Change)}
	}
	return s.commitSet(ctx, in.Design, set)
}

// said reports whether any edit tells what is there.
func said(edits []design.Edit) bool {
	return slices.ContainsFunc(edits, func(e design.Edit) bool { return e.Side == design.Built })
}

func (s *Server) preview(ctx context.Context, in *previewIn) (*answer[Preview], error) {
	tried, err := s.try(ctx, in.Design, in.Side, in.Body.Edits)
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(Preview{Intents: tried.Proofs.All(), Findings: tried.Findings.All()}, nil)
}

// try works out what a design would be with edits, without storing anything.
func (s *Server) try(ctx context.Context, id string, h Side, list []EditIn) (*solving.Solved, error) {
	edits, err := decode(list)
	if err != nil {
		return nil, err
	}
	v, err := s.solved.get(ctx, id)
	if err != nil {
		return nil, err
	}
	return v.trial(h.side(), edits)
}

// trial is one side of what edits would lead to, as they are said of that side where they say nothing else.
func (v *solved) trial(side design.Side, edits []design.Edit) (*solving.Solved, error) {
	if side == design.Built {
		edits = v.design.Built().Said(edits)
	}
	tried, err := v.all.Try(v.design.Said(edits))
	if err != nil {
		return nil, err
	}
	return tried.On(side), nil
}

// decode turns incoming edits into edits, or says which field of which is
// wrong.
func decode(in []EditIn) ([]design.Edit, error) {
	var problems design.Problems
	out := make([]design.Edit, 0, len(in))
	for n, e := range in {
		edit := design.Edit{Side: design.Side(e.Side), Op: e.Op, ID: design.ID(e.ID)}
		if e.Object != nil {
			body, err := design.DecodeBody(design.Kind(e.Object.Kind), e.Object.Body)
			if bad, ok := err.(design.Problems); ok {
				for _, p := range bad {
					p.Field = fmt.Sprintf("edits[%d].object.body.%s", n, p.Field)
					problems = append(problems, p)
				}
				continue
			}
			edit.Object = &design.Object{
				ID: design.ID(e.Object.ID), Kind: design.Kind(e.Object.Kind), Parent: design.ID(e.Object.Parent),
				Name: e.Object.Name, Body: body,
			}
		}
		out = append(out, edit)
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return out, nil
}
