package snapshot_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/passes"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/core/walk"
)

// filtered is an estate with a filter at every gateway of a site, every network and every second controller, and
// intents of several services, about three for each site.
func filtered(tb testing.TB, n int) *design.Design {
	d := estate(tb, n)
	var edits []design.Edit
	put := func(k design.Kind, name string, b design.Body) {
		edits = append(edits, design.PutEdit(&design.Object{ID: design.IDFor(k, name), Kind: k, Name: name, Body: b}))
	}
	for k, o := range d.Of(design.KindGateway) {
		if d.Get(o.Parent).Kind == design.KindSite {
			put(design.KindFilter, fmt.Sprint("door ", k), &design.PacketFilter{At: o.ID})
		}
	}
	for k, o := range d.Of(design.KindNetwork) {
		put(design.KindFilter, fmt.Sprint("wall ", k), &design.PacketFilter{At: o.ID})
	}
	for k, o := range d.Of(design.KindIntent) {
		in := o.Body.(*design.Intent)
		for _, s := range []design.Service{{Proto: "tcp", Port: 502}, {Proto: "tcp", Port: 6514}, {Proto: "icmp"}} {
			put(design.KindIntent, fmt.Sprint(s, " of ", k), &design.Intent{From: in.From, To: in.To, Service: s})
		}
		if k%2 == 0 {
			put(design.KindFilter, fmt.Sprint("own ", k), &design.PacketFilter{At: in.To})
		}
	}
	next, _, err := d.Apply(edits)
	require.NoError(tb, err)
	return next
}

func TestRulesAfterAnEditAreThoseOfAFullRun(t *testing.T) {
	s := snapshot.Of(filtered(t, 40), status.Condition{})
	worked := s.Findings.Needs().FromIntents(passes.Wish{})
	require.NotEmpty(t, worked.Edits)
	for n := range 12 {
		var edits []design.Edit
		intents := s.Design.Of(design.KindIntent)
		switch n % 4 {
		case 0:
			edits = worked.Edits
		case 1:
			edits = s.Design.Removal(intents[n].ID).Edits
		case 2:
			edits = edited(s.Design, n)
		default:
			edits = []design.Edit{
				design.PutEdit(design.Edited(intents[n], func(i *design.Intent) { i.Service.Port = 8443 })),
			}
		}
		next, err := s.Try(edits)
		require.NoError(t, err)
		next.Settle()
		worked = next.Findings.Needs().FromIntents(passes.Wish{})
		full := snapshot.Of(next.Design, status.Condition{})
		require.Equal(t, full.Findings.Needs().FromIntents(passes.Wish{}), worked, "edit %d", n)
		assert.Equal(t, sentences(full), sentences(next))
		s = next
	}
}

func sentences(s *snapshot.Solved) (out []string) {
	for _, f := range s.Findings.All() {
		out = append(out, f.Sentence)
	}
	return out
}

func BenchmarkRulesFromNothing(b *testing.B) {
	s := snapshot.Of(filtered(b, 300), status.Condition{})
	s.Proofs.All()
	b.Logf("%d intents, %d filters", len(s.Design.Of(design.KindIntent)), len(s.Design.Of(design.KindFilter)))
	for b.Loop() {
		passes.Of(s.Tables).FromIntents(passes.Wish{})
	}
}

func BenchmarkRulesOfOneIntentMore(b *testing.B) {
	s := snapshot.Of(filtered(b, 300), status.Condition{})
	worked, err := s.Try(s.Findings.Needs().FromIntents(passes.Wish{}).Edits)
	require.NoError(b, err)
	worked.Findings.Needs().FromIntents(passes.Wish{})
	in := *worked.Design.Of(design.KindIntent)[7].Body.(*design.Intent)
	for n := 0; b.Loop(); n++ {
		in.Service = design.Service{Proto: "tcp", Port: uint16(9000 + n)}
		id := design.ID(fmt.Sprint("more", n))
		next, err := worked.Try([]design.Edit{design.PutEdit(&design.Object{
			ID: id, Kind: design.KindIntent, Name: string(id), Body: &in,
		})})
		require.NoError(b, err)
		require.NotEmpty(b, next.Findings.Needs().FromIntents(passes.Wish{}).Filters)
	}
}

// A walk past three filters with the rules of an estate.
func BenchmarkProveFiltered(b *testing.B) {
	s := snapshot.Of(filtered(b, 300), status.Condition{})
	worked, err := s.Try(s.Findings.Needs().FromIntents(passes.Wish{}).Edits)
	require.NoError(b, err)
	o := worked.Design.Of(design.KindIntent)[40]
	in := o.Body.(*design.Intent)
	f, err := walk.FlowBetween(worked.Tables, in.From, in.To, in.Service)
	require.NoError(b, err)
	require.True(b, walk.Prove(worked.Tables, f).Works)
	for b.Loop() {
		walk.Prove(worked.Tables, f)
	}
}
