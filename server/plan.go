package server

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"dravin/core/plan"
	"dravin/core/prefix"
	"dravin/core/provider"
	"dravin/core/translate"
)

// PlanAsk is what a plan is asked for.
type PlanAsk struct {
	Group   string   `query:"group" json:"group,omitempty" maxLength:"500" doc:"The key of a group of overlapping ranges."`
	Parties []string `query:"party,explode" json:"party,omitempty" maxItems:"2000" doc:"IDs of who must talk: sites, networks, hubs, edge routers, or LANs, inner routes and subnets."`
	Intents []string `query:"intent,explode" json:"intent,omitempty" maxItems:"2000" doc:"IDs of the intents that must hold; left out: those between the parties, or at the places; where there are none, everything of each with everything of the others."`
	Places  []string `query:"place,explode" json:"place,omitempty" maxItems:"2000" doc:"IDs of parties, LANs, inner routes or networks whose ranges collide; of one alone, with all that it collides with."`
	Keep    []string `query:"keep,explode" json:"keep,omitempty" maxItems:"2000" doc:"IDs of who keeps the range."`
	Closed  []string `query:"closed,explode" json:"closed,omitempty" maxItems:"2000" doc:"IDs of parties whose boxes are not to be touched."`
	Pools   []string `query:"pool,explode" json:"pool,omitempty" maxItems:"50" doc:"Where mapped ranges come from; left out: what is reserved for mapping."`
	By      []string `query:"by,explode" json:"by,omitempty" maxItems:"20" doc:"What the keys of ways of joining begin with, such as vpn, vpn-bgp, hub, peering or circuit; left out: any."`
	Wish    string   `query:"wish" json:"wish,omitempty" enum:"least-to-do,cheapest,fewest-boxes,next-easy,surviving" doc:"What makes one option better than another."`
	Budget  string   `query:"budget" json:"budget,omitempty" maxLength:"20" doc:"The most that an option may add to the bill of a month; left out: any sum."`
	GB      uint32   `query:"gb" json:"gb,omitempty" maximum:"10000000" doc:"Gigabytes a month over each new joint, both ways together; 1000 if left out."`
	NoBoxes bool     `query:"no_boxes" json:"no_boxes,omitempty" doc:"No translating box may be added."`
}

type inPlan struct {
	InDesign
	PlanAsk
}

// PlanStep is one line of the answer to a plan that is watched. The last one has a plan or a problem.
type PlanStep struct {
	Waiting int             `json:"waiting,omitempty" doc:"The place in the queue, 1 for the next; only a few plans run at once."`
	Doing   string          `json:"doing,omitempty" doc:"What is worked out now, in words."`
	Options int             `json:"options,omitempty" doc:"How many were worked out so far."`
	Answers int             `json:"answers,omitempty" doc:"How many of them are answers."`
	Plan    *plan.Plan      `json:"plan,omitempty"`
	Problem *ProblemDetails `json:"problem,omitempty"`
}

// usualGB is what is taken to go over a new joint in a month where nobody says it.
const usualGB = 1000

// maxOptions bounds the options that are sent.
const maxOptions = 24

func (s *Server) planOperations(api huma.API) {
	register(
		api,
		huma.Operation{
			OperationID: "get-plan", Method: http.MethodGet, Path: "/api/designs/{design}/plan",
			Summary: "Complete designs for what must talk: joints, routes and translations together, side by side, each proven",
		},
		func(ctx context.Context, in *inPlan) (*answer[plan.Plan], error) {
			v, err := s.solved.get(ctx, in.Design)
			if err != nil {
				return nil, s.failed(err)
			}
			out, err := queued(ctx, s.plans, func() (plan.Plan, error) { return planned(ctx, v, in.PlanAsk, nil) })
			if err != nil {
				return nil, s.failed(err)
			}
			return answering(out, nil)
		},
	)
	for _, t := range []any{PlanAsk{}, PlanStep{}} {
		api.OpenAPI().Components.Schemas.Schema(typeOf(t), true, "")
	}
}

// planSteps answers with a stream of [PlanStep]s, a JSON line each, so that a person sees how far a plan
// is and can break it off. Only a few run at once; the rest wait and are told their place.
func (s *Server) planSteps(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/x-ndjson")
	out := json.NewEncoder(w)
	flusher := http.NewResponseController(w)
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	send := func(step PlanStep) {
		if err := errors.Join(out.Encode(step), flusher.Flush()); err != nil {
			cancel() // nobody takes the answer
		}
	}
	p, err := func() (plan.Plan, error) {
		var ask PlanAsk
		text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxAsk))
		if err == nil {
			err = json.Unmarshal(text, &ask)
		}
		if err != nil {
			return plan.Plan{}, refused("", "the question can not be read as JSON: "+err.Error())
		}
		v, err := s.solved.get(ctx, chi.URLParam(r, "design"))
		if err != nil {
			return plan.Plan{}, err
		}
		leave, err := s.plans.enter(ctx, func(place int) { send(PlanStep{Waiting: place}) })
		if err != nil {
			return plan.Plan{}, err
		}
		defer leave()
		return planned(ctx, v, ask, func(p plan.Progress) {
			send(PlanStep{Doing: p.Doing, Options: p.Options, Answers: p.Answers})
		})
	}()
	if err != nil {
		send(PlanStep{Problem: s.failed(err)})
		return
	}
	send(PlanStep{Plan: &p})
}

// maxAsk bounds a question, in bytes.
const maxAsk = 1 << 20

func planned(ctx context.Context, v *solved, in PlanAsk, tell func(plan.Progress)) (plan.Plan, error) {
	q, err := v.question(in)
	if err != nil {
		return plan.Plan{}, err
	}
	p, err := plan.For(ctx, v.all.Proofs, q, tell)
	if err != nil && ctx.Err() == nil {
		return p, refused("party, place or intent", err.Error())
	}
	return p.Shortened(maxOptions), err
}

// question reads what is asked for against the design.
func (v *solved) question(in PlanAsk) (plan.Question, error) {
	q := plan.Question{
		Parties: ids(in.Parties), Intents: ids(in.Intents), Places: ids(in.Places), Keep: ids(in.Keep),
		Closed: ids(in.Closed), By: in.By, Wish: plan.Wish(in.Wish), GB: in.GB, NoBoxes: in.NoBoxes,
	}
	if q.GB == 0 {
		q.GB = usualGB
	}
	for _, text := range in.Pools {
		p, err := prefix.Parse(text)
		if err != nil {
			return q, refused("pool", err.Error())
		}
		q.Pools = append(q.Pools, p)
	}
	if in.Budget != "" {
		sum, err := provider.ParseMoney(in.Budget)
		if err != nil {
			return q, refused("budget", err.Error())
		}
		q.Budget = sum
	}
	switch {
	case in.Group != "":
		for _, g := range v.groups() {
			if g.Key == in.Group {
				q.Places = translate.OfGroup(g).Places
				return q, nil
			}
		}
		return q, missing("group", "there is no such group now; somebody may have ended it")
	case len(q.Places) > 0:
		return q, v.colliding(&q)
	case len(q.Parties)+len(q.Intents) == 0:
		return q, refused("party", "say who must talk: two parties, an intent, or a group of ranges that collide")
	}
	return q, nil
}

// colliding adds to one place alone all that it collides with.
func (v *solved) colliding(q *plan.Question) error {
	if len(q.Places) > 1 {
		return nil
	}
	if all := translate.Concerned(v.groups(), nil, q.Places); len(all) > 0 {
		q.Places = all
		return nil
	}
	return refused("place", "nothing there collides with anything; name who must talk instead")
}
