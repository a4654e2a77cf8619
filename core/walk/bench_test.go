package walk_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/demo"
)

// A walk there and back over a link, on tables that are there.
func BenchmarkProve(b *testing.B) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(b, err)
	t := route.Solve(d, status.Condition{})
	f, err := walk.FlowBetween(
		t, d.Find("catalogue/shelf-a/logger")[0].ID, d.Find("marrow-hill/data-room/controls-desk")[0].ID,
		design.Service{Proto: "tcp", Port: 443},
	)
	require.NoError(b, err)
	for b.Loop() {
		walk.Prove(t, f)
	}
}
