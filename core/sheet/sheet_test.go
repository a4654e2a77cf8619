package sheet_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/demo"
)

func thistledown(t testing.TB) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}

func find(t testing.TB, d *design.Design, path string, kind design.Kind) *design.Object {
	found := d.Find(path, kind)
	require.Len(t, found, 1, path)
	return found[0]
}
