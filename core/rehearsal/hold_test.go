package rehearsal_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/rehearsal"
	"dravin/core/walk"
)

// answering is the host to which a flow comes by its proof, if it answers that.
func answering(p *rehearsal.Plan, f rehearsal.Flow) *rehearsal.Node {
	if !f.Proof.Works {
		return nil
	}
	last := f.Proof.Forward[len(f.Proof.Forward)-1]
	for _, n := range p.Nodes {
		asked := design.Service{Proto: last.Header.Proto, Port: last.Header.DPort}
		if n.Role == rehearsal.HostRole && (n.ID == last.At.ID || n.Place == last.At.ID) &&
			slices.Contains(n.Addresses, last.Header.Dst) &&
			(len(n.Answers) == 0 || f.Service.Proto == "icmp" || slices.Contains(n.Answers, asked)) {
			return n
		}
	}
	return nil
}

// What comes of a flow as it is proven is the same; whatever else comes of it is a difference: no answer, another one
// who answers, another address that is asked or that asks, an answer where none is due.
func TestWhatComesOtherwiseDiffers(t *testing.T) {
	answered, silent := 0, 0
	for name, d := range planned(t) {
		tables := under(d, design.Planned)
		p, err := rehearsal.Of(tables, 60)
		require.NoError(t, err)
		for _, f := range p.Flows {
			if f.Proof.Stop != nil && f.Proof.Stop.Code == walk.OnLinkElsewhere {
				continue // somebody else has the address and answers
			}
			host := answering(p, f)
			if host == nil {
				silent++
				got := rehearsal.Sent{Error: "timed out"}
				assert.True(t, p.HoldFlow(tables, f, got).Same, "%s: %s", name, f.Title)
				c := p.HoldFlow(tables, f, rehearsal.Sent{Answered: true, By: f.Node})
				assert.False(t, c.Same, "%s: %s", name, f.Title)
				assert.Contains(t, c.Proof, "no answer", f.Title)
				continue
			}
			answered++
			if f.Service.Proto == "icmp" {
				assert.True(t, p.HoldFlow(tables, f, rehearsal.Sent{Answered: true}).Same, "%s: %s", name, f.Title)
				assert.False(t, p.HoldFlow(tables, f, rehearsal.Sent{}).Same, "%s: %s", name, f.Title)
				continue
			}
			last := f.Proof.Forward[len(f.Proof.Forward)-1].Header
			right := rehearsal.Sent{Answered: true, By: host.Name, Source: last.Src, Asked: last.Dst}
			c := p.HoldFlow(tables, f, right)
			assert.True(t, c.Same, "%s: %s: %s, and %s", name, f.Title, c.Proof, c.Rehearsed)
			strange := netip.MustParseAddr("203.0.113.254")
			for what, wrong := range map[string]rehearsal.Sent{
				"nobody answers":      {Error: "timed out"},
				"another answers":     {Answered: true, By: "n-other", Source: last.Src, Asked: last.Dst},
				"another asks":        {Answered: true, By: host.Name, Source: strange, Asked: last.Dst},
				"asked under another": {Answered: true, By: host.Name, Source: last.Src, Asked: strange},
			} {
				c := p.HoldFlow(tables, f, wrong)
				assert.False(t, c.Same, "%s: %s: %s", name, f.Title, what)
				assert.NotEqual(t, c.Proof, c.Rehearsed, "%s: %s", what, f.Title)
			}
		}
	}
	assert.Greater(t, answered, 50)
	assert.Greater(t, silent, 50)
}

// Tunnels, sessions and tables differ exactly where they are not as proven; the report has those and no others.
func TestWhatStandsOtherwiseDiffers(t *testing.T) {
	shed, hut := netip.MustParsePrefix("10.214.0.0/22"), netip.MustParsePrefix("10.215.0.0/23")
	table := rehearsal.Table{Title: "gateway", Learned: []rehearsal.Learned{
		{Prefix: shed, Devices: []string{"dravin1", "dravin2"}}, {Prefix: hut, Devices: []string{"dravin1"}},
	}}
	shared, sends := table, rehearsal.Table{Sent: table.Learned[:1]}
	shared.Shares = true
	terms := []rehearsal.Term{
		{Name: "DPD", Value: "10 s"}, {Name: rehearsal.FarIdentity, Value: "@hill.example"}, {Name: "not expected"},
	}
	wire := rehearsal.Wire{Name: "tunnel 1", Why: "the keys differ"}
	r := rehearsal.Begin(&rehearsal.Plan{})
	for _, c := range []struct {
		check rehearsal.Check
		same  bool
		says  string
	}{
		{rehearsal.HoldTunnel(wire, false), true, "down: the keys differ"},
		{rehearsal.HoldTunnel(wire, true), false, "down: the keys differ"},
		{rehearsal.HoldTunnel(rehearsal.Wire{Up: true}, true), true, "up"},
		{rehearsal.HoldTunnel(rehearsal.Wire{Up: true}, false), false, "up"},
		{rehearsal.HoldSession(rehearsal.Session{Up: true}, true), true, "up"},
		{rehearsal.HoldSession(rehearsal.Session{Up: true}, false), false, "up"},
		{rehearsal.HoldSession(rehearsal.Session{}, true), false, "down"},
		{rehearsal.HoldTable(rehearsal.Table{}, nil, nil), true, "nothing"},
		{rehearsal.HoldTable(table, table.Learned, nil), true, "10.214.0.0/22 by dravin1, dravin2"},
		{rehearsal.HoldTable(table, []rehearsal.Learned{
			{Prefix: hut, Devices: []string{"dravin1"}}, {Prefix: shed, Devices: []string{"dravin2"}},
		}, nil), true, "10.215.0.0/23 by dravin1"}, // one of the devices that it may lead into
		{rehearsal.HoldTable(table, table.Learned[:1], nil), false, ""},
		{rehearsal.HoldTable(table, nil, nil), false, ""},
		{rehearsal.HoldTable(table, append(slices.Clone(table.Learned), rehearsal.Learned{
			Prefix: netip.MustParsePrefix("10.216.0.0/24"), Devices: []string{"dravin1"},
		}), nil), false, ""},
		{rehearsal.HoldTable(table, []rehearsal.Learned{
			table.Learned[0], {Prefix: hut, Devices: []string{"dravin2"}},
		}, nil), false, ""},
		{rehearsal.HoldTable(shared, []rehearsal.Learned{
			table.Learned[1], {Prefix: shed, Devices: []string{"dravin2"}},
		}, nil), false, ""}, // equal routes are used side by side
		{rehearsal.HoldTable(sends, nil, table.Learned), true, "sent: 10.214.0.0/22 by dravin1, dravin2"},
		{rehearsal.HoldTable(sends, nil, []rehearsal.Learned{{Prefix: shed, Devices: []string{"dravin1"}}}), false, ""},
		{rehearsal.HoldTerms("", "tunnel 1", terms, map[string]string{"DPD": "10 s", rehearsal.FarIdentity: "hill.example"}),
			true, "DPD: 10 s"},
		{rehearsal.HoldTerms("", "tunnel 1", terms, map[string]string{"DPD": "0 s", rehearsal.FarIdentity: "@hill.example"}),
			false, "DPD: 10 s"},
		{rehearsal.HoldTerms("", "tunnel 1", terms, nil), false, "DPD: 10 s"},
		{rehearsal.HoldTable(rehearsal.Table{}, table.Learned, nil), false, "nothing"},
	} {
		assert.Equal(t, c.same, c.check.Same, "%+v", c.check)
		assert.Contains(t, c.check.Proof, c.says)
		r.Checks = append(r.Checks, c.check)
	}
	differ := r.Differences()
	assert.Len(t, differ, 13)
	for _, c := range differ {
		assert.NotEqual(t, c.Proof, c.Rehearsed)
	}
}
