package server

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/handover"
)

type inParty struct {
	InDesign
	Party string `path:"party" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The ID of a site or network."`
}

// Handed is what one party gets.
type Handed struct {
	Party design.ID       `json:"party"`
	Name  string          `json:"name"`
	Kind  design.Kind     `json:"kind"`
	Files []handover.File `json:"files"`
}

func (s *Server) handoverOperations(api huma.API) {
	view(s, api, "get-handover", "/handover", "The files for every party, keys masked", func(v *solved, _ *InView) ([]Handed, error) {
		masked := handover.Keys{}
		for _, t := range v.design.Of(design.KindTunnel) {
			masked[t.ID] = handover.Masked
		}
		out := []Handed{}
		for _, o := range v.design.Inside("", handover.Parties...) {
			out = append(out, Handed{o.ID, o.Name, o.Kind, handover.Render(v.tables(), o.ID, masked)})
		}
		return out, nil
	})
	register(api, huma.Operation{OperationID: "reveal-handover", Method: http.MethodPost, Path: "/api/designs/{design}/handover/{party}/reveal",
		Summary: "The files for one party with keys in the clear; the history records it"}, s.reveal)
}

func (s *Server) reveal(ctx context.Context, in *inParty) (*answer[Handed], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	o := v.design.Get(design.ID(in.Party))
	if o == nil || !slices.Contains(handover.Parties, o.Kind) {
		return nil, refused("party", "there is no such site, network, hub or edge router now")
	}
	keys, err := s.store.Keys(ctx, s.vault, in.Design, tunnelsAt(v.design, o.ID))
	if err != nil {
		return nil, s.failed(err)
	}
	if err := s.store.Looked(ctx, in.Design, author, fmt.Sprintf("Show the keys of %s", o.Name)); err != nil {
		return nil, s.failed(err)
	}
	return answering(Handed{o.ID, o.Name, o.Kind, handover.Render(v.tables(), o.ID, keys)}, nil)
}

// tunnelsAt lists the tunnels that end at a party.
func tunnelsAt(d *design.Design, party design.ID) []*design.Object {
	var out []*design.Object
	for _, t := range d.Of(design.KindTunnel) {
		for _, e := range d.Get(t.Parent).Body.(*design.Link).Ends {
			if d.Party(e.Gateway).ID == party {
				out = append(out, t)
				break
			}
		}
	}
	return out
}
