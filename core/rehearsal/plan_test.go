package rehearsal_test

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/proof"
	"dravin/core/rehearsal"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/demo"
	"dravin/lab/estates"
)

// planned are designs of which rehearsals are planned: the demo's, each of what goes wrong, and random ones.
func planned(t *testing.T) map[string]*design.Design {
	out := map[string]*design.Design{}
	read := func(name string, text []byte) {
		d, err := design.Read(text)
		require.NoError(t, err, name)
		out[name] = d
	}
	read("thistledown", demo.Thistledown)
	read("two gardens", demo.TwoGardens)
	for seed := range uint64(10) {
		o := estates.Options{Joined: true, Intents: true, Collisions: seed%2 == 0, Segments: seed%3 == 0}
		out["estate "+string(rune('a'+seed))] = estates.Make(seed, o)
	}
	return out
}

func under(d *design.Design, h design.Side) *route.Tables {
	return route.Solve(d.On(h), status.Condition{})
}

// A plan names nothing that it does not have: each cable, wire, row, session and table is at nodes that there are, by
// devices that a kernel takes and that are one node's alone.
func TestPlansAreWhole(t *testing.T) {
	for name, d := range planned(t) {
		p, err := rehearsal.Of(under(d, design.Planned), 40)
		require.NoError(t, err, name)
		nodes := map[string]*rehearsal.Node{}
		for _, n := range p.Nodes {
			assert.Nil(t, nodes[n.Name], "%s: %s is twice", name, n.Name)
			nodes[n.Name] = n
			if n.ID != "" {
				assert.NotNil(t, d.Get(n.ID), "%s: %s stands for nothing", name, n.Title)
			}
		}
		devices := map[rehearsal.Port]bool{}
		for _, c := range p.Cables {
			for _, e := range c.Ends {
				assert.NotNil(t, nodes[e.Node], "%s: a cable ends at %s", name, e.Node)
				assert.False(t, devices[e], "%s: %v has two cables", name, e)
				assert.True(t, len(e.Device) > 0 && len(e.Device) < 16, "%s: %q is no name of an interface", name, e.Device)
				devices[e] = true
			}
		}
		for _, w := range p.Wires {
			for _, e := range w.Ends {
				require.NotNil(t, nodes[e.Node], "%s: %s", name, w.Name)
				assert.Contains(t, []rehearsal.Role{rehearsal.OwnBox, rehearsal.Player}, nodes[e.Node].Role, w.Name)
				assert.NotEmpty(t, e.Connection, "%s: %s", name, w.Name)
			}
			assert.True(t, w.Up || w.Why != "", "%s: %s is down for no reason", name, w.Name)
		}
		tunnels := map[design.ID]bool{}
		for _, w := range p.Wires {
			tunnels[w.Tunnel] = true
		}
		for _, r := range p.Rows {
			require.NotNil(t, nodes[r.Node], "%s: a row for %s", name, r.Prefix)
			for _, way := range r.Ways {
				assert.True(t, way.Tunnel == "" || tunnels[way.Tunnel], "%s: a row stands while %s does", name, way.Tunnel)
				assert.True(t, way.Known.Node == "" || nodes[way.Known.Node] != nil, name)
			}
		}
		for _, s := range p.Sessions {
			assert.Len(t, s.Ends, 2, "%s: %s", name, s.Name)
			for _, e := range s.Ends {
				assert.NotNil(t, nodes[e.Node], "%s: %s", name, s.Name)
			}
		}
		for _, x := range p.Tables {
			assert.NotNil(t, nodes[x.Node], "%s: %s", name, x.Title)
		}
		for _, f := range p.Flows {
			assert.NotNil(t, nodes[f.Node], "%s: %s starts nowhere", name, f.Title)
		}
	}
}

// A box of one's own has the files that are handed over for it and nothing else; nobody else has any of them.
func TestBoxesHaveWhatIsHandedOver(t *testing.T) {
	own := 0
	for name, d := range planned(t) {
		tables := under(d, design.Planned)
		p, err := rehearsal.Of(tables, 0)
		require.NoError(t, err, name)
		for _, n := range p.Nodes {
			if n.Role != rehearsal.OwnBox {
				for _, f := range n.Files {
					assert.NotEqual(t, "routes.sh", filepath.Base(f.Path), "%s: %s is no box of one's own", name, n.Title)
				}
				continue
			}
			own++
			want := handover.Of(handover.Render(tables, n.Party, p.Keys), d.Get(n.ID).Name)
			assert.Subset(t, n.Files, want, "%s: %s", name, n.Title)
			for _, f := range n.Files {
				// The ports of circuits are to be filled in; the keys are those of the rehearsal.
				given := slices.ContainsFunc(want, func(x handover.File) bool { return x.Path == f.Path })
				assert.True(t, given, "%s: %s has %s, which nobody gave it", name, n.Title, f.Path)
			}
		}
		for _, tunnel := range d.Of(design.KindTunnel) {
			assert.NotEmpty(t, p.Keys[tunnel.ID], "%s: %s", name, d.Title(tunnel.ID))
		}
	}
	assert.Greater(t, own, 20)
}

// A plan for today has the namespaces, cables and devices of that for the whole: steps lay nothing anew.
func TestPlansOfOneWholeHaveOneFrame(t *testing.T) {
	for name, d := range planned(t) {
		whole := under(d, design.Planned)
		then, err := rehearsal.Of(whole, 20)
		require.NoError(t, err, name)
		now, err := rehearsal.At(whole, under(d, design.Built), 20)
		require.NoError(t, err, name)
		require.Len(t, now.Nodes, len(then.Nodes), name)
		for k := range then.Nodes {
			assert.Equal(t, then.Nodes[k].Name, now.Nodes[k].Name, name)
			assert.Equal(t, then.Nodes[k].ID, now.Nodes[k].ID, name)
			assert.Equal(t, then.Nodes[k].Addresses, now.Nodes[k].Addresses, name)
		}
		require.Len(t, now.Cables, len(then.Cables), name)
		for k := range then.Cables {
			assert.Equal(t, then.Cables[k].Ends, now.Cables[k].Ends, name)
			assert.False(t, then.Cables[k].Cut && !now.Cables[k].Cut, "%s: today has what will not be", name)
		}
		require.Len(t, now.Wires, len(then.Wires), name)
		for k := range then.Wires {
			assert.Equal(t, then.Wires[k].Tunnel, now.Wires[k].Tunnel, name)
			assert.Equal(t, then.Wires[k].Ends[0].Device, now.Wires[k].Ends[0].Device, name)
		}
	}
}

// While random work is under way, a wire is called at each end as the daemon there calls it, and filters that come with
// it are those of the design by then.
func TestAWireIsCalledAsItsDaemonsCallIt(t *testing.T) {
	called, filtered := 0, 0
	for seed := range uint64(60) {
		d := estates.Worked(seed)
		now, whole := under(d, design.Built), route.Solve(rehearsal.Whole(d.Built(), d), status.Condition{})
		p, err := rehearsal.At(whole, now, 1)
		require.NoError(t, err, "seed %d", seed)
		nodes := map[string]*rehearsal.Node{}
		for _, n := range p.Nodes {
			nodes[n.Name] = n
			filtered += len(n.Rulesets)
		}
		for _, w := range p.Wires {
			for _, e := range w.Ends {
				files := fmt.Sprint(nodes[e.Node].Files)
				if now.Design.Get(w.Tunnel) == nil || !strings.Contains(files, "swanctl/conf.d") {
					continue
				}
				called++
				assert.Contains(t, files, "\n    "+e.Connection+" {\n", "seed %d: %s at %s", seed, w.Name, e.Node)
			}
		}
	}
	assert.Greater(t, called, 20)
	t.Log(called, filtered)
}

// Who has nothing but the instructions comes to the same answers: whatever is proven of intents is proven of the design
// that the instructions make.
func TestInstructionsMakeWhatIsProven(t *testing.T) {
	tried := 0
	for name, d := range planned(t) {
		for _, h := range []design.Side{design.Planned, design.Built} {
			tables := under(d, h)
			told, err := box.Rebuilt(d, box.Told(tables))
			require.NoError(t, err, name)
			there := route.Solve(told, tables.Status.Condition())
			for o, in := range design.Each[design.Intent](d.Of(design.KindIntent)) {
				f, err := walk.FlowBetween(tables, in.From, in.To, in.Service)
				if err != nil || f.Service == (design.Service{}) {
					continue
				}
				tried++
				want, got := walk.Prove(tables, f), walk.Prove(there, f)
				if assert.Equal(t, want.Works, got.Works, "%s, %s: %s", name, h, o.Name) && want.Stop != nil {
					assert.Equal(t, want.Stop.Code, got.Stop.Code, "%s, %s: %s", name, h, o.Name)
				}
			}
		}
	}
	assert.Greater(t, tried, 30)
}

// Drills that are asked for take away what they name; what nothing of the rehearsal goes with is refused.
func TestCutsTakeAwayWhatTheyName(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	tables := under(d, design.Planned)
	proofs := proof.Of(tables)
	p, err := rehearsal.Of(tables, 0)
	require.NoError(t, err)
	tunnel := d.Find("marrow-hill-to-catalogue/tunnel-1", design.KindTunnel)[0]
	things, err := status.ParseThings(d, []string{d.Path(tunnel.ID), "marrow-hill/gateway"})
	require.NoError(t, err)
	cuts, err := p.Cuts(t.Context(), proofs, things, 0)
	require.NoError(t, err)
	require.Len(t, cuts, 2)
	require.Len(t, cuts[0].Tunnels, 1)
	assert.Equal(t, tunnel.ID, p.Wires[cuts[0].Tunnels[0]].Tunnel)
	assert.Empty(t, cuts[0].Nodes)
	assert.Len(t, cuts[1].Nodes, 1)
	for _, k := range cuts[1].Tunnels {
		w := p.Wires[k]
		assert.True(t, w.Ends[0].Node == cuts[1].Nodes[0] || w.Ends[1].Node == cuts[1].Nodes[0], w.Name)
	}
	likely, err := p.Cuts(t.Context(), proofs, nil, 3)
	require.NoError(t, err)
	assert.Len(t, likely, 3)
	for _, c := range likely {
		assert.NotEmpty(t, c.Title)
		assert.Positive(t, len(c.Nodes)+len(c.Tunnels)+len(c.Cables), c.Title)
	}
}

// What a cloud itself answers no kernel has: it is told, and nothing that goes by it is judged.
func TestWhatACloudOffersIsNotJudged(t *testing.T) {
	d, err := design.Read([]byte(`
dravin: 1
name: catalogue
networks:
  - name: catalogue
    cloud: Sedge
    region: sedge-coast
    blocks: [10.208.64.0/20]
    tables: [{name: table 1}]
    subnets:
      - name: racks 1
        zone: sedge-coast-a
        prefixes: [10.208.64.0/24]
        table: catalogue/table-1
        endpoints: [{name: logger, addresses: [10.208.64.9]}]
      - name: racks 2
        zone: sedge-coast-a
        prefixes: [10.208.65.0/24]
        table: catalogue/table-1
        endpoints: [{name: register, addresses: [10.208.65.4]}]
published_services:
  - name: register
    at: catalogue
    address: 10.208.64.200
    service: tcp/5432
    target: catalogue/racks-2/register
    does: proxying
intents: [{name: logs, from: catalogue/racks-1/logger, to: catalogue/racks-2/register, service: tcp/5432}]
`))
	require.NoError(t, err)
	p, err := rehearsal.Of(under(d, design.Planned), 40)
	require.NoError(t, err)
	assert.NotEmpty(t, p.Flows)
	for _, f := range p.Flows {
		assert.NotEqual(t, "10.208.64.200", f.To.String())
	}
	assert.Contains(t, p.Leaves, "catalogue racks 1 logger to 10.208.64.200 on tcp/5432: it goes by register")
}
