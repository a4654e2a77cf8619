package lab_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/overlap"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/translate"
	"dravin/core/walk"
	"dravin/demo"
)

// Everybody listens on one port here, for whatever comes.
var (
	services = regexp.MustCompile(`(tcp|udp)/(\d{3,})`)
	answers  = regexp.MustCompile(`\n +answers: .*`)
)

// story reads one of the remedies' estates, with every service on the port of the
// answerers.
func story(t *testing.T, name string) *design.Design {
	file, err := demo.Remedies.ReadFile("remedies/" + name + ".yaml")
	require.NoError(t, err)
	d, err := design.Read(services.ReplaceAll(answers.ReplaceAll(file, nil), []byte(fmt.Sprintf("tcp/%d", port))))
	require.NoError(t, err)
	return d
}

// estateOf is a design in which everything is sound.
func estateOf(d *design.Design, seed uint64) *estate {
	e := &estate{d: d, r: rand.New(rand.NewPCG(seed, 9)), up: map[design.ID]bool{}, side: design.Planned}
	for _, k := range []design.Kind{
		design.KindHub, design.KindTunnel, design.KindSession, design.KindAttachment, design.KindPeering,
	} {
		for _, o := range d.Of(k) {
			e.up[o.ID] = true
		}
	}
	for _, o := range d.Of(design.KindPeering) { // the cloud refuses what overlaps
		h := o.Body.(*design.Peering).Halves
		for _, p := range d.Ranges(h[0].Network) {
			e.up[o.ID] = e.up[o.ID] && !slices.ContainsFunc(d.Ranges(h[1].Network), p.Overlaps)
		}
	}
	return e
}

// asked are the flows of a design's intents as their sources dial.
func asked(t *testing.T, d *design.Design, tables *route.Tables) (out []flow) {
	for n, o := range d.Of(design.KindIntent) {
		in := o.Body.(*design.Intent)
		if in.Never {
			continue
		}
		f, err := walk.FlowBetween(tables, in.From, in.To, design.Service{Proto: "tcp", Port: port})
		require.NoError(t, err)
		out = append(
			out, flow{id: fmt.Sprintf("intent-%d", n), from: f.From, to: f.To, proto: "tcp", port: f.Service.Port},
		)
	}
	return out
}

// TestTruthOfPlans builds what the planner has answered, in every story of the
// remedies, and sends what its intents want and what they do not: the boxes load what
// is handed over for them. A circuit's far address is in no design, so that the story
// of two stages is left to its walks. DRAVIN_TRUTH asks for every answer, not the
// first alone.
func TestTruthOfPlans(t *testing.T) {
	needs(t, "ip", "nft", "socat")
	_, err := strconv.Atoi(os.Getenv("DRAVIN_TRUTH"))
	every := err == nil
	var all []string
	for _, name := range []string{
		"two-gardens-alike", "partner", "hub-refusal", "tenants", "relay", "hub-alike", "peers", "kept-local",
		"through-a-network",
	} {
		d := story(t, name)
		p := proof.Of(route.Solve(d, status.Condition{}))
		for _, g := range overlap.Find(d) {
			q := translate.OfGroup(g)
			if len(q.Places) < 2 {
				continue
			}
			plan, err := translate.For(t.Context(), p, q)
			require.NoError(t, err)
			for n, o := range plan.Options {
				// Endpoints of a cloud are its own: no kernel has them.
				if o.Refused != "" || o.Remedy == translate.Endpoint || n > 0 && !every {
					continue
				}
				t.Run(name+" "+o.Key, func(t *testing.T) {
					next, _, err := d.Apply(o.Edits)
					require.NoError(t, err)
					e := estateOf(next, uint64(n))
					e.first = asked(t, next, route.Solve(next.On(e.side), status.Condition{}))
					all = append(all, differences(t, e, name+" "+o.Key, true, 12)...)
				})
			}
		}
	}
	assert.Empty(t, all, "%d differences:\n%s", len(all), strings.Join(all, "\n"))
}
