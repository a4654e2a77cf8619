package negotiate_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravin/core/negotiate"
)

func TestIdentities(t *testing.T) {
	for text, want := range map[string]negotiate.IdentityType{
		"198.51.100.10": negotiate.IDAddress, "2001:db8::1": negotiate.IDAddress,
		"gateway.example": negotiate.IDName, "@gateway.example": negotiate.IDName, "hut-3": negotiate.IDName,
		"gardener@hut.example": negotiate.IDMail, "keyid:hut/3": negotiate.IDKey,
	} {
		got, err := negotiate.ParseIdentity(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got.Type, text)
		again, err := negotiate.ParseIdentity(got.String())
		assert.NoError(t, err)
		assert.Equal(t, got, again, "what is written is read as the same")
	}
	for _, text := range []string{
		"", " ", "%any", "a b", "a\nb", `a"b`, "a{b", "a#b", "a..b", "-a", "a@b@c", "fe80::1%eth0", "keyid:",
		"keyid:a b", "CN=hut, O=trust", "*", "@", string(make([]byte, 300)),
	} {
		_, err := negotiate.ParseIdentity(text)
		assert.Error(t, err, "%q", text)
	}
}

func TestCommunities(t *testing.T) {
	for text, want := range map[string]negotiate.Community{
		"64501:20":       {Values: [3]uint32{64501, 20}},
		"4200000001:1:2": {Large: true, Values: [3]uint32{4200000001, 1, 2}},
		"no-export":      {Values: [3]uint32{65535, 65281}},
		"0:0":            {},
	} {
		got, err := negotiate.ParseCommunity(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "64501", "64501:", ":1", "65536:1", "1:65536", "1:2:3:4", "-1:2", "+1:2", "1 :2",
		"no-exports", "1:2)); accept; } #", "4294967296:1:1"} {
		_, err := negotiate.ParseCommunity(text)
		assert.Error(t, err, "%q", text)
	}
}
