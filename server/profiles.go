package server

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/store"
)

// ProfileView is one provider profile.
type ProfileView struct {
	Name    string    `json:"name"`
	Shipped bool      `json:"shipped" doc:"It comes with Dravin and can be copied, not changed."`
	ID      design.ID `json:"id,omitempty" doc:"Of the design's own."`
	Text    string    `json:"text" doc:"The profile file."`
	Used    int       `json:"used" doc:"How many networks and hubs are in the cloud."`
}

type profileIn struct {
	InDesign
	Body struct {
		Text string `json:"text" maxLength:"1048576" doc:"The profile file."`
		Base int64  `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
		Save bool   `json:"save,omitempty" doc:"Put it into the design; otherwise only read it."`
	}
}

// ProfileRead is what was understood of a profile file.
type ProfileRead struct {
	Name string      `json:"name"`
	Info *store.Info `json:"info,omitempty" doc:"The design after it was saved."`
}

func (s *Server) profileOperations(api huma.API) {
	view(s, api, "get-profiles", "/profiles", "What each cloud allows", profilesOf)
	register(
		api,
		huma.Operation{
			OperationID:  "put-profile",
			Method:       http.MethodPost,
			Path:         "/api/designs/{design}/profiles",
			Summary:      "Read a profile file, and save it in the design if asked",
			MaxBodyBytes: 2 << 20,
		},
		func(ctx context.Context, in *profileIn) (*answer[ProfileRead], error) {
			name, p, err := s.readProfile(ctx, in.Body.Text)
			if err != nil {
				return nil, s.failed(err)
			}
			out := ProfileRead{Name: name}
			if !in.Body.Save {
				return answering(out, nil)
			}
			v, err := s.solved.get(ctx, in.Design)
			if err != nil {
				return nil, s.failed(err)
			}
			o := &design.Object{
				ID: design.IDFor(design.KindProfile, name), Kind: design.KindProfile, Name: name, Body: p,
			}
			for _, have := range v.design.Of(design.KindProfile) {
				if design.Slug(have.Name) == design.Slug(name) {
					o.ID = have.ID
				}
			}
			saved, err := s.commit(
				ctx, in.Design, in.Body.Base, "Save the profile "+name, []design.Edit{design.PutEdit(o)},
			)
			if err != nil {
				return nil, err
			}
			out.Info = &saved.Body
			return answering(out, nil)
		},
	)
}

// readProfile waits for its turn among the imports if the file is large.
func (s *Server) readProfile(ctx context.Context, text string) (string, *design.Profile, error) {
	if len(text) > 64<<10 {
		leave, err := s.queue.enter(ctx, func(int) {})
		if err != nil {
			return "", nil, err
		}
		defer leave()
	}
	return design.ReadProfile([]byte(text))
}

func profilesOf(v *solved, _ *InView) ([]ProfileView, error) {
	out := []ProfileView{}
	for _, p := range v.design.Profiles() {
		text, err := design.WriteProfile(p.Name, p.Profile)
		if err != nil {
			return nil, err
		}
		x := ProfileView{Name: p.Name, Shipped: true, Text: string(text)}
		for _, o := range v.design.Of(design.KindProfile) {
			if o.Body == design.Body(p.Profile) {
				x.Shipped, x.ID = false, o.ID
			}
		}
		for _, o := range v.design.Inside("", design.KindNetwork, design.KindHub) {
			if v.design.Profile(design.CloudOf(o)) == v.design.Profile(p.Name) {
				x.Used++
			}
		}
		out = append(out, x)
	}
	return out, nil
}
