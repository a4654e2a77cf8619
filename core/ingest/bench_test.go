package ingest_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dravin/core/ingest"
)

func BenchmarkReadPrefixes(b *testing.B) {
	const rows = 500_000
	r := rand.New(rand.NewPCG(1, 2))
	var text strings.Builder
	text.WriteString("party,prefix\n")
	for range rows {
		v := r.Uint32() >> 8
		fmt.Fprintf(&text, "site %d,%d.%d.%d.0/24\n", r.IntN(500), v>>16, v>>8&255, v&255)
	}
	for b.Loop() {
		list, err := ingest.ReadPrefixes(strings.NewReader(text.String()))
		require.NoError(b, err)
		require.NotEmpty(b, list.Prefixes) // some rows are the same
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)/rows*1e9, "ns/row")
}
