package prefix_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dravin/core/prefix"
)

// Ranges are read as people write them.
func TestRangesAsPeopleWriteThem(t *testing.T) {
	for _, c := range []struct{ text, mask, is, said string }{
		{"10.212.4.0/22", "", "10.212.4.0/22", ""},
		{"10.212.4.0 255.255.252.0", "", "10.212.4.0/22", "is read as"},
		{"10.212.4.0/255.255.252.0", "", "10.212.4.0/22", "is read as"},
		{"10.212.4.0 0.0.3.255", "", "10.212.4.0/22", "is read as"},
		{"10.212.4.0", "255.255.252.0", "10.212.4.0/22", "is read as"},
		{"10.212.4.0", "/22", "10.212.4.0/22", ""},
		{"10.212.4.0", "22.0", "10.212.4.0/22", ""},
		{" 10.212.4.0 / 22 ", "", "10.212.4.0/22", ""},
		{"10.212.24/22", "", "10.212.24.0/22", "is read as"},
		{"10.212.24.x/24", "", "10.212.24.0/24", "is read as"},
		{"10.212.4.7/22", "", "10.212.4.0/22", "is a host's address"},
		{"10.212.2.0-10.212.3.255", "", "10.212.2.0/23", "is made up of"},
		{"10.212.2.0 – 10.212.4.255", "", "10.212.2.0/23 10.212.4.0/24", "is made up of"},
		{"10.212.2.10-20", "", "10.212.2.10/31 10.212.2.12/30 10.212.2.16/30 10.212.2.20/32", "is made up of"},
		{"2001:db8:1::/64", "", "2001:db8:1::/64", ""},
		{"'10.212.4.0/22", "", "10.212.4.0/22", ""},
	} {
		got, err := prefix.ReadLoose(c.text, c.mask)
		require.NoError(t, err, c.text)
		var list string
		for n, p := range got.Prefixes {
			if n > 0 {
				list += " "
			}
			list += p.String()
		}
		assert.Equal(t, c.is, list, c.text)
		assert.Contains(t, got.Said, c.said, c.text)
		assert.Equal(t, c.said == "", got.Said == "", c.text)
	}
	for _, text := range []string{
		"", "soon", "10.212.4.0", "10.212.4.0/33", "10.212.4.0 255.0.255.0", "10.212.4.0-10.212.1.0", "10/8", "10.1.2.3.4/8",
		"2001:db8::/129", "-",
	} {
		_, err := prefix.ReadLoose(text, "")
		assert.Error(t, err, text)
	}
	assert.Equal(
		t, []string{"10.212.4.0/22", "10.212.8.0 255.255.255.0", "10.1.0.0/16", "10.2.0.0/16"},
		prefix.SplitRanges("10.212.4.0/22, 10.212.8.0 255.255.255.0\n10.1.0.0/16 10.2.0.0/16"),
	)
}

// A span holds the addresses from its first to its last, and no other.
func TestASpanIsMadeUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := rapid.Uint32Range(0, 5000).Draw(t, "from")
		b := rapid.Uint32Range(a, a+5000).Draw(t, "to")
		at := func(n uint32) netip.Addr { return netip.AddrFrom4([4]byte{10, 212, byte(n >> 8), byte(n)}) }
		got, err := prefix.ReadLoose(fmt.Sprintf("%s-%s", at(a), at(b)), "")
		if err != nil {
			t.Fatal(err)
		}
		next := at(a)
		for _, p := range got.Prefixes {
			if p.Addr() != next || p != p.Masked() {
				t.Fatalf("%s after %s", p, next)
			}
			next = prefix.Last(p).Next()
		}
		if next != at(b).Next() {
			t.Fatalf("ends at %s", next)
		}
	})
}
