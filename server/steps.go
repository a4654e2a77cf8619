package server

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/store"
)

type answerIn struct {
	InDesign
	Request string `path:"request" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The request's ID."`
	Body    struct {
		Base   int64  `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
		Accept bool   `json:"accept"`
		Reason string `json:"reason" maxLength:"150" doc:"Why; the one who asks reads it in the history."`
	}
}

type codeIn struct {
	InDesign
	Link string `path:"link" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The circuit's ID."`
	Body struct {
		Base    int64  `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
		Code    string `json:"code" maxLength:"200" doc:"The order code."`
		Zone    string `json:"zone,omitempty" maxLength:"80" doc:"The zone that it holds for."`
		Expires string `json:"expires,omitempty" maxLength:"10" doc:"Until when, as 2026-12-01."`
	}
}

func (s *Server) stepOperations(api huma.API) {
	register(
		api,
		huma.Operation{
			OperationID: "answer-request", Method: http.MethodPost,
			Path:    "/api/designs/{design}/requests/{request}/answer",
			Summary: "Accept or refuse a request to join, with a reason",
		},
		s.answerRequest,
	)
	register(
		api,
		huma.Operation{
			OperationID: "enter-code", Method: http.MethodPost, Path: "/api/designs/{design}/links/{link}/code",
			Summary: "Enter a circuit's order code",
		},
		s.enterCode,
	)
}

func (s *Server) answerRequest(ctx context.Context, in *answerIn) (*answer[store.Info], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	r := v.design.Get(design.ID(in.Request))
	if r == nil || r.Kind != design.KindRequest {
		return nil, missing("request", "there is no such request now; it may have been undone")
	}
	if !design.IsLine(in.Body.Reason) {
		return nil, refused("reason", "the reason holds a control character; write plain text")
	}
	edits, err := lifecycle.Answer(v.design, r, in.Body.Accept, in.Body.Reason)
	if err != nil {
		return nil, refused("reason", err.Error())
	}
	word := map[bool]string{true: "Accept", false: "Refuse"}[in.Body.Accept]
	return s.commit(
		ctx, in.Design, in.Body.Base,
		fmt.Sprintf("%s %s: %s", word, v.design.Title(r.Body.(*design.Request).For), in.Body.Reason), edits,
	)
}

func (s *Server) enterCode(ctx context.Context, in *codeIn) (*answer[store.Info], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	o := v.design.Get(design.ID(in.Link))
	if o == nil || o.Kind != design.KindCircuit {
		return nil, missing("link", "there is no such circuit now; it may have been removed or undone")
	}
	edits, err := lifecycle.EnterCode(v.design, o, in.Body.Code, in.Body.Zone, in.Body.Expires)
	if err != nil {
		return nil, refused("code", err.Error())
	}
	return s.commit(ctx, in.Design, in.Body.Base, "Enter the order code of "+o.Name, edits)
}

// now is the server's clock.
func (s *Server) now() time.Time { return time.Now().UTC() }
