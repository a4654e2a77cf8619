package translate_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/translate"
)

func TestMappedRangesKeepClearOfEverything(t *testing.T) {
	d := thistledown(t)
	used := allocation.ForMapping(d)
	for _, f := range prefix.Families {
		for bits := 17; bits <= 28; bits++ {
			length := bits
			if f == prefix.IPv6 {
				length += 32
			}
			p, why, ok := translate.Carve(d, f, length)
			require.True(t, ok)
			assert.NotEmpty(t, why)
			for _, u := range used {
				assert.False(t, u.Overlaps(p), "%s is used, %s was offered", u, p)
			}
			if f == prefix.IPv4 {
				assert.True(
					t, netip.MustParsePrefix("10.223.0.0/16").Contains(p.Addr()), "from what is reserved for mapping",
				)
			}
		}
	}
	_, _, ok := translate.Carve(d, prefix.IPv4, 15)
	assert.False(t, ok, "more than is reserved for mapping")
}

func TestWithoutAReservationThePrivateRangesServe(t *testing.T) {
	d := thistledown(t)
	r := d.Find("mapped-ranges", design.KindReservation)[0]
	d, _, err := d.Apply([]design.Edit{{Op: design.Remove, ID: r.ID}})
	require.NoError(t, err)
	p := best(t, d)
	assert.Equal(t, 3, p.Holding)
	assert.Contains(t, p.Why, "none is reserved for mapping")
	for _, used := range allocation.ForMapping(d) {
		assert.False(t, used.Overlaps(p.Maps[0].Mapped))
	}
}
