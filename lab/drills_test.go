package lab_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

// taken are the commands, by node, that take something away for real; nil for what has nothing here that could be.
func (w *world) taken(thing status.Thing) map[design.ID]string {
	out := map[design.ID]string{}
	down := func(of ...design.ID) {
		for key, device := range w.devices {
			if slices.Contains(of, key[0]) {
				out[key[1]] += fmt.Sprintf("ip link set %s down\n", device)
			}
		}
	}
	o := w.e.d.Get(thing.Object)
	if o == nil {
		return nil
	}
	switch o.Kind {
	case design.KindTunnel:
		for key := range w.devices {
			if key[0] == o.ID {
				out[key[1]] += w.moves(o, key[1])
			}
		}
		down(o.ID)
	case design.KindPeering:
		down(o.ID)
	case design.KindLink:
		for _, t := range w.e.d.Inside(o.ID, design.KindTunnel) {
			down(t.ID)
		}
	case design.KindGateway:
		if w.nodes[o.ID] == nil || w.e.d.Party(o.ID).Kind != design.KindSite {
			return nil
		}
		out[o.ID] = "for d in /sys/class/net/*; do ip link set ${d##*/} down; done\n"
		for _, l := range w.e.d.Referring(o.ID, design.KindLink) { // the far end sees that it is gone
			for _, t := range w.e.d.Inside(l.ID, design.KindTunnel) {
				down(t.ID)
			}
		}
	}
	if len(out) == 0 {
		return nil
	}
	return out
}

// moves are the commands that let the routes at a node go by another tunnel of a link: worlds are built with the first
// tunnel alone in their tables, where what is handed over has all of them.
func (w *world) moves(tunnel *design.Object, at design.ID) string {
	from := w.devices[[2]design.ID{tunnel.ID, at}]
	for _, device := range w.tunnelsOf(tunnel.Parent, at) {
		if device != from {
			return fmt.Sprintf(
				"for f in -4 -6; do ip $f route show dev %s | sed 's/ linkdown//' | "+
					"while read r; do ip $f route replace $r dev %s; done; done\n", from,
				device,
			)
		}
	}
	return ""
}

// learnsAlike reports whether what sessions bring is the same in both: other routes come of daemons, which
// [TestTruthOfLearnedRoutes] vouches for.
func learnsAlike(a, b *route.Tables) bool {
	learned := func(t *route.Tables) (out []string) {
		for _, p := range t.Points() {
			for _, r := range p.Routes {
				if r.Learned != nil && r.Unusable == "" {
					out = append(out, fmt.Sprint(p.ID, p.Segment, r.Prefix, r.Hop))
				}
			}
		}
		return out
	}
	return slices.Equal(learned(a), learned(b))
}

// TestTruthOfDrills takes things away for real and holds what then becomes of flows against the walks without them.
func TestTruthOfDrills(t *testing.T) {
	t.Parallel()
	needs(t, "ip", "nft")
	const each = 3 // drills of an estate, a world for each
	drills, flows := 0, 0
	var wrong []string
	for n := range number("DRAVIN_TRUTH_DRILLS", 2) {
		done := 0
		e := newEstate(uint64(n+firstSeed), false)
		whole := route.Solve(e.d.On(e.side), status.Condition{})
		things := status.Single(e.d)
		e.r.Shuffle(len(things), func(a, b int) { things[a], things[b] = things[b], things[a] })
		for _, thing := range things {
			after := whole.Without(thing)
			if done == each || !learnsAlike(whole, after) {
				continue
			}
			w := build(t, e, nil)
			commands := w.taken(thing)
			if commands == nil {
				continue
			}
			for id, script := range commands {
				require.NoError(t, w.nodes[id].Script(script))
			}
			done, drills = done+1, drills+1
			a := listening(t, w, e)
			list := e.flows(16)
			answered := make([]bool, len(list))
			var wg sync.WaitGroup
			for k, f := range list {
				wg.Go(func() { answered[k] = send(w.nodes[f.from.Place], f, patience) })
			}
			wg.Wait()
			for k, f := range list {
				p := walk.Prove(after, flowOf(f))
				for range 5 {
					if !answered[k] && delivers(e, p) && differs(e, after, f, a.saw(f.id), false) != "" {
						answered[k] = send(w.nodes[f.from.Place], f, longest)
					}
				}
				flows++
				if says := differs(e, after, f, a.saw(f.id), answered[k]); says != "" {
					wrong = append(wrong, fmt.Sprintf(
						"estate %d without %s: %s %s at %s > %s port %d: %s", n, thing.Title(
							e.d,
						), f.proto, f.from.Address,
						e.d.Title(f.from.Place), f.to, f.port, says,
					))
				}
			}
			a.end()
			require.NoError(t, w.lab.Close())
		}
	}
	t.Logf("%d drills, %d flows", drills, flows)
	assert.Positive(t, drills)
	assert.Empty(t, wrong, strings.Join(wrong, "\n"))
}
