package cost_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/provider"
)

func profile(t *testing.T, name string) *provider.Profile {
	p := (&design.Design{}).Profile(name)
	require.NotNil(t, p)
	return p
}

// The figures of small estates, counted by hand.
func TestStudyCounts(t *testing.T) {
	s := cost.Compare(profile(t, "Tarn"), cost.Assumptions{Tables: 2, GB: 1000, Present: 4})
	assert.Equal(t, []cost.Shape{cost.Pairwise, cost.OneHub, cost.TwoHubs}, s.Shapes)
	require.Len(t, s.Sizes, cost.StudyTo-cost.StudyFrom+1)
	three := s.Sizes[0].Points
	// Three pairs make six halves; each of three networks enters two blocks in two tables.
	assert.Equal(t, cost.Point{Objects: 6, Entries: 12, Steps: 18, Monthly: money(t, "72")}, *three[cost.Pairwise])
	// One hub and three attachments; an entry in each of six tables.
	assert.Equal(t, cost.Point{Objects: 4, Entries: 6, Steps: 3, Monthly: money(t, "194.4")}, *three[cost.OneHub])
	assert.Equal(t, uint32(12), s.Present.Points[cost.Pairwise].Objects)
	last := s.Sizes[len(s.Sizes)-1].Points
	assert.Equal(t, uint32(50*49), last[cost.Pairwise].Objects)
	assert.Contains(
		t, strings.Join(s.Sentences, "\n"),
		"One hub takes fewer steps for the next network than pairwise peering, for any number from 3 to 50",
	)
	assert.Contains(
		t, s.Sentences,
		"Two hubs take fewer steps for the next network than pairwise peering, for any number from 3 to 50",
	)
	// Ten networks: peering 60 steps and 240 a month, a hub 3 and 648.
	assert.Contains(
		t, s.Sentences, "At 10 networks a hub saves 57 steps with each addition and costs 408.00 more a month",
	)
}

func TestStudyFollowsTheProfile(t *testing.T) {
	s := cost.Compare(profile(t, "Sedge"), cost.Assumptions{Tables: 1, GB: 1000})
	// Sedge allows 31 peerings to a network.
	assert.NotNil(t, s.Sizes[32-cost.StudyFrom].Points[cost.Pairwise])
	assert.Nil(t, s.Sizes[33-cost.StudyFrom].Points[cost.Pairwise])
	assert.Contains(
		t, strings.Join(s.Sentences, "\n"), "from 33 networks on pairwise peering is beyond the cloud's limits",
	)
	assert.Zero(t, s.Sizes[0].Points[cost.OneHub].Entries, "Sedge needs no entries")

	s = cost.Compare(profile(t, "Osier"), cost.Assumptions{Tables: 1, GB: 1000})
	assert.Equal(t, []cost.Shape{cost.Pairwise}, s.Shapes)
	assert.Equal(t, []string{"this cloud has no hub"}, s.Out)

	far := *profile(t, "Osier")
	far.Peering = &provider.Peering{}
	s = cost.Compare(&far, cost.Assumptions{Tables: 1, Regional: true})
	assert.Contains(t, s.Out, "this cloud has no peering between regions")
}

// Where a hub's attachments cost little and its traffic less than peering's, it
// pays from some size on, and the sentence says from which.
func TestCrossoverIsSaid(t *testing.T) {
	p := *profile(t, "Tarn")
	p.Prices = provider.Prices{
		HubHour: money(t, "0.1"), AttachmentHour: money(t, "0.001"), HubGB: money(t, "0.01"),
		PeeringGB: money(t, "0.01"),
	}
	s := cost.Compare(&p, cost.Assumptions{Tables: 1, GB: 1000})
	// Peering: 20 a network. Hub: 73 and 10.73 a network. 9.27 n > 73 from n = 8.
	assert.Contains(
		t,
		s.Sentences,
		"Pairwise peering costs less a month than one hub; from 8 networks on one hub costs less a month than pairwise "+
			"peering",
	)
}

func money(t *testing.T, text string) provider.Money {
	m, err := provider.ParseMoney(text)
	require.NoError(t, err)
	return m
}

func TestMoneyIsReadAndWritten(t *testing.T) {
	for in, out := range map[string]string{"36": "36.00", "0.05": "0.05", "0.000125": "0.000125", "1.5": "1.50"} {
		assert.Equal(t, out, money(t, in).String())
	}
	for _, bad := range []string{"", "-1", "1.2.3", "0.1234567", "ten", "99999999999"} {
		_, err := provider.ParseMoney(bad)
		assert.ErrorContains(t, err, "is not an amount", bad)
	}
}
