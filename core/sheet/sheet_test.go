package sheet_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/sheet"
	"dravin/demo"
)

func thistledown(t testing.TB) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}

func find(t testing.TB, d *design.Design, path string, kind design.Kind) *design.Object {
	found := d.Find(path, kind)
	require.Len(t, found, 1, path)
	return found[0]
}

func FuzzReadSent(f *testing.F) {
	f.Add("connections { a { local { id = x } } }")
	f.Add("our address: 203.0.113.20\nike: aes256-sha256-ecp256")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := sheet.ReadSent(text, netip.Addr{}, netip.Addr{})
		if err == nil && len(s.Given) == 0 {
			t.Fatal("nothing was understood and nobody was told")
		}
	})
}
