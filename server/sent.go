package server

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/settings"
	"dravin/core/sheet"
	"dravin/store"
)

type sentIn struct {
	InDesign
	Tunnel string `path:"tunnel" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The tunnel's ID."`
	Body   struct {
		End    int    `json:"end" minimum:"0" maximum:"1" doc:"Whose settings were sent: the first or second end's."`
		Text   string `json:"text" minLength:"1" maxLength:"1048576" doc:"A list of parameters, or the settings of a daemon."`
		Choice string `json:"choice,omitempty" maxLength:"200" doc:"Which connection of a file it is, by its name."`
		Record bool   `json:"record,omitempty" doc:"Set that end to what was sent; otherwise only compare."`
		Reason string `json:"reason,omitempty" maxLength:"200" doc:"When recording: what for, in the words of the history; left out, that it was sent."`
		Base   int64  `json:"base,omitempty" minimum:"0" maximum:"9007199254740991" doc:"When recording: the position that the writer has seen."`
	}
}

// Compared is what a far administrator sent against what is planned.
type Compared struct {
	Given    []string          `json:"given" doc:"The parameters that were understood."`
	Problems []design.Problem  `json:"problems" doc:"The lines that were not."`
	Aside    []design.Problem  `json:"aside" doc:"The lines that say what is not compared."`
	Taken    string            `json:"taken,omitempty" doc:"The connection that was taken of a file."`
	Choices  []sheet.Choice    `json:"choices" doc:"Connections of a file, one to be chosen; nothing is compared then."`
	Lines    []sheet.Line      `json:"lines" doc:"As they would stand with what was sent."`
	Outcome  negotiate.Outcome `json:"outcome"`
}

type cellIn struct {
	InView
	Tunnel string `path:"tunnel" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The tunnel's ID."`
	Body   struct {
		End    int    `json:"end" minimum:"0" maximum:"1" doc:"The first or second end."`
		Line   string `json:"line" maxLength:"80" doc:"The line, by its key."`
		Value  string `json:"value" minLength:"1" maxLength:"4000" doc:"What the cell shall say."`
		Reason string `json:"reason" minLength:"1" maxLength:"200" doc:"What for, in the words of the history."`
		Base   int64  `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
	}
}

type keyIn struct {
	InDesign
	Tunnel string `path:"tunnel" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The tunnel's ID."`
	Body   struct {
		Take string `json:"take" enum:"theirs,ours,new" doc:"theirs: the key that the far end sent; ours: forget theirs; new: make one."`
	}
}

func (s *Server) sentOperations(api huma.API) {
	register(
		api,
		huma.Operation{
			OperationID:  "compare-sent",
			Method:       http.MethodPost,
			Path:         "/api/designs/{design}/tunnels/{tunnel}/sent",
			Summary:      "What a far end sent against ours; recorded if asked",
			MaxBodyBytes: 2 << 20,
		},
		s.sent,
	)
	register(
		api,
		huma.Operation{
			OperationID: "set-cell", Method: http.MethodPost, Path: "/api/designs/{design}/tunnels/{tunnel}/cell",
			Summary: "Set one value of a two-ended sheet at one end",
		},
		s.setCell,
	)
	register(
		api,
		huma.Operation{
			OperationID: "set-key",
			Method:      http.MethodPost,
			Path:        "/api/designs/{design}/tunnels/{tunnel}/key",
			Summary:     "Which pre-shared key a tunnel has; the history records it",
		},
		s.setKey,
	)
}

func (s *Server) tunnel(ctx context.Context, id, tunnel string) (*solved, *design.Object, error) {
	v, err := s.solved.get(ctx, id)
	if err != nil {
		return nil, nil, s.failed(err)
	}
	t := v.design.Get(design.ID(tunnel))
	if t == nil || t.Kind != design.KindTunnel {
		return nil, nil, missing("tunnel", "there is no such tunnel now; it may have been removed or undone")
	}
	return v, t, nil
}

func (s *Server) sent(ctx context.Context, in *sentIn) (*answer[Compared], error) {
	v, t, err := s.tunnel(ctx, in.Design, in.Tunnel)
	if err != nil {
		return nil, err
	}
	outside := v.design.OutsideOf(t)
	near, far := netip.Addr{}, netip.Addr{}
	if len(outside) == 2 {
		near, far = outside[1-in.Body.End], outside[in.Body.End]
	}
	sent, err := queued(ctx, s.makes, func() (sheet.Sent, error) {
		return sheet.ReadSent(in.Body.Text, near, far, in.Body.Choice)
	})
	if err != nil {
		return nil, s.failed(err)
	}
	if len(sent.Choices) > 0 {
		if in.Body.Record {
			return nil, refused("choice", sent.Problems[0].String())
		}
		return answering(Compared{
			Given: []string{}, Problems: []design.Problem{}, Aside: []design.Problem{}, Lines: []sheet.Line{},
			Choices: sent.Choices,
			Outcome: negotiate.Outcome{Local: []netip.Prefix{}, Remote: []netip.Prefix{}, Later: []string{}},
		}, nil)
	}
	edits, err := sheet.Record(v.design, t, in.Body.End, sent)
	if err != nil {
		return nil, s.failed(err)
	}
	next, _, err := v.design.Apply(edits)
	if err != nil {
		return nil, s.failed(err)
	}
	keys, err := s.comparedKeys(ctx, in, t, &sent)
	if err != nil {
		return nil, s.failed(err)
	}
	if in.Body.Record {
		l := v.design.Get(t.Parent).Body.(*design.Link)
		set := store.ChangeSet{
			Base: in.Body.Base, Author: author(ctx),
			Reason: fmt.Sprintf(
				"Record what %s sent for %s, %s", settings.EndTitle(v.design, l, in.Body.End),
				v.design.Get(t.Parent).Name, t.Name,
			),
			Edits: v.design.SaidThere(edits), FarKey: s.farKey(t.ID, keys, sent.Settings.Key),
		}
		if in.Body.Reason != "" {
			set.Reason = in.Body.Reason
		}
		if _, err := s.commitSet(ctx, in.Design, set); err != nil {
			return nil, err
		}
	}
	ends := settings.SettingsOf(next, next.Get(t.ID), keys[0])
	ends[1].Key = keys[1]
	out := Compared{
		Given: sent.Given, Problems: sent.Problems, Lines: sheet.Lines(next, next.Get(t.ID), keys),
		Outcome: sent.Decided(negotiate.Agree(ends[0], ends[1])),
	}
	out.Taken, out.Choices = sent.Connection, []sheet.Choice{}
	out.Aside = append(append([]design.Problem{}, sent.Decides...), sent.Aside...)
	if out.Problems == nil {
		out.Problems = []design.Problem{}
	}
	if out.Given == nil {
		out.Given = []string{}
	}
	return answering(out, nil)
}

// comparedKeys are the fingerprints of our key and theirs, where theirs was sent.
// With the vault closed the keys are not compared, which a problem says.
func (s *Server) comparedKeys(
	ctx context.Context,
	in *sentIn,
	t *design.Object,
	sent *sheet.Sent,
) (out [2]string, err error) {
	if sent.Settings.Key == "" {
		return out, nil
	}
	if closed := s.vault.Closed(); closed != nil {
		sent.Problems = append(
			sent.Problems,
			design.Problem{
				Field: "key", Why: "the key was neither compared nor kept: " + closed.Why, Want: closed.Want,
			},
		)
		return out, nil
	}
	if err := s.store.MakeKeys(ctx, s.vault, in.Design, []*design.Object{t}); err != nil {
		return out, err
	}
	own, _, err := s.store.Fingerprints(ctx, in.Design)
	if err != nil {
		return out, err
	}
	theirs, err := s.vault.Fingerprint(in.Design, sent.Settings.Key)
	return [2]string{own[t.ID], hex.EncodeToString(theirs)}, err
}

// farKey is the key that was sent, to be kept beside ours if it is another; one
// that was sent before and is so no more is forgotten. It is nil if none was
// compared.
func (s *Server) farKey(tunnel design.ID, compared [2]string, sent string) *store.FarKey {
	if compared[1] == "" {
		return nil
	}
	if compared[0] == compared[1] {
		sent = ""
	}
	return &store.FarKey{Vault: s.vault, Tunnel: tunnel, Key: sent}
}

func (s *Server) setCell(ctx context.Context, in *cellIn) (*answer[store.Info], error) {
	v, t, err := s.tunnel(ctx, in.Design, in.Tunnel)
	if err != nil {
		return nil, err
	}
	if !design.IsLine(in.Body.Reason) {
		return nil, refused("reason", "the reason holds a control character; write plain text")
	}
	of := v.design.On(in.asked())
	if t = of.Get(t.ID); t == nil {
		return nil, missing("tunnel", "it is planned and not built yet; look at it when built")
	}
	edits, err := sheet.SetCell(of, t, in.Body.End, in.Body.Line, in.Body.Value)
	if err != nil {
		var problems design.Problems
		if errors.As(err, &problems) {
			return nil, s.failed(err)
		}
		return nil, refused("line", err.Error())
	}
	return s.commit(ctx, in.Design, in.Body.Base, in.Body.Reason, v.design.Said(of.Said(edits)))
}

func (s *Server) setKey(ctx context.Context, in *keyIn) (*answer[store.Info], error) {
	v, t, err := s.tunnel(ctx, in.Design, in.Tunnel)
	if err != nil {
		return nil, err
	}
	name := v.design.Get(t.Parent).Name + ", " + t.Name
	reason := ""
	switch in.Body.Take {
	case "theirs":
		var taken bool
		if taken, err = s.store.TakeFarKey(ctx, in.Design, t.ID); err == nil && !taken {
			return nil, refused("take", "the far end has sent no other key")
		}
		reason = "Use the far end's key for " + name
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
	info, err := s.store.Rekeyed(ctx, in.Design, author(ctx), reason)
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(info, nil)
}
