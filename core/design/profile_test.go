package design

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dravin/core/provider"
)

func TestShippedProfilesDifferAndSurviveWriting(t *testing.T) {
	all := ShippedProfiles()
	require.Len(t, all, 3)
	for _, p := range all {
		text, err := WriteProfile(p.Name, p.Profile)
		require.NoError(t, err)
		name, back, err := ReadProfile(text)
		require.NoError(t, err)
		assert.Equal(t, p.Name, name)
		assert.Equal(t, p.Profile, back)
	}
}

func TestBadProfilesAreRefusedWithPlaceAndReason(t *testing.T) {
	tarn, err := provider.Shipped.ReadFile("tarn.yaml")
	require.NoError(t, err)
	for _, c := range []struct{ old, new, at, why string }{
		{"dravin-profile: 1", "dravin-profile: 2", "line 1, column 17", "this Dravin reads version 1"},
		{"dravin-profile: 1\n", "", "line 1", `begins with the line "dravin-profile: 1"`},
		{"name: Tarn\n", "", "line 1", "name the cloud"},
		{"tables: subnet", "tables: house", "line 12", "write one of subnet, network"},
		{"bits: 30", "bits: 32", "line 36", "no range for two ends"},
		{"tunnels: 2", "tunnels: 0", "line 26", "a link needs a tunnel"},
		{`gateway_hour: "0.02"`, `gateway_hour: cheap`, "line 70", "is not an amount"},
		{"reserved: [169.254.128.0/23,", "reserved: [10.0.0.0/8,", "line 37", "outside the inside space"},
		{"speeds: [40, 150,", "speeds: [150, 40,", "line 44", "list the slowest first"},
		{"name: Tarn\n", "name: \"Tarn\\e[31m\"\n", "line 2", "holds a control character"},
		{"name: Tarn\n", "name: T\xe4rn\n", "line 2, column 8", "not in UTF-8"},
		{"speeds: [40, 150,", "speeds: [40, ~,", "line 44", "is nothing"},
		{"preference: [", "preference: [~, ", "line 15", "is empty"},
		{"peering:\n", "pairing:\n", "line 17", "is not known here"},
		{string(tarn), "", "line 1, column 1", "a profile file begins with"},
	} {
		text := strings.Replace(string(tarn), c.old, c.new, 1)
		require.NotEqual(t, string(tarn), text, c.old)
		_, _, err := ReadProfile([]byte(text))
		require.ErrorContains(t, err, c.why)
		assert.Contains(t, err.Error(), c.at, c.new)
	}
}

func TestOwnProfileGoesBeforeTheShippedOne(t *testing.T) {
	d, err := Read([]byte("dravin: 1\nprofiles:\n  - name: tarn\n    peering: {lend_gateway: true}\n  - name: Rush\n"))
	require.NoError(t, err)
	assert.True(t, d.Profile("Tarn").Peering.LendGateway)
	assert.NotNil(t, d.Profile("rush"))
	assert.Len(t, d.Profiles(), 4)
	again, err := d.Write()
	require.NoError(t, err)
	back, err := Read(again)
	require.NoError(t, err)
	assert.Empty(t, d.EditsTo(back))
	_, err = Read(
		[]byte(
			"dravin: 1\nprofiles:\n  - name: Rush\n    vpn:\n      - name: x\n        at: network\n        " +
				"tunnels: 0\n    " +
				"    addresses: 1\n        routing: static\n        ike: a\n        esp: b\n",
		),
	)
	assert.ErrorContains(t, err, "line 7")
}

// Whatever a profile file is damaged into, it is refused with a place, or read
// and written back the same.
func TestDamagedProfilesAreRefusedOrSurvive(t *testing.T) {
	files := map[string][]byte{}
	for _, name := range []string{"tarn.yaml", "osier.yaml", "sedge.yaml"} {
		text, err := provider.Shipped.ReadFile(name)
		require.NoError(t, err)
		files[name] = text
	}
	rapid.Check(t, func(rt *rapid.T) {
		file := slices.Clone(
			files[rapid.SampledFrom([]string{"osier.yaml", "sedge.yaml", "tarn.yaml"}).Draw(rt, "file")],
		)
		for range rapid.IntRange(1, 6).Draw(rt, "damages") {
			file[rapid.IntRange(0, len(file)-1).Draw(rt, "where")] = rapid.SampledFrom(
				[]byte(" \n:-[]{}\"#019azAZ.,/&*"),
			).Draw(rt, "what")
		}
		name, p, err := ReadProfile(file)
		if err != nil {
			var problems Problems
			require.ErrorAs(rt, err, &problems)
			require.Positive(rt, problems[0].Line)
			return
		}
		text, err := WriteProfile(name, p)
		require.NoError(rt, err)
		again, back, err := ReadProfile(text)
		require.NoError(rt, err, "what is written can be read")
		require.Equal(rt, name, again)
		require.Equal(rt, p, back)
	})
}
