package finding_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/demo"
)

// What is right is not found, and what is wrong is, where the two look alike. Each case
// changes the demo by an object that is there or by a new one.
func TestWhatLooksWrongAndWhatLooksRight(t *testing.T) {
	everything := []netip.Prefix{netip.MustParsePrefix("10.208.0.0/16")}
	routes := func(list ...design.Entry) func(design.Body) design.Body {
		return func(b design.Body) design.Body {
			x := *b.(*design.Table)
			x.Routes = list
			return &x
		}
	}
	rules := func(list ...design.Rule) func(design.Body) design.Body {
		return func(b design.Body) design.Body {
			g := *b.(*design.Gateway)
			g.Translate = list
			return &g
		}
	}
	learns := func(b design.Body) design.Body {
		x := *b.(*design.Table)
		x.Learns, x.Routes = "yes", nil
		return &x
	}
	hides := design.Rule{Hook: design.Postrouting, Does: design.OwnAddress}
	type step struct {
		path   string
		kind   design.Kind
		change func(design.Body) design.Body
	}
	for name, c := range map[string]struct {
		code  string
		steps []step
		add   []*design.Object
		found int
	}{
		"a table that only what enters uses": {code: "table-lacks-route",
			add: []*design.Object{{ID: "t", Kind: design.KindTable, Parent: "catalogue", Name: "entering",
				Body: &design.Table{}}}},
		"one of two tables of hosts": {code: "table-lacks-route", found: 1, steps: []step{{"catalogue/table-b",
			design.KindTable, routes()}}},
		"every table of hosts": {code: "table-lacks-route", found: 1,
			steps: []step{{"catalogue/table-a", design.KindTable, routes()}, {"catalogue/table-b", design.KindTable, routes()}}},
		"a table that learns beside one that does not": {code: "table-lacks-route", found: 1,
			steps: []step{{"catalogue/table-a", design.KindTable, learns}, {"catalogue/table-b", design.KindTable, routes()}}},
		"a table that learns beside one with entries": {code: "table-lacks-route",
			steps: []step{{"catalogue/table-a", design.KindTable, learns}}},
		"what a rule before it leaves alone": {code: "hides-link-traffic",
			steps: []step{{"peatside-nursery/gateway", design.KindGateway, rules(design.Rule{Hook: design.Postrouting,
				Does: design.Nothing, Destination: []netip.Prefix{netip.MustParsePrefix("10.214.0.0/22")}}, hides)}}},
		"what a rule before it does not meet": {code: "hides-link-traffic", found: 1,
			steps: []step{{"peatside-nursery/gateway", design.KindGateway, rules(design.Rule{Hook: design.Postrouting,
				Does: design.Nothing, Destination: everything}, hides)}}},
		"a box that does not forward": {code: "gateway-does-not-forward", found: 1, steps: []step{{"catalogue/rented-box",
			design.KindBox, func(b design.Body) design.Body {
				x := *b.(*design.Box)
				x.Faults = []string{"forwarding-off"}
				return &x
			}}}},
		"a tunnel that is gone at one end": {code: "single-tunnel", found: 1,
			steps: []step{{"marrow-hill-to-catalogue/tunnel-2", design.KindTunnel, func(b design.Body) design.Body {
				x := *b.(*design.Tunnel)
				x.Ends = []design.TunnelEnd{{State: design.Gone}, {}}
				return &x
			}}}},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := design.Read(demo.Thistledown)
			require.NoError(t, err)
			find := func(d *design.Design) int {
				return len(
					slices.DeleteFunc(
						snapshot.Of(d, status.Condition{}).Findings.All(),
						func(f finding.Finding) bool { return f.Code != c.code },
					),
				)
			}
			before := find(d)
			var edits []design.Edit
			for _, s := range c.steps {
				o := d.Find(s.path, s.kind)[0]
				edits = append(edits, design.PutEdit(o.With(s.change(o.Body))))
			}
			for _, o := range c.add {
				o.Parent = d.Find(string(o.Parent))[0].ID
				edits = append(edits, design.PutEdit(o))
			}
			d, _, err = d.Apply(edits)
			require.NoError(t, err)
			assert.Equal(t, c.found, find(d)-before)
		})
	}
}
