package rehearsal_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/rehearsal"
	"dravin/core/walk"
	"dravin/lab/estates"
)

// Gateways whose public address nobody knows yet are lent one each, which is told; what is proven stays as it was.
func TestUnknownAddressesAreLent(t *testing.T) {
	lent := 0
	for seed := range uint64(24) {
		d := estates.Make(seed, estates.Options{
			Joined: true, Intents: true, Collisions: seed%2 == 0, Segments: seed%3 == 0,
		})
		before := len(d.All())
		a, told, err := rehearsal.Addressed(d)
		require.NoError(t, err, "seed %d", seed)
		lent += len(told)
		assert.Len(t, a.All(), before)
		assert.LessOrEqual(t, len(d.EditsTo(a)), len(told), "seed %d: a sentence for each address", seed)
		for _, tunnel := range a.Of(design.KindTunnel) {
			out := a.OutsideOf(tunnel)
			for n := range out {
				assert.True(t, out[n].IsValid() && !out[n].IsUnspecified(), "seed %d: %s has no end", seed, a.Title(tunnel.ID))
			}
		}
		then, now := under(d, design.Planned), under(a, design.Planned)
		for in, body := range design.Each[design.Intent](d.Of(design.KindIntent)) {
			f, err := walk.FlowBetween(then, body.From, body.To, body.Service)
			if err != nil {
				continue
			}
			was, is := walk.Prove(then, f), walk.Prove(now, f)
			assert.Equal(t, was.Works, is.Works, "seed %d: %s", seed, in.Name)
		}
		again, none, err := rehearsal.Addressed(a)
		require.NoError(t, err)
		assert.Empty(t, none, "what is known is lent nothing")
		assert.Empty(t, a.EditsTo(again))
	}
	assert.Greater(t, lent, 5, "random estates have such gateways")
}

// An address that anything has is lent to nobody, and where none is left that is said.
func TestNoAddressIsLentTwice(t *testing.T) {
	var d *design.Design
	var told []string
	for seed := uint64(0); len(told) == 0; seed++ {
		var err error
		d = estates.Make(seed, estates.Options{Joined: true})
		_, told, err = rehearsal.Addressed(d)
		require.NoError(t, err)
	}
	assert.Contains(t, told[0], "203.0.113.193 stands for it")
	site := d.Of(design.KindSite)[0]
	lan := func(name, text string) *design.Design {
		o := &design.Object{
			ID: "lanofdocuments00", Kind: design.KindLAN, Parent: site.ID, Name: name,
			Body: &design.LAN{Prefixes: []netip.Prefix{netip.MustParsePrefix(text)}},
		}
		next, _, err := d.Apply([]design.Edit{design.PutEdit(o)})
		require.NoError(t, err)
		return next
	}
	_, told, err := rehearsal.Addressed(lan("narrow", "203.0.113.192/29"))
	require.NoError(t, err)
	assert.Contains(t, told[0], "203.0.113.200 stands for it")
	_, _, err = rehearsal.Addressed(lan("wide", "203.0.113.192/26"))
	assert.ErrorContains(t, err, "no address of 203.0.113.192/26 is free")
}
