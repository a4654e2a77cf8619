// Package finding gathers what is wrong or risky in a design in one form,
// each with the edits that would mend it.
package finding

import (
	"cmp"
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/overlap"
	"dravin/core/prefix"
	"dravin/core/proof"
	"dravin/core/route"
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

var severities = []Severity{Broken, Risk, Untidy, Settled}

// Mend is a change that would end a finding.
type Mend struct {
	Title string        `json:"title"`
	Edits []design.Edit `json:"edits"`
}

// Finding is one thing to know.
type Finding struct {
	Code     string      `json:"code"` // stable; docs/findings.md lists them
	Severity Severity    `json:"severity"`
	Subjects []design.ID `json:"subjects"`
	Sentence string      `json:"sentence"`
	Evidence []string    `json:"evidence"`
	Mends    []Mend      `json:"mends"`
	Group    string      `json:"group,omitempty"` // the overlap group's key, for code overlap
	Stop     walk.Code   `json:"stop,omitempty"`  // what stops the flow, for code intent
	Link     design.ID   `json:"link,omitempty"`  // the link, circuit, peering or attachment that it is about
}

// ahead bounds the groups whose remedies are worked out at once.
const ahead = 5

// All returns every finding of a design, worst first.
func All(d *design.Design) []Finding {
	groups := overlap.Find(d)
	results := proof.Intents(route.Solve(d))
	out := []Finding{}
	proposals := map[string][]translate.Proposal{}
	for _, g := range groups {
		// Remedies are worked out ahead only where something is broken; for the
		// others they are made when asked for.
		if g.Weight == overlap.Breaks && len(proposals) < ahead {
			proposals[g.Key] = translate.ForGroup(d, g)
		}
		out = append(out, ofGroup(g, proposals[g.Key]))
	}
	for _, r := range results {
		if !r.Holds {
			out = append(out, ofIntent(d, r, groups, proposals))
		}
	}
	out = append(out, ofReserved(d)...)
	for _, l := range d.Of(design.KindLink) {
		out = append(out, ofLink(d, l)...)
	}
	for _, n := range d.Of(design.KindNetwork) {
		out = append(out, ofTables(d, n)...)
	}
	out = slices.Concat(out, ofLinks(d), ofJoins(d))
	for n := range out {
		out[n].Link = joinOf(d, out[n].Subjects)
	}
	return Sorted(out)
}

// joinOf is the link, circuit, peering or attachment that the first subject is
// or belongs to, empty if it is none's.
func joinOf(d *design.Design, subjects []design.ID) design.ID {
	if len(subjects) == 0 {
		return ""
	}
	for o := d.Get(subjects[0]); o != nil; o = d.Get(o.Parent) {
		switch o.Kind {
		case design.KindLink, design.KindCircuit, design.KindPeering, design.KindAttachment:
			return o.ID
		}
	}
	return ""
}

// Sorted puts findings in order, worst first.
func Sorted(list []Finding) []Finding {
	slices.SortStableFunc(list, func(a, b Finding) int {
		return cmp.Compare(slices.Index(severities, a.Severity), slices.Index(severities, b.Severity))
	})
	return list
}

func ofGroup(g overlap.Group, proposals []translate.Proposal) Finding {
	f := Finding{Code: "overlap", Sentence: g.Sentence, Subjects: []design.ID{}, Evidence: []string{}, Mends: []Mend{}, Group: g.Key}
	f.Severity = map[overlap.Weight]Severity{overlap.Breaks: Broken, overlap.Joined: Risk, overlap.Planned: Risk, overlap.Apart: Untidy, overlap.Divided: Untidy, overlap.Within: Risk, overlap.Answered: Settled}[g.Weight]
	for _, c := range g.Claims {
		f.Subjects = append(f.Subjects, c.Owner)
		f.Evidence = append(f.Evidence, c.Title+" "+c.Prefix.String())
	}
	for _, p := range proposals {
		// A remedy that leaves every touched intent as it was mends nothing.
		if p.Holding > proof.Holding(p.Before) || len(g.Intents) == 0 {
			f.Mends = append(f.Mends, mendOf(p))
		}
	}
	return f
}

func mendOf(p translate.Proposal) Mend {
	title := fmt.Sprintf("%s; afterwards %d of %d intents hold", p.Title, p.Holding, p.Total)
	return Mend{Title: title, Edits: p.Edits}
}

func ofIntent(d *design.Design, r proof.Result, groups []overlap.Group, proposals map[string][]translate.Proposal) Finding {
	f := Finding{Code: "intent", Severity: Broken, Subjects: []design.ID{r.Intent}, Evidence: []string{}, Mends: []Mend{}}
	switch stop := r.Proof.Stop; {
	case r.Error != "":
		f.Sentence = fmt.Sprintf("%q can not be walked: %s", r.Name, r.Error)
	case r.Never:
		f.Sentence = fmt.Sprintf("%q must never work, and it does", r.Name)
	default:
		f.Sentence = fmt.Sprintf("%q does not work: %s", r.Name, stop.Why)
		f.Stop = stop.Code
		f.Evidence = append(f.Evidence, "stopped on the way "+map[string]string{"forward": "there", "reply": "back"}[stop.Way]+" at "+stop.At.Title, stop.Mend)
		f.Subjects = append(f.Subjects, stop.At.ID)
		f.Mends = append(f.Mends, mendsFor(r.Intent, groups, proposals)...)
	}
	return f
}

// mendsFor are the proposals that would make an intent hold.
func mendsFor(intent design.ID, groups []overlap.Group, proposals map[string][]translate.Proposal) []Mend {
	var out []Mend
	for _, g := range groups {
		for _, p := range proposals[g.Key] {
			if slices.ContainsFunc(p.After, func(r proof.Result) bool { return r.Intent == intent && r.Holds }) {
				out = append(out, mendOf(p))
			}
		}
	}
	return out
}

// ofReserved finds ranges that a standard sets aside for something else, and
// inside addresses of tunnels that somebody holds.
func ofReserved(d *design.Design) []Finding {
	var out []Finding
	severity := Risk
	note := func(code string, subject design.ID, sentence string, args ...any) {
		out = append(out, Finding{Code: code, Severity: severity, Subjects: []design.ID{subject}, Evidence: []string{}, Mends: []Mend{}, Sentence: fmt.Sprintf(sentence, args...)})
	}
	claims := overlap.Claims(d)
	for _, c := range claims {
		if s, ok := prefix.Reserved(c.Prefix); ok && c.Kind != design.KindReservation {
			severity = Risk
			if s.Name == "documentation" { // plans and examples are made of it
				severity = Untidy
			}
			note("reserved-range", c.Owner, "%s %s lies in %s, which %s sets aside for %s", c.Title, c.Prefix, s.Prefix, s.RFC, s.Name)
		}
	}
	var space prefix.Table[overlap.Claim]
	for _, c := range claims {
		space.Add(c.Prefix, c)
	}
	for _, o := range d.Of(design.KindTunnel) {
		for _, inside := range o.Body.(*design.Tunnel).Inside {
			for _, c := range space.Matches(inside.Addr()) {
				severity = Risk
				note("inside-address-taken", o.ID, "the inside address %s of %s, %s lies in %s %s", inside.Addr(), d.Title(o.Parent), o.Name, c.Title, c.Prefix)
			}
		}
	}
	return out
}

func ofLink(d *design.Design, o *design.Object) []Finding {
	var out []Finding
	l := o.Body.(*design.Link)
	if len(d.Inside(o.ID, design.KindTunnel)) == 0 {
		out = append(out, Finding{Code: "link-down", Severity: Risk, Subjects: []design.ID{o.ID}, Evidence: []string{}, Mends: []Mend{},
			Sentence: o.Name + " has no tunnel and carries nothing"})
	}
	if l.Routing != design.RoutingSelectors {
		return out
	}
	a, b := l.Ends[0], l.Ends[1]
	if negotiate.SameSet(a.Local, b.Remote) && negotiate.SameSet(a.Remote, b.Local) {
		return out
	}
	mirrored := *l
	mirrored.Ends = []design.End{a, {Gateway: b.Gateway, Local: a.Remote, Remote: a.Local}}
	return append(out, Finding{Code: "selectors-differ", Severity: Risk, Subjects: []design.ID{o.ID},
		Sentence: fmt.Sprintf("the selectors of %s do not mirror each other, so only what both ends name gets through", o.Name),
		Evidence: []string{
			fmt.Sprintf("%s has local %v, remote %v", d.Title(a.Gateway), a.Local, a.Remote),
			fmt.Sprintf("%s has local %v, remote %v", d.Title(b.Gateway), b.Local, b.Remote)},
		Mends: []Mend{{Title: "Mirror the selectors of " + d.Title(a.Gateway), Edits: []design.Edit{design.PutEdit(o.With(&mirrored))}}}})
}

// ofTables finds entries that some of a network's tables in use have and
// others lack: the one of six that was not edited.
func ofTables(d *design.Design, network *design.Object) []Finding {
	var out []Finding
	tables := d.Inside(network.ID, design.KindTable)
	var all []design.Entry
	for _, t := range tables {
		for _, e := range t.Body.(*design.Table).Routes {
			if !slices.Contains(all, e) {
				all = append(all, e)
			}
		}
	}
	for _, t := range tables {
		body := *t.Body.(*design.Table)
		var lacking []string
		for _, e := range all {
			if !slices.ContainsFunc(body.Routes, func(have design.Entry) bool { return have.Prefix == e.Prefix }) {
				lacking = append(lacking, e.Prefix.String())
				body.Routes = append(slices.Clone(body.Routes), e)
			}
		}
		if len(lacking) == 0 {
			continue
		}
		out = append(out, Finding{Code: "table-lacks-route", Severity: Risk, Subjects: []design.ID{t.ID}, Evidence: lacking,
			Sentence: fmt.Sprintf("%s lacks %d of the routes that the network's other tables have", d.Title(t.ID), len(lacking)),
			Mends:    []Mend{{Title: "Add what is missing to " + d.Title(t.ID), Edits: []design.Edit{design.PutEdit(t.With(&body))}}}})
	}
	return out
}
