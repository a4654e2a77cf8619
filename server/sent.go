package server

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/link"
	"dravin/core/negotiate"
	"dravin/store"
)

type sentIn struct {
	InDesign
	Tunnel string `path:"tunnel" doc:"The tunnel's ID."`
	Body   struct {
		End    int    `json:"end" minimum:"0" maximum:"1" doc:"Whose settings were sent: the first or second end's."`
		Text   string `json:"text" minLength:"1" maxLength:"1048576" doc:"A swanctl.conf, or a list of parameters."`
		Record bool   `json:"record,omitempty" doc:"Set that end to what was sent; otherwise only compare."`
		Reason string `json:"reason,omitempty" maxLength:"200" doc:"When recording: what for, in the words of the history; left out, that it was sent."`
		Base   int64  `json:"base,omitempty" doc:"When recording: the position that the writer has seen."`
	}
}

// Compared is what a far administrator sent against what is planned.
type Compared struct {
	Given    []string          `json:"given" doc:"The parameters that were understood."`
	Problems []design.Problem  `json:"problems" doc:"The lines that were not."`
	Lines    []link.Line       `json:"lines" doc:"As they would stand with what was sent."`
	Outcome  negotiate.Outcome `json:"outcome"`
}

type keyIn struct {
	InDesign
	Tunnel string `path:"tunnel" doc:"The tunnel's ID."`
	Body   struct {
		Take string `json:"take" enum:"theirs,ours,new" doc:"theirs: the key that the far end sent; ours: forget theirs; new: make one."`
	}
}

func (s *Server) sentOperations(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "compare-sent", Method: http.MethodPost, Path: "/api/designs/{design}/tunnels/{tunnel}/sent", Summary: "What a far end sent against ours; recorded if asked", MaxBodyBytes: 2 << 20}, s.sent)
	huma.Register(api, huma.Operation{OperationID: "set-key", Method: http.MethodPost, Path: "/api/designs/{design}/tunnels/{tunnel}/key", Summary: "Which pre-shared key a tunnel has; the history records it"}, s.setKey)
}

func (s *Server) tunnel(ctx context.Context, id, tunnel string) (*solved, *design.Object, error) {
	v, err := s.solved.get(ctx, id)
	if err != nil {
		return nil, nil, s.failed(err)
	}
	t := v.design.Get(design.ID(tunnel))
	if t == nil || t.Kind != design.KindTunnel {
		return nil, nil, refused("tunnel", "there is no such tunnel now; it may have been removed or undone")
	}
	return v, t, nil
}

func (s *Server) sent(ctx context.Context, in *sentIn) (*answer[Compared], error) {
	v, t, err := s.tunnel(ctx, in.Design, in.Tunnel)
	if err != nil {
		return nil, err
	}
	outside := t.Body.(*design.Tunnel).Outside
	near, far := netip.Addr{}, netip.Addr{}
	if len(outside) == 2 {
		near, far = outside[1-in.Body.End], outside[in.Body.End]
	}
	sent, err := link.ReadSent(in.Body.Text, near, far)
	if err != nil {
		return nil, s.failed(err)
	}
	edits, err := link.Record(v.design, t, in.Body.End, sent)
	if err != nil {
		return nil, s.failed(err)
	}
	next, _, err := v.design.Apply(edits)
	if err != nil {
		return nil, s.failed(err)
	}
	keys, err := s.comparedKeys(ctx, in, t, sent.Settings.Key)
	if err != nil {
		return nil, s.failed(err)
	}
	if in.Body.Record {
		l := v.design.Get(t.Parent).Body.(*design.Link)
		reason := fmt.Sprintf("Record what %s sent for %s, %s", link.EndTitle(v.design, l, in.Body.End), v.design.Get(t.Parent).Name, t.Name)
		if in.Body.Reason != "" && design.IsText(in.Body.Reason) {
			reason = in.Body.Reason
		}
		if _, err := s.commit(ctx, in.Design, in.Body.Base, reason, edits); err != nil {
			return nil, err
		}
		if err := s.keepFarKey(ctx, in.Design, t.ID, keys); err != nil {
			return nil, s.failed(err)
		}
	}
	ends := link.SettingsOf(next, next.Get(t.ID), keys[0])
	ends[1].Key = keys[1]
	out := Compared{Given: sent.Given, Problems: sent.Problems, Lines: link.Lines(next, next.Get(t.ID), keys), Outcome: negotiate.Agree(ends[0], ends[1])}
	if out.Problems == nil {
		out.Problems = []design.Problem{}
	}
	return answering(out, nil)
}

// comparedKeys are our key and theirs, where theirs was sent.
func (s *Server) comparedKeys(ctx context.Context, in *sentIn, t *design.Object, theirs string) (out [2]string, err error) {
	if theirs == "" {
		return out, nil
	}
	ours, err := s.store.Keys(ctx, s.vault, in.Design, []*design.Object{t})
	if err != nil {
		return out, err
	}
	return [2]string{ours[t.ID], theirs}, nil
}

// keepFarKey keeps the key that was sent beside ours, sealed, if it is another;
// one that was sent before and is so no more is forgotten.
func (s *Server) keepFarKey(ctx context.Context, id string, tunnel design.ID, keys [2]string) error {
	ours, theirs := keys[0], keys[1]
	switch theirs {
	case "":
		return nil
	case ours:
		theirs = ""
	}
	return s.store.PutFarKey(ctx, s.vault, id, tunnel, theirs)
}

func (s *Server) setKey(ctx context.Context, in *keyIn) (*answer[store.Info], error) {
	v, t, err := s.tunnel(ctx, in.Design, in.Tunnel)
	if err != nil {
		return nil, err
	}
	name := v.design.Get(t.Parent).Name + ", " + t.Name
	_, theirs, err := s.store.HeldKeys(ctx, s.vault, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	reason := ""
	switch in.Body.Take {
	case "theirs":
		if theirs[t.ID] == "" {
			return nil, refused("take", "the far end has sent no other key")
		}
		err, reason = s.store.PutKey(ctx, s.vault, in.Design, t.ID, theirs[t.ID]), "Use the far end's key for "+name
	case "ours":
		reason = "Keep our key for " + name
	default:
		err, reason = s.store.PutKey(ctx, s.vault, in.Design, t.ID, store.NewKey()), "Make a new key for "+name
	}
	if err == nil {
		err = s.store.PutFarKey(ctx, s.vault, in.Design, t.ID, "")
	}
	if err != nil {
		return nil, s.failed(err)
	}
	info, err := s.store.Reveal(ctx, in.Design, author, reason)
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(info, nil)
}
