package walk_test

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/demo"
)

// pairsHeld holds all pairs of hosts of a design against a walk of each.
func pairsHeld(t *testing.T, pairs *walk.Pairs, tables *route.Tables, hosts []walk.Host, services []design.Service) {
	for x, from := range hosts {
		for y, to := range hosts {
			if x == y {
				continue
			}
			works, code := pairs.Works(x, y)
			first := walk.Code("")
			for s, service := range services {
				f, err := walk.FlowBetween(tables, from.Endpoint, to.Endpoint, service)
				if err != nil {
					require.False(t, works.Has(s), "%s to %s: %v", from.Endpoint, to.Endpoint, err)
					continue
				}
				p := walk.Prove(tables, f)
				require.Equal(t, p.Works, works.Has(s), "%s to %s for %s", from.Endpoint, to.Endpoint, service)
				if stop := p.Stop; stop != nil && first == "" {
					first = stop.Code
				}
			}
			if first != "" {
				assert.Equal(t, first, code, "%s to %s", from.Endpoint, to.Endpoint)
			}
		}
	}
}

func endpoints(t *testing.T, d *design.Design) (out []walk.Host) {
	for _, o := range d.Of(design.KindEndpoint) {
		h, err := walk.HostOf(d, o.ID, prefix.IPv4)
		if err == nil {
			out = append(out, h)
		}
	}
	return out
}

// What is told of all pairs at once is what each walk says, in the demo, after each of some edits, and without things.
func TestPairsAreTheirWalks(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	services := []design.Service{{Proto: "tcp", Port: 443}, {Proto: "tcp", Port: 502}, {Proto: "icmp"}}
	tables := route.Solve(d, status.Condition{})
	hosts := endpoints(t, d)
	pairs, err := walk.PairsOf(context.Background(), tables, hosts, services, nil)
	require.NoError(t, err)
	assert.Less(t, pairs.Classes(), len(hosts)+1)
	pairsHeld(t, pairs, tables, hosts, services)

	for _, name := range []string{"thornfield-station/gateway", "plate-store", "marrow-hill/gateway"} {
		after := tables.Without(status.Thing{Object: d.Find(name)[0].ID})
		less, err := pairs.After(context.Background(), after, hosts, services)
		require.NoError(t, err)
		pairsHeld(t, less, after, hosts, services)
	}
	for _, o := range append(slices.Clone(d.Of(design.KindLink)), d.Of(design.KindFilter)...) {
		edits := []design.Edit{{Op: design.Remove, ID: o.ID}}
		for _, tunnel := range d.Inside(o.ID, design.KindTunnel) {
			edits = append(edits, design.Edit{Op: design.Remove, ID: tunnel.ID})
			for _, session := range d.Inside(tunnel.ID, design.KindSession) {
				edits = append(edits, design.Edit{Op: design.Remove, ID: session.ID})
			}
		}
		next, _, err := d.Apply(edits)
		require.NoError(t, err, o.Name)
		after := tables.After(next, d.ChangedBy(edits, next))
		changed, err := pairs.After(context.Background(), after, hosts, services)
		require.NoError(t, err)
		pairsHeld(t, changed, after, hosts, services)
	}
}

func TestPairsEndWithTheirCaller(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = walk.PairsOf(
		ctx, route.Solve(d, status.Condition{}), endpoints(t, d), []design.Service{{Proto: "icmp"}}, nil,
	)
	assert.ErrorIs(t, err, context.Canceled)
}
