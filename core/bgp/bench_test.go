package bgp_test

import (
	"fmt"
	"net/netip"
	"runtime"
	"testing"

	"dravin/core/bgp"
)

// large is networks behind hubs, each with VPN gateways: every hub tells its
// gateways all that it has, and each gateway's site is told to its hub. total is
// how many prefixes there are in all.
func large(hubs, gateways, networks, total int) *bgp.Network {
	n := &bgp.Network{}
	id := func(k int) netip.Addr { return netip.AddrFrom4([4]byte{198, 51, byte(k >> 8), byte(k)}) }
	next := 0
	prefix := func() netip.Prefix {
		next++
		return netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(208 + next>>16), byte(next >> 8), byte(next)}), 32)
	}
	each := total / networks
	session := func(a, b string, asnA, asnB uint32) {
		k := len(n.Sessions)
		end := func(key string, asn uint32, last int) bgp.End {
			return bgp.End{
				Speaker: key, Into: []string{key}, ASN: asn,
				Address:  netip.AddrFrom4([4]byte{169, 254, byte(128 + k>>6), byte(k<<2 + last)}),
				Families: [2]bool{true, true}, Out: all,
			}
		}
		n.Sessions = append(
			n.Sessions, &bgp.Session{Key: fmt.Sprint(k), Ends: [2]bgp.End{end(a, asnA, 1), end(b, asnB, 2)}},
		)
	}
	for h := range hubs {
		hub := &bgp.Speaker{Key: fmt.Sprint("hub ", h), RouterID: id(h)}
		for range networks / hubs * each {
			hub.Own = append(hub.Own, bgp.Originated{Prefix: prefix()})
		}
		n.Speakers = append(n.Speakers, hub)
	}
	for g := range gateways {
		key := fmt.Sprint("gateway ", g)
		n.Speakers = append(
			n.Speakers,
			&bgp.Speaker{
				Key: key, RouterID: id(1000 + g), Multipath: true,
				Own: []bgp.Originated{{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{172, 29, byte(g), 0}), 24)}},
			},
		)
		session(fmt.Sprint("hub ", g%hubs), key, uint32(4200000000+g%hubs), uint32(4200100000+g))
	}
	for h := range hubs { // a chain of hubs, so that all know all
		if h > 0 {
			session(fmt.Sprint("hub ", h-1), fmt.Sprint("hub ", h), uint32(4200000000+h-1), uint32(4200000000+h))
		}
	}
	return n
}

func BenchmarkFromNothing(b *testing.B) {
	for _, total := range []int{1_000, 10_000, 100_000, 1_000_000} {
		b.Run(fmt.Sprint(total, " prefixes"), func(b *testing.B) {
			n := large(50, 200, 1000, total)
			var m runtime.MemStats
			for b.Loop() {
				r := bgp.Solve(n)
				runtime.ReadMemStats(&m)
				runtime.KeepAlive(r)
			}
			b.ReportMetric(float64(m.HeapAlloc)/(1<<20), "MB-heap")
			b.ReportMetric(
				float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(total*len(n.Sessions)), "ns/route-session",
			)
		})
	}
}

// A filter tells each of a hub's 2,000 prefixes from every other, so that it is a
// class of its own.
func BenchmarkFromNothingManyToldApart(b *testing.B) {
	n := large(50, 200, 1000, 100_000)
	rules := []bgp.Rule{}
	for _, o := range n.Speakers[0].Own {
		rules = append(rules, bgp.Rule{Range: &bgp.Range{Prefix: o.Prefix, From: o.Prefix.Bits(), To: o.Prefix.Bits()}})
	}
	n.Sessions[0].Ends[1].In = append(rules, bgp.Rule{})
	for b.Loop() {
		bgp.Solve(n)
	}
}

func BenchmarkOnePrefixMore(b *testing.B) {
	n := large(50, 200, 1000, 100_000)
	r := bgp.Solve(n)
	for k := 0; b.Loop(); k++ {
		next := &bgp.Network{Speakers: append([]*bgp.Speaker{}, n.Speakers...), Sessions: n.Sessions}
		s := *n.Speakers[7]
		s.Own = append(
			append([]bgp.Originated{}, s.Own...),
			bgp.Originated{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 223, byte(k >> 8), byte(k)}), 32)},
		)
		next.Speakers[7] = &s
		r.Update(next)
	}
}

// ruled is hubs in a ring, each gateway at two of them, with a rule on local preference,
// one on MED, a reflector's client and a box that prefers one of its sessions: what may
// make outcomes depend on chance.
func ruled() *bgp.Network {
	n := large(50, 200, 1000, 100_000)
	for g := range 200 {
		if g%2 == 0 {
			again := *n.Sessions[g]
			again.Key += " again"
			hub := fmt.Sprint("hub ", (g+7)%50)
			again.Ends[0].Speaker, again.Ends[0].Into = hub, []string{hub}
			again.Ends[0].ASN = uint32(4200000000 + (g+7)%50)
			again.Ends[0].Address, again.Ends[1].Address = netip.AddrFrom4(
				[4]byte{169, 254, byte(200 + g>>6), byte(g<<2 + 1)},
			), netip.AddrFrom4(
				[4]byte{169, 254, byte(200 + g>>6), byte(g<<2 + 2)},
			)
			n.Sessions = append(n.Sessions, &again)
		}
	}
	set := func(k int, change func(*bgp.Session)) {
		s := *n.Sessions[k]
		change(&s)
		n.Sessions[k] = &s
	}
	set(0, func(s *bgp.Session) { s.Ends[1].In = []bgp.Rule{{LocalPref: 200}} })
	set(8, func(s *bgp.Session) { s.Ends[0].Out = []bgp.Rule{{MED: 20}} })
	set(16, func(s *bgp.Session) { s.Ends[1].Weight = 1 })
	set(24, func(s *bgp.Session) { s.Ends[0].Client, s.Ends[1].ASN = true, s.Ends[0].ASN })
	return n
}

func BenchmarkRuledFromNothing(b *testing.B) {
	n := ruled()
	for b.Loop() {
		bgp.Solve(n)
	}
}

func BenchmarkRuledOnePrefixMore(b *testing.B) {
	n := ruled()
	r := bgp.Solve(n)
	for k := 0; b.Loop(); k++ {
		next := &bgp.Network{Speakers: append([]*bgp.Speaker{}, n.Speakers...), Sessions: n.Sessions}
		s := *n.Speakers[7]
		s.Own = append(
			append([]bgp.Originated{}, s.Own...),
			bgp.Originated{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 223, byte(k >> 8), byte(k)}), 32)},
		)
		next.Speakers[7] = &s
		r.Update(next)
	}
}

func BenchmarkRuledSessionDown(b *testing.B) {
	n := ruled()
	r := bgp.Solve(n)
	for b.Loop() {
		next := &bgp.Network{Speakers: n.Speakers, Sessions: append([]*bgp.Session{}, n.Sessions...)}
		s := *n.Sessions[2]
		s.Down = true
		next.Sessions[2] = &s
		r.Update(next)
	}
}
