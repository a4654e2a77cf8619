package server

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/change"
	"dravin/core/design"
	"dravin/core/runbook"
	"dravin/store"
)

// WorkState is how a change stands.
type WorkState string

// The states of a change.
const (
	workOpen  WorkState = "open"
	workDone  WorkState = "done"
	workAside WorkState = "aside"
	workBack  WorkState = "back"
)

// WorkChange is a named change: a part of the work.
type WorkChange struct {
	store.Named
	State  WorkState   `json:"state" enum:"open,done,aside,back" doc:"Open: something of it is to be done. Done: all is built. Aside: it is out of the plan and can be taken up again. Back: it was taken back."`
	Does   string      `json:"does" doc:"What of it is to be done, in words."`
	Done   int         `json:"done" doc:"Of how many objects all that it plans is built."`
	Of     int         `json:"of" doc:"Of how many objects it plans something."`
	Needs  []change.ID `json:"needs" doc:"Changes without which it can not be done."`
	Needed []change.ID `json:"needed" doc:"Changes that can not be done without it."`
}

// AloneIntent is an intent that a change alone makes otherwise.
type AloneIntent struct {
	Intent design.ID `json:"intent"`
	Name   string    `json:"name"`
	Before bool      `json:"before" doc:"It holds as built."`
	After  bool      `json:"after" doc:"It holds once the change is built, and nothing else."`
	Why    string    `json:"why" doc:"What stops it then; empty if it holds."`
}

// Alone is what a change comes to if it is built, with what it needs, and nothing else is.
type Alone struct {
	With    []change.ID         `json:"with" doc:"Changes that it needs, and that are built with it."`
	Changes []design.Difference `json:"changes" doc:"What becomes of which field."`
	Intents []AloneIntent       `json:"intents" doc:"Those that it makes otherwise."`
	Holds   int                 `json:"holds" doc:"How many hold then."`
	Of      int                 `json:"of" doc:"Of how many of which both ends are there."`
	Cannot  string              `json:"cannot" doc:"Why it can not be built alone; empty if it can."`
}

type inWork struct {
	InDesign
	Change string `path:"change" maxLength:"40" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The change's ID; rest: what no change tells of."`
}

type bookIn struct {
	InDesign
	Body struct {
		Edits []EditIn `json:"edits" minItems:"1" maxItems:"100000"`
	}
}

type workIn struct {
	InDesign
	Change string `path:"change" maxLength:"40" pattern:"^[^\\x00-\\x1f\\x7f]+$" doc:"The change's ID; rest: what no change tells of."`
	Body   struct {
		Base  int64  `json:"base" minimum:"0" maximum:"9007199254740991" doc:"The position that the writer has seen."`
		Do    string `json:"do" enum:"back,aside,up,call" doc:"Take it back, set it aside, take it up again, or call it otherwise."`
		With  bool   `json:"with,omitempty" doc:"With those that need it; else it is refused where there are any."`
		Title string `json:"title,omitempty" maxLength:"200" doc:"What it is called then."`
		Why   string `json:"why,omitempty" maxLength:"2000" doc:"What it is for."`
	}
}

func (s *Server) workOperations(api huma.API) {
	register(api, huma.Operation{
		OperationID: "list-work-changes", Method: http.MethodGet, Path: "/api/designs/{design}/work/changes",
		Summary: "The named changes of which the work consists, the last first",
	}, func(ctx context.Context, in *InDesign) (*answer[[]WorkChange], error) {
		v, err := s.solved.get(ctx, in.Design)
		if err != nil {
			return nil, s.failed(err)
		}
		w, err := s.worksOf(ctx, v)
		if err != nil {
			return nil, s.failed(err)
		}
		return answering(w.list(), nil)
	})
	register(api, huma.Operation{
		OperationID: "get-work-change", Method: http.MethodGet, Path: "/api/designs/{design}/work/changes/{change}",
		Summary: "A change alone: what is built, with it and what it needs, proven",
	}, s.alone)
	register(api, huma.Operation{
		OperationID: "try-runbook", Method: http.MethodPost, Path: "/api/designs/{design}/runbook/try",
		Summary:      "The order of work of edits that are not made yet, as a change of their own; nothing is stored",
		MaxBodyBytes: maxChangeBytes,
	}, s.tryBook)
	register(api, huma.Operation{
		OperationID: "do-work-change", Method: http.MethodPost, Path: "/api/designs/{design}/work/changes/{change}",
		Summary: "Take a change back, set it aside, take it up again, or call it otherwise",
	}, s.doWork)
}

// tryBook is the runbook of edits that are not made yet: of a change of their own.
func (s *Server) tryBook(ctx context.Context, in *bookIn) (*answer[runbook.Runbook], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	edits, err := decode(in.Body.Edits)
	if err != nil {
		return nil, s.failed(err)
	}
	next, _, err := v.design.Apply(v.design.Said(edits))
	if err != nil {
		return nil, s.failed(err)
	}
	_, rows, err := s.store.Works(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	rows = append(rows, change.Row{
		Position: v.info.Position + 1, Changes: []change.ID{store.NewChange}, Act: change.Do,
		Parts: change.Parts(v.design, next, v.design.EditsTo(next)),
	})
	w := parted(next, rows)
	plan, _, _, err := w.plan(store.NewChange)
	if err != nil {
		return nil, refused("edits", "it can not be built alone: "+err.Error())
	}
	has, err := s.store.Loaded(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	book, err := queued(ctx, s.plans, func() (*runbook.Runbook, error) {
		return runbook.Of(ctx, v.on(design.Built).all.Proofs, plan, has, nil, nil)
	})
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(*book, nil)
}

// works are the changes of a design, with what is left of each.
type works struct {
	design *design.Design
	named  []store.Named
	ledger *change.Ledger
	left   map[change.ID][]change.Work
	needs  map[change.ID][]change.ID
	needed map[change.ID][]change.ID
}

func (s *Server) worksOf(ctx context.Context, v *solved) (*works, error) {
	named, rows, err := s.store.Works(ctx, v.info.ID)
	if err != nil {
		return nil, err
	}
	w := parted(v.design, rows)
	w.named = named
	if last, _ := w.ledger.Last(change.Rest); len(w.left[change.Rest]) > 0 || last.Act == change.Aside {
		w.named = slices.Insert(w.named, 0, store.Named{
			ID: change.Rest, Title: "What no change tells of",
			Why: "a design file planned it, or it was said not to be there", At: v.info.UpdatedAt,
		})
	}
	return w, nil
}

// parted is the work of a design by changes, as its journal tells.
func parted(d *design.Design, rows []change.Row) *works {
	w := &works{design: d, ledger: change.Told(rows)}
	w.left = w.ledger.Left(d)
	w.needs = change.Needs(d, w.left)
	w.needed = change.Needed(w.needs)
	return w
}

// list are the changes of which anything is in force, or that can be taken up again, the last first.
func (w *works) list() []WorkChange {
	out := []WorkChange{}
	for _, n := range slices.Backward(w.named) {
		c := WorkChange{
			Named: n, State: workOpen, Does: change.Does(w.design, w.left[n.ID]), Of: w.ledger.Begun(w.design, n.ID),
			Needs: append([]change.ID{}, w.needs[n.ID]...), Needed: append([]change.ID{}, w.needed[n.ID]...),
		}
		last, whole := w.ledger.Last(n.ID)
		left := map[design.ID]bool{}
		for _, x := range w.left[n.ID] {
			left[x.ID] = true
		}
		c.Of = max(c.Of, len(left))
		c.Done = c.Of - len(left)
		switch {
		case len(left) > 0:
		case whole && last.Act == change.Aside:
			c.State = workAside
		case whole:
			c.State = workBack
		case c.Of > 0:
			c.State = workDone
		default:
			continue // all that it has planned was undone, or is another's
		}
		out = append(out, c)
	}
	return out
}

func (w *works) title(id change.ID) string {
	for _, n := range w.named {
		if n.ID == id {
			return n.Title
		}
	}
	return "another change"
}

// plan is the plan of which the work is one change, with what it needs, and nothing else; with the edits over what is
// built.
func (w *works) plan(id change.ID) (plan *design.Design, edits []design.Edit, with []change.ID, err error) {
	all := change.With(w.needs, id)
	edits = change.Only(w.design, w.left, all...)
	plan, err = w.design.Only(edits)
	return plan, edits, all[1:], err
}

// find is nil if there is such a change.
func (w *works) find(id change.ID) error {
	if slices.ContainsFunc(w.named, func(n store.Named) bool { return n.ID == id }) {
		return nil
	}
	return missing("change", "there is no such change now; all of it may be built, or undone")
}

func (s *Server) alone(ctx context.Context, in *inWork) (*answer[Alone], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	w, err := s.worksOf(ctx, v)
	if err != nil {
		return nil, s.failed(err)
	}
	id := change.ID(in.Change)
	if err := w.find(id); err != nil {
		return nil, err
	}
	out := Alone{Intents: []AloneIntent{}, Changes: []design.Difference{}, With: []change.ID{}}
	plan, edits, with, err := w.plan(id)
	out.With = append(out.With, with...)
	if err != nil {
		out.Cannot = err.Error()
		return answering(out, nil)
	}
	for _, e := range edits {
		if x, ok := design.DifferenceOf(v.design.Built(), plan, e.ID); ok {
			out.Changes = append(out.Changes, x)
		}
	}
	after, err := v.trial(design.Built, onBuilt(edits))
	if err != nil {
		return nil, s.failed(err)
	}
	before := v.on(design.Built)
	for _, r := range after.Proofs.All() {
		was := before.all.Proofs.Intent(r.Intent)
		row := AloneIntent{Intent: r.Intent, Name: r.Name, Before: was.Holds, After: r.Holds}
		out.Of++
		if r.Holds {
			out.Holds++
		} else if stop := r.Stop(); stop != nil {
			row.Why = stop.Why
		} else {
			row.Why = r.Error
		}
		if row.Before != row.After {
			out.Intents = append(out.Intents, row)
		}
	}
	return answering(out, nil)
}

func (s *Server) doWork(ctx context.Context, in *workIn) (*answer[store.Info], error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	if v.info.Position != in.Body.Base { // who does it has seen what it does
		return s.commitSet(ctx, in.Design, store.ChangeSet{Base: in.Body.Base, Author: author(ctx)})
	}
	w, err := s.worksOf(ctx, v)
	if err != nil {
		return nil, s.failed(err)
	}
	id := change.ID(in.Change)
	if err := w.find(id); err != nil {
		return nil, err
	}
	if in.Body.Do == "call" {
		return s.callWork(ctx, in)
	}
	set := store.ChangeSet{Base: in.Body.Base, Author: author(ctx), Work: store.Work{Act: change.Act(in.Body.Do)}}
	before, broken := s.store.Before(ctx, in.Design)
	if set.Work.Act == change.Up {
		err = w.up(id, &set, before)
	} else {
		err = w.out(id, &set, before, in.Body.With)
	}
	if err := broken(); err != nil {
		return nil, s.failed(err)
	}
	if err != nil {
		return nil, s.failed(err)
	}
	return s.commitSet(ctx, in.Design, set)
}

func (s *Server) callWork(ctx context.Context, in *workIn) (*answer[store.Info], error) {
	if !design.IsLine(in.Body.Title) || strings.TrimSpace(in.Body.Title) == "" || !design.IsText(in.Body.Why) {
		return nil, refused("title", "give it a title on one line, of plain text")
	}
	if change.ID(in.Change) == change.Rest {
		return nil, refused("title", "what no change tells of has no title of its own")
	}
	info, err := s.store.CallChange(
		ctx, in.Design, in.Body.Base, author(ctx), change.ID(in.Change), in.Body.Title, in.Body.Why,
	)
	if err != nil {
		return nil, s.failed(err)
	}
	return answering(info, nil)
}

// up takes a change up again.
func (w *works) up(id change.ID, set *store.ChangeSet, before change.Before) (err error) {
	last, ok := w.ledger.Last(id)
	if !ok || last.Act != change.Aside {
		return refused("do", w.title(id)+" is not set aside")
	}
	set.Work.Changes, set.Reason = last.Changes, "Take up again: "+w.title(id)
	set.Edits, err = w.ledger.Again(w.design, last, before, w.title)
	return err
}

// out takes a change out of the plan, with those that need it.
func (w *works) out(id change.ID, set *store.ChangeSet, before change.Before, with bool) error {
	if len(w.left[id]) == 0 {
		return refused(
			"do", "nothing of "+w.title(id)+" is left to be done; what is built is taken away as a change of its own",
		)
	}
	all := change.With(w.needed, id)
	if len(all) > 1 && !with {
		return refused("with", "it is needed by "+w.titles(all[1:])+"; take these out with it, or first")
	}
	word := "Take back: "
	if set.Work.Act == change.Aside {
		word = "Set aside: "
	}
	set.Reason, set.Work.Changes = word+w.titles(all), all
	set.Edits, _ = w.ledger.Without(w.design, w.left, before, all...)
	return nil
}

func (w *works) titles(ids []change.ID) string {
	var out []string
	for _, id := range ids {
		out = append(out, w.title(id))
	}
	return strings.Join(out, ", ")
}

// byStep tells of which changes each step is part.
func (w *works) byStep(book *runbook.Runbook) map[string][]change.ID {
	out := map[string][]change.ID{}
	for _, x := range book.Steps {
		of := []change.ID{}
		for _, c := range x.Changes {
			for _, id := range w.ledger.Tells(w.design, c) {
				if !slices.Contains(of, id) {
					of = append(of, id)
				}
			}
		}
		out[x.ID] = of
	}
	for n, x := range book.Steps {
		if len(x.Changes) == 0 {
			out[x.ID] = out[besides(book.Steps, n)]
		}
	}
	return out
}

// besides is the step that a step belongs to which changes nothing that is told: one about the same, or the one before,
// which it follows.
func besides(steps []runbook.Step, n int) string {
	for _, x := range steps {
		if x.Object == steps[n].Object && len(x.Changes) > 0 {
			return x.ID
		}
	}
	for ; n > 0; n-- {
		if len(steps[n].Changes) > 0 {
			break
		}
	}
	return steps[n].ID
}
