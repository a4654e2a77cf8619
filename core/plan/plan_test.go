package plan_test

import (
	"context"
	"net/netip"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/command"
	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/core/plan"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/translate"
	"dravin/lab/estates"
)

func said(t testing.TB, lines string) *design.Design {
	d := design.New("said", nil)
	u, err := command.Understand(context.Background(), d, lines, "")
	require.NoError(t, err)
	require.False(t, u.Wrong, "%+v", u.Lines)
	return apply(t, d, u.Edits)
}

func apply(t testing.TB, d *design.Design, edits []design.Edit) *design.Design {
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	return next
}

func planned(t testing.TB, d *design.Design, q plan.Question) plan.Plan {
	p, err := plan.For(
		context.Background(), proof.Of(route.Solve(d, status.Condition{})), q, nil,
	)
	require.NoError(t, err)
	return p
}

// number is how many random estates a test looks at: as many as the environment says, or so many.
func number(usual int) int {
	if n, err := strconv.Atoi(os.Getenv("DRAVIN_ESTATES")); err == nil {
		return n
	}
	return usual
}

// granted is a design in which every request is accepted.
func granted(t testing.TB, d *design.Design) *design.Design {
	for _, r := range d.Of(design.KindRequest) {
		if r.Body.(*design.Request).Answer == "" {
			edits, err := lifecycle.Answer(d, r, true, "welcome")
			require.NoError(t, err)
			d = apply(t, d, edits)
		}
	}
	return d
}

func parties(t testing.TB, d *design.Design, paths ...string) (out []design.ID) {
	for _, path := range paths {
		found := d.Find(path, design.Parties...)
		require.Len(t, found, 1, path)
		out = append(out, found[0].ID)
	}
	return out
}

// gardens are two with the same range, and a network, of which nothing is joined.
const gardens = `site Old Orangery with lan glasshouse 192.168.216.0/24, gateway 203.0.113.10
site Peatside Nursery with lan glasshouse 192.168.216.0/24, gateway 203.0.113.11
network catalogue in Tarn 10.208.0.0/20, subnet shelf 10.208.0.0/24
host controller in Old Orangery glasshouse 192.168.216.10 answers tcp/502
host panel in Peatside Nursery glasshouse 192.168.216.10 answers tcp/443
host logger in catalogue shelf 10.208.0.20 answers tcp/6514
Old Orangery glasshouse must reach Peatside Nursery glasshouse panel on tcp/443
Peatside Nursery glasshouse must reach catalogue shelf logger on tcp/6514
catalogue shelf must reach Old Orangery glasshouse controller on tcp/502`

// From an empty page, what is not joined and collides is joined and translated in one plan.
func TestTwoGardensAndANetwork(t *testing.T) {
	d := said(t, gardens)
	p := planned(t, d, plan.Question{Parties: parties(t, d, "old-orangery", "peatside-nursery", "catalogue")})
	require.NotEmpty(t, p.Options)
	o := p.Options[0]
	assert.Empty(t, o.Refused)
	assert.Equal(t, 3, o.Holding)
	assert.Len(t, p.Apart, 3)
	assert.Equal(t, translate.Map, o.Remedy)
	assert.NotEmpty(t, o.Joints)
	assert.NotEmpty(t, o.First)
	for _, r := range proof.Of(route.Solve(apply(t, d, o.Edits), status.Condition{})).All() {
		assert.True(t, r.Holds, r.Name)
	}
}

// Whatever is joined by asking for it works between every two of its places.
func TestWhatIsJoinedWorks(t *testing.T) {
	joined := 0
	for seed := range number(16) {
		d := estates.Make(uint64(seed), estates.Options{Segments: seed%3 == 0, Joined: seed%2 == 0})
		parties := d.Inside("", design.KindSite, design.KindNetwork, design.KindHub, design.KindEdgeRouter)
		for i, a := range parties {
			for _, b := range parties[i+1:] {
				for _, by := range []string{"vpn-bgp", "vpn-static", "vpn-selectors", "peering", "hub", "circuit"} {
					p := planned(t, d, plan.Question{
						Parties: []design.ID{a.ID, b.ID}, By: []string{by}, Untouched: true,
					})
					for _, o := range p.Options {
						if o.Shape != "" {
							assert.Empty(t, o.Refused, "seed %d: %s", seed, o.Title)
							joined++
						}
					}
				}
			}
		}
	}
	assert.Greater(t, joined, 300)
}

// Whatever is called proven is so when it is applied and solved from nothing.
func TestWhatIsProvenHolds(t *testing.T) {
	options := 0
	for seed := range number(30) {
		d := estates.Make(uint64(seed), estates.Options{
			Collisions: true, Intents: true, Segments: seed%5 == 0, Joined: seed%2 == 0,
		})
		before := proof.Of(route.Solve(d, status.Condition{}))
		var intents []design.ID
		for _, r := range before.All() {
			if !r.Never {
				intents = append(intents, r.Intent)
			}
		}
		if len(intents) == 0 {
			continue
		}
		for _, o := range planned(t, d, plan.Question{Intents: intents}).Options {
			if o.Refused != "" {
				continue
			}
			options++
			next := granted(t, apply(t, d, o.Edits))
			for _, r := range proof.Of(route.Solve(next, status.Condition{})).All() {
				if !r.Never || before.Intent(r.Intent).Holds {
					assert.True(t, r.Holds, "seed %d: %s: %s", seed, o.Title, r.Name)
				}
			}
		}
	}
	assert.Greater(t, options, 60)
}

func mustPrefix(text string) netip.Prefix { return netip.MustParsePrefix(text) }

func prefixes(texts ...string) (out []netip.Prefix) {
	for _, text := range texts {
		out = append(out, mustPrefix(text))
	}
	return out
}
