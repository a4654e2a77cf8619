package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-chi/chi/v5"

	"dravin/core/design"
	"dravin/core/ingest"
	"dravin/store"
)

// ImportHow is the first part, "how", of an import; the second is the file.
type ImportHow struct {
	Columns     []ingest.Column  `json:"columns,omitempty" doc:"What the columns mean, one for each of the header; left out: told by the header and by what they hold."`
	Party       string           `json:"party,omitempty" doc:"Whose the lines are that do not say."`
	Sheet       string           `json:"sheet,omitempty" doc:"The sheet of a workbook, or * for all; left out: the first."`
	Encoding    string           `json:"encoding,omitempty" doc:"What text is in, such as utf-16le or windows-1252; left out: told by its beginning."`
	RefuseHosts bool             `json:"refuseHosts,omitempty" doc:"Refuses a host's address with a length; left out: the range that holds it is taken."`
	Mended      map[int][]string `json:"mended,omitempty" doc:"The cells of lines that a person mended, by line, in place of what the file says."`
	Only        [][2]int         `json:"only,omitempty" doc:"Takes only these lines, as ranges from and to; left out: all."`
	Planned     bool             `json:"planned,omitempty" doc:"It is planned; left out: what is brought in is there."`
	Accept      bool             `json:"accept,omitempty" doc:"Carries the plan out; left out: a preview."`
	Base        int64            `json:"base,omitempty" minimum:"0" maximum:"9007199254740991" doc:"With accept: the position that the writer has seen."`
	Reason      string           `json:"reason,omitempty" doc:"With accept: what for, in the words of the history."`
}

// ImportStep is one line of the answer to an import. The last one has a plan or
// a problem.
type ImportStep struct {
	Waiting int             `json:"waiting,omitempty" doc:"The place in the queue, 1 for the next; only a few imports run at once."`
	Rows    int             `json:"rows,omitempty" doc:"How many lines have been read so far."`
	Plan    *ingest.Plan    `json:"plan,omitempty"`
	Left    int             `json:"left,omitempty" doc:"How many items of the plan are not listed for want of room."`
	Stored  *store.Info     `json:"stored,omitempty" doc:"With accept: where the design is now."`
	Problem *ProblemDetails `json:"problem,omitempty"`
}

// maxListed bounds the items of a preview that are sent; refused ones go first.
const maxListed = 20_000

const (
	maxReason = 200     // characters
	maxRanges = 200_000 // of lines
	maxMended = 5_000   // lines
)

// importFile answers an upload with a stream of [ImportStep]s, a JSON line
// each, so that a person sees how far it is and can break it off. Only a few run
// at once; the rest wait, and their files are not read meanwhile.
func (s *Server) importFile(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/x-ndjson")
	out := json.NewEncoder(w)
	flusher := http.NewResponseController(w)
	_ = flusher.EnableFullDuplex() // progress is told while the file still comes in
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	send := func(step ImportStep) {
		if err := errors.Join(out.Encode(step), flusher.Flush()); err != nil {
			cancel() // nobody takes the answer
		}
	}
	asked := time.Now()
	step, err := func() (ImportStep, error) {
		leave, err := s.queue.enter(ctx, func(place int) { send(ImportStep{Waiting: place}) })
		if err != nil {
			return ImportStep{}, err
		}
		defer leave()
		s.metrics.queued.Observe(time.Since(asked).Seconds())
		begun := time.Now()
		step, err := s.importUpload(ctx, r, chi.URLParam(r, "design"), func(rows int) { send(ImportStep{Rows: rows}) })
		s.metrics.imports.WithLabelValues(
			map[bool]string{true: "done", false: "refused"}[err == nil],
		).Observe(time.Since(begun).Seconds())
		return step, err
	}()
	if err != nil {
		step = ImportStep{Problem: s.failed(err)}
	}
	send(step)
}

func isImport(r *http.Request) bool { return strings.HasSuffix(r.URL.Path, "/import") }

func (s *Server) importUpload(ctx context.Context, r *http.Request, id string, progress func(int)) (ImportStep, error) {
	form, err := r.MultipartReader()
	if err != nil {
		return ImportStep{}, refused("", "send a form with the parts how and file")
	}
	var how ImportHow
	part, err := form.NextPart()
	if err != nil || part.FormName() != "how" {
		return ImportStep{}, refused("how", "the first part must be how")
	}
	if err := json.NewDecoder(io.LimitReader(part, 4<<20)).Decode(&how); err != nil {
		return ImportStep{}, refused("how", "is not JSON: "+err.Error())
	}
	if err := how.check(); err != nil {
		return ImportStep{}, err
	}
	if part, err = form.NextPart(); err != nil || part.FormName() != "file" {
		return ImportStep{}, refused("file", "the second part must be file")
	}
	plan, err := s.plan(ctx, id, part, how, progress)
	if err != nil {
		return ImportStep{}, err
	}
	if how.Accept {
		return s.acceptPlan(ctx, id, plan, how)
	}
	return listed(plan), nil
}

// check refuses what the API's description does not allow.
func (how *ImportHow) check() error {
	switch {
	case !design.IsLine(how.Reason) || utf8.RuneCountInString(how.Reason) > maxReason:
		return refused(
			"reason",
			fmt.Sprintf(
				"the reason is too long or holds a control character; write at most %d characters of plain text",
				maxReason,
			),
		)
	case !design.IsLine(how.Party) || !design.IsLine(how.Sheet):
		return refused("party or sheet", "it holds a control character; write plain text")
	case how.Encoding != "" && !slices.Contains(ingest.Encodings(), how.Encoding):
		return refused("encoding", "it is not known; send one of "+strings.Join(ingest.Encodings(), ", "))
	case len(how.Mended) > maxMended:
		return refused(
			"mended", fmt.Sprintf("these are too many lines; mend at most %d here, the rest in the file", maxMended),
		)
	case how.Base < 0:
		return refused("base", "there is no position below 0; send the one that you have seen")
	case len(how.Only) > maxRanges ||
		slices.ContainsFunc(how.Only, func(r [2]int) bool { return r[0] < 0 || r[1] < r[0] }):
		return refused("only", "these are no ranges of lines; send pairs of from and to, from 1 on")
	}
	return nil
}

func (s *Server) plan(
	ctx context.Context,
	id string,
	part *multipart.Part,
	how ImportHow,
	progress func(int),
) (*ingest.Plan, error) {
	v, err := s.solved.get(ctx, id)
	if err != nil {
		return nil, err
	}
	table, err := ingest.Read(ctx, part, ingest.Options{Sheet: how.Sheet, Encoding: how.Encoding, Progress: progress})
	if err != nil {
		return nil, importProblem(err)
	}
	plan, err := ingest.Make(ctx, v.design, table, ingest.How{
		Columns: how.Columns, Party: how.Party, Only: only(how.Only), RefuseHosts: how.RefuseHosts, Mended: how.Mended,
	})
	return plan, importProblem(err)
}

// importProblem gives the reader's errors our form.
func importProblem(err error) error {
	var e *ingest.Error
	if errors.As(err, &e) {
		return design.Problems{{Field: "file", Line: e.Line, Column: e.Column, Why: e.Why, Want: e.Want}}
	}
	return err
}

// only tells whether a line is in one of the ranges; nil takes all.
func only(ranges [][2]int) func(int) bool {
	if ranges == nil {
		return nil
	}
	sorted := slices.Clone(ranges)
	slices.SortFunc(sorted, func(a, b [2]int) int { return a[0] - b[0] })
	var apart [][2]int // in order, without overlap
	for _, r := range sorted {
		if n := len(apart); n > 0 && r[0] <= apart[n-1][1] {
			apart[n-1][1] = max(apart[n-1][1], r[1])
			continue
		}
		apart = append(apart, r)
	}
	return func(line int) bool {
		n, found := slices.BinarySearchFunc(apart, line, func(r [2]int, line int) int { return r[0] - line })
		return found || n > 0 && line <= apart[n-1][1]
	}
}

func (s *Server) acceptPlan(ctx context.Context, id string, plan *ingest.Plan, how ImportHow) (ImportStep, error) {
	if len(plan.Edits) == 0 {
		return listed(plan), nil
	}
	reason := how.Reason
	if reason == "" {
		reason = "Bring in a " + plan.Format
	}
	v, err := s.solved.get(ctx, id)
	if err != nil {
		return ImportStep{}, err
	}
	edits := plan.Edits
	if !how.Planned {
		edits = v.design.SaidThere(edits)
	}
	info, err := s.store.Commit(
		ctx, id, store.ChangeSet{Base: how.Base, Author: author(ctx), Reason: reason, Edits: edits},
	)
	if err != nil {
		return ImportStep{}, err
	}
	step := listed(plan)
	step.Stored = &info
	return step, nil
}

func listed(plan *ingest.Plan) ImportStep {
	if len(plan.Items) <= maxListed {
		return ImportStep{Plan: plan}
	}
	short := *plan
	short.Items = nil
	for _, wanted := range [][]ingest.Outcome{{ingest.Refused}, {ingest.Changed}, {ingest.New, ingest.Kept}} {
		for _, i := range plan.Items {
			if len(short.Items) < maxListed && (i.Outcome == wanted[0] || i.Outcome == wanted[len(wanted)-1]) {
				short.Items = append(short.Items, i)
			}
		}
	}
	return ImportStep{Plan: &short, Left: len(plan.Items) - maxListed}
}
