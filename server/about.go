package server

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// About is what every page should know of the server.
type About struct {
	Version  string   `json:"version"`
	Warnings []string `json:"warnings" doc:"What everybody who works here should know."`
}

func (s *Server) aboutOperation(api huma.API) {
	register(
		api,
		huma.Operation{
			OperationID: "get-about",
			Method:      http.MethodGet,
			Path:        "/api/about",
			Summary:     "What every page should know of the server",
		},
		func(context.Context, *struct{}) (*answer[About], error) {
			out := About{Version: Version, Warnings: append([]string{}, s.Warnings...)}
			if closed := s.vault.Closed(); closed != nil {
				out.Warnings = append(out.Warnings, "Keys can not be opened: "+closed.Error()+".")
			}
			return answering(out, nil)
		},
	)
}

// health says whether the database answers, and what else is known to be amiss.
func (s *Server) health(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := s.store.Ping(ctx); err != nil {
		s.log.Warn("not healthy", "error", err)
		problem(w, http.StatusServiceUnavailable, s.failed(err).Error())
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	_, _ = w.Write([]byte("ok\n"))
	if !s.listening.Load() {
		_, _ = w.Write([]byte("news from the database is not heard: browsers learn of changes when they look again\n"))
	}
}
