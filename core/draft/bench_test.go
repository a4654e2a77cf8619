package draft_test

import (
	"context"
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
)

// A thousand copies of a site of the demo, with its link.
func BenchmarkThousandCopies(b *testing.B) {
	d := thistledown(b)
	source := d.Find("peatside-nursery", design.KindSite)[0].ID
	for b.Loop() {
		_, err := draft.Like(
			context.Background(), allocation.NewBooks(d), source,
			draft.Numbered(allocation.NewBooks(d), "Garden #", 1000),
		)
		require.NoError(b, err)
	}
}

// One copy of a site with a thousand LANs.
func BenchmarkCopyOfAThousandLANs(b *testing.B) {
	d := thistledown(b)
	source := d.Find("dunmoss-arboretum", design.KindSite)[0].ID
	var edits []design.Edit
	for n := range 1000 {
		id := design.ID(fmt.Sprint("lan-", n))
		edits = append(
			edits,
			design.PutEdit(
				&design.Object{
					ID:     id,
					Kind:   design.KindLAN,
					Parent: source,
					Name:   fmt.Sprint("bed ", n),
					Body: &design.LAN{
						Prefixes: []netip.Prefix{
							netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 216, byte(n >> 4), byte(n << 4)}), 28),
						},
					},
				},
			),
		)
	}
	d, _, err := d.Apply(edits)
	require.NoError(b, err)
	for b.Loop() {
		_, err := draft.Like(context.Background(), allocation.NewBooks(d), source, []string{"another"})
		require.NoError(b, err)
	}
}
