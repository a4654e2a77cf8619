package defaults_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dravin/core/defaults"
	"dravin/core/design"
)

// A filler that is told every change answers as one that has just read the design.
func TestAFillerKeepsUp(t *testing.T) {
	start := trust(t)
	kinds := []design.Kind{design.KindLAN, design.KindSubnet, design.KindNetwork, design.KindInnerRoute}
	rapid.Check(t, func(t *rapid.T) {
		s := start.Scratch()
		d := s.Design()
		kept := defaults.New(d)
		for n := range rapid.IntRange(1, 12).Draw(t, "steps") {
			kind := rapid.SampledFrom(append(kinds, design.KindGateway)).Draw(t, "kind")
			if len(d.Of(kind)) == 0 {
				continue
			}
			o := rapid.SampledFrom(d.Of(kind)).Draw(t, "object")
			edits := []design.Edit{design.PutEdit(changed(t, o, n))}
			if rapid.IntRange(0, 3).Draw(t, "removed") == 0 && len(d.Of(kind)) > 1 {
				edits = d.Removal(o.ID).Edits
			}
			s.SketchEach(edits, kept.Changed)

			w := defaults.Wanted{
				Kind: rapid.SampledFrom(kinds).Draw(t, "for"), Parent: o.Parent,
				Bits: rapid.SampledFrom([]int{0, 0, 24, 28}).Draw(t, "bits"),
			}
			if rapid.Bool().Draw(t, "within") {
				w.Within = netip.MustParsePrefix(
					rapid.SampledFrom([]string{"10.208.0.0/16", "10.212.0.0/14", "2001:db8:40::/48"}).Draw(t, "in"),
				)
				w.Bits = rapid.IntRange(w.Within.Bits(), w.Within.Addr().BitLen()).Draw(t, "bits within")
			}
			fresh := defaults.New(d)
			for range 2 { // the second time what was found before helps
				got, why, err := kept.Range(w)
				want, reason, refused := fresh.Range(w)
				require.Equal(t, fmt.Sprint(want, reason, refused), fmt.Sprint(got, why, err), "%+v", w)
			}
			asn, _ := kept.ASN()
			wanted, _ := fresh.ASN()
			require.Equal(t, wanted, asn)
			for _, name := range []string{o.Name, "new 1"} {
				got, id := kept.Books().Beside(o.Kind, o.Parent, name)
				want, wantID := fresh.Books().Beside(o.Kind, o.Parent, name)
				require.Equal(t, want+string(wantID), got+string(id))
				require.ElementsMatch(
					t, fresh.Books().Named(o.Kind, o.Parent, name), kept.Books().Named(o.Kind, o.Parent, name),
				)
			}
		}
	})
}

// changed is an object with another name, range or ASN, or another beside it.
func changed(t *rapid.T, o *design.Object, n int) *design.Object {
	c := *o
	if rapid.Bool().Draw(t, "another") {
		c.ID, c.Name = design.ID(fmt.Sprint("made", n)), fmt.Sprint("New ", rapid.IntRange(1, 3).Draw(t, "name"))
	}
	ranges := []netip.Prefix{
		netip.PrefixFrom(
			netip.AddrFrom4(
				[4]byte{
					10, byte(rapid.IntRange(208, 215).Draw(t, "near")), byte(rapid.IntRange(0, 3).Draw(t, "at")), 0,
				},
			),
			rapid.SampledFrom([]int{22, 24, 24, 26}).Draw(t, "size"),
		).Masked(),
	}
	switch b := o.Body.(type) {
	case *design.LAN:
		x := *b
		x.Prefixes, c.Body = ranges, &x
	case *design.Subnet:
		x := *b
		x.Prefixes, c.Body = ranges, &x
	case *design.Network:
		x := *b
		x.Blocks, c.Body = ranges, &x
	case *design.Gateway:
		x := *b
		x.ASN, c.Body = uint32(4200000000+rapid.IntRange(0, 3).Draw(t, "asn")), &x
	}
	return &c
}
