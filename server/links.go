package server

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/finding"
	"dravin/core/lifecycle"
	"dravin/core/negotiate"
	"dravin/core/settings"
	"dravin/core/sheet"
	"dravin/core/status"
	"dravin/store"
)

// LinkRow is one link, circuit, peering or attachment in the list.
type LinkRow struct {
	ID        design.ID       `json:"id"`
	Kind      design.Kind     `json:"kind"`
	Name      string          `json:"name"`
	State     string          `json:"state" enum:"planned,waiting-for-the-other-half,being-built,ready,refused,gone"`
	Facts     draft.Facts     `json:"facts"`
	Verdict   sheet.Agreement `json:"verdict" doc:"The worst of its lines."`
	Differing int             `json:"differing" doc:"How many lines differ."`
	Status    status.Verdict  `json:"status" doc:"Whether it is up at the horizon asked for, and the first cause if not."`
	Asks      bool            `json:"asks,omitempty" doc:"A request waits for an answer."`
}

// TunnelSheet is one tunnel of a two-ended sheet.
type TunnelSheet struct {
	ID       design.ID         `json:"id"`
	Name     string            `json:"name"`
	Lines    []sheet.Line      `json:"lines"`
	Outcome  negotiate.Outcome `json:"outcome"`
	Status   status.Verdict    `json:"status"`
	Sessions []SessionStatus   `json:"sessions"`
}

// SessionStatus is how one session stands.
type SessionStatus struct {
	ID     design.ID      `json:"id"`
	Name   string         `json:"name"`
	Status status.Verdict `json:"status"`
}

// LinkSheet is the two-ended sheet.
type LinkSheet struct {
	LinkRow
	Note     string                `json:"note"`
	Ends     [2]LinkEnd            `json:"ends"`
	Tunnels  []TunnelSheet         `json:"tunnels"`
	Lines    []sheet.Line          `json:"lines" doc:"Of what has no tunnels."`
	Steps    []lifecycle.Step      `json:"steps" doc:"What can be done next."`
	Track    []lifecycle.Milestone `json:"track" doc:"How far the making of a circuit has come."`
	Requests []RequestView         `json:"requests"`
	Findings []finding.Finding     `json:"findings"`
}

// LinkEnd is one end.
type LinkEnd struct {
	Title string    `json:"title"`
	Party design.ID `json:"party"`
	Name  string    `json:"name" doc:"The party's."`
	Owner string    `json:"owner"`
}

// RequestView is a request about a link.
type RequestView struct {
	ID     design.ID `json:"id"`
	From   string    `json:"from"`
	To     string    `json:"to"`
	Answer string    `json:"answer" doc:"Empty while it is open."`
	Reason string    `json:"reason"`
}

type inLink struct {
	InView
	Link string `path:"link" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The ID of a link, circuit, peering or attachment."`
}

type inStudy struct {
	InView
	Cloud    string `query:"cloud" required:"true" maxLength:"500" doc:"The cloud's name."`
	Tables   uint32 `query:"tables" default:"2" minimum:"1" maximum:"200" doc:"Route tables of each network."`
	GB       uint32 `query:"gb" default:"1000" minimum:"0" maximum:"10000000" doc:"What each network sends to the others together, a month."`
	Regional bool   `query:"regional" doc:"They are in different regions."`
}

// StudyView is a study with what it was made for.
type StudyView struct {
	cost.Study
	Cloud    string   `json:"cloud"`
	Clouds   []string `json:"clouds" doc:"All that have a profile."`
	Networks int      `json:"networks" doc:"How many the design has in this cloud."`
	Tables   uint32   `json:"tables"`
}

func (s *Server) linkOperations(api huma.API) {
	view(s, api, "get-study", "/study", "How the shapes of an estate compare as it grows", studyOf)
	register(
		api,
		huma.Operation{
			OperationID: "get-links",
			Method:      http.MethodGet,
			Path:        "/api/designs/{design}/links",
			Summary:     "Everything that joins two parties",
		},
		func(ctx context.Context, in *InView) (*answer[[]LinkRow], error) {
			v, keys, err := s.withKeys(ctx, in)
			if err != nil {
				return nil, s.failed(err)
			}
			out := []LinkRow{}
			for j := range v.design.Joints() {
				out = append(out, rowOf(v, j.Object, keys))
			}
			return answering(out, nil)
		},
	)
	register(
		api,
		huma.Operation{
			OperationID: "get-link",
			Method:      http.MethodGet,
			Path:        "/api/designs/{design}/links/{link}",
			Summary:     "The two-ended sheet",
		},
		func(ctx context.Context, in *inLink) (*answer[LinkSheet], error) {
			v, keys, err := s.withKeys(ctx, &in.InView)
			if err != nil {
				return nil, s.failed(err)
			}
			o := v.design.Get(design.ID(in.Link))
			if o == nil || !slices.Contains(design.JointKinds, o.Kind) {
				return nil, missing("link", "there is no such link now; it may have been removed or undone")
			}
			return answering(linkSheetOf(v, o, keys), nil)
		},
	)
	s.sentOperations(api)
	s.stepOperations(api)
}

// keysOf gives what is compared of a tunnel's keys: the fingerprints of those of
// the two ends.
type keysOf func(tunnel design.ID) [2]string

// withKeys loads a design and what tells its keys apart. No key is opened for it.
func (s *Server) withKeys(ctx context.Context, in *InView) (*solved, keysOf, error) {
	id := in.Design
	v, err := s.solved.get(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	own, far, err := s.store.Fingerprints(ctx, id)
	return v.on(in.asked()), func(t design.ID) [2]string {
		if far[t] == "" {
			return [2]string{}
		}
		return [2]string{own[t], far[t]}
	}, err
}

// findingsAt are all findings of a design: those of the design alone, and those
// that depend on the day and on keys.
func (s *Server) findingsAt(ctx context.Context, v *solved) ([]finding.Finding, error) {
	own, _, err := s.store.Fingerprints(ctx, v.info.ID)
	if err != nil {
		return nil, err
	}
	byKey := map[string][]design.ID{}
	for _, t := range v.design.Of(design.KindTunnel) {
		if k := own[t.ID]; k != "" {
			byKey[k] = append(byKey[k], t.ID)
		}
	}
	var groups [][]design.ID
	for _, g := range byKey {
		if len(g) > 1 {
			groups = append(groups, g)
		}
	}
	slices.SortFunc(groups, func(a, b []design.ID) int { return slices.Compare(a, b) })
	now := s.now()
	today, ahead := now.Format(time.DateOnly), now.Add(codeEndsSoon).Format(time.DateOnly)
	return finding.Sorted(
		slices.Concat(v.findings(), finding.Expiring(v.design, today, ahead), finding.SharedKeys(v.design, groups)),
	), nil
}

// codeEndsSoon is how long before its end an order code is spoken of.
const codeEndsSoon = 7 * 24 * time.Hour

func rowOf(v *solved, o *design.Object, keys keysOf) LinkRow {
	d := v.design
	r := LinkRow{
		Status: v.tables().Status.Of(o.ID), ID: o.ID, Kind: o.Kind, Name: o.Name, State: v.design.StateOf(o.ID),
		Facts: draft.FactsOf(d, o), Asks: lifecycle.OpenRequest(d, o.ID) != nil,
	}
	if o.Kind == design.KindAttachment {
		r.Name += " at " + d.Title(o.Parent)
	}
	lines := sheet.JoinLines(d, o)
	for _, t := range d.Inside(o.ID, design.KindTunnel) {
		lines = append(lines, sheet.Lines(d, t, keys(t.ID))...)
	}
	r.Verdict, r.Differing = sheet.Worst(lines)
	return r
}

func linkSheetOf(v *solved, o *design.Object, keys keysOf) LinkSheet {
	d := v.design
	out := LinkSheet{
		LinkRow: rowOf(v, o, keys), Tunnels: []TunnelSheet{}, Lines: sheet.JoinLines(d, o),
		Steps: lifecycle.Steps(d, o), Track: lifecycle.Track(d, o), Requests: requestsOf(d, o),
		Findings: []finding.Finding{},
	}
	if b, ok := o.Body.(*design.Link); ok {
		out.Note = b.Note
	}
	for n, p := range [2]design.ID{out.Facts.A, out.Facts.B} {
		e := LinkEnd{Title: [2]string{out.Facts.EndA, out.Facts.EndB}[n], Party: p, Name: d.Title(p)}
		if owner := design.OwnerOf(d.Get(p)); owner != "" {
			e.Owner = d.Title(owner)
		}
		out.Ends[n] = e
	}
	subjects := map[design.ID]bool{o.ID: true}
	for _, t := range d.Inside(o.ID, design.KindTunnel) {
		held := keys(t.ID)
		set := settings.SettingsOf(d, t, held[0])
		set[1].Key = held[1]
		x := TunnelSheet{
			ID: t.ID, Name: t.Name, Lines: sheet.Lines(d, t, held), Outcome: negotiate.Agree(set[0], set[1]),
			Status: v.tables().Status.Of(t.ID), Sessions: []SessionStatus{},
		}
		subjects[t.ID] = true
		for _, s := range d.Inside(t.ID, design.KindSession) {
			subjects[s.ID] = true
			x.Sessions = append(x.Sessions, SessionStatus{ID: s.ID, Name: s.Name, Status: v.tables().Status.Of(s.ID)})
		}
		out.Tunnels = append(out.Tunnels, x)
	}
	for _, f := range v.findings() {
		if slices.ContainsFunc(f.Subjects, func(id design.ID) bool { return subjects[id] }) {
			out.Findings = append(out.Findings, f)
		}
	}
	return out
}

func requestsOf(d *design.Design, o *design.Object) []RequestView {
	out := []RequestView{}
	for r, body := range design.Each[design.Request](d.Referring(o.ID, design.KindRequest)) {
		if b := body; b.For == o.ID {
			out = append(
				out,
				RequestView{ID: r.ID, From: d.Title(b.From), To: d.Title(b.To), Answer: b.Answer, Reason: b.Reason},
			)
		}
	}
	return out
}

func studyOf(v *solved, in *inStudy) (StudyView, error) {
	p := v.design.Profile(in.Cloud)
	if p == nil {
		return StudyView{}, refused(
			"cloud", fmt.Sprintf("there is no profile for %q; choose a cloud that has one, or add one", in.Cloud),
		)
	}
	out := StudyView{Cloud: in.Cloud, Clouds: []string{}, Tables: in.Tables}
	for _, n := range v.design.Profiles() {
		out.Clouds = append(out.Clouds, n.Name)
	}
	for _, body := range design.Each[design.Network](v.design.Of(design.KindNetwork)) {
		if design.Slug(body.Cloud) == design.Slug(in.Cloud) {
			out.Networks++
		}
	}
	out.Study = cost.Compare(
		p, cost.Assumptions{Tables: in.Tables, GB: in.GB, Present: uint32(out.Networks), Regional: in.Regional},
	)
	return out, nil
}

// commit applies edits at a position, in the name of whoever asks.
func (s *Server) commit(
	ctx context.Context,
	id string,
	base int64,
	reason string,
	edits []design.Edit,
) (*answer[store.Info], error) {
	return s.commitSet(ctx, id, store.ChangeSet{Base: base, Author: author(ctx), Reason: reason, Edits: edits})
}

func (s *Server) commitSet(ctx context.Context, id string, set store.ChangeSet) (*answer[store.Info], error) {
	info, err := s.store.Commit(ctx, id, set)
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(info, nil)
}
