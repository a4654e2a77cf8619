package server

import (
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/ingest"
	"dravin/core/passes"
	"dravin/core/route"
	"dravin/core/walk"
)

// PassesView is what may pass at a party, host, group or crossing, held against the intents.
type PassesView struct {
	Of      design.ID       `json:"of,omitempty" doc:"Whose; empty where nothing was asked for: all there are."`
	Title   string          `json:"title"`
	Kind    design.Kind     `json:"kind,omitempty"`
	Filters []passes.Held   `json:"filters"`
	Names   []NamedID       `json:"names" doc:"What the intents are called that rules speak of."`
	Exposed []walk.Exposure `json:"exposed" doc:"What of a party the internet may come to."`
	Could   []CouldHave     `json:"could" doc:"Where a filter can be and none is, as its platform has it."`
	Subject []PassSubject   `json:"subjects" doc:"What there is to look at: those with something missing first."`
}

// CouldHave is a place that can have a filter.
type CouldHave struct {
	At    design.ID     `json:"at"`
	Title string        `json:"title"`
	Kind  string        `json:"kind" doc:"As people call it."`
	Edit  []design.Edit `json:"edits" doc:"What makes one that lets pass exactly what intents need there."`
	Rules int           `json:"rules" doc:"How many rules that are."`
}

// PassSubject is a party, group or crossing with filters.
type PassSubject struct {
	ID       design.ID `json:"id"`
	Title    string    `json:"title"`
	Kind     string    `json:"kind" doc:"As people call it."`
	Filters  int       `json:"filters"`
	Missing  int       `json:"missing" doc:"What intents need and is refused."`
	Unneeded int       `json:"unneeded" doc:"Rules that nothing needs, or that do nothing."`
}

type inPasses struct {
	InView
	Of string `query:"of" maxLength:"128" doc:"A party, host, group, LAN, subnet or crossing, by its ID; left out: all filters."`
}

type inWorked struct {
	InView
	Filter []string `query:"filter,explode" maxItems:"500" doc:"Filters by their IDs; left out: all."`
	Keep   bool     `query:"keep" doc:"Rules that name no intent stay as they are."`
}

// WorkedView is what follows from the intents, with the rules as people read them.
type WorkedView struct {
	passes.Plan
	Texts map[string][2][]string `json:"texts" doc:"By filter: the rules before and after."`
}

// CrossingMatrix is which segment may start what in which.
type CrossingMatrix struct {
	Segments []NamedID      `json:"segments"`
	Cells    []CrossingCell `json:"cells" doc:"Those of pairs with a crossing; nothing passes between others."`
}

// CrossingCell is a crossing, seen from the segment that may start.
type CrossingCell struct {
	From     design.ID   `json:"from"`
	To       design.ID   `json:"to"`
	Crossing design.ID   `json:"crossing"`
	Name     string      `json:"name"`
	Does     string      `json:"does" enum:"open,one-way,services"`
	At       []string    `json:"at" doc:"The boxes and hubs at which it is, by their titles; none: no box carries both."`
	Set      []design.ID `json:"set" doc:"The boxes and hubs that it names; none: wherever one carries both."`
	Note     string      `json:"note"`
	Filters  []NamedID   `json:"filters" doc:"What asks for what crosses: its own, and those of the hubs and boxes."`
}

type rulesIn struct {
	InDesign
	Body struct {
		Text    string `json:"text" minLength:"1" maxLength:"1048576" doc:"What nft list ruleset prints, or a table of rules."`
		Filter  string `json:"filter" maxLength:"128" doc:"The filter that is to have them."`
		Replace bool   `json:"replace,omitempty" doc:"In place of its rules; otherwise after them."`
	}
}

// ReadRules are rules as they were read, for a look before anything is changed.
type ReadRules struct {
	Rules    []RuleLine       `json:"rules"`
	Problems []design.Problem `json:"problems" doc:"Lines that were not understood; they are left out."`
	Default  string           `json:"default" doc:"What the text says of what no rule is for; empty: nothing."`
	Edits    []design.Edit    `json:"edits" doc:"What would bring them in."`
}

// RuleLine is a rule with the line that it came from.
type RuleLine struct {
	Line int    `json:"line"`
	Text string `json:"text"`
}

func (s *Server) passesOperations(api huma.API) {
	view(s, api, "get-passes", "/passes", "What filters let pass, by which rule, against what intents need", passesOf)
	view(
		s, api, "get-worked-filters", "/passes/worked",
		"The fewest rules of filters that let pass exactly what intents need", workedFilters,
	)
	view(
		s, api, "get-crossings", "/crossings", "Which segments may start what in which others",
		func(v *solved, _ *InView) (CrossingMatrix, error) { return crossingMatrix(v.design), nil },
	)
	register(
		api,
		huma.Operation{
			OperationID: "read-rules", Method: http.MethodPost, Path: "/api/designs/{design}/passes/read",
			Summary: "Rules pasted as text, as they would be brought in", MaxBodyBytes: 2 << 20,
		},
		s.readRules,
	)
}

// passKinds are the kinds of which one may ask what passes.
var passKinds = append([]design.Kind{
	design.KindEndpoint, design.KindGroup, design.KindLAN, design.KindInnerRoute, design.KindSubnet,
	design.KindCrossing, design.KindGateway, design.KindBox,
}, design.Parties...)

func passesOf(v *solved, in *inPasses) (PassesView, error) {
	d := v.design
	out := PassesView{Names: []NamedID{}, Exposed: []walk.Exposure{}, Could: []CouldHave{}}
	o := d.Get(design.ID(in.Of))
	if in.Of != "" && (o == nil || !slices.Contains(passKinds, o.Kind)) {
		return out, refused("of", "there is no such party, host, group or crossing now")
	}
	needs := v.all.Findings.Needs()
	out.Subject = subjectsOf(d, needs)
	if o != nil {
		out.Of, out.Title, out.Kind = o.ID, d.Title(o.ID), o.Kind
		if o.Kind == design.KindSite || o.Kind == design.KindNetwork {
			out.Exposed = walk.Exposed(v.tables(), o.ID)
		}
		out.Could = couldHave(v, o)
	}
	out.Filters = needs.Filters(passes.Concerning(d, out.Of))
	seen := map[design.ID]bool{}
	for _, h := range out.Filters {
		for _, side := range h.Sides {
			for _, r := range side.Rules {
				out.named(d, seen, r.Intents...)
				out.named(d, seen, r.For...)
			}
			for _, m := range side.Missing {
				out.named(d, seen, m.Intents...)
			}
		}
	}
	return out, nil
}

func (v *PassesView) named(d *design.Design, seen map[design.ID]bool, ids ...design.ID) {
	for _, id := range ids {
		if !seen[id] {
			seen[id] = true
			v.Names = append(v.Names, NamedID{id, d.Title(id)})
		}
	}
}

// subjectsOf are the parties, groups and crossings with filters, those with something missing first.
func subjectsOf(d *design.Design, needs *passes.Needs) []PassSubject {
	out := []PassSubject{}
	at := map[design.ID]int{}
	for _, h := range needs.Filters(passes.Concerning(d, "")) {
		id := h.Party
		if o := d.Get(h.At); o.Kind == design.KindGroup || o.Kind == design.KindCrossing {
			id = o.ID
		}
		n, ok := at[id]
		if !ok {
			n = len(out)
			at[id] = n
			out = append(out, PassSubject{ID: id, Title: d.Title(id), Kind: design.Word(d.Get(id).Kind)})
		}
		out[n].Filters++
		for _, s := range h.Sides {
			out[n].Missing += len(s.Missing)
			for _, r := range s.Rules {
				if r.Idle {
					out[n].Unneeded++
				}
			}
		}
	}
	slices.SortStableFunc(out, func(a, b PassSubject) int { return b.Missing - a.Missing })
	return out
}

// couldHave are the places of a party, or of what stands in one, that can have a filter and have none.
func couldHave(v *solved, o *design.Object) []CouldHave {
	d := v.design
	places := []*design.Object{o}
	if slices.Contains(design.Parties, o.Kind) {
		places = append(places, d.Inside(o.ID, design.KindGateway, design.KindBox, design.KindSubnet)...)
		for _, place := range d.Inside(o.ID, design.HostPlaces...) {
			places = append(places, d.Inside(place.ID, design.KindEndpoint)...)
		}
	}
	out := []CouldHave{}
	for _, x := range places {
		if len(out) >= mostCould {
			break
		}
		edits, rules, ok := passes.Guard(v.tables(), x.ID)
		if !ok {
			continue
		}
		c := CouldHave{At: x.ID, Title: d.Title(x.ID), Kind: design.Word(x.Kind), Edit: edits, Rules: rules}
		out = append(out, c)
	}
	return out
}

// mostCould bounds how many places are offered.
const mostCould = 12

func workedFilters(v *solved, in *inWorked) (WorkedView, error) {
	w := passes.Wish{Keep: in.Keep}
	for _, id := range in.Filter {
		if o := v.design.Get(design.ID(id)); o == nil || o.Kind != design.KindFilter {
			return WorkedView{}, refused("filter", "there is no such filter now")
		}
		w.Filters = append(w.Filters, design.ID(id))
	}
	out := WorkedView{Plan: v.all.Findings.Needs().FromIntents(w), Texts: map[string][2][]string{}}
	for _, f := range out.Filters {
		out.Texts[string(f.Filter)] = [2][]string{rulesAsRead(v.design, f.Before), rulesAsRead(v.design, f.After)}
	}
	return out, nil
}

func rulesAsRead(d *design.Design, rules []design.FilterRule) []string {
	out := []string{}
	for _, r := range rules {
		out = append(out, passes.RuleWords(d, r))
	}
	return out
}

func crossingMatrix(d *design.Design) CrossingMatrix {
	out := CrossingMatrix{Segments: []NamedID{}, Cells: []CrossingCell{}}
	for _, s := range d.Of(design.KindSegment) {
		out.Segments = append(out.Segments, NamedID{s.ID, s.Name})
	}
	for o, b := range design.Each[design.Crossing](d.Of(design.KindCrossing)) {
		c := CrossingCell{
			From: b.From, To: b.To, Crossing: o.ID, Name: o.Name, Does: b.Does, At: []string{}, Filters: []NamedID{},
			Set: append([]design.ID{}, b.At...), Note: b.Note,
		}
		for _, id := range append(route.CrossedAt(d, o.ID), o.ID) {
			if id != o.ID {
				c.At = append(c.At, d.Title(id))
			}
			for _, f := range d.FiltersAt(id, false) {
				c.Filters = append(c.Filters, NamedID{f.ID, f.Name})
			}
		}
		out.Cells = append(out.Cells, c)
		if b.Does == design.CrossingOpen {
			c.From, c.To = c.To, c.From
			out.Cells = append(out.Cells, c)
		}
	}
	return out
}

func (s *Server) readRules(ctx context.Context, in *rulesIn) (*answer[ReadRules], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	d := v.design
	o := d.Get(design.ID(in.Body.Filter))
	if o == nil || o.Kind != design.KindFilter {
		return nil, s.failed(refused("filter", "there is no such filter now"))
	}
	read := ingest.ReadRules(in.Body.Text)
	out := ReadRules{Rules: []RuleLine{}, Problems: read.Problems, Default: read.Default, Edits: []design.Edit{}}
	directed := d.Directed(o.Body.(*design.PacketFilter))
	now := design.Edited(o, func(f *design.PacketFilter) {
		f.Rules = slices.Clone(f.Rules)
		if in.Body.Replace {
			f.Rules = nil
		}
		for _, r := range read.Rules {
			if !directed {
				r.Rule.Direction = ""
			}
			f.Rules = append(f.Rules, r.Rule)
			out.Rules = append(out.Rules, RuleLine{r.Line, passes.RuleWords(d, r.Rule)})
		}
	})
	edits := []design.Edit{design.PutEdit(now)}
	if len(read.Rules) > 0 {
		for _, p := range d.Refusals(edits) {
			out.Problems = append(out.Problems, p)
		}
		if len(d.Refusals(edits)) == 0 {
			out.Edits = edits
		}
	}
	return answering(out, nil)
}
