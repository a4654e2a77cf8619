package server

import (
	"cmp"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/proof"
)

// IntentRow is an intent in the list of all, without its walk.
type IntentRow struct {
	Intent   design.ID `json:"intent"`
	Name     string    `json:"name"`
	Group    string    `json:"group"`
	Owner    string    `json:"owner"`
	Never    bool      `json:"never"`
	Survives bool      `json:"survives"`
	Holds    bool      `json:"holds"`
	Service  string    `json:"service" doc:"Empty: every one."`
	From     string    `json:"from" doc:"Who starts, by title."`
	To       string    `json:"to" doc:"Who must answer, by title."`
	Cause    string    `json:"cause" doc:"Why it does not hold; empty if it does."`
}

type inIntent struct {
	InView
	Intent string `path:"intent" maxLength:"128" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The intent's ID."`
}

// intentRows lists all intents, those that fail first.
func intentRows(v *solved) []IntentRow {
	d := v.design
	out := []IntentRow{}
	for _, r := range v.intents() {
		in := d.Get(r.Intent).Body.(*design.Intent)
		row := IntentRow{
			Intent: r.Intent, Name: r.Name, Group: in.Group, Never: in.Never, Survives: in.Survives, Holds: r.Holds,
			From: d.Title(in.From), To: d.Title(in.To), Cause: causeOf(r),
		}
		if o := d.Get(in.Owner); o != nil {
			row.Owner = o.Name
		}
		if in.Service != (design.Service{}) {
			row.Service = in.Service.String()
		}
		out = append(out, row)
	}
	slices.SortStableFunc(out, func(a, b IntentRow) int { return cmp.Compare(holding(a.Holds), holding(b.Holds)) })
	return out
}

func holding(holds bool) int {
	if holds {
		return 1
	}
	return 0
}

// causeOf is why an intent does not hold, in one sentence.
func causeOf(r proof.Result) string {
	switch {
	case r.Holds:
		return ""
	case r.Error != "":
		return r.Error
	case r.Slow != "":
		return r.Slow
	case r.Never:
		return r.Leak()
	case r.Without != "":
		return "without " + r.WithoutTitle + ": " + r.Failed.Stop.Why
	}
	return r.Proof.Stop.Why
}

func (s *Server) intentOperations(api huma.API) {
	view(
		s,
		api,
		"list-intents",
		"/intent-list",
		"Every intent without its walk, those that fail first",
		func(v *solved, _ *InView) ([]IntentRow, error) {
			return intentRows(v), nil
		},
	)
	view(
		s,
		api,
		"get-intent",
		"/intents/{intent}",
		"One intent with its proof",
		func(v *solved, in *inIntent) (proof.Result, error) {
			o := v.design.Get(design.ID(in.Intent))
			if o == nil || o.Kind != design.KindIntent {
				return proof.Result{}, refused(
					"intent",
					"there is no such intent now; it may have been removed or undone",
				)
			}
			return v.all.Proofs.Intent(o.ID), nil
		},
	)
}
