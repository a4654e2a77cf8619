package server

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/change"
	"dravin/core/design"
	"dravin/store"
)

type builtIn struct {
	InDesign
	Body struct {
		Base    int64    `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
		There   bool     `json:"there" doc:"They are there as planned; false: they are not there."`
		Change  string   `json:"change,omitempty" maxLength:"40" doc:"A change of which all is there as planned, with what it needs, by its ID."`
		Objects []string `json:"objects,omitempty" maxItems:"20000" doc:"IDs, of a party with all that stands in it; left out: everything."`
	}
}

func (s *Server) builtOperations(api huma.API) {
	register(api, huma.Operation{
		OperationID: "say-built", Method: http.MethodPost, Path: "/api/designs/{design}/built",
		Summary: "Say of objects, or of everything, that they are there as planned, or not there; the plan stays as it is",
	}, s.sayBuilt)
	register(api, huma.Operation{
		OperationID: "get-work", Method: http.MethodGet, Path: "/api/designs/{design}/work",
		Summary: "What differs between what is built and what is planned, by object and field",
	}, func(ctx context.Context, in *InDesign) (*answer[design.Comparison], error) {
		v, err := s.solved.get(ctx, in.Design)
		if err != nil {
			return nil, s.failed(err)
		}
		return answering(design.CompareSides(v.design), nil)
	})
}

func (s *Server) sayBuilt(ctx context.Context, in *builtIn) (*answer[store.Info], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	if in.Body.Change != "" {
		return s.changeBuilt(ctx, v, in)
	}
	ids, what := ids(in.Body.Objects), "Everything"
	for n, id := range ids {
		if v.design.Get(id) == nil && v.design.Built().Get(id) == nil {
			return nil, missing("objects", "there is no such object now; it may have been removed or undone")
		}
		if n == 0 {
			what = v.design.Title(id)
		}
	}
	if len(ids) > 1 {
		what = fmt.Sprintf("%s and %d more", what, len(ids)-1)
	}
	word, edits := "is there as planned", v.design.There(ids...)
	switch {
	case in.Body.There && len(ids) == 0:
		edits = onBuilt(v.design.Work())
	case !in.Body.There && len(ids) == 0:
		word, edits = "is not there", nil
		for _, o := range v.design.Built().All() {
			if !design.Shared(o.Kind) {
				edits = append(edits, design.Edit{Side: design.Built, Op: design.Remove, ID: o.ID})
			}
		}
	case !in.Body.There:
		word, edits = "is not there", onBuilt(v.design.Built().Removal(ids...).Edits)
	}
	return s.commit(ctx, in.Design, in.Body.Base, what+" "+word, edits)
}

// changeBuilt says of a change that all of it is there.
func (s *Server) changeBuilt(ctx context.Context, v *solved, in *builtIn) (*answer[store.Info], error) {
	w, err := s.worksOf(ctx, v)
	if err != nil {
		return nil, s.failed(err)
	}
	id := change.ID(in.Body.Change)
	if err := w.find(id); err != nil {
		return nil, err
	}
	if !in.Body.There {
		return nil, refused("there", "of a change it can be said that it is there; what is not there is said of objects")
	}
	_, edits, _, err := w.plan(id)
	if err != nil {
		return nil, refused("change", "it can not be built alone: "+err.Error())
	}
	return s.commit(ctx, in.Design, in.Body.Base, w.title(id)+" is there as planned", onBuilt(edits))
}

// onBuilt are edits of the design as built.
func onBuilt(edits []design.Edit) []design.Edit {
	out := make([]design.Edit, 0, len(edits))
	for _, e := range edits {
		if e.Object != nil && design.Shared(e.Object.Kind) {
			continue
		}
		e.Side = design.Built
		out = append(out, e)
	}
	return out
}
