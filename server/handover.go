package server

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"dravin/bundle"
	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/store"
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

	Joints  int        `json:"joints" doc:"How many links, circuits, peerings and attachments end there: what there is to do."`
	At      *time.Time `json:"at,omitempty" doc:"When the party was handed its files last."`
	Changed []string   `json:"changed" doc:"Which files are others since, by path; those that went too."`
	// Changes are the same, line by line.
	Changes []handover.Change `json:"changes" doc:"What is another since, as diffs; none of an older Dravin's files."`
}

// handedOf is what one party gets, with what is another since it was last given.
func handedOf(v *solved, o *design.Object, keys handover.Keys, last map[design.ID]store.Handed) Handed {
	h := Handed{
		Party: o.ID, Name: o.Name, Kind: o.Kind, Files: handover.Render(v.tables(), o.ID, keys), Changed: []string{},
		Changes: []handover.Change{},
	}
	for _, at := range append([]*design.Object{o}, v.design.Inside(o.ID, design.KindGateway)...) {
		h.Joints += len(v.design.JointsAt(at.ID))
	}
	before, ok := last[o.ID]
	if !ok {
		return h
	}
	h.At = &before.At
	now := sums(h.Files)
	for path := range before.Files {
		if now[path] != before.Files[path] {
			h.Changed = append(h.Changed, path)
		}
	}
	for path := range now {
		if _, had := before.Files[path]; !had {
			h.Changed = append(h.Changed, path)
		}
	}
	slices.Sort(h.Changed)
	if len(before.Content) > 0 && len(h.Changed) > 0 {
		var old []handover.File
		for path, text := range before.Content {
			old = append(old, handover.File{Path: path, Content: text})
		}
		h.Changes = handover.Diff(old, h.Files)
	}
	return h
}

// contents are what files say, by path.
func contents(files []handover.File) map[string]string {
	out := map[string]string{}
	for _, f := range files {
		out[f.Path] = f.Content
	}
	return out
}

// bundleFile answers with a party's signed bundle. Keys are not in it.
func (s *Server) bundleFile(w http.ResponseWriter, r *http.Request) {
	v, o, err := s.handing(r.Context(), chi.URLParam(r, "design"), chi.URLParam(r, "party"))
	if err != nil {
		s.refuse(w, err)
		return
	}
	key, err := bundle.Key(s.Signing)
	if err != nil {
		s.log.Error("bundles can not be signed", "error", err)
		problem(w, http.StatusServiceUnavailable, "this server has no key to sign bundles with; its log says why")
		return
	}
	at := v.on(Side(r.URL.Query().Get("side")).side())
	var out bytes.Buffer
	files := handover.Render(at.tables(), o.ID, masked(v.design))
	about := bundle.About{Design: v.design.Name, Party: o.Name, Made: s.now()}
	if err := bundle.Write(&out, about, files, box.Instructions(at.tables(), o.ID), key); err != nil {
		s.refuse(w, err)
		return
	}
	zipped(w, o.Name, out.Bytes())
}

// archiveFile answers with the files of all parties, a folder for each. Those that hold keys are not in it.
func (s *Server) archiveFile(w http.ResponseWriter, r *http.Request) {
	v, err := s.solved.get(r.Context(), chi.URLParam(r, "design"))
	if err != nil {
		s.refuse(w, err)
		return
	}
	at := v.on(Side(r.URL.Query().Get("side")).side())
	var targets []handover.Target
	if asked := r.URL.Query().Get("target"); asked != "" {
		t, err := handover.ParseTarget(asked)
		if err != nil {
			problem(w, http.StatusUnprocessableEntity, "target: "+err.Error())
			return
		}
		targets = append(targets, t)
	}
	var all []bundle.Handed
	for _, o := range at.design.Inside("", handover.Parties...) {
		party := box.PartyOf(at.tables(), o.ID)
		files := append(handover.Files(party, nil), handover.As(party, targets, nil, uint32(v.info.UpdatedAt.Unix()))...)
		all = append(all, bundle.Handed{Party: o.Name, Files: files})
	}
	var out bytes.Buffer
	if err := bundle.Archive(&out, v.design.Name, all, s.now()); err != nil {
		s.refuse(w, err)
		return
	}
	zipped(w, v.design.Name, out.Bytes())
}

// zipped answers with an archive that is called after something.
func zipped(w http.ResponseWriter, name string, content []byte) {
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", fmt.Sprintf(`attachment; filename="%s.zip"`, handover.Folder(name)))
	_, _ = w.Write(content)
}

// sums are checksums of files with their keys masked.
func sums(files []handover.File) map[string]string {
	out := map[string]string{}
	for _, f := range files {
		sum := sha256.Sum256([]byte(f.Content))
		out[f.Path] = hex.EncodeToString(sum[:])
	}
	return out
}

// masked stands in the place of every key.
func masked(d *design.Design) handover.Keys {
	out := handover.Keys{}
	for _, t := range d.Of(design.KindTunnel) {
		out[t.ID] = handover.Masked
	}
	return out
}

type inHandover struct {
	InView
	Target string `query:"target" enum:"frr,keyed,networkd,zones,models,device" doc:"A format beside the usual ones."`
}

func (s *Server) handover(ctx context.Context, in *inHandover) (*answer[[]Handed], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	last, err := s.store.HandedOf(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	v = v.on(in.asked())
	out := []Handed{}
	for _, o := range v.design.Inside("", handover.Parties...) {
		h := handedOf(v, o, masked(v.design), last)
		if in.Target != "" {
			party := box.PartyOf(v.tables(), o.ID)
			h.Files = append(
				h.Files,
				handover.As(
					party, []handover.Target{handover.Target(in.Target)}, masked(v.design), uint32(v.info.UpdatedAt.Unix()),
				)...,
			)
		}
		out = append(out, h)
	}
	return answering(out, nil)
}

type inHand struct {
	InDesign
	Party string `path:"party" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The ID of a site, network, hub or edge router."`
	Side  Side   `query:"side" doc:"Of which side."`
	Body  struct {
		Base int64 `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the files were of."`
	}
}

// hand writes down that a party was given its files as they were at a position: those of
// another were given to nobody.
func (s *Server) hand(ctx context.Context, in *inHand) (*answer[store.Info], error) {
	v, o, err := s.handing(ctx, in.Design, in.Party)
	if err != nil {
		return nil, err
	}
	files := handover.Render(v.on(in.Side.side()).tables(), o.ID, masked(v.design))
	info, err := s.store.Hand(
		ctx, in.Design, in.Body.Base, "Hand "+o.Name+" its files",
		store.Handed{Party: o.ID, Author: author(ctx), Files: sums(files), Content: contents(files)},
	)
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(info, nil)
}

// handing is the party that files are for.
func (s *Server) handing(ctx context.Context, id, party string) (*solved, *design.Object, error) {
	v, err := s.solved.get(ctx, id)
	if err != nil {
		return nil, nil, s.failed(err)
	}
	o := v.design.Get(design.ID(party))
	if o == nil || !slices.Contains(handover.Parties, o.Kind) {
		return nil, nil, missing("party", "there is no such site, network, hub or edge router now")
	}
	return v, o, nil
}

// Instructed is what one party's administrator must do, as data.
type Instructed struct {
	Party        design.ID         `json:"party"`
	Name         string            `json:"name"`
	Instructions []box.Instruction `json:"instructions" doc:"Everything to enter, order, accept or build, in order; those that are not due say so."`
	Proofs       []box.Proof       `json:"proofs" doc:"What to try once all is entered."`
}

type inInstructions struct {
	InView
	Party string `path:"party" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The ID of a site, network, hub or edge router."`
}

func (s *Server) instructions(ctx context.Context, in *inInstructions) (*answer[Instructed], error) {
	v, o, err := s.handing(ctx, in.Design, in.Party)
	if err != nil {
		return nil, err
	}
	at := v.on(in.asked())
	if at.design.Get(o.ID) == nil {
		return nil, missing("party", "it is planned and not built yet; look at it when built")
	}
	p := box.PartyOf(at.tables(), o.ID)
	return answering(Instructed{Party: o.ID, Name: o.Name, Instructions: p.Instructions, Proofs: p.Proofs}, nil)
}

func (s *Server) handoverOperations(api huma.API) {
	register(
		api,
		huma.Operation{
			OperationID: "get-handover", Method: http.MethodGet, Path: "/api/designs/{design}/handover",
			Summary: "The files for every party, keys masked",
		},
		s.handover,
	)
	register(
		api,
		huma.Operation{
			OperationID: "get-instructions",
			Method:      http.MethodGet,
			Path:        "/api/designs/{design}/handover/{party}/instructions",
			Summary:     "Everything that a party must enter, as data: its sheet is the print of it",
		},
		s.instructions,
	)
	register(
		api,
		huma.Operation{
			OperationID: "hand", Method: http.MethodPost, Path: "/api/designs/{design}/handover/{party}/handed",
			Summary: "Write down that a party was given its files as they are now",
		},
		s.hand,
	)
	register(
		api,
		huma.Operation{
			OperationID: "reveal-handover",
			Method:      http.MethodPost,
			Path:        "/api/designs/{design}/handover/{party}/reveal",
			Summary:     "The files for one party with keys in the clear; the history records it",
		},
		s.reveal,
	)
}

func (s *Server) reveal(ctx context.Context, in *inParty) (*answer[Handed], error) {
	v, o, err := s.handing(ctx, in.Design, in.Party)
	if err != nil {
		return nil, err
	}
	tunnels := tunnelsAt(v.design, o.ID)
	if len(tunnels) == 0 {
		return answering(handedOf(v, o, nil, nil), nil) // there is nothing to show, and nothing to write down
	}
	keys, err := s.store.Keys(ctx, s.vault, in.Design, tunnels)
	if err != nil {
		return nil, s.failed(err)
	}
	if err := s.store.Looked(ctx, in.Design, author(ctx), fmt.Sprintf("Show the keys of %s", o.Name)); err != nil {
		return nil, s.failed(err)
	}
	return answering(handedOf(v, o, keys, nil), nil)
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
