package server

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/overlap"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

func (in *InView) id() string { return in.Design }

// asked is the side that a view is asked for.
func (in *InView) asked() design.Side { return in.Side.side() }

// InView addresses a design as it is at a side.
type InView struct {
	InDesign
	Side Side `query:"side" doc:"Of which side: built is what is there, today; planned is what is to be, when all is built."`
}

// Side is a side as it is asked for; empty: planned.
type Side string

// Schema lists the sides.
func (Side) Schema(huma.Registry) *huma.Schema {
	return &huma.Schema{
		Type: huma.TypeString, Enum: []any{string(design.Planned), string(design.Built)}, Default: string(design.Planned),
	}
}

func (h Side) side() design.Side {
	if design.Side(h) == design.Built {
		return design.Built
	}
	return design.Planned
}

// view registers a reading operation: do is given the design as it is now.
func view[I any, P interface {
	*I
	id() string
	asked() design.Side
}, O any](s *Server, api huma.API, id, path, summary string, do func(v *solved, in P) (O, error)) {
	heavy(s, api, nil, id, path, summary, func(_ context.Context, v *solved, in P) (O, error) { return do(v, in) })
}

// heavy registers a reading operation that may take seconds: it waits for its turn in
// a queue, if there is one, and ends when its caller has gone.
func heavy[I any, P interface {
	*I
	id() string
	asked() design.Side
}, O any](s *Server, api huma.API, q *queue, id, path, summary string, do func(ctx context.Context, v *solved,
	in P) (O, error)) {
	register(
		api,
		huma.Operation{OperationID: id, Method: http.MethodGet, Path: "/api/designs/{design}" + path, Summary: summary},
		func(ctx context.Context, in *I) (*answer[O], error) {
			v, err := s.solved.get(ctx, P(in).id())
			if err != nil {
				return nil, s.failed(err)
			}
			out, err := queued(ctx, q, func() (O, error) { return do(ctx, v.on(P(in).asked()), in) })
			if err != nil {
				return nil, s.failed(err)
			}
			return answering(out, nil)
		},
	)
}

// queued does something when it is its turn; at once without a queue.
func queued[O any](ctx context.Context, q *queue, do func() (O, error)) (O, error) {
	if q == nil {
		return do()
	}
	leave, err := q.turn(ctx)
	if err != nil {
		var none O
		return none, err
	}
	defer leave()
	return do()
}

type inObject struct {
	InView
	Object string `path:"object" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The object's ID."`
}

type inFixes struct {
	InView
	Key string `query:"key" required:"true" maxLength:"4000" doc:"The finding's key."`
}

type inSearch struct {
	InView
	Text  string   `query:"q" maxLength:"500" doc:"Part of a name or path, an address or a prefix."`
	Kinds []string `query:"kind,explode" maxItems:"30" doc:"Only objects of these kinds."`
}

type inWalk struct {
	InView
	From    string `query:"from" required:"true" maxLength:"500" doc:"Path, name or ID of the party, LAN, subnet or host that starts."`
	To      string `query:"to" required:"true" maxLength:"500" doc:"Address, or path, name or ID of a host."`
	Service string `query:"service" required:"true" maxLength:"500" doc:"Such as tcp/502."`
}

func (s *Server) viewOperations(api huma.API) {
	view(
		s, api, "get-estate", "/estate", "The picture of everything",
		func(v *solved, _ *InView) (Estate, error) { return estateOf(v), nil },
	)
	view(s, api, "get-object", "/objects/{object}", "The sheet of one object", sheetOf)
	view(
		s,
		api,
		"get-overlaps",
		"/overlaps",
		"Every hold on a range, and the groups that collide, worst first",
		func(v *solved, _ *InView) (Overlaps, error) {
			return Overlaps{Groups: v.groups(), Claims: overlap.Claims(v.design), Pools: poolsOf(v.design),
				Parties: partiesOf(v.design), Segments: namesOf(v.design.Of(design.KindSegment))}, nil
		},
	)
	register(
		api,
		huma.Operation{
			OperationID: "get-findings",
			Method:      http.MethodGet,
			Path:        "/api/designs/{design}/findings",
			Summary:     "What is wrong or risky, worst first",
		},
		func(ctx context.Context, in *InView) (*answer[[]finding.Finding], error) {
			v, err := s.solved.get(ctx, in.Design)
			if err != nil {
				return nil, s.failed(err)
			}
			list, err := s.findingsAt(ctx, v.on(in.asked()))
			if err != nil {
				return nil, s.failed(err)
			}
			return answering(list, nil)
		},
	)
	heavy(
		s,
		api,
		s.plans,
		"get-fixes",
		"/findings/fixes",
		"The fixes of one finding, worked out now",
		func(ctx context.Context, v *solved, in *inFixes) ([]finding.Fix, error) {
			return v.all.Findings.Fixes(ctx, in.Key)
		},
	)
	view(
		s, api, "get-intents", "/intents", "Every intent with its proof",
		func(v *solved, _ *InView) ([]proof.Result, error) { return v.intents(), nil },
	)
	view(s, api, "get-walk", "/walk", "One packet, there and back", walkOf)
	view(s, api, "search", "/search", "Objects by name or path; whose an address may be", searchFor)
	// The bodies of objects are free-form in edits; name their shapes for clients.
	for _, b := range design.Bodies() {
		api.OpenAPI().Components.Schemas.Schema(typeOf(b), true, "")
	}
}

func walkOf(v *solved, in *inWalk) (walk.Proof, error) {
	service, err := design.ParseService(in.Service)
	if err != nil {
		return walk.Proof{}, refused("service", err.Error())
	}
	flow, err := walk.ParseFlow(v.tables(), pathOf(v.design, in.From), pathOf(v.design, in.To), service)
	if err != nil {
		return walk.Proof{}, refused("from or to", err.Error())
	}
	return walk.Prove(v.tables(), flow), nil
}

// pathOf lets an ID stand for its object's path.
func pathOf(d *design.Design, text string) string {
	if path := d.Path(design.ID(text)); path != "" {
		return path
	}
	return text
}

// Overlaps is what the address ruler shows.
type Overlaps struct {
	Groups []overlap.Group `json:"groups"`
	Claims []overlap.Claim `json:"claims"`
	Pools  []overlap.Claim `json:"pools" doc:"Ranges reserved for mapping."`
	// Parties and Segments name what the claims refer to.
	Parties  []NamedParty `json:"parties"`
	Segments []Named      `json:"segments"`
}

// NamedParty is a party by ID and name, with who answers for it.
type NamedParty struct {
	Named
	Owner string `json:"owner,omitempty"`
}

func partiesOf(d *design.Design) []NamedParty {
	out := []NamedParty{}
	for _, o := range d.Inside("", design.Parties...) {
		p := NamedParty{Named: Named{o.ID, o.Name}}
		if owner := design.OwnerOf(o); owner != "" {
			p.Owner = d.Title(owner)
		}
		out = append(out, p)
	}
	return out
}

// Named is an object by ID and name.
type Named struct {
	ID   design.ID `json:"id"`
	Name string    `json:"name"`
}

func namesOf(list []*design.Object) []Named {
	out := make([]Named, len(list))
	for n, o := range list {
		out[n] = Named{o.ID, o.Name}
	}
	return out
}

func poolsOf(d *design.Design) []overlap.Claim {
	out := []overlap.Claim{}
	for o, body := range design.Each[design.Reservation](d.Of(design.KindReservation)) {
		if b := body; b.Use == design.UseMapping {
			out = append(out, overlap.Claim{Owner: o.ID, Title: o.Name, Prefix: b.Prefix, Kind: o.Kind})
		}
	}
	return out
}

// Sheet is everything about one object.
type Sheet struct {
	Object   *design.Object    `json:"object"`
	Path     string            `json:"path"`
	Title    string            `json:"title"`
	Names    map[string]string `json:"names" doc:"The titles of the objects that the body refers to, by ID."`
	Inside   []*design.Object  `json:"inside"`
	Links    []*design.Object  `json:"links" doc:"The links, circuits, peerings and attachments that end at it or at its gateways."`
	Routes   []route.Route     `json:"routes" doc:"The table, if it is a forwarding point."`
	Status   status.Verdict    `json:"status" doc:"Whether it is up at the side asked for, and the first cause if not."`
	Findings []finding.Finding `json:"findings" doc:"Those that have it as a subject."`
	Built    string            `json:"built" enum:"not-there,otherwise,as-planned" doc:"Whether it is there, with what stands in it: not at all, otherwise than planned, or as planned. What is looked at as built is there."`
}

// builtAs is whether an object is there, with what stands in it.
func builtAs(d *design.Design, o *design.Object) string {
	there := d.Built().Get(o.ID)
	if there == nil && !design.Shared(o.Kind) {
		return "not-there"
	}
	if !design.Shared(o.Kind) && !design.Equal(there, o) || len(d.Built().Inside(o.ID)) != len(d.Inside(o.ID)) {
		return "otherwise"
	}
	for _, in := range d.Inside(o.ID) {
		if builtAs(d, in) != "as-planned" {
			return "otherwise"
		}
	}
	return "as-planned"
}

func sheetOf(v *solved, in *inObject) (Sheet, error) {
	d := v.design
	o := d.Get(design.ID(in.Object))
	if o == nil {
		return Sheet{}, missing("object", "there is no such object now; it may have been removed or undone")
	}
	sheet := Sheet{
		Object: o, Path: d.Path(o.ID), Title: d.Title(o.ID), Names: map[string]string{}, Inside: d.Inside(o.ID),
		Status: v.tables().Status.Of(o.ID), Links: []*design.Object{}, Routes: []route.Route{},
		Findings: []finding.Finding{}, Built: builtAs(d, o),
	}
	for _, id := range d.References(o.ID) {
		sheet.Names[string(id)] = d.Title(id)
	}
	for _, at := range append([]*design.Object{o}, d.Inside(o.ID, design.KindGateway)...) {
		for _, j := range d.JointsAt(at.ID) {
			sheet.Links = append(sheet.Links, j.Object)
		}
	}
	if p := v.tables().Point(o.ID); p != nil {
		sheet.Routes = append(sheet.Routes, p.Routes...)
	}
	for _, f := range v.findings() {
		for _, id := range f.Subjects {
			if id == o.ID || d.Get(id) != nil && d.Get(id).Parent == o.ID {
				sheet.Findings = append(sheet.Findings, f)
				break
			}
		}
	}
	return sheet, nil
}
