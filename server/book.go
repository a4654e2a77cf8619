package server

import (
	"context"
	"encoding/json"

	"dravin/core/change"
	"dravin/core/design"
	"dravin/core/runbook"
	"dravin/store"
)

// heldBook is an order of work as it was handed out.
type heldBook struct {
	*runbook.Runbook
	Edits map[string][]design.Edit `json:"edits"` // of each step
	Since *runbook.Since           `json:"since"`
	// Owed are steps that are left of what is done by now: what it says at other parties, what it is to take away.
	Owed []runbook.Step `json:"owed"`
	// From is the position at which it began. What was done before is of another work, whatever it was called.
	From int64 `json:"from"`
}

func held(book *runbook.Runbook) *heldBook {
	out := &heldBook{Runbook: book, Edits: map[string][]design.Edit{}, Since: book.Since, Owed: book.Owed}
	for _, x := range book.Steps {
		out.Edits[x.ID] = x.Edits
	}
	return out
}

// heldAt reads an order of work; nil where none was handed out.
func heldAt(b store.Book) (*heldBook, error) {
	if b.Text == nil {
		return nil, nil
	}
	out := &heldBook{}
	if err := json.Unmarshal(b.Text, out); err != nil {
		return nil, err
	}
	for n := range out.Steps {
		out.Steps[n].Edits = out.Edits[out.Steps[n].ID]
	}
	out.Runbook.Since = out.Since
	return out, nil
}

func (h *heldBook) at(position int64) (store.Book, error) {
	text, err := json.Marshal(h)
	return store.Book{Position: position, Text: text}, err
}

// bookOf is the order of all work, or of one change: as it was handed out, less what is done, or written anew where
// something else was done to the design since.
func (s *Server) bookOf(ctx context.Context, v *solved, of change.ID, plan *design.Design) (*heldBook, error) {
	kept, err := s.store.BookOf(ctx, v.info.ID, of)
	if err != nil {
		return nil, err
	}
	before, err := heldAt(kept)
	if err != nil || before != nil && kept.Position == v.info.Position {
		return before, err
	}
	var since *runbook.Since
	var owed []runbook.Step
	from := int64(0)
	if before != nil {
		since, owed, from = before.Since, before.Owed, before.From
		only, err := s.store.OnlyTicks(ctx, v.info.ID, kept.Position)
		switch {
		case err != nil:
			return nil, err
		case only:
		case len(before.Steps) == 0:
			since = nil // all of that work is done, and this is other work
			edited, err := s.store.Edited(ctx, v.info.ID, kept.Position)
			if err != nil {
				return nil, err
			}
			if edited {
				from = v.info.Position
			}
		default:
			since = since.Anew()
		}
	}
	has, err := s.store.Loaded(ctx, v.info.ID)
	if err != nil {
		return nil, err
	}
	book, err := queued(ctx, s.plans, func() (*runbook.Runbook, error) {
		return runbook.Of(ctx, v.on(design.Built).all.Proofs, plan, has, owed, since)
	})
	if err != nil {
		return nil, err
	}
	out := held(book)
	out.From = from
	b, err := out.at(v.info.Position)
	if err != nil {
		return nil, err
	}
	return out, s.store.KeepBook(ctx, v.info.ID, of, b)
}

// without is the order of work once a step is done, at the position that this leads to. Where it is not the first, what
// is left is written anew.
func (h *heldBook) without(step string, position int64) (store.Book, error) {
	out := *h
	book := *h.Runbook
	out.Runbook, book.Steps, out.Owed = &book, []runbook.Step{}, nil
	for _, x := range append(h.Also(step), h.Owed...) {
		if x.ID != step {
			out.Owed = append(out.Owed, x)
		}
	}
	// What it brings is not known to the others.
	first := len(h.Steps) > 0 && h.Steps[0].ID == step && h.Steps[0].Needs == ""
	for _, x := range h.Steps {
		if x.ID != step {
			book.Steps = append(book.Steps, x)
		}
	}
	if !first {
		position--
	}
	return out.at(position)
}
