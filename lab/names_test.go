package lab_test

import (
	"cmp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

// Whatever a walk reaches, and is answered by, its caller knows by the address that it dialled:
// names are asked of the same steps as walks. DRAVIN_TRUTH is how many estates of each kind.
func TestTruthOfNames(t *testing.T) {
	reached := 0
	for n := range number("DRAVIN_TRUTH", 60) {
		seed := uint64(firstSeed + n)
		for _, e := range []*estate{newEstate(seed, true), newTranslating(seed)} {
			tables := route.Solve(e.d.On(e.side), status.Condition{})
			for _, to := range e.d.Of(design.KindEndpoint) {
				for _, from := range e.d.Of(design.KindEndpoint) {
					if e.d.Party(from.ID) != e.d.Party(to.ID) {
						reached += calledAsReached(t, tables, from, to)
					}
				}
			}
		}
	}
	assert.Greater(t, reached, 1000)
}

// calledAsReached walks from one host to all addresses of another, and counts those by which it
// is answered.
func calledAsReached(t *testing.T, tables *route.Tables, from, to *design.Object) (reached int) {
	d := tables.Design
	source, real := from.Body.(*design.Endpoint).Addresses[0], to.Body.(*design.Endpoint).Addresses[0]
	known := walk.NamesFor(tables, from.Parent, to, real)
	for _, n := range append(walk.OtherNames(tables, to, real), walk.Name{Address: real}) {
		p := walk.Prove(tables, walk.Flow{
			From: walk.Host{Place: from.Parent, Endpoint: from.ID, Address: source}, To: n.Address,
			Service: cmp.Or(n.Service, design.Service{Proto: "icmp"}),
		})
		if n.Address.Is4() != source.Is4() || !p.Works || p.To.ID != to.ID {
			continue
		}
		reached++
		assert.True(
			t, slices.ContainsFunc(known, func(k walk.Name) bool { return k.Address == n.Address }),
			"%s reaches %s at %s and is said to know it as %v", d.Path(from.ID), d.Path(to.ID), n.Address, known,
		)
	}
	return reached
}
