package server

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"dravin/capture"
	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/remedy"
	solving "dravin/core/snapshot"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/core/wire"
)

// Matrix is who reaches whom, as it is looked at.
type Matrix struct {
	proof.View
	States   []StateWord     `json:"states" doc:"What the characters mean, worst first."`
	All      []string        `json:"all" doc:"The services in use."`
	Within   string          `json:"within" doc:"What the lines are kept to, by its title; empty: everything."`
	Classes  int             `json:"classes" doc:"How many kinds of hosts there are that packets can tell apart."`
	Hosts    int             `json:"hosts" doc:"How many hosts, places without one, and internets there are."`
	Left     int             `json:"left" doc:"Hosts that are left out, since there are too many."`
	Changes  []proof.Changed `json:"changes" doc:"Of a comparison, flows that opened or closed; at most 500."`
	Compared string          `json:"compared" doc:"What it is compared with; empty: nothing."`
}

// StateWord is a state and what it means.
type StateWord struct {
	Code  string `json:"code"`
	Title string `json:"title"`
	Doc   string `json:"doc"`
}

type inMatrix struct {
	InView
	By      string   `query:"by" enum:"host,place,group,party,segment,owner" default:"party" doc:"What a line stands for."`
	Within  string   `query:"within" maxLength:"128" doc:"Only ends in this place, party, segment, group or owner."`
	Service []string `query:"service,explode" maxItems:"64" doc:"Only these, such as tcp/443; left out: all in use."`
	Without []string `query:"without,explode" maxItems:"50" doc:"What is taken away: an ID, path, zone or address."`
}

type matrixIn struct {
	InDesign
	Side Side `query:"side" doc:"Of which side."`
	Body struct {
		By      string   `json:"by,omitempty" enum:"host,place,group,party,segment,owner"`
		Edits   []EditIn `json:"edits" maxItems:"5000" doc:"A change that is not made yet."`
		Service []string `json:"service,omitempty" maxItems:"64"`
	}
}

type inCell struct {
	InView
	By      string   `query:"by" enum:"host,place,group,party,segment,owner" default:"party"`
	Within  string   `query:"within" maxLength:"128" doc:"As for the matrix."`
	Row     string   `query:"row" maxLength:"128" doc:"The line that starts, by its ID."`
	Column  string   `query:"column" maxLength:"128" doc:"The line that answers, by its ID."`
	Service []string `query:"service,explode" maxItems:"64"`
}

// CellFlows are the flows of a cell of the matrix.
type CellFlows struct {
	Flows []proof.Flow `json:"flows" doc:"Worst first; at most 200."`
	Of    int          `json:"of" doc:"How many there are."`
}

// FlowSeen is what a flow gets, and what one would see of it.
type FlowSeen struct {
	Measure walk.Measure   `json:"measure"`
	Wire    wire.Capture   `json:"wire"`
	Hops    []wire.Hop     `json:"hops"`
	Logs    []wire.LogLine `json:"logs"`
	Text    string         `json:"text" doc:"The walk as text, for a mail."`
	Sharing []string       `json:"sharing" doc:"Intents that go by the bottleneck, too."`
}

type seenIn struct {
	InDesign
	Side Side `query:"side" doc:"Of which side."`
	Body struct {
		From    string `json:"from" maxLength:"500"`
		To      string `json:"to" maxLength:"500"`
		Service string `json:"service" maxLength:"500"`
		Text    string `json:"text,omitempty" maxLength:"1048576" doc:"What a program printed."`
		File    string `json:"file,omitempty" maxLength:"16777216" doc:"A capture, pcapng or pcap, in base64."`
	}
}

type inDrills struct {
	InView
	Without []string `query:"without,explode" required:"true" maxItems:"50" doc:"What fails together."`
}

// DrillStep is one line of the answer to drills that are watched. The last one has the drills or a problem.
type DrillStep struct {
	Done    int             `json:"done,omitempty"`
	Of      int             `json:"of,omitempty"`
	Waiting int             `json:"waiting,omitempty" doc:"The place in the queue, 1 for the next."`
	Drills  []proof.Drill   `json:"drills,omitempty" doc:"Those in which something dies, moves or heals, worst first."`
	Quiet   int             `json:"quiet,omitempty" doc:"How many drills changed nothing."`
	End     bool            `json:"end,omitempty" doc:"It is the last line."`
	Problem *ProblemDetails `json:"problem,omitempty"`
}

// maxFlows bounds the flows that are listed of a cell, maxChanged those of a comparison.
const (
	maxFlows   = 200
	maxChanged = 500
)

func (s *Server) proofOperations(api huma.API) {
	heavy(s, api, s.plans, "get-matrix", "/matrix", "Who reaches whom, against what is meant", s.matrixOf)
	heavy(s, api, nil, "get-matrix-cell", "/matrix/cell", "The flows of one cell of the matrix", cellOf)
	register(
		api,
		huma.Operation{
			OperationID: "compare-matrix", Method: http.MethodPost, Path: "/api/designs/{design}/matrix/changed",
			Summary: "What a change would open and close; nothing is stored", MaxBodyBytes: maxChangeBytes,
		},
		s.matrixChanged,
	)
	view(s, api, "get-walk-seen", "/walk/wire", "What a flow gets, and what one would see of it on the wire", flowSeen)
	heavy(
		s, api, s.plans, "get-walk-remedies", "/walk/remedies", "Changes that would let a flow work, each tried",
		flowRemedies,
	)
	register(
		api,
		huma.Operation{
			OperationID: "hold-seen", Method: http.MethodPost, Path: "/api/designs/{design}/walk/held",
			Summary: "Holds a capture or what a command printed against the walk of a flow", MaxBodyBytes: 24 << 20,
		},
		s.heldAgainst,
	)
	heavy(s, api, nil, "get-drill", "/drill", "What dies and what moves when things fail together", drillOf)
	heavy(
		s, api, s.plans, "get-drill-remedies", "/drill/remedies",
		"Changes by which intents survive a failure, each tried", drillRemedies,
	)
	api.OpenAPI().Components.Schemas.Schema(typeOf(DrillStep{}), true, "")
}

func (s *Server) matrixOf(ctx context.Context, v *solved, in *inMatrix) (Matrix, error) {
	m, err := matrixFor(ctx, v.all, in.Service)
	if err != nil {
		return Matrix{}, err
	}
	out := matrixView(m)
	if o := v.design.Get(design.ID(in.Within)); o != nil {
		out.Within = v.design.Title(o.ID)
	}
	if len(in.Without) > 0 {
		things, err := thingsOf(v.design, in.Without)
		if err != nil {
			return Matrix{}, err
		}
		after, err := v.all.Without(things...).Matrix(ctx, nil)
		if err != nil {
			return Matrix{}, err
		}
		out.View, out.Changes = after.Against(m, proof.By(in.By), design.ID(in.Within), in.Service, maxChanged)
		out.Compared = "without " + strings.Join(status.Titles(v.design, things), " and ")
		return out, nil
	}
	out.View = m.View(proof.By(in.By), design.ID(in.Within), in.Service)
	return out, nil
}

// matrixFor is the matrix, if the services that are asked for are in use.
func matrixFor(ctx context.Context, s *solving.Solved, services []string) (*proof.Matrix, error) {
	m, err := s.Matrix(ctx, nil)
	if err != nil {
		return nil, err
	}
	if err := m.InUse(services); err != nil {
		return nil, refused("service", err.Error())
	}
	return m, nil
}

func matrixView(m *proof.Matrix) Matrix {
	out := Matrix{
		States: []StateWord{}, All: []string{}, Changes: []proof.Changed{}, Classes: m.Classes(), Hosts: len(m.Ends),
		Left: m.Left,
	}
	for _, s := range proof.States {
		out.States = append(out.States, StateWord{s.Code, s.Title, s.Doc})
	}
	for _, s := range m.Services {
		out.All = append(out.All, s.String())
	}
	return out
}

func (s *Server) matrixChanged(ctx context.Context, in *matrixIn) (*answer[Matrix], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	edits, err := decode(in.Body.Edits)
	if err != nil {
		return nil, s.failed(err)
	}
	out, err := queued(ctx, s.plans, func() (Matrix, error) { return changedMatrix(ctx, v, edits, in) })
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(out, nil)
}

func changedMatrix(ctx context.Context, v *solved, edits []design.Edit, in *matrixIn) (Matrix, error) {
	m, err := v.on(in.Side.side()).all.Matrix(ctx, nil)
	if err != nil {
		return Matrix{}, err
	}
	next, err := v.trial(in.Side.side(), edits)
	if err != nil {
		return Matrix{}, err
	}
	after, err := matrixFor(ctx, next, in.Body.Service)
	if err != nil {
		return Matrix{}, err
	}
	out := matrixView(after)
	by := proof.By(in.Body.By)
	if by == "" {
		by = proof.ByParty
	}
	out.View, out.Changes = after.Against(m, by, "", in.Body.Service, maxChanged)
	out.Compared = "what is there now"
	return out, nil
}

func cellOf(ctx context.Context, v *solved, in *inCell) (CellFlows, error) {
	m, err := matrixFor(ctx, v.all, in.Service)
	if err != nil {
		return CellFlows{}, err
	}
	flows, of, err := m.Cell(
		proof.By(in.By), design.ID(in.Within), design.ID(in.Row), design.ID(in.Column), in.Service, maxFlows,
	)
	if err != nil {
		return CellFlows{}, refused("row or column", err.Error())
	}
	return CellFlows{flows, of}, nil
}

// thingsOf reads what fails: IDs, paths, zones or public addresses.
func thingsOf(d *design.Design, texts []string) ([]status.Thing, error) {
	out, err := status.ParseThings(d, texts)
	if err != nil {
		return nil, refused("without", err.Error())
	}
	return out, nil
}

// asked is the flow that a question asks for, with its proof.
func (v *solved) asked(from, to, service string) (walk.Flow, walk.Proof, error) {
	s, err := design.ParseService(service)
	if err != nil {
		return walk.Flow{}, walk.Proof{}, refused("service", err.Error())
	}
	f, err := walk.ParseFlow(v.tables(), pathOf(v.design, from), pathOf(v.design, to), s)
	if err != nil {
		return walk.Flow{}, walk.Proof{}, refused("from or to", err.Error())
	}
	return f, walk.Prove(v.tables(), f), nil
}

func flowSeen(v *solved, in *inWalk) (FlowSeen, error) {
	f, p, err := v.asked(in.From, in.To, in.Service)
	if err != nil {
		return FlowSeen{}, err
	}
	t := v.tables()
	out := FlowSeen{
		Measure: walk.MeasureOf(t, f, p), Wire: wire.Of(t, p), Hops: wire.Trace(t, p), Logs: wire.Logs(t, p),
		Text: walk.Text(p), Sharing: []string{},
	}
	if by := out.Measure.Bottleneck; by != "" {
		out.Sharing = proof.Sharing(v.intents(), by)
	}
	return out, nil
}

func flowRemedies(ctx context.Context, v *solved, in *inWalk) ([]remedy.Remedy, error) {
	f, p, err := v.asked(in.From, in.To, in.Service)
	if err != nil {
		return nil, err
	}
	from, to := p.From.ID, f.Meant
	if p.Works || from == "" || to == "" {
		return []remedy.Remedy{}, nil
	}
	s, err := design.ParseService(in.Service)
	if err != nil {
		return nil, refused("service", err.Error())
	}
	out, err := remedy.ForFlow(ctx, v.all.Proofs, from, to, s)
	if err != nil && ctx.Err() == nil {
		return nil, refused("from or to", err.Error())
	}
	return out, err
}

func (s *Server) heldAgainst(ctx context.Context, in *seenIn) (*answer[wire.Held], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	at := v.on(in.Side.side())
	_, p, err := at.asked(in.Body.From, in.Body.To, in.Body.Service)
	if err != nil {
		return nil, s.failed(err)
	}
	file := []byte(in.Body.Text)
	if in.Body.File != "" {
		if file, err = base64.StdEncoding.DecodeString(in.Body.File); err != nil {
			return nil, s.failed(refused("file", "it is not base64; send the capture as it is, in base64"))
		}
	}
	seen, err := capture.ReadAny(file)
	if err != nil {
		return nil, s.failed(refused("text or file", err.Error()))
	}
	return answering(wire.Against(at.tables(), p, seen), nil)
}

func drillOf(ctx context.Context, v *solved, in *inDrills) (proof.Drill, error) {
	things, err := thingsOf(v.design, in.Without)
	if err != nil {
		return proof.Drill{}, err
	}
	x, err := proof.DrillsOf(ctx, v.all.Proofs)
	if err != nil {
		return proof.Drill{}, err
	}
	return x.Without(ctx, things...)
}

func drillRemedies(ctx context.Context, v *solved, in *inDrills) ([]remedy.Remedy, error) {
	d, err := drillOf(ctx, v, in)
	if err != nil {
		return nil, err
	}
	return remedy.ForFailure(ctx, v.all.Proofs, d)
}

// drillSteps answers with a stream of [DrillStep]s, a JSON line each: every single failure, with how far it is.
func (s *Server) drillSteps(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/x-ndjson")
	out := json.NewEncoder(w)
	flusher := http.NewResponseController(w)
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	send := func(step DrillStep) {
		if err := errors.Join(out.Encode(step), flusher.Flush()); err != nil {
			cancel() // nobody takes the answer
		}
	}
	all, err := func() ([]proof.Drill, error) {
		v, err := s.solved.get(ctx, chi.URLParam(r, "design"))
		if err != nil {
			return nil, err
		}
		leave, err := s.plans.enter(ctx, func(place int) { send(DrillStep{Waiting: place}) })
		if err != nil {
			return nil, err
		}
		defer leave()
		at := v.on(Side(r.URL.Query().Get("side")).side())
		x, err := proof.DrillsOf(ctx, at.all.Proofs)
		if err != nil {
			return nil, err
		}
		return x.Each(ctx, status.Single(at.design), func(done, of int) {
			if done%max(1, of/100) == 0 {
				send(DrillStep{Done: done, Of: of})
			}
		})
	}()
	if err != nil {
		send(DrillStep{Problem: s.failed(err)})
		return
	}
	loud := slices.DeleteFunc(slices.Clone(all), func(d proof.Drill) bool {
		return len(d.Dies)+len(d.Moves)+len(d.Heals) == 0
	})
	send(DrillStep{Done: len(all), Of: len(all), Drills: loud, Quiet: len(all) - len(loud), End: true})
}

// captureFile answers with what one would see of a flow, as pcapng.
func (s *Server) captureFile(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	v, err := s.solved.get(r.Context(), chi.URLParam(r, "design"))
	if err != nil {
		s.refuse(w, err)
		return
	}
	at := v.on(Side(q.Get("side")).side())
	_, p, err := at.asked(q.Get("from"), q.Get("to"), q.Get("service"))
	if err != nil {
		s.refuse(w, err)
		return
	}
	var file strings.Builder
	if err := capture.Write(&file, wire.Of(at.tables(), p), s.now()); err != nil {
		problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Disposition", `attachment; filename="walk.pcapng"`)
	fmt.Fprint(w, file.String())
}
