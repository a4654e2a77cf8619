package lab_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

// pairServices are for which the pairs of estates are walked.
var pairServices = []design.Service{
	{Proto: "tcp", Port: port}, {Proto: "udp", Port: port}, {Proto: "icmp"}, {Proto: "tcp", Port: 443},
}

// hostsOf are all hosts of an estate, and one of each place without any.
func hostsOf(d *design.Design) (out []walk.Host) {
	for _, k := range append([]design.Kind{design.KindEndpoint}, design.HostPlaces...) {
		for _, o := range d.Of(k) {
			if k != design.KindEndpoint && len(d.Inside(o.ID, design.KindEndpoint)) > 0 {
				continue
			}
			for _, f := range prefix.Families {
				if h, err := walk.HostOf(d, o.ID, f); err == nil {
					out = append(out, h)
					break
				}
			}
		}
	}
	return out
}

func idOf(h walk.Host) design.ID {
	if h.Endpoint != "" {
		return h.Endpoint
	}
	return h.Place
}

// wrongPairs are the pairs of which the matrix says another thing than their walk.
func wrongPairs(t *testing.T, tables *route.Tables, pairs *walk.Pairs) (wrong []string, all int) {
	hosts := pairs.Hosts()
	for a, from := range hosts {
		for b, to := range hosts {
			if a == b {
				continue
			}
			works, code := pairs.Works(a, b)
			first := walk.Code("")
			for n, s := range pairs.Services() {
				all++
				f, err := walk.FlowBetween(tables, idOf(from), idOf(to), s)
				p := walk.Proof{}
				if err == nil {
					p = walk.Prove(tables, f)
				}
				if p.Stop != nil && first == "" {
					first = p.Stop.Code
				}
				if p.Works != works.Has(n) {
					wrong = append(wrong, fmt.Sprintf(
						"%s %s > %s %s %s: the walk says works=%v (%s)", tables.Design.Path(idOf(from)), from.Address,
						tables.Design.Path(idOf(to)), to.Address, s, p.Works, stopWords(p),
					))
				}
			}
			if first != "" && first != code && from.Address != to.Address {
				wrong = append(wrong, fmt.Sprintf(
					"%s %s > %s %s: the walk is stopped by %s, the matrix says %s", tables.Design.Path(idOf(from)),
					from.Address, tables.Design.Path(idOf(to)), to.Address, first, code,
				))
			}
		}
	}
	return wrong, all
}

// TestMatrixOfRandomEstates holds the matrix against the walk of every pair: of random estates, and after random
// edits of them, for which only what may differ is walked again.
func TestMatrixOfRandomEstates(t *testing.T) {
	all := 0
	for n := range number("DRAVIN_TRUTH_MATRIX", 18) {
		e := newEstate(uint64(firstSeed+n), n%2 == 0)
		tables := route.Solve(e.d.On(e.side), status.Condition{})
		pairs, err := walk.PairsOf(context.Background(), tables, hostsOf(e.d), pairServices, nil)
		require.NoError(t, err)
		wrong, checked := wrongPairs(t, tables, pairs)
		require.Empty(t, wrong, "estate %d", firstSeed+n)
		all += checked
		d := e.d
		for k := range 4 {
			edit := randomEdit(e, d)
			next, _, err := d.Apply([]design.Edit{edit})
			if err != nil {
				continue
			}
			after := tables.After(next, d.ChangedBy([]design.Edit{edit}, next))
			q, err := pairs.After(context.Background(), after, hostsOf(next), pairServices)
			require.NoError(t, err)
			wrong, checked := wrongPairs(t, after, q)
			require.Empty(t, wrong, "estate %d after edit %d: %s %s", n, k, edit.Op, d.Path(edit.ID))
			all += checked
			d, tables, pairs = next, after, q
		}
	}
	t.Logf("%d flows", all)
	assert.Positive(t, all)
}

// randomEdit changes or removes something that packets meet.
func randomEdit(e *estate, d *design.Design) design.Edit {
	kinds := []design.Kind{
		design.KindTunnel, design.KindFilter, design.KindMapping, design.KindTable, design.KindGateway,
		design.KindLink, design.KindListener, design.KindPeering, design.KindAttachment, design.KindLAN,
	}
	for range 50 {
		list := d.Of(pick(e.r, kinds))
		if len(list) == 0 {
			continue
		}
		o := pick(e.r, list)
		switch b := o.Body.(type) {
		case *design.PacketFilter:
			if e.chance(50) && len(b.Rules) > 0 {
				return design.PutEdit(design.Edited(o, func(b *design.PacketFilter) { b.Rules = b.Rules[1:] }))
			}
		case *design.Gateway:
			return design.PutEdit(design.Edited(o, func(b *design.Gateway) {
				if b.Faults = nil; e.chance(50) {
					b.Faults = []string{design.ForwardingOff}
				}
			}))
		case *design.Link:
			return design.PutEdit(design.Edited(o, func(b *design.Link) { b.Ends[0].Routes = nil }))
		case *design.Table:
			return design.PutEdit(design.Edited(o, func(b *design.Table) { b.Routes = nil }))
		case *design.LAN:
			return design.PutEdit(design.Edited(o, func(b *design.LAN) { b.Segment = "" }))
		}
		return design.Edit{Op: design.Remove, ID: o.ID}
	}
	return design.Edit{}
}
