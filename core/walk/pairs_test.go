package walk_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/lab/estates"
)

var sixServices = []design.Service{
	{Proto: "tcp", Port: 443}, {Proto: "tcp", Port: 502}, {Proto: "tcp", Port: 22}, {Proto: "tcp", Port: 6514},
	{Proto: "udp", Port: 53}, {Proto: "icmp"},
}

func large(b *testing.B) (*design.Design, []walk.Host) {
	d, err := estates.Large(500, 200, 2000)
	require.NoError(b, err)
	var hosts []walk.Host
	for _, o := range d.Of(design.KindEndpoint) {
		h, err := walk.HostOf(d, o.ID, prefix.IPv4)
		require.NoError(b, err)
		hosts = append(hosts, h)
	}
	return d, hosts
}

// The matrix of 2,000 hosts and six services from nothing; speedup is against walking every pair by itself, of which
// a thousand are walked here and held against it.
func BenchmarkMatrix(b *testing.B) {
	d, hosts := large(b)
	for b.Loop() {
		t := route.Solve(d, status.Condition{})
		start := time.Now()
		pairs, err := walk.PairsOf(context.Background(), t, hosts, sixServices, nil)
		require.NoError(b, err)
		took := time.Since(start)
		b.ReportMetric(float64(pairs.Classes()), "classes")
		start = time.Now()
		open := 0
		const sample = 1000
		for k := range sample {
			x, y, s := k*7919%len(hosts), (k*104729+1)%len(hosts), k%len(sixServices)
			if x == y {
				continue
			}
			f, err := walk.FlowBetween(t, hosts[x].Endpoint, hosts[y].Endpoint, sixServices[s])
			require.NoError(b, err)
			works, _ := pairs.Works(x, y)
			require.Equal(b, walk.Prove(t, f).Works, works.Has(s))
			if works.Has(s) {
				open++
			}
		}
		each := time.Since(start) / sample
		b.ReportMetric(float64(each)*float64(len(hosts)*len(hosts)*len(sixServices))/float64(took), "speedup")
		b.ReportMetric(float64(open)*100/sample, "%open")
		b.ReportMetric(took.Seconds(), "s/matrix")
	}
}

// The same after one rule of a filter and one entry of a site's link have changed.
func BenchmarkMatrixAfterEdit(b *testing.B) {
	d, hosts := large(b)
	t := route.Solve(d, status.Condition{})
	pairs, err := walk.PairsOf(context.Background(), t, hosts, sixServices, nil)
	require.NoError(b, err)
	filter := d.Find("store 20 lets in", design.KindFilter)[0]
	edits := []design.Edit{
		design.PutEdit(design.Edited(filter, func(f *design.PacketFilter) { f.Rules = f.Rules[1:] })),
	}
	next, _, err := d.Apply(edits)
	require.NoError(b, err)
	for b.Loop() {
		after := t.After(next, d.ChangedBy(edits, next))
		_, err := pairs.After(context.Background(), after, hosts, sixServices)
		require.NoError(b, err)
	}
}
