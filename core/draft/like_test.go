package draft_test

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/demo"
)

func TestCopiesOfEveryParty(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	for _, o := range d.Inside("", design.KindSite, design.KindNetwork, design.KindOutside) {
		t.Run(o.Name, func(t *testing.T) {
			c, err := draft.Like(
				context.Background(), allocation.NewBooks(d), o.ID, draft.Numbered(allocation.NewBooks(d), "Copy #", 2),
			)
			require.NoError(t, err)
			require.Len(t, c.Made, 2)
			next, _, err := d.Apply(c.Edits)
			require.NoError(t, err)
			one := next.Get(c.Made[0])
			assert.Equal(t, "Copy 1", one.Name)
			for _, at := range c.Made {
				assert.Len(t, next.Inside(at), len(d.Inside(o.ID)))
				for _, place := range append(next.Inside(at, design.HostPlaces...), next.Get(at)) {
					for n, p := range design.RangesOf(place) {
						old := d.Get(o.ID)
						if place.ID != at {
							old = d.Find(d.Path(o.ID) + "/" + design.Slug(place.Name))[0]
						}
						fixed, _ := old.Body.(*design.LAN)
						assert.Equal(
							t, fixed != nil && fixed.Fixed, design.RangesOf(old)[n] == p, "%s %s", place.Name, p,
						)
					}
				}
			}
		})
	}
}

func TestACopyJoinsAsItsModelOnceItHasAnAddress(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	c, err := draft.Like(
		context.Background(), allocation.NewBooks(d), d.Find("saltmarsh-station")[0].ID, []string{"Fenside Station"},
	)
	require.NoError(t, err)
	d, _, err = d.Apply(c.Edits)
	require.NoError(t, err)
	gateway := d.Find("fenside-station/gateway")[0]
	g := *gateway.Body.(*design.Gateway)
	g.Addresses = append(g.Addresses, d.Find("peatside-nursery/gateway")[0].Body.(*design.Gateway).Addresses[0].Next())
	edits := []design.Edit{design.PutEdit(gateway.With(&g))}
	link := d.Find("fenside-station-to-image-analysis")[0]
	for _, tunnel := range d.Inside(link.ID, design.KindTunnel) {
		b := *tunnel.Body.(*design.Tunnel)
		b.Outside = slices.Clone(b.Outside)
		b.Outside[0] = g.Addresses[0]
		edits = append(edits, design.PutEdit(tunnel.With(&b)))
	}
	d, _, err = d.Apply(edits)
	require.NoError(t, err)
	up := topology.Status(d, status.Condition{})
	for _, o := range append(d.Inside(link.ID), link) {
		assert.True(t, up.Of(o.ID).Up, "%s: %s", o.Name, up.Of(o.ID).Why)
	}
	ends := link.Body.(*design.Link).Ends
	assert.Equal(
		t, d.Ranges(d.Find("fenside-station/tide-laboratory")[0].ID)[0], ends[1].Routes[0],
		"the far end sends the copy's ranges",
	)
}

func TestWhatCanNotBeCopiedSaysWhy(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	_, err = draft.Like(context.Background(), allocation.NewBooks(d), d.Find("millrace")[0].ID, []string{"Weir"})
	assert.ErrorContains(t, err, "can not be copied; choose a site")
	_, err = draft.Like(context.Background(), allocation.NewBooks(d), d.Find("alder-hut")[0].ID, []string{"Birch Hut"})
	assert.ErrorContains(t, err, "Birch Hut: the name is taken")
}
