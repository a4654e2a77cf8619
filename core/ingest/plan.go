package ingest

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
)

// Outcome is what would become of a line.
type Outcome string

// The outcomes.
const (
	New     Outcome = "new"
	Changed Outcome = "changed"
	Kept    Outcome = "same"
	Refused Outcome = "refused"
)

// Item is one line of a preview.
type Item struct {
	Line    int     `json:"line"` // in the file; for a design file, the object's number in it
	Outcome Outcome `json:"outcome"`
	Subject string  `json:"subject"` // what the line is about
	Why     string  `json:"why"`     // why it is refused, what changes, or what was understood
	// Cells are those of a line that is refused, as they stand, to be mended.
	Cells []string `json:"cells,omitempty"`

	object design.ID
	said   []string // what was understood that is not as it is written
}

// Plan is what bringing a table into a design would do. Nothing is done yet.
type Plan struct {
	Format  string          `json:"format"`
	Sheets  []string        `json:"sheets"`
	Sheet   string          `json:"sheet"`
	Header  []string        `json:"header"`
	Columns []Column        `json:"columns"` // what each column of the header is taken for
	Items   []Item          `json:"items"`   // in the order of the file
	Counts  map[Outcome]int `json:"counts"`
	// Notes are what was passed over or understood of the file as a whole, in sentences.
	Notes    []string `json:"notes"`
	Encoding string   `json:"encoding"` // of text; empty for what is none
	// Encodings are those that text may be said to be in, in order.
	Encodings []string `json:"encodings"`
	// Asks are what must be said for lines that are refused: party, whose they are.
	Asks []string `json:"asks"`
	// Hosts is how many lines give a host's address where a range should be.
	Hosts int           `json:"hosts"`
	Edits []design.Edit `json:"-"` // of all lines that are not refused
}

// How directs the making of a plan.
type How struct {
	Columns []Column       // what the columns mean; nil: told by the header and by what they hold
	Party   string         // whose the lines are that do not say
	Only    func(int) bool // takes only the lines for which it is true; nil: all
	// RefuseHosts refuses a host's address with a length; else the range that holds it is taken.
	RefuseHosts bool
	// Mended are the cells of lines that a person mended, by line; they take the place of what the file says.
	Mended map[int][]string
}

// Make works out what a table would do to a design. It stops when ctx ends.
func Make(ctx context.Context, d *design.Design, t *Table, how How) (*Plan, error) {
	p := &Plan{
		Format: t.Format, Sheets: orEmpty(t.Sheets), Sheet: t.Sheet, Header: orEmpty(t.Header), Columns: how.Columns,
		Items: []Item{}, Counts: map[Outcome]int{}, Notes: orEmpty(t.Notes), Encoding: t.Encoding, Encodings: Encodings(),
		Asks: []string{},
	}
	if len(p.Columns) != len(t.Header) {
		p.Columns = GuessBy(t.Header, t.Rows)
	}
	p.Notes = append(p.Notes, unread(t.Header, p.Columns, t.Rows)...)
	m := newMaker(d, p, how)
	var err error
	if t.Design != nil {
		m.filed = true
		err = m.designFile(t.Design)
	} else {
		err = m.rows(ctx, t)
	}
	if err != nil {
		return nil, err
	}
	if err := m.settle(ctx); err != nil {
		return nil, err
	}
	for _, i := range p.Items {
		p.Counts[i.Outcome]++
	}
	return p, nil
}

func orEmpty(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// maker collects changed objects on top of a design.
type maker struct {
	design  *design.Design
	plan    *Plan
	how     How
	objects map[design.ID]*design.Object // changed or new
	order   []design.ID                  // of objects, as they came
	byPath  map[string]design.ID         // of everything, also what is in the design
	filled  map[design.ID]int            // the line that first filled an object in this run
	seen    map[[16]byte]int             // repeated lines, by the hash of what they say
	users   map[design.ID][]int          // items that need an object
	within  map[design.ID][]design.ID    // what a party has
	held    map[holding]design.ID
	holders map[netip.Prefix][]design.ID // parties by the ranges that they have
	above   *record                      // the last row that says whose it is
	filed   bool                         // it comes from a design file, where everything stands for itself
	log     []step                       // what the present line has put, to be taken back if it is refused
}

// step is one object put, with what was there before.
type step struct {
	put, old *design.Object
	path     string
	before   design.ID
	made     bool
}

// takeBack undoes what the present line has put.
func (m *maker) takeBack() {
	for n := len(m.log) - 1; n >= 0; n-- {
		s := m.log[n]
		if s.old == nil {
			delete(m.objects, s.put.ID)
			m.order = slices.DeleteFunc(m.order, func(id design.ID) bool { return id == s.put.ID })
		} else {
			m.objects[s.put.ID] = s.old
		}
		if s.before == "" {
			delete(m.byPath, s.path)
		} else {
			m.byPath[s.path] = s.before
		}
		if list := m.within[s.put.Parent]; s.made && len(list) > 0 {
			m.within[s.put.Parent] = list[:len(list)-1]
		}
	}
	m.log = m.log[:0]
}

// holding is a range that a party has as it is, whatever its name.
type holding struct {
	party  design.ID
	kind   design.Kind
	prefix netip.Prefix
}

func newMaker(d *design.Design, p *Plan, how How) *maker {
	m := &maker{design: d, plan: p, how: how, objects: map[design.ID]*design.Object{}, byPath: map[string]design.ID{},
		filled: map[design.ID]int{}, seen: map[[16]byte]int{}, users: map[design.ID][]int{},
		within: map[design.ID][]design.ID{}, held: map[holding]design.ID{},
		holders: map[netip.Prefix][]design.ID{}}
	for _, o := range d.All() {
		m.byPath[pathKey(o.Kind, o.Parent, o.Name)] = o.ID
		m.within[o.Parent] = append(m.within[o.Parent], o.ID)
		for _, p := range d.Ranges(o.ID) {
			m.held[holding{o.Parent, o.Kind, p}] = o.ID
		}
		if o.Parent != "" {
			m.holds(o.Parent, d.Ranges(o.ID))
		}
	}
	return m
}

func pathKey(k design.Kind, parent design.ID, name string) string {
	return string(k) + "\x00" + string(parent) + "\x00" + design.Slug(name)
}

func (m *maker) get(id design.ID) *design.Object {
	if o := m.objects[id]; o != nil {
		return o
	}
	return m.design.Get(id)
}

func (m *maker) find(k design.Kind, parent design.ID, name string) *design.Object {
	return m.get(m.byPath[pathKey(k, parent, name)])
}

// put takes a new or changed object in.
func (m *maker) put(o *design.Object) {
	old, known := m.objects[o.ID]
	if !known {
		m.order = append(m.order, o.ID)
	}
	path := pathKey(o.Kind, o.Parent, o.Name)
	m.log = append(m.log, step{put: o, old: old, path: path, before: m.byPath[path]})
	m.objects[o.ID] = o
	m.byPath[path] = o.ID
}

// make adds a new object under an ID that nothing has.
func (m *maker) make(k design.Kind, parent design.ID, name string, b design.Body) *design.Object {
	for n := 0; ; n++ {
		id := design.IDFor(k, fmt.Sprintf("%s/%s#%d", parent, design.Slug(name), n))
		if m.get(id) == nil {
			o := &design.Object{ID: id, Kind: k, Parent: parent, Name: name, Body: b}
			m.put(o)
			m.log[len(m.log)-1].made = true
			m.within[parent] = append(m.within[parent], id)
			return o
		}
	}
}

func (m *maker) item(r *record, subject string, object design.ID) {
	i := Item{Line: r.line, Subject: subject, object: object, Cells: r.raw, said: r.said}
	m.plan.Items = append(m.plan.Items, i)
	at := len(m.plan.Items) - 1
	for o := m.get(object); o != nil; o = m.get(o.Parent) {
		m.users[o.ID] = append(m.users[o.ID], at)
	}
}

func (m *maker) refuse(r *record, why error) {
	m.plan.Items = append(
		m.plan.Items, Item{Line: r.line, Subject: subjectOf(r), Why: why.Error(), Outcome: Refused, Cells: r.raw},
	)
}

// asks notes what must be said beside the file.
func (m *maker) asks(what string) {
	if !slices.Contains(m.plan.Asks, what) {
		m.plan.Asks = append(m.plan.Asks, what)
	}
}

// designFile takes a whole design file in: objects are matched by their paths.
func (m *maker) designFile(file []byte) error {
	from, err := design.Read(file)
	if err != nil {
		return err
	}
	ids := map[design.ID]design.ID{}
	for _, o := range from.All() {
		parent := o.Parent
		if known, ok := ids[parent]; ok {
			parent = known
		}
		switch old := m.find(o.Kind, parent, o.Name); {
		case old != nil:
			ids[o.ID] = old.ID
		case m.design.Get(o.ID) != nil: // another thing has that ID
			ids[o.ID] = design.IDFor(o.Kind, "import/"+string(o.ID))
		}
		m.byPath[pathKey(o.Kind, parent, o.Name)] = idOr(ids, o.ID)
	}
	for n, o := range from.All() {
		if m.how.Only != nil && !m.how.Only(n+1) {
			continue
		}
		mapped, err := o.Remap(ids)
		if err != nil {
			return err
		}
		m.put(mapped)
		m.item(&record{line: n + 1}, string(o.Kind)+" "+from.Path(o.ID), mapped.ID)
	}
	return nil
}

func idOr(ids map[design.ID]design.ID, id design.ID) design.ID {
	if other, ok := ids[id]; ok {
		return other
	}
	return id
}

// maxTold bounds the problems for which a whole file is refused.
const maxTold = 100

// settle validates the whole and refuses, again and again, the lines whose
// objects make it invalid, until the rest is valid.
func (m *maker) settle(ctx context.Context) error {
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		m.plan.Edits = m.edits()
		problems := m.design.Refusals(m.plan.Edits)
		if len(problems) == 0 {
			break
		}
		// What was wrong before is no line's fault.
		if before := m.design.Refusals(nil); len(before) > 0 {
			return before[:min(len(before), maxTold)]
		}
		if !m.drop(problems) {
			return problems[:min(len(problems), maxTold)]
		}
	}
	m.dropUnused()
	for n := range m.plan.Items {
		m.outcome(&m.plan.Items[n])
	}
	return nil
}

// dropUnused takes back what was made only for lines that were refused: owners
// and segments that nothing names, parties with nothing in them.
func (m *maker) dropUnused() {
	used := map[design.ID]bool{}
	for _, e := range m.plan.Edits {
		used[e.Object.Parent] = true
		for _, to := range design.RefsOf(e.Object) {
			used[to] = true
		}
	}
	for _, n := range m.plan.Items {
		if n.Outcome != Refused {
			used[n.object] = true
		}
	}
	m.plan.Edits = slices.DeleteFunc(m.plan.Edits, func(e design.Edit) bool {
		if used[e.ID] || m.design.Get(e.ID) != nil || e.Object.Parent != "" || m.filed {
			return false
		}
		m.objects[e.ID] = nil
		return true
	})
}

func (m *maker) edits() []design.Edit {
	out := []design.Edit{}
	for _, id := range m.order {
		o := m.objects[id]
		if o != nil && !(m.design.Get(id) != nil && design.Same(m.design.Get(id), o)) {
			out = append(out, design.PutEdit(o))
		}
	}
	return out
}

// drop takes back the objects that problems name, or whose change they come of,
// and tells whether there were any.
func (m *maker) drop(problems design.Problems) bool {
	dropped := false
	blamed := map[design.ID]bool{} // parents whose objects were all taken back
	for _, p := range problems {
		why := p.Why
		if p.Want != "" {
			why += "; " + p.Want
		}
		if m.objects[p.Object] == nil {
			why = p.Subject + ": " + why // it is another's, and what the line changes is to blame
		}
		for _, id := range m.toBlame(p.Object, blamed) {
			for _, n := range m.users[id] {
				if i := &m.plan.Items[n]; i.Outcome != Refused {
					i.Outcome, i.Why = Refused, why
				}
			}
			m.objects[id] = nil
			dropped = true
			if m.design.Get(id) == nil {
				m.dropInside(id)
			}
		}
	}
	return dropped
}

// toBlame are the objects in this plan that a problem with an object comes of:
// itself, or else what it stands in, or else, once, all that stands beside it.
func (m *maker) toBlame(id design.ID, blamed map[design.ID]bool) []design.ID {
	for at := id; at != ""; {
		if m.objects[at] != nil {
			return []design.ID{at}
		}
		o := m.get(at)
		if o == nil {
			break
		}
		at = o.Parent
	}
	o := m.design.Get(id)
	if o == nil || blamed[o.Parent] {
		return nil
	}
	blamed[o.Parent] = true
	return slices.DeleteFunc(
		slices.Clone(m.within[o.Parent]), func(beside design.ID) bool { return m.objects[beside] == nil },
	)
}

// dropInside takes back what stands in what is gone.
func (m *maker) dropInside(holder design.ID) {
	for _, id := range m.within[holder] {
		if m.objects[id] != nil {
			m.objects[id] = nil
			m.dropInside(id)
		}
	}
}

func (m *maker) outcome(i *Item) {
	if i.Outcome == Refused {
		return
	}
	i.Cells = nil
	if i.Outcome != "" {
		return
	}
	old, now := m.design.Get(i.object), m.objects[i.object]
	switch {
	case old == nil:
		i.Outcome = New
	case now == nil || design.Same(old, now):
		i.Outcome = Kept
	default:
		i.Outcome = Changed
		i.said = append([]string{"changes " + strings.Join(design.Differences(old, now), ", ")}, i.said...)
	}
	i.Why = strings.Join(i.said, "; ")
}
