package server

import (
	"cmp"
	"context"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/settings"
	solving "dravin/core/snapshot"
	"dravin/core/status"
)

// TableRow is one table of the estate.
type TableRow struct {
	At         design.ID   `json:"at" doc:"The gateway, route table, hub table, edge router or inner router that it is of."`
	Segment    design.ID   `json:"segment" doc:"Whose routing instance it is, where a box has several; else empty."`
	Title      string      `json:"title"`
	Kind       design.Kind `json:"kind"`
	Party      design.ID   `json:"party"`
	PartyTitle string      `json:"party_title"`
	Entries    int         `json:"entries" doc:"Those that are used."`
	Idle       int         `json:"idle" doc:"Those that can not be used."`
}

func tablesOf(v *solved, _ *InView) ([]TableRow, error) {
	out := []TableRow{}
	for _, p := range v.tables().Points() {
		row := TableRow{
			At: p.ID, Segment: p.Segment, Title: p.Title, Kind: p.Kind, Party: p.Party.ID, PartyTitle: p.Party.Name,
		}
		for n := range p.Routes {
			if p.Routes[n].Unusable == "" {
				row.Entries++
			} else {
				row.Idle++
			}
		}
		out = append(out, row)
	}
	return out, nil
}

type inTable struct {
	InView
	At      string `query:"at" required:"true" maxLength:"128" doc:"The ID of what the table is of."`
	Segment string `query:"segment" maxLength:"128" doc:"The segment of the routing instance; left out: where everything meets."`
	Prefix  string `query:"prefix" maxLength:"80" doc:"A prefix or address to filter by; left out: everything."`
	How     string `query:"how" enum:"touching,covering,covered,exact" default:"touching" doc:"covering: entries that hold all of it; covered: that lie inside it; exact: that very prefix; touching: any of these."`
	Source  string `query:"source" maxLength:"40" doc:"Only from this source."`
	Party   string `query:"party" maxLength:"128" doc:"Only what leads to this party, by its ID."`
	Offset  int    `query:"offset" minimum:"0" maximum:"100000000" doc:"How many to pass over."`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200" doc:"How many at most."`
}

// TablePage is a part of a table.
type TablePage struct {
	At       design.ID          `json:"at"`
	Segment  design.ID          `json:"segment"`
	Title    string             `json:"title"`
	Party    design.ID          `json:"party"`
	Total    int                `json:"total" doc:"Entries in all."`
	Matching int                `json:"matching" doc:"Those that the filter leaves."`
	Rows     []TableEntry       `json:"rows"`
	Sources  []route.Source     `json:"sources" doc:"Those that occur."`
	Parties  []NamedID          `json:"parties" doc:"What its entries lead to."`
	Use      *route.Use         `json:"use,omitempty" doc:"How far its limit is used up, where it has one."`
	Summary  []route.Summarised `json:"summaries" doc:"What could stand for several entries."`
}

// TableEntry is a route with what it leads to.
type TableEntry struct {
	route.Route
	To      string    `json:"to" doc:"The party that it leads to; empty for none."`
	ToParty design.ID `json:"to_party"`
}

// NamedID is an object by ID and title.
type NamedID struct {
	ID    design.ID `json:"id"`
	Title string    `json:"title"`
}

// askedPrefix reads a prefix or an address.
func askedPrefix(text string) (netip.Prefix, error) {
	p, err := prefix.ParseAsked(text)
	if err != nil {
		return p, refused("prefix", err.Error())
	}
	return p, nil
}

func pointOf(v *solved, at, segment string) (*route.Point, error) {
	p := v.tables().PointIn(design.ID(at), design.ID(segment))
	if p == nil {
		return nil, missing("at", "there is no such table now; what it was of may have been removed or undone")
	}
	return p, nil
}

func tablePage(v *solved, in *inTable) (TablePage, error) {
	p, err := pointOf(v, in.At, in.Segment)
	if err != nil {
		return TablePage{}, err
	}
	var asked netip.Prefix
	if strings.TrimSpace(in.Prefix) != "" {
		if asked, err = askedPrefix(in.Prefix); err != nil {
			return TablePage{}, err
		}
	}
	out := TablePage{
		At: p.ID, Segment: p.Segment, Title: p.Title, Party: p.Party.ID, Total: len(p.Routes), Rows: []TableEntry{},
		Sources: []route.Source{}, Parties: []NamedID{}, Summary: []route.Summarised{},
	}
	far := map[route.Hop]design.ID{}
	for _, r := range p.Routes {
		to, known := far[r.Hop]
		if !known {
			if at := v.design.Party(v.tables().FarEnd(p, r.Hop)); at != nil {
				to = at.ID
			}
			far[r.Hop] = to
			if to != "" && !slices.ContainsFunc(out.Parties, func(x NamedID) bool { return x.ID == to }) {
				out.Parties = append(out.Parties, NamedID{to, v.design.Title(to)})
			}
		}
		if !slices.Contains(out.Sources, r.Source) {
			out.Sources = append(out.Sources, r.Source)
		}
		if asked.IsValid() && !fits(in.How, r.Prefix, asked) || in.Source != "" && string(r.Source) != in.Source ||
			in.Party != "" && string(to) != in.Party {
			continue
		}
		out.Matching++
		if out.Matching > in.Offset && len(out.Rows) < in.Limit {
			e := TableEntry{Route: r, ToParty: to}
			if to != "" {
				e.To = v.design.Title(to)
			}
			out.Rows = append(out.Rows, e)
		}
	}
	if u, ok := v.tables().UseOf(p.ID); ok && u.Most > 0 {
		out.Use = &u
		out.Summary = append(out.Summary, v.tables().Summarised(p.ID)...)
	}
	slices.SortFunc(out.Parties, func(a, b NamedID) int { return cmp.Compare(a.Title, b.Title) })
	return out, nil
}

func fits(how string, r, asked netip.Prefix) bool {
	switch how {
	case "covering":
		return prefix.Contains(r, asked)
	case "covered":
		return prefix.Contains(asked, r)
	case "exact":
		return r == asked
	}
	return r.Overlaps(asked)
}

type inExplain struct {
	InView
	At      string `query:"at" required:"true" maxLength:"128" doc:"The ID of what the table is of."`
	Segment string `query:"segment" maxLength:"128" doc:"The segment of the routing instance."`
	For     string `query:"for" required:"true" maxLength:"80" doc:"A prefix or an address."`
}

func explained(v *solved, in *inExplain) (route.Explanation, error) {
	p, err := pointOf(v, in.At, in.Segment)
	if err != nil {
		return route.Explanation{}, err
	}
	asked, err := askedPrefix(in.For)
	if err != nil {
		return route.Explanation{}, err
	}
	return v.tables().Explain(route.Key{At: p.ID, Segment: p.Segment}, asked), nil
}

type inPrefix struct {
	InView
	Prefix string `query:"prefix" required:"true" maxLength:"80" doc:"A prefix."`
}

type inPrefixes struct {
	InView
	Text string `query:"q" maxLength:"80" doc:"How it begins, or an address in it; left out: every prefix."`
}

// mostPrefixes bounds a list that is to be chosen from.
const mostPrefixes = 300

func prefixesOf(v *solved, in *inPrefixes) ([]route.Known, error) {
	return v.tables().Known(in.Text, mostPrefixes), nil
}

// SessionRow is a BGP session.
type SessionRow struct {
	ID     design.ID      `json:"id"`
	Name   string         `json:"name" doc:"What carries it."`
	Ends   [2]string      `json:"ends"`
	ASNs   [2]uint32      `json:"asns"`
	Joint  design.ID      `json:"joint" doc:"The link or circuit."`
	Status status.Verdict `json:"status"`
}

func sessionRow(v *solved, o *design.Object) SessionRow {
	d := v.design
	carrier := d.Get(o.Parent)
	row := SessionRow{ID: o.ID, Name: status.CarrierName(d, o), Joint: carrier.ID, Status: v.tables().Status.Of(o.ID)}
	if carrier.Kind == design.KindTunnel {
		row.Joint = carrier.Parent
	}
	for n, e := range o.Body.(*design.Session).Ends {
		row.ASNs[n] = e.ASN
		if at := settings.Speaker(d, o, n); at != nil {
			row.Ends[n] = d.Title(at.ID)
		}
	}
	return row
}

func sessionsOf(v *solved, _ *InView) ([]SessionRow, error) {
	out := []SessionRow{}
	for _, o := range v.design.Of(design.KindSession) {
		out = append(out, sessionRow(v, o))
	}
	return out, nil
}

type inSession struct {
	InView
	Session string `path:"session" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The session's ID."`
}

// SessionSide is what one end of a session tells and sets.
type SessionSide struct {
	Title      string           `json:"title"`
	ASN        uint32           `json:"asn"`
	Advertises []route.Exchange `json:"advertises" doc:"What it has for the other end, and what becomes of it there."`
	Total      int              `json:"total" doc:"How many there are in all; no more than 1000 are listed."`
	Takes      int              `json:"takes" doc:"How many of the other end's it takes."`
	Most       uint32           `json:"most" doc:"How many it takes at most; 0: any number."`
	Out        []string         `json:"out" doc:"The rules of what it announces; none: its own ranges."`
	In         []string         `json:"in" doc:"The rules of what it takes; none: everything."`
	Router     string           `json:"router_id"`
}

// SessionView is a session with both ends side by side.
type SessionView struct {
	SessionRow
	Sides [2]SessionSide `json:"sides"`
}

// mostAdvertised bounds what is listed of one end of a session.
const mostAdvertised = 1000

func sessionView(v *solved, in *inSession) (SessionView, error) {
	o := v.design.Get(design.ID(in.Session))
	if o == nil || o.Kind != design.KindSession {
		return SessionView{}, missing("session", "there is no such session now; it may have been removed or undone")
	}
	out := SessionView{SessionRow: sessionRow(v, o)}
	for n, e := range o.Body.(*design.Session).Ends {
		tells := v.tables().Exchanged(o.ID, n)
		side := SessionSide{
			Title: out.Ends[n], ASN: e.ASN, Total: len(tells), Most: route.Limit(v.design, o, n), Out: []string{},
			In: []string{},
		}
		side.Takes = v.tables().Taken(o.ID, n)
		side.Advertises = tells[:min(len(tells), mostAdvertised)]
		for k := range e.Out {
			side.Out = append(side.Out, route.RuleWords(e.Out, k))
		}
		for k := range e.In {
			side.In = append(side.In, route.RuleWords(e.In, k))
		}
		if at := settings.Speaker(v.design, o, n); at != nil {
			if id := route.RouterID(v.design, at.ID); id.IsValid() {
				side.Router = id.String()
			}
		}
		out.Sides[n] = side
	}
	return out, nil
}

type effectIn struct {
	InDesign
	Side Side `query:"side" doc:"Of which side."`
	Body struct {
		Edits   []EditIn `json:"edits,omitempty" maxItems:"5000" doc:"A change that is not made yet."`
		Without []string `json:"without,omitempty" maxItems:"50" doc:"What is taken away: an ID, a path, a zone or a public address."`
		Act     string   `json:"act,omitempty" enum:"undo,redo" doc:"What undoing or redoing would change."`
	}
}

// effect tells what a change, a failure or an undo would do to tables and flows.
func (s *Server) effect(ctx context.Context, in *effectIn) (*answer[solving.Effect], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	at := v.on(in.Side.side())
	edits, err := decode(in.Body.Edits)
	if err != nil {
		return nil, s.failed(err)
	}
	if in.Body.Act != "" {
		if edits, err = s.store.Next(ctx, in.Design, in.Body.Act, author(ctx)); err != nil {
			return nil, s.failed(err)
		}
	}
	after := at.all
	if len(edits) > 0 {
		if after, err = v.trial(in.Side.side(), edits); err != nil {
			return nil, s.failed(err)
		}
	}
	gone, err := thingsOf(at.design, in.Body.Without)
	if err != nil {
		return nil, err
	}
	if len(gone) > 0 {
		after = after.Without(gone...)
	}
	return answering(solving.EffectOf(at.all, after), nil)
}

func (s *Server) routeOperations(api huma.API) {
	view(s, api, "list-tables", "/tables", "Every table of the estate", tablesOf)
	view(s, api, "get-table", "/table", "One table, filtered and in pages", tablePage)
	view(s, api, "explain-route", "/explain", "Why a table sends a range or address where it does", explained)
	view(s, api, "list-prefixes", "/prefixes", "The prefixes that tables have", prefixesOf)
	view(
		s,
		api,
		"get-spread",
		"/spread",
		"Every table that has a prefix, and where it stopped",
		func(v *solved, in *inPrefix) (route.Spread, error) {
			p, err := askedPrefix(in.Prefix)
			if err != nil {
				return route.Spread{}, err
			}
			return v.tables().Spread(p), nil
		},
	)
	view(s, api, "list-sessions", "/sessions", "Every BGP session", sessionsOf)
	view(s, api, "get-session", "/sessions/{session}", "Both ends of a session, side by side", sessionView)
	view(
		s, api, "list-limits", "/limits", "How far the limits of profiles are used up",
		func(v *solved, _ *InView) ([]route.Use, error) { return v.tables().Uses(), nil },
	)
	register(
		api,
		huma.Operation{
			OperationID:  "get-effect",
			Method:       http.MethodPost,
			Path:         "/api/designs/{design}/effect",
			MaxBodyBytes: maxChangeBytes,
			Summary:      "What a change, a failure or an undo would do to tables and flows; nothing is stored",
		},
		s.effect,
	)
}
