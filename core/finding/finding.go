// Package finding gathers what is wrong or risky in a design in one form,
// each with the edits that would fix it.
package finding

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/overlap"
	"dravin/core/passes"
	"dravin/core/plan"
	"dravin/core/prefix"
	"dravin/core/proof"
	"dravin/core/sheet"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/translate"
	"dravin/core/walk"
)

// Severity tells how bad a finding is.
type Severity string

// The severities, worst first.
const (
	Broken  Severity = "broken"  // something that is wanted does not work
	Risk    Severity = "risk"    // it works, or is not wanted yet, and will break
	Untidy  Severity = "untidy"  // harmless as long as nothing changes
	Settled Severity = "settled" // was a conflict, and is answered
)

// Severities are all severities, worst first.
var Severities = []Severity{Broken, Risk, Untidy, Settled}

// Fix is a change that would end a finding.
type Fix struct {
	Title string        `json:"title"`
	Edits []design.Edit `json:"edits"`
}

// Finding is one thing to know.
type Finding struct {
	Key      string      `json:"key"`  // names it among the findings of a design; stable while its subjects stay
	Code     string      `json:"code"` // stable; docs/findings.md lists them
	Severity Severity    `json:"severity"`
	Subjects []design.ID `json:"subjects"`
	Sentence string      `json:"sentence"`
	Evidence []string    `json:"evidence"`
	Fixes    []Fix       `json:"fixes"`           // those that are at hand
	More     bool        `json:"more,omitempty"`  // more of them are worked out when asked for
	Group    string      `json:"group,omitempty"` // the overlap group's key, for code overlap
	Stop     walk.Code   `json:"stop,omitempty"`  // what stops the flow, for code intent
	Link     design.ID   `json:"link,omitempty"`  // the link, circuit, peering or attachment that it is about
	Line     string      `json:"line,omitempty"`  // the line of that one's sheet, by its key

	more func(ctx context.Context, f *Findings) []Fix
}

// Findings are those of a design under a condition. What the changes from one
// design to the next do not touch is not looked at again. Findings may be used by
// many at once.
type Findings struct {
	proofs *proof.Proofs
	today  *proof.Proofs // the same today, where the condition looks at what is built; else nil
	memo   *design.Memo[unit, []Finding]
	groups *design.Memo[string, []overlap.Group]
	claims *design.Memo[string, *prefix.Table[overlap.Claim]]
	needs  *passes.Needs
}

// unit is one check of one object, or of the whole where id is empty.
type unit struct {
	check string
	id    design.ID
}

// Of begins the findings over proofs; today are the same proofs for today, nil
// if that is not to be compared.
func Of(p, today *proof.Proofs) *Findings {
	return &Findings{
		proofs: p, today: today, memo: &design.Memo[unit, []Finding]{}, groups: &design.Memo[string, []overlap.Group]{},
		claims: &design.Memo[string, *prefix.Table[overlap.Claim]]{}, needs: passes.Of(p.Tables()),
	}
}

// Needs are what intents need filters to let pass.
func (f *Findings) Needs() *passes.Needs { return f.needs }

// After are the findings over the proofs of the next design.
func (f *Findings) After(p, today *proof.Proofs, changes *design.Changes) *Findings {
	out := Of(p, today)
	out.memo.After(f.memo, changes)
	out.groups.After(f.groups, changes)
	out.claims.After(f.claims, changes)
	out.needs = f.needs.After(p.Tables(), changes)
	return out
}

// Settle takes over what still holds of the findings before, and lets go of them.
func (f *Findings) Settle() {
	f.memo.Settle()
	f.groups.Settle()
	f.claims.Settle()
	f.needs.Settle()
}

func (f *Findings) design() *design.Design { return f.proofs.Tables().Design }

// All returns every finding, worst first.
func All(p *proof.Proofs) []Finding { return Of(p, nil).All() }

// All returns every finding, worst first.
func (f *Findings) All() []Finding {
	out := []Finding{}
	for _, u := range f.units() {
		out = append(out, f.unit(u)...)
	}
	return Sorted(out)
}

// Fixes are all fixes of a finding: those at hand, and those worked out now. An
// unknown key has none. The error is that of the context, if it ends before.
func (f *Findings) Fixes(ctx context.Context, key string) ([]Fix, error) {
	for _, x := range f.All() {
		if x.Key == key {
			out := f.fixesOf(ctx, x)
			return out, ctx.Err()
		}
	}
	return []Fix{}, nil
}

// fixesOf are those that were worked out until the context ended.
func (f *Findings) fixesOf(ctx context.Context, x Finding) []Fix {
	out := slices.Clone(x.Fixes)
	if x.more != nil {
		out = append(out, x.more(ctx, f)...)
	}
	return out
}

// unit does one check, from memory if nothing has changed that it looked at.
func (f *Findings) unit(u unit) []Finding {
	return f.memo.Get(f.design(), u, func(view *design.Design) []Finding {
		watched := &Findings{proofs: f.proofs.Watched(view), memo: f.memo, groups: f.groups, claims: f.claims,
			needs: f.needs.Watched(f.proofs.Tables().Watched(view))}
		if f.today != nil {
			watched.today = f.today.Watched(view.Built())
		}
		t := watched.proofs.Tables()
		c := &collector{design: view, findings: watched, tables: t, st: t.Status}
		for _, k := range checks {
			if k.name == u.check {
				k.do(c, view.Get(u.id))
			}
		}
		for n := range c.out {
			x := &c.out[n]
			x.Link = joinOf(view, x.Subjects)
			x.Key = x.Code
			for _, id := range x.Subjects {
				x.Key += "-" + string(id)
			}
			x.Key += "-" + x.Group + x.Line
			x.More = x.more != nil
		}
		return c.out
	})
}

// check looks at every object of a kind, or once at the whole where there is
// none.
type check struct {
	name string
	kind design.Kind
	do   func(c *collector, o *design.Object)
}

var checks = []check{
	{"overlaps", "", (*collector).overlaps},
	{"intent", design.KindIntent, (*collector).intent},
	{"reserved", "", (*collector).reserved},
	{"inside-taken", design.KindTunnel, (*collector).insideTaken},
	{"link", design.KindLink, (*collector).link},
	{"tables", design.KindNetwork, (*collector).hostTables},
	{"inside-twice", "", (*collector).insideTwice},
	{"session", design.KindSession, (*collector).session},
	{"asns", "", (*collector).asns},
	{"gateway", design.KindGateway, (*collector).gateway},
	{"LANs of a gateway", design.KindGateway, (*collector).apart},
	{"faults of a box", design.KindBox, (*collector).faults},
	{"chance at a gateway", design.KindGateway, (*collector).chance},
	{"chance in a table", design.KindTable, (*collector).chance},
	{"chance in a hub table", design.KindHubTable, (*collector).chance},
	{"chance at an edge router", design.KindEdgeRouter, (*collector).chance},
	{"expected on a link", design.KindLink, (*collector).expected},
	{"expected on a circuit", design.KindCircuit, (*collector).expected},
	{"beaten at a gateway", design.KindGateway, (*collector).beaten},
	{"beaten in a table", design.KindTable, (*collector).beaten},
	{"one way", design.KindGateway, (*collector).oneWay},
	{"entries of a table", design.KindTable, (*collector).entries},
	{"entries of a gateway", design.KindGateway, (*collector).entries},
	{"entries of a hub table", design.KindHubTable, (*collector).entries},
	{"summaries of a gateway", design.KindGateway, (*collector).summaries},
	{"summaries of an edge router", design.KindEdgeRouter, (*collector).summaries},
	{"troubles", "", (*collector).troubles},
	{"segments", "", (*collector).segmentsMeet},
	{"peering", design.KindPeering, (*collector).peering},
	{"circuit", design.KindCircuit, (*collector).circuit},
	{"attachment", design.KindAttachment, (*collector).attachment},
	{"hub", design.KindHub, (*collector).box},
	{"edge router", design.KindEdgeRouter, (*collector).box},
	{"request", design.KindRequest, (*collector).request},
	{"site", design.KindSite, (*collector).oneGateway},
	{"host", design.KindEndpoint, (*collector).givenOut},
	{"table-limit", design.KindTable, (*collector).tableLimit},
	{"hub-table-limit", design.KindHubTable, (*collector).tableLimit},
	{"session-limit", design.KindSession, (*collector).sessionLimit},
	{"profiles", "", (*collector).profiles},
	{"offered", "", (*collector).isOffered},
	{"translations of a gateway", design.KindGateway, (*collector).translations},
	{"translations of a box", design.KindBox, (*collector).translations},
	{"mapping", design.KindMapping, (*collector).mapped},
	{"published service", design.KindListener, (*collector).publishedService},
	{"pools", "", (*collector).pools},
	{"unneeded translations", "", (*collector).unneeded},
	{"filters", "", (*collector).filters},
	{"outsiders", "", (*collector).outsiders},
	{"names", design.KindNames, (*collector).names},
	{"crossings", design.KindCrossing, (*collector).crossing},
	{"crossed services", design.KindListener, (*collector).crossedService},
	{"crossed mappings", design.KindMapping, (*collector).crossedMapping},
}

// units are all checks of all objects.
func (f *Findings) units() []unit {
	var out []unit
	for _, k := range checks {
		if k.kind == "" {
			out = append(out, unit{k.name, ""})
			continue
		}
		for _, o := range f.design().Of(k.kind) {
			out = append(out, unit{k.name, o.ID})
		}
	}
	return out
}

// joinOf is the link, circuit, peering or attachment that the first subject is
// or belongs to, empty if it is none's.
func joinOf(d *design.Design, subjects []design.ID) design.ID {
	if len(subjects) == 0 {
		return ""
	}
	for o := d.Get(subjects[0]); o != nil; o = d.Get(o.Parent) {
		if topology.KindOf(o) != nil {
			return o.ID
		}
	}
	return ""
}

// Sorted puts findings in order, worst first.
func Sorted(list []Finding) []Finding {
	slices.SortStableFunc(list, func(a, b Finding) int {
		return cmp.Compare(slices.Index(Severities, a.Severity), slices.Index(Severities, b.Severity))
	})
	return list
}

func (c *collector) overlaps(*design.Object) {
	for _, g := range c.findings.Groups() {
		c.out = append(c.out, ofGroup(g))
	}
}

func ofGroup(g overlap.Group) Finding {
	f := Finding{
		Code: "overlap", Sentence: g.Sentence, Subjects: []design.ID{}, Evidence: []string{}, Fixes: []Fix{},
		Group: g.Key,
	}
	f.Severity = map[overlap.Weight]Severity{
		overlap.Breaks: Broken, overlap.Joined: Risk, overlap.Planned: Risk, overlap.Apart: Untidy,
		overlap.Divided: Untidy, overlap.Within: Risk, overlap.Answered: Settled,
	}[g.Weight]
	for _, c := range g.Claims {
		f.Subjects = append(f.Subjects, c.Owner)
		f.Evidence = append(f.Evidence, c.Title+" "+c.Prefix.String())
	}
	if g.Weight == overlap.Breaks {
		f.more = func(ctx context.Context, all *Findings) []Fix { return all.remedies(ctx, g) }
	}
	return f
}

// remedies are the plans that would let more of a group's intents hold.
func (f *Findings) remedies(ctx context.Context, g overlap.Group) []Fix {
	return f.planned(ctx, plan.Question{Places: translate.OfGroup(g).Places}, func(o plan.Option) bool {
		return o.Holding > o.Held || len(g.Intents) == 0
	})
}

// mostPlanned is how many plans are offered as fixes.
const mostPlanned = 8

// planned are the options of a plan that change something, break nothing and help.
func (f *Findings) planned(ctx context.Context, q plan.Question, helps func(plan.Option) bool) []Fix {
	var out []Fix
	p, err := plan.For(ctx, f.proofs, q, nil)
	if err != nil {
		return nil // whoever asked looks at the context
	}
	for _, o := range p.Options {
		if len(o.Edits) > 0 && o.Refused == "" && helps(o) && len(out) < mostPlanned {
			title := fmt.Sprintf("%s; afterwards %d of %d intents hold", o.Title, o.Holding, o.Total)
			out = append(out, Fix{Title: title, Edits: o.Edits})
		}
	}
	return out
}

// intent tells of an intent that does not hold, or that holds only once all is
// built.
func (c *collector) intent(o *design.Object) {
	r := c.findings.proofs.Intent(o.ID)
	if r.Holds {
		c.notYet(r)
		c.metered(r)
		return
	}
	f := c.add("intent", Broken, o.ID, nil, "")
	switch stop := r.Stop(); {
	case r.Error != "":
		f.Sentence = fmt.Sprintf("%q can not be walked: %s", r.Name, r.Error)
		f.more = func(ctx context.Context, all *Findings) []Fix { return all.fixesFor(ctx, r.Intent) }
	case r.Undecided:
		f.Sentence = fmt.Sprintf("%q is not decided: %s", r.Name, r.Slow)
	case r.Slow != "":
		f.Sentence = fmt.Sprintf("%q is too slow: %s", r.Name, r.Slow)
	case r.Without != "":
		f.Sentence = fmt.Sprintf(
			"%q must survive any single failure, and does not work without %s: %s", r.Name, r.WithoutTitle, stop.Why,
		)
		f.Stop = stop.Code
		f.Subjects = append(f.Subjects, r.Without)
		f.more = func(ctx context.Context, all *Findings) []Fix { return all.fixesFor(ctx, r.Intent) }
	case r.Never:
		f.Sentence = fmt.Sprintf("%q must never work, and it is delivered: %s", r.Name, r.Leak())
		f.more = func(ctx context.Context, all *Findings) []Fix { return all.guards(ctx, r) }
	default:
		f.Sentence = fmt.Sprintf("%q does not work: %s", r.Name, stop.Why)
		f.Stop = stop.Code
		f.Evidence = append(
			f.Evidence,
			"stopped on the way "+map[string]string{"forward": "there", "reply": "back"}[stop.Way]+" at "+stop.At.Title,
			stop.Fix,
		)
		f.Subjects = append(f.Subjects, stop.At.ID)
		if stop.Subject != "" && !slices.Contains(f.Subjects, stop.Subject) {
			f.Subjects = append(f.Subjects, stop.Subject)
		}
		f.Line = stop.Line
		f.Fixes = append(f.Fixes, c.lineFixes(stop.Subject, stop.Line)...)
		if len(f.Fixes) == 0 {
			f.more = func(ctx context.Context, all *Findings) []Fix { return all.fixesFor(ctx, r.Intent) }
		}
	}
}

// notYet tells of what works when all is built, and not today.
func (c *collector) notYet(r proof.Result) {
	if c.findings.today == nil || r.Never {
		return
	}
	if now := c.findings.today.Intent(r.Intent); !now.Holds && now.Stop() != nil {
		stop := now.Stop()
		f := c.add(
			"intent-not-today", Untidy, r.Intent, nil, "%q works when all is built, and not today: %s", r.Name,
			stop.Why,
		)
		f.Stop, f.Line = stop.Code, stop.Line
		if s := stop.Subject; s != "" {
			f.Subjects = append(f.Subjects, s)
		}
		f.Fixes = append(f.Fixes, c.built(stop)...)
	}
}

// lineFixes are the fixes of the line of a sheet that keeps something down.
func (c *collector) lineFixes(subject design.ID, line string) []Fix {
	o := c.design.Get(subject)
	if o == nil || line == "" {
		return nil
	}
	for _, l := range sheet.LinesOf(c.design, o) {
		if l.Key == line {
			return fixesOf(l)
		}
	}
	return nil
}

// fixesFor are the plans by which an intent would hold.
func (f *Findings) fixesFor(ctx context.Context, intent design.ID) []Fix {
	return f.planned(ctx, plan.Question{Intents: []design.ID{intent}}, func(o plan.Option) bool {
		return o.Holds[intent]
	})
}

// reserved finds ranges that a standard sets aside for something else.
func (c *collector) reserved(*design.Object) {
	for _, x := range overlap.Claims(c.design) {
		if s, ok := prefix.Reserved(x.Prefix); ok && x.Kind != design.KindReservation {
			severity := Risk
			if s.Name == "documentation" { // plans and examples are made of it
				severity = Untidy
			}
			c.add(
				"reserved-range", severity, x.Owner, nil, "%s %s lies in %s, which %s sets aside for %s", x.Title,
				x.Prefix, s.Prefix, s.RFC, s.Name,
			)
		}
	}
}

// givenOut finds hosts whose addresses their LAN may give to others.
func (c *collector) givenOut(o *design.Object) {
	for _, a := range o.Body.(*design.Endpoint).Addresses {
		if given := allocation.GivenOut(c.design, o.Parent); prefix.Has(given, a) {
			c.add(
				"address-given-out", Risk, o.ID, nil, "%s has %s, which %s gives out to others", title(c.design, o), a,
				c.design.Title(o.Parent),
			)
		}
	}
}

// insideTaken finds inside addresses of a tunnel that somebody holds.
func (c *collector) insideTaken(o *design.Object) {
	space := c.findings.claims.Get(c.design, "", claimsOf)
	for _, inside := range o.Body.(*design.Tunnel).Inside {
		for _, x := range space.Matches(inside.Addr()) {
			c.add(
				"inside-address-taken", Risk, o.ID, nil, "the inside address %s of %s lies in %s %s", inside.Addr(),
				title(c.design, o), x.Title, x.Prefix,
			)
		}
	}
}

// link finds what keeps a link's tunnels from coming up or from staying up.
func (c *collector) link(o *design.Object) {
	c.out = append(c.out, ofLink(c.design, o)...)
	if !status.Exists(o) {
		return
	}
	tunnels := c.design.Inside(o.ID, design.KindTunnel)
	for _, t := range tunnels {
		c.ends(o, t)
		c.proposals(o, t)
		c.insideAllowed(o, t)
	}
	c.tunnels(o, c.design.Tunnels(o.ID))
	c.bothWait(o)
	c.outgrown(o)
	c.defaultRoute(o)
}

func ofLink(d *design.Design, o *design.Object) []Finding {
	var out []Finding
	l := o.Body.(*design.Link)
	if len(d.Inside(o.ID, design.KindTunnel)) == 0 {
		out = append(
			out,
			Finding{
				Code:     "link-down",
				Severity: Risk,
				Subjects: []design.ID{o.ID},
				Evidence: []string{},
				Fixes:    []Fix{},
				Sentence: o.Name + " has no tunnel and carries nothing",
			},
		)
	}
	if l.Routing != design.RoutingSelectors {
		return out
	}
	a, b := l.Ends[0], l.Ends[1]
	if negotiate.SameSet(a.Local, b.Remote) && negotiate.SameSet(a.Remote, b.Local) {
		return out
	}
	edited := design.Edited(o, func(mirrored *design.Link) {
		mirrored.Ends = []design.End{a, {Gateway: b.Gateway, Local: a.Remote, Remote: a.Local}}
	})
	return append(out, Finding{Code: "selectors-differ", Severity: Risk, Subjects: []design.ID{o.ID},
		Sentence: fmt.Sprintf(
			"the selectors of %s do not mirror each other, so only what both ends name gets through", o.Name,
		),
		Evidence: []string{
			fmt.Sprintf("%s has local %v, remote %v", d.Title(a.Gateway), a.Local, a.Remote),
			fmt.Sprintf("%s has local %v, remote %v", d.Title(b.Gateway), b.Local, b.Remote)},
		Fixes: []Fix{
			{
				Title: "Mirror the selectors of " + d.Title(a.Gateway),
				Edits: []design.Edit{design.PutEdit(edited)},
			},
		}})
}
