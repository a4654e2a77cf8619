package main

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/finding"
	"dravin/core/words"
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

// The pages and the front end's words are those of the tables, and every code that a finding is
// made with is in its table.
func TestCodesAreThoseOfTheTables(t *testing.T) {
	t.Chdir(filepath.Join("..", ".."))
	for _, page := range pages {
		want, err := documented(page)
		require.NoError(t, err)
		has, err := os.ReadFile(page)
		require.NoError(t, err)
		assert.Equal(t, want, string(has), "%s is stale: run make generate", page)
	}
	has, err := os.ReadFile(codesFile)
	require.NoError(t, err)
	assert.Equal(t, codes(), string(has), "%s is stale: run make generate", codesFile)
	known := words.CodesOf(finding.Family)
	files, err := filepath.Glob("core/finding/*.go")
	require.NoError(t, err)
	made := regexp.MustCompile(`(?:c\.add\(|Code: )\s*"([a-z-]+)"`)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range made.FindAllStringSubmatch(string(text), -1) {
			assert.Contains(t, known, m[1], file)
		}
	}
}
