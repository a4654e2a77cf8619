package server

import (
	"bytes"
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/ingest"
	"dravin/core/ledger"
	"dravin/core/proof"
)

type inLedgerFile struct {
	InView
	Format string `query:"format" enum:"csv,xlsx,zone" default:"csv"`
	Viewer string `query:"viewer" maxLength:"128" doc:"The ID of the party that looks; left out: every party. A zone file needs one."`
	Origin string `query:"origin" maxLength:"200" default:"internal" doc:"The origin of zone files."`
}

type inLedgerView struct {
	InView
	Viewer string `query:"viewer" required:"true" maxLength:"128" doc:"The ID of the party that looks."`
}

type inAsk struct {
	InView
	Text string `query:"q" required:"true" maxLength:"500" doc:"An address, a range, or a host by name or path."`
}

type triedIn struct {
	InDesign
	Side Side `query:"side" doc:"Of which side."`
	Body struct {
		Intent string   `json:"intent" maxLength:"128" doc:"The intent's ID."`
		Edits  []EditIn `json:"edits" maxItems:"20000" doc:"A change that is not made yet."`
	}
}

// tried walks an intent as it would be after a change; nothing is stored.
func (s *Server) tried(ctx context.Context, in *triedIn) (*answer[proof.Result], error) {
	after, err := s.try(ctx, in.Design, in.Side, in.Body.Edits)
	if err != nil {
		return nil, s.failed(err)
	}
	o := after.Design.Get(design.ID(in.Body.Intent))
	if o == nil || o.Kind != design.KindIntent {
		return nil, missing("intent", "there is no such intent now; it may have been removed or undone")
	}
	return answering(after.Proofs.Intent(o.ID), nil)
}

func (s *Server) translateOperations(api huma.API) {
	register(
		api,
		huma.Operation{
			OperationID:  "try-intent",
			Method:       http.MethodPost,
			Path:         "/api/designs/{design}/tried",
			MaxBodyBytes: maxChangeBytes,
			Summary:      "An intent's walk as it would be after a change; nothing is stored",
		},
		s.tried,
	)
	view(
		s, api, "get-ledger", "/ledger", "Who sees whom as what",
		func(v *solved, _ *InView) (ledger.Ledger, error) { return ledger.Of(v.tables()), nil },
	)
	view(
		s,
		api,
		"view-ledger",
		"/ledger/view",
		"What one party dials to reach the hosts of others",
		func(v *solved, in *inLedgerView) (ledger.View, error) {
			o := v.design.Get(design.ID(in.Viewer))
			if !ledger.Looks(o) {
				return ledger.View{}, looksNot()
			}
			return ledger.ViewOf(v.tables(), o.ID), nil
		},
	)
	view(
		s,
		api,
		"ask-ledger",
		"/ledger/ask",
		"What an address, a range or a host is to others, both ways",
		func(v *solved, in *inAsk) (ledger.Asked, error) {
			out, err := ledger.Ask(v.tables(), in.Text)
			if err != nil {
				return out, refused("q", err.Error())
			}
			return out, nil
		},
	)
	register(
		api,
		huma.Operation{
			OperationID: "get-ledger-file", Method: http.MethodGet, Path: "/api/designs/{design}/ledger/file",
			Summary: "The ledger as a table or as zone files (RFC 1035)",
		},
		s.ledgerFile,
	)
}

func ids(texts []string) []design.ID {
	var out []design.ID
	for _, t := range texts {
		out = append(out, design.ID(t))
	}
	return out
}

func looksNot() error {
	return refused("viewer", "only a site or a network looks; give the ID of one")
}

func (s *Server) ledgerFile(ctx context.Context, in *inLedgerFile) (*fileAnswer, error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	v = v.on(in.asked())
	viewer := design.ID(in.Viewer)
	if viewer != "" && !ledger.Looks(v.design.Get(viewer)) {
		return nil, looksNot()
	}
	var text bytes.Buffer
	kind, ending := "text/csv; charset=utf-8", in.Format
	switch in.Format {
	case "zone":
		if viewer == "" {
			return nil, refused("viewer", "names differ by who asks; say which party's zone it is")
		}
		kind, ending = "text/dns; charset=utf-8", "zone"
		origin, err := ledger.ParseOrigin(in.Origin)
		if err != nil {
			return nil, refused("origin", err.Error())
		}
		text.WriteString(ledger.Zone(v.tables(), viewer, origin))
	case "xlsx":
		kind = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
		header, rows := ledger.Rows(ledger.EntriesOf(v.tables(), viewer))
		err = ingest.WriteXLSX(&text, header, rows)
	default:
		header, rows := ledger.Rows(ledger.EntriesOf(v.tables(), viewer))
		err = ingest.WriteCSV(&text, header, rows)
	}
	if err != nil {
		return nil, s.failed(err)
	}
	return &fileAnswer{
		kind,
		`attachment; filename="` + asciiName(v.info.Name) + ` ledger.` + ending + `"`,
		text.Bytes(),
	}, nil
}
