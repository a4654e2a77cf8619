package walk_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

// A chain of three sites: A and B over a route-based link, B and C over a
// policy-based one; B has two gateways and an inner router.
const chain = `dravin: 1
sites:
  - name: A
    gateways: [{name: gw, addresses: 198.51.100.1}]
    lans:
      - name: lan
        prefixes: [10.221.0.0/24, "2001:db8:1::/64"]
        endpoints: [{name: host a, addresses: [10.221.0.9, "2001:db8:1::9"]}]
  - name: B
    gateways:
      - {name: gw one, addresses: 198.51.100.2}
      - {name: gw two, addresses: 198.51.100.3}
    lans:
      - name: lan
        prefixes: 10.222.0.0/24
        gateways: [b/gw-one, b/gw-two]
        endpoints: [{name: host b, addresses: 10.222.0.9, answers: [tcp/22, udp/53]}]
      - name: back room
        prefixes: 10.222.1.0/24
        gateways: b/gw-two
        endpoints: [{name: printer, addresses: 10.222.1.9}]
    inner_routes:
      - name: farm
        prefixes: 10.212.0.0/16
        via: 10.222.0.254
        endpoints: [{name: pump, addresses: 10.212.7.7, answers: tcp/502}]
  - name: C
    gateways: [{name: gw, addresses: 198.51.100.4}]
    lans:
      - name: lan
        prefixes: 10.223.0.0/24
        endpoints: [{name: host c, addresses: 10.223.0.9}]
links:
  - name: A to B
    routing: static
    ends:
      - {gateway: a/gw, routes: [10.222.0.0/16, 10.212.0.0/16, 10.223.0.0/24]}
      - {gateway: b/gw-one, routes: [10.221.0.0/24]}
    tunnels: [{name: tunnel, outside: [198.51.100.1, 198.51.100.2]}]
  - name: B to C
    routing: selectors
    ends:
      - {gateway: b/gw-one, local: [10.222.0.0/24, 10.212.0.0/16], remote: [10.223.0.0/24]}
      - {gateway: c/gw, local: [10.223.0.0/24], remote: [10.222.0.0/24, 10.212.0.0/16]}
    tunnels: [{name: tunnel, outside: [198.51.100.2, 198.51.100.4]}]
`

func solve(t require.TestingT, file string) *route.Tables {
	d, err := design.Read([]byte(file))
	require.NoError(t, err)
	return route.Solve(d, status.Condition{})
}

func prove(t require.TestingT, tables *route.Tables, from, to, service string) walk.Proof {
	s, err := design.ParseService(service)
	require.NoError(t, err)
	flow, err := walk.ParseFlow(tables, from, to, s)
	require.NoError(t, err)
	return walk.Prove(tables, flow)
}

func TestWalksOverAChain(t *testing.T) {
	for name, c := range map[string]struct {
		from, to, service string
		stop              walk.Code // empty: works
		at                string
	}{
		"to the next site":                         {"host-a", "host-b", "tcp/22", "", ""},
		"a service that is not answered":           {"host-a", "host-b", "tcp/23", walk.NotAnswered, "B lan host b"},
		"icmp needs no port":                       {"host-a", "host-b", "icmp", "", ""},
		"behind the inner router":                  {"host-a", "pump", "tcp/502", "", ""},
		"from behind the inner router":             {"pump", "host-c", "tcp/80", "", ""},
		"over the selectors":                       {"host-b", "host-c", "tcp/80", "", ""},
		"a LAN that another gateway has":           {"host-a", "printer", "tcp/631", walk.NoRoute, "B gw one"},
		"what routes lead on and selectors do not": {"host-a", "host-c", "tcp/80", walk.SelectorMiss, "B gw one"},
		"within a site":                            {"host-b", "pump", "tcp/502", "", ""},
		"on-link":                                  {"b/lan", "10.222.0.200", "tcp/1", "", ""},
		"the family without a way":                 {"host-a", "2001:db8:9::1", "tcp/80", walk.NoRoute, "A gw"},
	} {
		t.Run(name, func(t *testing.T) {
			p := prove(t, solve(t, chain), c.from, c.to, c.service)
			if c.stop == "" {
				require.Nil(t, p.Stop, "%v", p.Stop)
				assert.True(t, p.Works)
				assert.Equal(t, p.Forward[0].Header.Src, p.Reply[len(p.Reply)-1].Header.Dst)
				return
			}
			require.NotNil(t, p.Stop)
			assert.Equal(t, c.stop, p.Stop.Code, p.Stop.Why)
			assert.Equal(t, c.at, p.Stop.At.Title)
		})
	}
}

func TestTheReplyIsWalkedOnItsOwn(t *testing.T) {
	oneWay := strings.Replace(chain, "routes: [10.221.0.0/24]", "routes: [10.210.0.0/24]", 1)
	p := prove(t, solve(t, oneWay), "host-a", "host-b", "tcp/22")
	require.NotNil(t, p.Stop)
	assert.Equal(t, walk.ReplyNoRoute, p.Stop.Code)
	assert.Equal(t, "reply", p.Stop.Way)
	assert.Equal(t, walk.Delivers, p.Forward[len(p.Forward)-1].Act, "the way there is whole")
}

func TestALinkWithoutTunnelsCarriesNothing(t *testing.T) {
	cut := strings.Replace(chain, "    tunnels: [{name: tunnel, outside: [198.51.100.1, 198.51.100.2]}]\n", "", 1)
	tables := solve(t, cut)
	p := prove(t, tables, "host-a", "host-b", "tcp/22")
	assert.Equal(t, walk.Code(status.LinkDown), p.Stop.Code)
	choice := tables.Point(tables.Design.Find("a/gw")[0].ID).Lookup(netip.MustParseAddr("10.222.0.9"))
	assert.Equal(t, "A to B has no tunnel", choice.Losers[0].Unusable, "the route is shown, and why it does not count")
	cut = strings.Replace(chain, "    tunnels: [{name: tunnel, outside: [198.51.100.2, 198.51.100.4]}]\n", "", 1)
	assert.Equal(t, walk.Code(status.LinkDown), prove(t, solve(t, cut), "host-b", "host-c", "tcp/1").Stop.Code)
}

func TestLongestMatchThenPreference(t *testing.T) {
	both := strings.Replace(
		chain, "routes: [10.221.0.0/24]", "routes: [10.221.0.0/24, 10.222.0.0/24, 10.222.0.128/25]", 1,
	)
	tables := solve(t, both)
	point := tables.Point(tables.Design.Find("b/gw-one")[0].ID)
	low := point.Lookup(netip.MustParseAddr("10.222.0.9"))
	assert.Equal(t, route.Connected, low.Winner.Source, "connected before static of equal length")
	assert.Equal(t, route.Static, low.Losers[0].Source)
	high := point.Lookup(netip.MustParseAddr("10.222.0.200"))
	assert.Equal(t, "10.222.0.128/25", high.Winner.Prefix.String(), "the longer one, whatever its source")
}

func TestAnAddressThatSeveralHaveIsAmbiguous(t *testing.T) {
	twice := strings.ReplaceAll(chain, "10.223.0", "10.221.0")
	twice = strings.Replace(
		twice, "10.221.0.0/24]}\n      - {gateway: b/gw-one, routes",
		"10.210.0.0/24]}\n      - {gateway: b/gw-one, routes", 1,
	)
	tables := solve(t, twice)
	p := prove(t, tables, "host-b", "10.221.0.9", "tcp/80")
	assert.Len(t, p.Owners, 2)
	assert.NotNil(t, p.Forward)
	ids := walk.Identities(tables, netip.MustParseAddr("10.221.0.9"))
	require.Len(t, ids, 2)
	assert.Equal(t, "A lan host a", ids[0].Title)
}

func TestFlowsThatCanNotBeWalkedSayWhy(t *testing.T) {
	tables := solve(t, chain)
	for _, c := range []struct{ from, to, says string }{
		{"nobody", "host-b", `from: nothing in this design is called "nobody"`},
		{"host-a", "nobody", `to: nothing in this design is called "nobody"`},
		{"lan", "host-b", `"lan" may be a/lan or b/lan or c/lan`},
		{"host-b", "2001:db8:1::9", "has no IPv6 address"},
	} {
		_, err := walk.ParseFlow(tables, c.from, c.to, design.Service{Proto: "tcp", Port: 1})
		assert.ErrorContains(t, err, c.says)
	}
}

// Whatever is dialled, a walk ends, is the same twice, and says either that it
// works or why not.
func TestEveryWalkEndsWithAReason(t *testing.T) {
	tables := solve(t, chain)
	sources := []string{"host-a", "host-b", "printer", "pump", "host-c", "a", "b/lan"}
	rapid.Check(t, func(t *rapid.T) {
		a := netip.AddrFrom4(
			[4]byte{
				10, rapid.SampledFrom([]byte{1, 2, 3, 22, 99}).Draw(t, "b"), rapid.Byte().Draw(t, "c"),
				rapid.Byte().Draw(t, "d"),
			},
		)
		from := rapid.SampledFrom(sources).Draw(t, "from")
		p := prove(t, tables, from, a.String(), "udp/53")
		assert.Equal(t, p, prove(t, tables, from, a.String(), "udp/53"))
		assert.Equal(t, p.Works, p.Stop == nil)
		if p.Stop != nil {
			assert.NotEmpty(t, p.Stop.Why)
			assert.NotEmpty(t, p.Stop.Fix)
			assert.NotEmpty(t, p.Stop.At.Title)
		} else {
			assert.Equal(t, p.Dialled, p.Reply[len(p.Reply)-1].Header.Src, "the reply comes from whom was dialled")
		}
	})
}
