package server

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/ingest"
	"dravin/core/prefix"
)

// Stock is the estate as a table.
type Stock struct {
	Rows     []StockRow       `json:"rows"`
	Owners   []*design.Object `json:"owners"`
	Segments []*design.Object `json:"segments"`
}

// StockRow is one thing of the stock, with its object for editing.
type StockRow struct {
	Object  *design.Object `json:"object"`
	Party   string         `json:"party" doc:"The name of its party; its own for a party."`
	Ranges  []string       `json:"ranges" doc:"Its prefixes or addresses."`
	Owner   string         `json:"owner"`
	Segment string         `json:"segment"`
	Where   string         `json:"where" doc:"Cloud and region, or zone."`
	Note    string         `json:"note"`
}

// stockKinds are the kinds that the table lists.
var stockKinds = []design.Kind{
	design.KindSite,
	design.KindNetwork,
	design.KindHub,
	design.KindEdgeRouter,
	design.KindOutside,
	design.KindGateway,
	design.KindLAN,
	design.KindInnerRoute,
	design.KindSubnet,
	design.KindEndpoint,
	design.KindReservation,
	design.KindBox,
}

type inFree struct {
	InView
	Size    int      `query:"size" required:"true" minimum:"0" maximum:"128" doc:"Prefix length wanted."`
	Within  []string `query:"within,explode" maxItems:"200" doc:"Allowed ranges; left out: the private IPv4 ranges."`
	For     []string `query:"for,explode" maxItems:"2000" doc:"Unused by these parties (IDs) is enough; left out: unused by all."`
	Segment string   `query:"segment" maxLength:"500" doc:"Unused in this segment (ID) is enough."`
	Roomy   bool     `query:"roomy" doc:"The largest free blocks first, where it can grow."`
}

type inFormat struct {
	InDesign
	Format string `query:"format" enum:"yaml,csv,xlsx" default:"yaml"`
}

func (s *Server) stockOperations(api huma.API) {
	view(
		s, api, "get-stock", "/stock", "The estate as a table",
		func(v *solved, _ *InView) (Stock, error) { return stockOf(v.design), nil },
	)
	view(s, api, "find-free", "/free", "Free ranges of a size, best first", findFree)
	register(
		api,
		huma.Operation{
			OperationID: "get-file", Method: http.MethodGet, Path: "/api/designs/{design}/file",
			Summary: "The design as a design file, or its stock as a table",
		},
		s.file,
	)
	for _, t := range []any{ImportHow{}, ImportStep{}} {
		api.OpenAPI().Components.Schemas.Schema(typeOf(t), true, "")
	}
}

func stockOf(d *design.Design) Stock {
	out := Stock{Rows: []StockRow{}, Owners: orNone(d.Of(design.KindOwner)), Segments: orNone(d.Of(design.KindSegment))}
	for _, o := range d.All() {
		if slices.Contains(stockKinds, o.Kind) {
			out.Rows = append(out.Rows, stockRow(d, o))
		}
	}
	return out
}

func orNone(list []*design.Object) []*design.Object {
	return append([]*design.Object{}, list...)
}

func stockRow(d *design.Design, o *design.Object) StockRow {
	r := StockRow{Object: o, Ranges: []string{}}
	if p := d.Party(o.ID); p != nil {
		r.Party = p.Name
	}
	for _, p := range d.Ranges(o.ID) {
		r.Ranges = append(r.Ranges, p.String())
	}
	name := func(id design.ID) string {
		if at := d.Get(id); at != nil {
			return at.Name
		}
		return ""
	}
	addresses := func(list []netip.Addr) {
		for _, a := range list {
			r.Ranges = append(r.Ranges, a.String())
		}
	}
	switch b := o.Body.(type) {
	case *design.Site:
		r.Owner, r.Note = name(b.Owner), b.Note
	case *design.Network:
		r.Owner, r.Segment, r.Where, r.Note = name(b.Owner), name(b.Segment), b.Cloud+" "+b.Region, b.Note
	case *design.Outside:
		r.Owner, r.Segment, r.Note = name(b.Owner), name(b.Segment), b.Note
	case *design.LAN:
		r.Segment, r.Note = name(b.Segment), b.Note
	case *design.InnerRoute:
		r.Segment, r.Note = name(b.Segment), b.Note
	case *design.Subnet:
		r.Where, r.Note = b.Zone, b.Note
	case *design.Gateway:
		addresses(b.Addresses)
		r.Note = b.Note
	case *design.Endpoint:
		addresses(b.Addresses)
		r.Note = b.Note
	case *design.Reservation:
		r.Ranges, r.Note = append(r.Ranges, b.Prefix.String()), b.Note
	}
	return r
}

// FreeRange is a place for a new range, and why it is one.
type FreeRange struct {
	prefix.Candidate
	Why string `json:"why"`
}

const maxFree = 8

func findFree(v *solved, in *inFree) ([]FreeRange, error) {
	within := in.Within
	if len(within) == 0 {
		within = []string{"10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16"}
	}
	parties := make([]design.ID, len(in.For))
	for n, id := range in.For {
		parties[n] = design.ID(id)
	}
	used := allocation.ForHolding(v.design, parties, design.ID(in.Segment))
	out := []FreeRange{}
	for _, text := range within {
		allowed, err := prefix.Parse(text)
		if err != nil {
			return nil, refused("within", err.Error())
		}
		if in.Size < allowed.Bits() || in.Size > allowed.Addr().BitLen() {
			continue
		}
		space := prefix.NewSpace([]netip.Prefix{allowed}, used)
		search := space.Fits
		if in.Roomy {
			search = space.Roomy
		}
		for _, c := range search(allowed, in.Size, maxFree-len(out)) {
			out = append(out, FreeRange{c, whyFree(c)})
		}
	}
	return out, nil
}

func whyFree(c prefix.Candidate) string {
	if c.Prefix == c.Block {
		return "fills the gap exactly and leaves larger blocks whole"
	}
	return fmt.Sprintf("begins the free block %s, with room to grow by %d of its size", c.Block, c.Room())
}

type fileAnswer struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

func (s *Server) file(ctx context.Context, in *inFormat) (*fileAnswer, error) {
	v, err := s.solved.get(ctx, in.Design)
	if err != nil {
		return nil, s.failed(err)
	}
	var text bytes.Buffer
	kind := "application/yaml; charset=utf-8"
	switch header, rows := ingest.Export(v.design); in.Format {
	case "csv":
		kind, err = "text/csv; charset=utf-8", ingest.WriteCSV(&text, header, rows)
	case "xlsx":
		kind, err = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
			ingest.WriteXLSX(&text, header, rows)
	default:
		var file []byte
		file, err = v.design.Write()
		text.Write(file)
	}
	if err != nil {
		return nil, s.failed(err)
	}
	return &fileAnswer{
		kind,
		`attachment; filename="` + asciiName(v.info.Name) + `.` + in.Format + `"`,
		text.Bytes(),
	}, nil
}
