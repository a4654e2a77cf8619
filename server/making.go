package server

import (
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/allocation"
	"dravin/core/command"
	"dravin/core/defaults"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/plan"
)

// sayIn are lines that are being said.
type sayIn struct {
	InDesign
	Side Side `query:"side" doc:"What is spoken of: the plan, or what is there."`
	Body struct {
		Text string `json:"text" maxLength:"1000000" doc:"The lines."`
		It   string `json:"it,omitempty" maxLength:"128" doc:"The ID of what the word it means at first."`
		Line string `json:"line,omitempty" maxLength:"20000" doc:"The line that is being typed, up to the cursor; left out: nothing is offered."`
	}
}

// Heard is what was understood of lines, and what may come next.
type Heard struct {
	command.Understood
	Offers []command.Offer `json:"offers"`
}

func (s *Server) say(ctx context.Context, in *sayIn) (*answer[Heard], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	it, of := design.ID(in.Body.It), v.design.On(in.Side.side())
	understood, err := queued(
		ctx, s.makes, func() (command.Understood, error) { return command.Understand(ctx, of, in.Body.Text, it) },
	)
	if err != nil {
		return nil, s.failed(err)
	}
	understood.Edits = of.Said(understood.Edits)
	out := Heard{Understood: understood, Offers: []command.Offer{}}
	if in.Body.Line != "" || in.Body.Text == "" {
		out.Offers = command.Complete(of, in.Body.Line, it)
	}
	return answering(out, nil)
}

type inForm struct {
	InView
	Kind   string `query:"kind" maxLength:"40" doc:"Of a new object."`
	Parent string `query:"parent" maxLength:"128" doc:"What a new object would stand in; left out: the top level."`
	Object string `query:"object" maxLength:"128" doc:"An object that is there, instead of a kind."`

	Titled []string `query:"titled,explode" maxItems:"200" doc:"IDs of what else the form shows, to be named."`
}

// Form is what can be given to an object.
type Form struct {
	Object      string                      `json:"object" doc:"Its ID; empty for a new one."`
	Kind        design.Kind                 `json:"kind"`
	Parent      design.ID                   `json:"parent"`
	Name        string                      `json:"name" doc:"For a new one a name that is free."`
	Body        map[string]any              `json:"body" doc:"Its values, by key; none for a new one."`
	Doc         string                      `json:"doc"`
	Fields      []design.Field              `json:"fields"`
	Suggestions map[string][]defaults.Value `json:"suggestions" doc:"By key, best first."`
	Names       map[design.ID]string        `json:"names" doc:"The titles of what is referred to, by ID."`
	Inside      []PartKind                  `json:"inside" doc:"What can be made inside it."`
	Saying      string                      `json:"saying" doc:"The line that says it."`
}

// PartKind is a kind with what it is.
type PartKind struct {
	Kind design.Kind `json:"kind"`
	Doc  string      `json:"doc"`
}

func partKinds(k design.Kind) []PartKind {
	out := []PartKind{}
	for _, inner := range design.KindsInside(k) {
		out = append(out, PartKind{inner, design.Doc(inner)})
	}
	return out
}

func formOf(v *solved, in *inForm) (Form, error) {
	o := v.design.Get(design.ID(in.Object))
	if in.Object == "" {
		k := design.Kind(in.Kind)
		if !slices.Contains(design.Kinds(), k) {
			return Form{}, refused("kind", "there is no such kind of object")
		}
		parent := design.ID(in.Parent)
		o = &design.Object{
			Kind: k, Parent: parent, Name: defaults.New(v.design).Name(k, parent), Body: design.Bodies()[k],
		}
		if parent != "" && v.design.Get(parent) == nil {
			return Form{}, missing("parent", "there is no such object now; it may have been removed")
		}
	}
	if o == nil {
		return Form{}, missing("object", "there is no such object now; it may have been removed or undone")
	}
	f := Form{
		Object: in.Object, Kind: o.Kind, Parent: o.Parent, Name: o.Name, Body: map[string]any{},
		Doc: design.Doc(o.Kind), Fields: design.Outline(o.Kind), Suggestions: defaults.New(v.design).Suggestions(o),
		Inside: partKinds(o.Kind), Names: map[design.ID]string{},
	}
	name := func(id design.ID) {
		if v.design.Get(id) != nil {
			f.Names[id] = v.design.Title(id)
		}
	}
	for _, id := range design.RefsOf(o) {
		name(id)
	}
	for _, id := range in.Titled {
		name(design.ID(id))
	}
	for _, list := range f.Suggestions {
		for _, x := range list {
			name(design.ID(x.Value))
		}
	}
	if in.Object != "" {
		f.Saying, f.Body = command.Saying(v.design, o), design.Values(o)
	}
	return f, nil
}

type inRemoval struct {
	InView
	Objects []string `query:"object,explode" required:"true" minItems:"1" maxItems:"500" doc:"IDs of what is to go."`
}

type inCopies struct {
	InView
	Source string   `query:"source" required:"true" maxLength:"128" doc:"The ID of a site, cloud network or outside party."`
	Names  []string `query:"name,explode" maxItems:"200" doc:"What the copies are called."`
	Like   string   `query:"pattern" maxLength:"80" doc:"Instead of names: a pattern in which # stands for a number."`
	Count  int      `query:"count" minimum:"0" maximum:"200" doc:"How many by the pattern."`
}

func copiesOf(ctx context.Context, v *solved, in *inCopies) (draft.Copies, error) {
	names := in.Names
	if len(names) == 0 {
		names = draft.Numbered(allocation.NewBooks(v.design), in.Like, max(in.Count, 1))
	}
	c, err := draft.Like(ctx, allocation.NewBooks(v.design), design.ID(in.Source), names)
	if err == nil {
		c, err = plan.Copied(ctx, v.all.Proofs, design.ID(in.Source), c)
	}
	if err != nil && ctx.Err() == nil {
		return c, refused("source", err.Error())
	}
	return c, err
}

func (s *Server) makingOperations(api huma.API) {
	register(
		api,
		huma.Operation{
			OperationID:  "say",
			Method:       http.MethodPost,
			Path:         "/api/designs/{design}/say",
			MaxBodyBytes: 4 << 20,
			Summary:      "What lines would do, understood as they are typed; nothing is stored",
		},
		s.say,
	)
	view(s, api, "get-form", "/form", "What an object can be given, with what is suggested", formOf)
	view(
		s,
		api,
		"get-removal",
		"/removal",
		"What it takes to remove objects",
		func(v *solved, in *inRemoval) (design.Removal, error) {
			ids := make([]design.ID, len(in.Objects))
			for n, id := range in.Objects {
				ids[n] = design.ID(id)
			}
			return v.design.Removal(ids...), nil
		},
	)
	heavy(s, api, s.makes, "get-copies", "/copies", "Others like a party, with its links; nothing is stored", copiesOf)
}
