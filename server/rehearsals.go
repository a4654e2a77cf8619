package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"dravin/core/design"
	"dravin/core/rehearsal"
	"dravin/lab/stage"
	"dravin/store"
)

// Rehearsed is a rehearsal of a design as it was at a position.
type Rehearsed struct {
	ID       int64             `json:"id"`
	Position int64             `json:"position" doc:"Of the journal: the design was that."`
	Author   string            `json:"author"`
	State    string            `json:"state" enum:"waiting,playing,done,cancelled,broken-off"`
	Side     design.Side       `json:"side" enum:"planned,built"`
	Steps    bool              `json:"steps" doc:"It begins with what there is today and does the steps of the runbook."`
	AskedAt  time.Time         `json:"asked_at"`
	EndedAt  *time.Time        `json:"ended_at,omitempty"`
	Why      string            `json:"why,omitempty" doc:"Why it was broken off."`
	Report   *rehearsal.Report `json:"report,omitempty" doc:"What it found; its captures without their files."`
}

// Rehearsals are the last of a design.
type Rehearsals struct {
	Possible string      `json:"possible" doc:"Why this server can not rehearse; empty if it can."`
	Command  string      `json:"command" doc:"What does the same elsewhere."`
	List     []Rehearsed `json:"list" doc:"The newest first."`
}

// Rehearsing is a rehearsal with what has happened in it.
type Rehearsing struct {
	Rehearsed
	Events []stage.Event `json:"events" doc:"Those after the one that was asked for, at most 2,000."`
}

func rehearsedOf(r store.Rehearsal) (Rehearsed, error) {
	var o stage.Order
	if err := json.Unmarshal(r.Asked, &o); err != nil {
		return Rehearsed{}, err
	}
	out := Rehearsed{
		ID: r.ID, Position: r.Position, Author: r.Author, State: r.State, Side: o.Begins(), Steps: o.Options.Steps,
		AskedAt: r.AskedAt, EndedAt: r.EndedAt, Why: r.Why,
	}
	if len(r.Report) > 0 {
		if err := json.Unmarshal(r.Report, &out.Report); err != nil {
			return Rehearsed{}, err
		}
	}
	if out.Report != nil {
		for n := range out.Report.Captures {
			out.Report.Captures[n].File = nil
		}
	}
	return out, nil
}

// PlayRehearsals plays what is asked for of this database, one at a time, until ctx ends. Where this machine can not,
// others may.
func (s *Server) PlayRehearsals(ctx context.Context) {
	if stage.Possible() != nil {
		return
	}
	err := s.store.Play(ctx, func(ctx context.Context, r store.Rehearsal, tell func(any)) (any, error) {
		var o stage.Order
		if err := json.Unmarshal(r.Asked, &o); err != nil {
			return nil, err
		}
		o.Design = r.File
		return stage.Rehearse(ctx, o, func(e stage.Event) { tell(e) }, nil)
	})
	if err != nil && ctx.Err() == nil {
		s.log.Error("rehearsals are not played", "error", err)
	}
}

type rehearseIn struct {
	InDesign
	Body struct {
		Base   int64 `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that is to be rehearsed."`
		Side   Side  `json:"side"`
		Steps  bool  `json:"steps,omitempty" doc:"Begin with what there is today and do the steps of the runbook."`
		Drills int   `json:"drills,omitempty" minimum:"0" maximum:"10" doc:"How many drills are carried out."`
		Sample int   `json:"sample,omitempty" minimum:"0" maximum:"5000" doc:"Flows beside those of intents."`
	}
}

type inRehearsal struct {
	InDesign
	ID    int64 `path:"rehearsal" minimum:"1" maximum:"9007199254740991"`
	After int   `query:"after" minimum:"0" maximum:"1000000" doc:"How many events the caller has."`
}

func (s *Server) rehearsalOperations(api huma.API) {
	path := "/api/designs/{design}/rehearsals"
	register(api, huma.Operation{
		OperationID: "list-rehearsals", Method: http.MethodGet, Path: path, Summary: "The last rehearsals of a design",
	}, s.listRehearsals)
	register(api, huma.Operation{
		OperationID: "rehearse", Method: http.MethodPost, Path: path, Summary: "Rehearse the design as it is now",
	}, s.rehearse)
	register(api, huma.Operation{
		OperationID: "get-rehearsal", Method: http.MethodGet, Path: path + "/{rehearsal}",
		Summary: "A rehearsal, with what has happened in it since",
	}, s.getRehearsal)
	register(api, huma.Operation{
		OperationID: "cancel-rehearsal", Method: http.MethodPost, Path: path + "/{rehearsal}/cancel",
		Summary: "End a rehearsal: nothing is left of it",
	}, s.cancelRehearsal)
}

func (s *Server) listRehearsals(ctx context.Context, in *InDesign) (*answer[Rehearsals], error) {
	if _, err := s.store.Info(ctx, in.Design); err != nil {
		return nil, s.failed(err)
	}
	out := Rehearsals{Command: "sudo dravin rehearse DESIGN.yaml", List: []Rehearsed{}}
	if err := stage.Possible(); err != nil {
		out.Possible = err.Error()
	}
	list, err := s.store.Rehearsals(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	for _, r := range list {
		one, err := rehearsedOf(r)
		if err != nil {
			return nil, s.failed(err)
		}
		out.List = append(out.List, one)
	}
	return answering(out, nil)
}

func (s *Server) rehearse(ctx context.Context, in *rehearseIn) (*answer[Rehearsed], error) {
	if err := stage.Possible(); err != nil {
		return nil, refused("rehearsal", err.Error())
	}
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	if in.Body.Base != v.info.Position {
		return nil, refused("base", "the design has changed meanwhile; look at it again and repeat")
	}
	waiting, err := s.store.Rehearsals(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	goesOn := func(r store.Rehearsal) bool { return r.State == store.Waiting || r.State == store.Playing }
	if slices.ContainsFunc(waiting, goesOn) {
		return nil, refused("rehearsal", "this design is being rehearsed already; cancel that first, or wait for its end")
	}
	file, err := v.design.Write()
	if err != nil {
		return nil, s.failed(err)
	}
	o := stage.Order{Side: in.Body.Side.side(), Options: stage.Options{
		Sample: in.Body.Sample, Likely: in.Body.Drills, Steps: in.Body.Steps, Captures: true,
	}}
	asked, err := json.Marshal(o)
	if err != nil {
		return nil, s.failed(err)
	}
	r, err := s.store.Ask(ctx, store.Rehearsal{
		Design: in.Design, Position: v.info.Position, Author: author(ctx), Asked: asked, File: string(file),
	})
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(rehearsedOf(r))
}

func (s *Server) getRehearsal(ctx context.Context, in *inRehearsal) (*answer[Rehearsing], error) {
	r, events, err := s.store.Rehearsal(ctx, in.Design, in.ID, in.After)
	if err != nil {
		return nil, s.failed(err)
	}
	one, err := rehearsedOf(r)
	if err != nil {
		return nil, s.failed(err)
	}
	out := Rehearsing{Rehearsed: one, Events: []stage.Event{}}
	for _, text := range events {
		var e stage.Event
		if err := json.Unmarshal(text, &e); err != nil {
			return nil, s.failed(err)
		}
		out.Events = append(out.Events, e)
	}
	return answering(out, nil)
}

func (s *Server) cancelRehearsal(ctx context.Context, in *inRehearsal) (*answer[Rehearsed], error) {
	if err := s.store.Cancel(ctx, in.Design, in.ID); err != nil {
		return nil, s.failed(err)
	}
	r, _, err := s.store.Rehearsal(ctx, in.Design, in.ID, 0)
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(rehearsedOf(r))
}

// rehearsalCapture answers with what was captured of one flow, as pcapng.
func (s *Server) rehearsalCapture(w http.ResponseWriter, r *http.Request) {
	id, _ := strconv.ParseInt(chi.URLParam(r, "rehearsal"), 10, 64)
	n, _ := strconv.Atoi(chi.URLParam(r, "capture"))
	x, _, err := s.store.Rehearsal(r.Context(), chi.URLParam(r, "design"), id, 1<<30)
	if err != nil {
		s.refuse(w, err)
		return
	}
	var report rehearsal.Report
	if len(x.Report) == 0 || json.Unmarshal(x.Report, &report) != nil || n < 1 || n > len(report.Captures) {
		problem(w, http.StatusNotFound, "nothing of that number was captured in this rehearsal")
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Disposition", fmt.Sprintf(`attachment; filename="rehearsal-%d-%d.pcapng"`, id, n))
	_, _ = w.Write(report.Captures[n-1].File)
}
