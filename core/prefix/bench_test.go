package prefix

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"
)

// many makes IPv4 prefixes as large inventories have them: lengths mostly /20
// to /28, all over the address space, in some parties.
func many(n, parties int) ([]netip.Prefix, []uint32) {
	r := rand.New(rand.NewPCG(1, uint64(n)))
	ps, of := make([]netip.Prefix, n), make([]uint32, n)
	for i := range ps {
		length := 20 + r.IntN(9)
		if r.IntN(50) == 0 {
			length = 8 + r.IntN(25)
		}
		v := r.Uint32()
		ps[i] = netip.PrefixFrom(
			netip.AddrFrom4([4]byte{byte(v >> 24), byte(v >> 16), byte(v >> 8), byte(v)}), length,
		).Masked()
		of[i] = uint32(r.IntN(parties))
	}
	return ps, of
}

func median(list []time.Duration) time.Duration {
	slices.Sort(list)
	return list[len(list)/2]
}

// Counting all pairs, beside slices.Sort on the same keys in the same run. The
// ratio is what counts; ns/prefix shows how it grows.
func BenchmarkCountBesideSort(b *testing.B) {
	for _, n := range []int{100_000, 1_000_000, 10_000_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			ps, parties := many(n, 500)
			var counts, sorts []time.Duration
			b.ReportAllocs()
			for b.Loop() {
				start := time.Now()
				Count(ps, parties)
				counts = append(counts, time.Since(start))
				b.StopTimer()
				keys := make([]uint64, n)
				for i, p := range ps {
					keys[i] = key4(p, parties[i])
				}
				start = time.Now()
				slices.Sort(keys)
				sorts = append(sorts, time.Since(start))
				b.StartTimer()
			}
			b.ReportMetric(float64(median(counts))/float64(median(sorts)), "x-sort")
			b.ReportMetric(float64(median(counts))/float64(n), "ns/prefix")
		})
	}
}

func BenchmarkPairs(b *testing.B) {
	ps, _ := many(1_000_000, 500)
	for b.Loop() {
		n := 0
		for range Pairs(ps) {
			n++
		}
		b.ReportMetric(float64(n), "pairs")
	}
}

func BenchmarkFreeInAMillion(b *testing.B) {
	ps, _ := many(1_000_000, 500)
	ten := netip.MustParsePrefix("10.0.0.0/8")
	// Without the few enormous ones, which leave no room at all.
	ps = slices.DeleteFunc(ps, func(p netip.Prefix) bool { return p.Bits() < 20 })
	s := NewSpace([]netip.Prefix{netip.MustParsePrefix("0.0.0.0/0")}, ps)
	for b.Loop() {
		if len(s.Fits(ten, 24, 5)) == 0 {
			b.Fatal("there is room")
		}
	}
}
