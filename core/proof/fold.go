package proof

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"dravin/core/design"
)

// By is what the lines of a matrix stand for.
type By string

// What lines may stand for, from the finest.
const (
	ByHost    By = "host"
	ByPlace   By = "place"
	ByGroup   By = "group"
	ByParty   By = "party"
	BySegment By = "segment"
	ByOwner   By = "owner"
)

// Bys are all, in that order.
var Bys = []By{ByHost, ByPlace, ByGroup, ByParty, BySegment, ByOwner}

// MostLines is how many lines a matrix may have of which the cells are told one by one.
const MostLines = 1000

// Line is a row and a column of a folded matrix.
type Line struct {
	ID    design.ID `json:"id,omitempty"` // empty: of what is in none
	Title string    `json:"title"`
	Ends  int       `json:"ends"` // how many hosts it stands for
	ends  []int
}

// View is a matrix as it is looked at.
type View struct {
	By       By       `json:"by"`
	Lines    []Line   `json:"lines"`
	Services []string `json:"services"` // those that are counted
	// Rows hold a character for each column: the worst state of the flows of a cell, or, in a comparison, what became
	// of them: g opened, l closed, b both, a point for neither. None are made for more than [MostLines] lines.
	Rows   []string       `json:"rows"`
	Counts map[string]int `json:"counts"` // flows by state, or by what became of them
}

// Lines are the lines of the matrix, folded; of those with one key the first end decides where they stand.
func (m *Matrix) Lines(by By, within design.ID) []Line {
	out := []Line{}
	at := map[design.ID]int{}
	add := func(id design.ID, n int) {
		k, ok := at[id]
		if !ok {
			k = len(out)
			at[id] = k
			out = append(out, Line{ID: id, Title: m.title(id, m.Ends[n])})
		}
		out[k].ends = append(out[k].ends, n)
		out[k].Ends++
	}
	for n, e := range m.Ends {
		if within != "" &&
			!slices.Contains(append([]design.ID{e.ID, e.Place, e.Party, e.Segment, e.Owner}, e.Groups...), within) {
			continue
		}
		keys := e.keys(by)
		for _, id := range keys {
			add(id, n)
		}
	}
	return out
}

// keys are the lines that an end is on.
func (e End) keys(by By) []design.ID {
	if e.host < 0 || by == ByHost {
		return []design.ID{e.ID}
	}
	switch by {
	case ByPlace:
		return []design.ID{e.Place}
	case ByGroup:
		if len(e.Groups) > 0 {
			return e.Groups
		}
		return []design.ID{""}
	case BySegment:
		return []design.ID{e.Segment}
	case ByOwner:
		return []design.ID{e.Owner}
	}
	return []design.ID{e.Party}
}

func (m *Matrix) title(id design.ID, e End) string {
	switch {
	case id == "":
		return "in none"
	case id == e.ID:
		return e.Title
	}
	return m.tables.Design.Title(id)
}

// InUse refuses the first of some services that is not in use: the matrix says nothing of it.
func (m *Matrix) InUse(services []string) error {
	used := make([]string, len(m.Services))
	for n, s := range m.Services {
		used[n] = s.String()
	}
	for _, s := range services {
		if !slices.Contains(used, s) {
			return fmt.Errorf(
				"%s is not in use; in use are %s; an intent, or what a host answers, brings another into use", s,
				strings.Join(used, ", "),
			)
		}
	}
	return nil
}

// wanted are the numbers of the services that a person names; all for none.
func (m *Matrix) wanted(services []string) (out []int) {
	for n, s := range m.Services {
		if len(services) == 0 || slices.Contains(services, s.String()) {
			out = append(out, n)
		}
	}
	return out
}

// View folds the matrix. within keeps the ends in a place, party, segment, group or owner; empty keeps all.
func (m *Matrix) View(by By, within design.ID, services []string) View {
	return m.fold(by, within, services, func(v *View, from, to Line, wanted []int) byte {
		worst := none
		for a, b := range pairs(from, to) {
			works, _ := m.Works(a, b)
			for _, s := range wanted {
				st := m.stateOf(a, b, s, works.Has(s))
				v.Counts[string(st)]++
				if worst == none || ranks[st] < ranks[worst] {
					worst = st
				}
			}
		}
		return byte(worst)
	})
}

// none is the state of a cell without flows.
const none State = ' '

// pairs are the ends of two lines that may talk, each with each but itself.
func pairs(from, to Line) iter.Seq2[int, int] {
	return func(yield func(a, b int) bool) {
		for _, a := range from.ends {
			for _, b := range to.ends {
				if a != b && !yield(a, b) {
					return
				}
			}
		}
	}
}

func (m *Matrix) fold(
	by By, within design.ID, services []string, cell func(v *View, from, to Line, wanted []int) byte,
) View {
	v := View{By: by, Lines: m.Lines(by, within), Counts: map[string]int{}, Rows: []string{}, Services: []string{}}
	wanted := m.wanted(services)
	for _, s := range wanted {
		v.Services = append(v.Services, m.Services[s].String())
	}
	for _, from := range v.Lines {
		var row strings.Builder
		for _, to := range v.Lines {
			row.WriteByte(cell(&v, from, to, wanted))
		}
		if len(v.Lines) <= MostLines {
			v.Rows = append(v.Rows, row.String())
		}
	}
	return v
}

// What becomes of the flows of a cell.
const (
	opened = 'g'
	closed = 'l'
	both   = 'b'
)

// Changed is a flow that works in one of two matrices alone.
type Changed struct {
	From      design.ID `json:"from"`
	FromTitle string    `json:"from_title"`
	To        design.ID `json:"to"`
	ToTitle   string    `json:"to_title"`
	Service   string    `json:"service"`
	Works     bool      `json:"works"`            // now
	State     string    `json:"state"`            // now
	Row       design.ID `json:"row,omitempty"`    // the line that it starts on; empty: of what is in none
	Column    design.ID `json:"column,omitempty"` // and that which answers
}

// Against compares the matrix with one before: which flows it has opened, and which closed. Ends that are not in both
// reach nothing where they are not. within is as for View. most bounds the flows that are listed; the counts are of
// all.
func (m *Matrix) Against(before *Matrix, by By, within design.ID, services []string, most int) (View, []Changed) {
	was := map[design.ID]int{}
	for n, e := range before.Ends {
		was[e.ID] = n
	}
	number := map[design.Service]int{}
	for n, s := range before.Services {
		number[s] = n
	}
	changes := []Changed{}
	v := m.fold(by, within, services, func(v *View, from, to Line, wanted []int) byte {
		out := byte('.')
		for a, b := range pairs(from, to) {
			works, _ := m.Works(a, b)
			x, okX := was[m.Ends[a].ID]
			y, okY := was[m.Ends[b].ID]
			for _, s := range wanted {
				k, known := number[m.Services[s]]
				before := okX && okY && known && before.has(x, y, k)
				now := works.Has(s)
				if before == now {
					continue
				}
				what := byte(opened)
				if !now {
					what = closed
				}
				v.Counts[string(what)]++
				if out == '.' || out == what {
					out = what
				} else {
					out = both
				}
				if len(changes) < most {
					f := m.flow(a, b, s)
					changes = append(changes, Changed{
						f.From, f.FromTitle, f.To, f.ToTitle, f.Service, now, f.State, from.ID, to.ID,
					})
				}
			}
		}
		return out
	})
	return v, changes
}

func (m *Matrix) has(from, to, service int) bool {
	works, _ := m.Works(from, to)
	return works.Has(service)
}

// Flow is one flow of a cell.
type Flow struct {
	From      design.ID `json:"from"`
	FromTitle string    `json:"from_title"`
	To        design.ID `json:"to"`
	ToTitle   string    `json:"to_title"`
	Service   string    `json:"service"`
	State     string    `json:"state"`
	Code      string    `json:"code,omitempty"` // of the first service that is stopped between the two
}

// flow is one flow, as it is told.
func (m *Matrix) flow(from, to, service int) Flow {
	works, code := m.Works(from, to)
	state := m.stateOf(from, to, service, works.Has(service))
	f := Flow{
		From: m.Ends[from].ID, FromTitle: m.Ends[from].Title, To: m.Ends[to].ID, ToTitle: m.Ends[to].Title,
		Service: m.Services[service].String(), State: string(state),
	}
	if !works.Has(service) && state != Leaking {
		f.Code = string(code)
	}
	return f
}

// Cell are the flows of a cell of what View shows, worst first, at most so many, and how many there are.
func (m *Matrix) Cell(by By, within, row, column design.ID, services []string, most int) ([]Flow, int, error) {
	var from, to *Line
	lines := m.Lines(by, within)
	for n := range lines {
		if lines[n].ID == row {
			from = &lines[n]
		}
		if lines[n].ID == column {
			to = &lines[n]
		}
	}
	if from == nil || to == nil {
		return nil, 0, fmt.Errorf("there is no such row or column now; fold the matrix again")
	}
	out := []Flow{}
	for a, b := range pairs(*from, *to) {
		for _, s := range m.wanted(services) {
			out = append(out, m.flow(a, b, s))
		}
	}
	slices.SortStableFunc(out, func(a, b Flow) int { return int(ranks[a.State[0]]) - int(ranks[b.State[0]]) })
	return out[:min(most, len(out))], len(out), nil
}

// Worst are the flows that are leaking or missing, worst first, at most so many.
func (m *Matrix) Worst(services []string, most int) []Flow {
	var leaking, missing []Flow
	wanted := m.wanted(services)
	for a := range m.Ends {
		for b := range m.Ends {
			if a == b || !m.from[a].meets(m.to[b]) {
				continue
			}
			for _, s := range wanted {
				switch f := m.flow(a, b, s); State(f.State[0]) {
				case Leaking:
					leaking = append(leaking, f)
				case Missing:
					missing = append(missing, f)
				}
			}
		}
	}
	out := append(leaking, missing...)
	return out[:min(most, len(out))]
}
