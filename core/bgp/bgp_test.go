package bgp_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/bgp"
	"dravin/core/negotiate"
)

func pfx(s string) netip.Prefix { return netip.MustParsePrefix(s) }

// net makes speakers named a, b, ... with an ASN and own ranges each.
func speakers(own ...string) *bgp.Network {
	n := &bgp.Network{}
	for k, p := range own {
		s := &bgp.Speaker{
			Key: string(rune('a' + k)), RouterID: netip.AddrFrom4([4]byte{192, 0, 2, byte(k + 1)}), Multipath: true,
		}
		if p != "" {
			s.Own = []bgp.Originated{{Prefix: pfx(p)}}
		}
		n.Speakers = append(n.Speakers, s)
	}
	return n
}

var all = []bgp.Rule{{}}

// join adds a session between two speakers, by letter, that passes on all.
func join(n *bgp.Network, a, b string, asnA, asnB uint32, set ...func(a, b *bgp.End)) *bgp.Session {
	k := byte(len(n.Sessions))
	end := func(key string, asn uint32, last byte) bgp.End {
		return bgp.End{
			Speaker: key, Into: []string{key}, Group: key, ASN: asn,
			Address: netip.AddrFrom4([4]byte{169, 254, 140, 4*k + last}), Families: [2]bool{true, true}, Out: all,
		}
	}
	s := &bgp.Session{Key: fmt.Sprint(a, b, k), Ends: [2]bgp.End{end(a, asnA, 1), end(b, asnB, 2)}}
	for _, f := range set {
		f(&s.Ends[0], &s.Ends[1])
	}
	n.Sessions = append(n.Sessions, s)
	return s
}

func path(t *testing.T, r *bgp.Result, speaker, prefix string) []uint32 {
	e, ok := r.Best(speaker, pfx(prefix))
	require.True(t, ok, "%s has no %s", speaker, prefix)
	return e.Routes[0].Path
}

func TestWhatDecides(t *testing.T) {
	const p = "10.215.0.0/23"
	for name, c := range map[string]struct {
		set  func(short, long *bgp.End) // at the taker, of the short and of the long way
		want int                        // length of the path
		by   bgp.Why
	}{
		"the shorter path":       {func(_, _ *bgp.End) {}, 1, bgp.ShorterPath},
		"local preference first": {func(_, l *bgp.End) { l.In = []bgp.Rule{{LocalPref: 200}} }, 2, bgp.HigherLocalPref},
		"a preferred session":    {func(_, l *bgp.End) { l.Weight = 1 }, 2, bgp.Weighted},
		"prepended away":         {func(s, _ *bgp.End) { s.In = []bgp.Rule{{Prepend: 2}} }, 2, bgp.ShorterPath},
		"the better origin": {func(s, _ *bgp.End) { s.In = []bgp.Rule{{Prepend: 1, Origin: bgp.EGP}} }, 2,
			bgp.BetterOrigin},
	} {
		n := speakers(p, "", "")
		short := join(n, "a", "c", 64501, 64503)
		join(n, "a", "b", 64501, 64502)
		long := join(n, "b", "c", 64502, 64503)
		c.set(&short.Ends[1], &long.Ends[1])
		r := bgp.Solve(n)
		e, ok := r.Best("c", pfx(p))
		require.True(t, ok, name)
		assert.Len(t, e.Routes[0].Path, c.want, name)
		assert.Equal(t, c.by, e.By, name)
	}
}

func TestWhereRoutesStop(t *testing.T) {
	const p = "10.215.0.0/23"
	for name, c := range map[string]struct {
		set  func(ab, bc *bgp.Session)
		stop bgp.Stop
	}{
		"own ranges only":  {func(_, bc *bgp.Session) { bc.Ends[0].Out = nil }, bgp.Unannounced},
		"filter going out": {func(_, bc *bgp.Session) { bc.Ends[0].Out = []bgp.Rule{{Action: bgp.Refuse}} }, bgp.OutFilter},
		"filter coming in": {func(_, bc *bgp.Session) { bc.Ends[1].In = []bgp.Rule{{Through: 64511}} }, bgp.InFilter},
		"loop check":       {func(_, bc *bgp.Session) { bc.Ends[1].ASN = 64501 }, bgp.LoopCheck},
		"split horizon":    {func(ab, bc *bgp.Session) { ab.Ends[0].ASN, bc.Ends[1].ASN = 64502, 64502 }, bgp.SplitHorizon},
		"community": {func(ab, _ *bgp.Session) {
			ab.Ends[1].In = []bgp.Rule{{Add: []negotiate.Community{{Values: [3]uint32{65535, 65281}}}}}
		}, bgp.NoExport},
		"family":  {func(_, bc *bgp.Session) { bc.Ends[1].Families = [2]bool{false, true} }, bgp.OtherFamily},
		"limit":   {func(_, bc *bgp.Session) { bc.Ends[1].Limit = [2]uint32{1, 1} }, bgp.OverLimit},
		"summary": {func(_, _ *bgp.Session) {}, bgp.HiddenPart},
	} {
		n := speakers(p, "10.214.0.0/24", "")
		if name == "summary" {
			n.Speakers[1].Summaries = []bgp.Summary{{Prefix: pfx("10.212.0.0/14"), Hide: true}}
		}
		ab, bc := join(n, "a", "b", 64501, 64502), join(n, "b", "c", 64502, 64503)
		c.set(ab, bc)
		r := bgp.Solve(n)
		_, has := r.Best("c", pfx(p))
		assert.False(t, has, name)
		k := slices.IndexFunc(
			r.Trace(pfx(p)).Tells, func(x bgp.Advertises) bool { return x.Session == bc && x.End == 0 },
		)
		require.GreaterOrEqual(t, k, 0, name)
		assert.Equal(t, c.stop, r.Trace(pfx(p)).Tells[k].Stop, name)
		if name == "limit" {
			assert.Equal(t, 2, r.Dropped()[bc.Key].Taken)
		}
		if name == "summary" {
			assert.Equal(t, []uint32{64502}, path(t, r, "c", "10.212.0.0/14"))
		}
	}
}

func TestSummaryTakesTheWorstOriginAndGoesWithItsLastPart(t *testing.T) {
	n := speakers("10.215.0.0/23", "", "")
	n.Speakers[1].Summaries = []bgp.Summary{{Prefix: pfx("10.212.0.0/14")}}
	join(n, "a", "b", 64501, 64502, func(_, b *bgp.End) { b.In = []bgp.Rule{{Origin: bgp.Incomplete}} })
	join(n, "b", "c", 64502, 64503)
	e, ok := bgp.Solve(n).Best("c", pfx("10.212.0.0/14"))
	require.True(t, ok)
	assert.Equal(t, bgp.Incomplete, e.Routes[0].Origin)
	n.Sessions = n.Sessions[1:]
	_, ok = bgp.Solve(n).Best("c", pfx("10.212.0.0/14"))
	assert.False(t, ok)
}

// A next hop that is kept counts only where the taker has a way to it.
func TestKeptNextHops(t *testing.T) {
	n := speakers("10.215.0.0/23", "", "", "10.214.0.0/24")
	join(n, "a", "b", 64501, 64502)
	join(n, "b", "c", 64502, 64502, func(b, _ *bgp.End) { b.KeepNextHop = true })
	_, ok := bgp.Solve(n).Best("c", pfx("10.215.0.0/23"))
	assert.False(t, ok, "nothing leads to the next hop")
	n.Speakers[3].Own = []bgp.Originated{{Prefix: pfx("169.254.140.0/30")}}
	join(n, "d", "c", 64504, 64502)
	_, ok = bgp.Solve(n).Best("c", pfx("10.215.0.0/23"))
	assert.True(t, ok, "a learned route does")
}

// Two that each prefer the other's way have two outcomes (RFC 4264); three that
// prefer each other's in a ring have none (RFC 3345).
func TestOutcomesThatDoNotLast(t *testing.T) {
	const p = "10.215.0.0/23"
	prefer := func(_, b *bgp.End) { b.In = []bgp.Rule{{Longest: 2, LocalPref: 200}} }
	n := speakers(p, "", "")
	join(n, "a", "b", 64501, 64502)
	join(n, "a", "c", 64501, 64503)
	join(n, "b", "c", 64502, 64503, prefer, func(b, _ *bgp.End) { b.In = []bgp.Rule{{Longest: 2, LocalPref: 200}} })
	troubles := bgp.Solve(n).Troubles()
	require.Len(t, troubles, 1)
	assert.False(t, troubles[0].Never)
	assert.Equal(t, []string{"b", "c"}, troubles[0].Speakers)

	n = speakers(p, "", "", "")
	for k, s := range []string{"b", "c", "d"} {
		join(n, "a", s, 64501, uint32(64502+k))
	}
	only := []bgp.Rule{{Longest: 2, LocalPref: 200}}
	for _, x := range [][2]string{{"b", "c"}, {"c", "d"}, {"d", "b"}} {
		join(n, x[0], x[1], 64500+uint32(x[0][0]-'a')+1, 64500+uint32(x[1][0]-'a')+1, func(a, b *bgp.End) {
			b.In, a.In = only, []bgp.Rule{{Action: bgp.Refuse}}
		})
	}
	troubles = bgp.Solve(n).Troubles()
	require.Len(t, troubles, 1)
	assert.True(t, troubles[0].Never)
}

// What gives a second outcome may have no say in the first: c tells b of its own way, as preferred, only while it has
// not heard of b's.
func TestASecondOutcomeByARuleThatNothingCameTo(t *testing.T) {
	for _, x := range []struct {
		name    string
		rule    bgp.Rule
		direct  bool // c hears of it as directly as b does
		several bool
	}{
		{"a shorter way, unless another is preferred", bgp.Rule{LocalPref: 110}, false, true},
		{"the same, refused", bgp.Rule{LocalPref: 110, Action: bgp.Refuse}, false, false},
		{"the same, of a community", bgp.Rule{Has: []negotiate.Community{{}}, LocalPref: 110}, false, false},
		{"a better origin at both", bgp.Rule{Origin: bgp.EGP}, true, true},
		{"nothing but the shortest", bgp.Rule{}, true, false},
	} {
		n := speakers("10.215.0.0/23", "", "", "")
		unknown := func(_, e *bgp.End) { e.In = []bgp.Rule{{Origin: bgp.Incomplete}} }
		join(n, "a", "b", 64501, 64502, unknown)
		bc := join(n, "b", "c", 64502, 64502, func(_, c *bgp.End) { c.Out = []bgp.Rule{x.rule, {}} })
		if x.direct {
			bc.Ends[0].Out = bc.Ends[1].Out
			join(n, "a", "c", 64501, 64502, unknown)
		} else {
			join(n, "a", "d", 64501, 64503)
			join(n, "d", "c", 64503, 64502)
		}
		troubles := bgp.Solve(n).Troubles()
		if !x.several {
			assert.Empty(t, troubles, x.name)
			continue
		}
		require.Len(t, troubles, 1, x.name)
		assert.False(t, troubles[0].Never)
		assert.Subset(t, troubles[0].Speakers, []string{"b", "c"}, x.name)
	}
}

// random is a network of k speakers in a ring with chords, a few ranges each.
func random(r *rand.Rand, k int) *bgp.Network {
	n := &bgp.Network{}
	for s := range k {
		x := &bgp.Speaker{
			Key: fmt.Sprint("s", s), RouterID: netip.AddrFrom4([4]byte{192, 0, 2, byte(s)}), Multipath: r.IntN(2) == 0,
		}
		for m := range 1 + r.IntN(3) {
			x.Own = append(
				x.Own,
				bgp.Originated{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(212 + m), byte(s), 0}), 24)},
			)
		}
		if r.IntN(3) == 0 {
			x.Summaries = []bgp.Summary{{Prefix: pfx("10.213.0.0/16"), Hide: r.IntN(2) == 0}}
		}
		n.Speakers = append(n.Speakers, x)
	}
	for s := range k {
		for _, o := range []int{(s + 1) % k, r.IntN(k)} {
			if o != s {
				join(n, fmt.Sprint("s", s), fmt.Sprint("s", o), uint32(64496+s), uint32(64496+o), func(a, b *bgp.End) {
					if r.IntN(4) == 0 {
						b.In = []bgp.Rule{
							{
								Range: &bgp.Range{Prefix: pfx("10.212.0.0/16"), From: 16, To: 24}, LocalPref: 150,
								Action: bgp.GoOn,
							},
							{},
						}
					}
					if r.IntN(6) == 0 {
						a.Out = nil
					}
				})
			}
		}
	}
	return n
}

// tables is all that can be asked of a result.
func tables(r *bgp.Result, n *bgp.Network) (out []string) {
	for _, s := range n.Speakers {
		for _, e := range r.Table(s.Key) {
			for _, x := range e.Routes {
				out = append(
					out, fmt.Sprint(s.Key, e.Prefix, e.By, e.Chance, e.Rivals, x.Path, x.LocalPref, x.NextHop, x.Own()),
				)
			}
		}
	}
	return out
}

// Whatever is originated or goes, the update is the same as from nothing, and names
// every table that differs.
func TestUpdateIsAsFromNothing(t *testing.T) {
	for seed := range uint64(30) {
		r := rand.New(rand.NewPCG(seed, 3))
		n := random(r, 4+r.IntN(8))
		was := bgp.Solve(n)
		for range 6 {
			next := &bgp.Network{Speakers: slices.Clone(n.Speakers), Sessions: n.Sessions}
			k := r.IntN(len(next.Speakers))
			s := *next.Speakers[k]
			switch r.IntN(3) {
			case 0:
				s.Own = append(
					slices.Clone(s.Own),
					bgp.Originated{
						Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 213, byte(100 + r.IntN(9)), 0}), 24),
					},
				)
			case 1:
				s.Own = s.Own[:len(s.Own)-min(1, len(s.Own))]
			case 2:
				next.Sessions = slices.Delete(slices.Clone(n.Sessions), 0, 1)
			}
			next.Speakers[k] = &s
			got, changed := was.Update(next)
			fresh := bgp.Solve(next)
			require.Equal(t, tables(fresh, next), tables(got, next))
			for _, x := range next.Speakers {
				one := &bgp.Network{Speakers: []*bgp.Speaker{x}}
				if !slices.Equal(tables(was, one), tables(fresh, one)) { // the way that a route came may differ besides
					assert.Contains(t, changed, x.Key, "seed %d", seed)
				}
			}
			n, was = next, got
		}
	}
}
