package server

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/demo"
	"dravin/store"
)

// InDesign is the path of everything inside a design.
type InDesign struct {
	Design string `path:"design" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The design's ID."`
}

// maxCreateBytes is a design file of the largest size in JSON.
const maxCreateBytes = 2 * design.MaxFileBytes

type answer[T any] struct{ Body T }

func answering[T any](v T, err error) (*answer[T], error) {
	if err != nil {
		return nil, err
	}
	return &answer[T]{v}, nil
}

// DesignState is a design with what the frame of every view shows.
type DesignState struct {
	store.Info
	Undo     string         `json:"undo" doc:"What undo would take back; empty: nothing."`
	Redo     string         `json:"redo" doc:"What redo would bring back; empty: nothing."`
	Objects  int            `json:"objects"`
	Findings map[string]int `json:"findings" doc:"Number of findings by severity."`
}

type newDesign struct {
	Body struct {
		From string `json:"from" enum:"demo,file,nothing" doc:"demo: the demo estate; file: a design file; nothing: an empty design."`
		Name string `json:"name,omitempty" maxLength:"80" doc:"For an empty design; a file brings its own."`
		File string `json:"file,omitempty" doc:"The design file's text."`
	}
}

func (s *Server) designOperations(api huma.API) {
	register(
		api,
		huma.Operation{
			OperationID: "list-designs",
			Method:      http.MethodGet,
			Path:        "/api/designs",
			Summary:     "All designs, the one changed last first",
		},
		func(ctx context.Context, _ *struct{}) (*answer[[]store.Listed], error) {
			list, err := s.store.List(ctx)
			if err != nil {
				return nil, s.failed(err)
			}
			return answering(list, nil)
		},
	)
	register(
		api,
		huma.Operation{
			OperationID:   "create-design",
			Method:        http.MethodPost,
			Path:          "/api/designs",
			Summary:       "Make a design",
			DefaultStatus: http.StatusCreated,
			MaxBodyBytes:  maxCreateBytes,
		},
		s.create,
	)
	register(
		api,
		huma.Operation{
			OperationID: "get-design", Method: http.MethodGet, Path: "/api/designs/{design}",
			Summary: "The state of a design",
		},
		s.state,
	)
	register(
		api,
		huma.Operation{
			OperationID: "delete-design",
			Method:      http.MethodDelete,
			Path:        "/api/designs/{design}",
			Summary:     "Delete a design and its history; it can be taken back for 30 days",
		},
		func(ctx context.Context, in *InDesign) (*struct{}, error) {
			if err := s.store.Delete(ctx, in.Design); err != nil {
				return nil, s.failed(err)
			}
			return nil, nil
		},
	)
	register(
		api,
		huma.Operation{
			OperationID: "list-deleted",
			Method:      http.MethodGet,
			Path:        "/api/deleted",
			Summary:     "The designs that can be taken back, the one deleted last first",
		},
		func(ctx context.Context, _ *struct{}) (*answer[[]store.Info], error) {
			list, err := s.store.Deleted(ctx)
			if err != nil {
				return nil, s.failed(err)
			}
			return answering(list, nil)
		},
	)
	register(
		api,
		huma.Operation{
			OperationID: "rename-design", Method: http.MethodPost, Path: "/api/designs/{design}/rename",
			Summary: "Give the design another name",
		},
		s.rename,
	)
	register(
		api,
		huma.Operation{
			OperationID: "copy-design", Method: http.MethodPost, Path: "/api/designs/{design}/copy",
			Summary: "Copy the design as it is now, without its history and keys", DefaultStatus: http.StatusCreated,
		},
		s.copyDesign,
	)
	register(
		api,
		huma.Operation{
			OperationID: "compare-designs", Method: http.MethodGet, Path: "/api/compare",
			Summary: "In what two designs differ",
		},
		s.compare,
	)
	register(
		api,
		huma.Operation{
			OperationID: "restore-design",
			Method:      http.MethodPost,
			Path:        "/api/designs/{design}/restore",
			Summary:     "Take a deleted design back",
		},
		func(ctx context.Context, in *InDesign) (*answer[store.Info], error) {
			info, err := s.store.Restore(ctx, in.Design)
			if err != nil {
				return nil, s.failed(err)
			}
			return answering(info, nil)
		},
	)
}

func (s *Server) create(ctx context.Context, in *newDesign) (*answer[store.Info], error) {
	d, err := s.read(ctx, in)
	if err != nil {
		return nil, s.failed(err)
	}
	name, err := s.freeName(ctx, d.Name)
	if err != nil {
		return nil, s.failed(err)
	}
	info, err := s.store.Create(ctx, d.Called(name))
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(info, nil)
}

// read makes the design; a file waits for its turn among the imports, since it
// takes as much memory.
func (s *Server) read(ctx context.Context, in *newDesign) (*design.Design, error) {
	switch in.Body.From {
	case "demo":
		return design.Read(demo.Thistledown)
	case "file":
		leave, err := s.queue.enter(ctx, func(int) {})
		if err != nil {
			return nil, err
		}
		defer leave()
		d, err := design.Read([]byte(in.Body.File))
		if err == nil && d.Name == "" {
			d.Name = "Unnamed design"
		}
		return d, err
	}
	name, err := named(in.Body.Name)
	if err != nil {
		return nil, err
	}
	return design.New(name, nil), nil
}

type renameIn struct {
	InDesign
	Body struct {
		Base int64  `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
		Name string `json:"name" maxLength:"80"`
	}
}

func (s *Server) rename(ctx context.Context, in *renameIn) (*answer[store.Info], error) {
	name, err := named(in.Body.Name)
	if err != nil {
		return nil, s.failed(err)
	}
	info, err := s.store.Rename(ctx, in.Design, in.Body.Base, author(ctx), name)
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(info, nil)
}

type copyIn struct {
	InDesign
	Body struct {
		Name string `json:"name" maxLength:"80"`
	}
}

func (s *Server) copyDesign(ctx context.Context, in *copyIn) (*answer[store.Info], error) {
	name, err := named(in.Body.Name)
	if err != nil {
		return nil, s.failed(err)
	}
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	if name, err = s.freeName(ctx, name); err != nil {
		return nil, s.failed(err)
	}
	info, err := s.store.Create(ctx, v.design.Called(name))
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(info, nil)
}

type compareIn struct {
	Design string `query:"design" required:"true" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"A design's ID."`
	With   string `query:"with" required:"true" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The other design's ID."`
}

func (s *Server) compare(ctx context.Context, in *compareIn) (*answer[design.Comparison], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	other, _, err := s.store.Load(ctx, in.With)
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(design.Compare(v.design, other), nil)
}

// freeName tells designs of one name apart by a number.
func (s *Server) freeName(ctx context.Context, name string) (string, error) {
	list, err := s.store.List(ctx)
	if err != nil {
		return "", err
	}
	taken := map[string]bool{}
	for _, d := range list {
		taken[design.Slug(d.Name)] = true
	}
	free := name
	for n := 2; taken[design.Slug(free)]; n++ {
		free = fmt.Sprintf("%s %d", strings.TrimSpace(string([]rune(name)[:min(len([]rune(name)), 74)])), n)
	}
	return free, nil
}

// named is the name of a design, as it is kept.
func named(text string) (string, error) {
	name := strings.TrimSpace(text)
	if design.Slug(name) == "" || !design.IsLine(name) {
		return "", design.Problems{
			{Field: "name", Why: "is empty", Want: "give the design a name with a letter or digit"},
		}
	}
	return name, nil
}

func (s *Server) state(ctx context.Context, in *InView) (*answer[DesignState], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	findings, err := s.findingsAt(ctx, v.on(in.asked()))
	if err != nil {
		return nil, s.failed(err)
	}
	out := DesignState{Info: v.info, Objects: v.design.Len(), Findings: countBySeverity(findings)}
	if out.Undo, out.Redo, err = s.store.Steps(ctx, in.Design, author(ctx)); err != nil {
		return nil, s.failed(err)
	}
	return answering(out, nil)
}

func countBySeverity(list []finding.Finding) map[string]int {
	out := map[string]int{}
	for _, f := range list {
		out[string(f.Severity)]++
	}
	return out
}

// asciiName makes a file name that needs no quoting anywhere.
func asciiName(name string) string {
	slug := strings.Map(func(r rune) rune {
		if r > 126 {
			return -1
		}
		return r
	}, design.Slug(name))
	if slug == "" {
		return "design"
	}
	return slug
}
