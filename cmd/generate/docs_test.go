package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the schema, the forms and the problems say of a field is what stands above it.
func TestDocsAreThoseOfTheCode(t *testing.T) {
	for _, of := range []string{"design", "provider"} {
		dir := filepath.Join("..", "..", "core", of)
		want, err := docsOf(dir)
		require.NoError(t, err)
		has, err := os.ReadFile(filepath.Join(dir, docsFile))
		require.NoError(t, err)
		assert.Equal(t, string(want), string(has), "%s is stale: run make generate", dir)
	}
}
