package main

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is written to keeps its mode and its names; links lead where they led; devices
// and pipes are written to.
func TestWrittenFilesStayWhatTheyAre(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	read := func(name string) string {
		text, err := os.ReadFile(at(name))
		require.NoError(t, err)
		return string(text)
	}
	require.NoError(t, writeFile(at("new"), []byte("one"), 0o640))
	require.NoError(t, os.Chmod(at("new"), 0o600))
	require.NoError(t, writeFile(at("new"), []byte("two"), 0o644))
	info, err := os.Stat(at("new"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	require.NoError(t, os.Symlink("new", at("soft")))
	require.NoError(t, os.Symlink("later", at("dangling")))
	require.NoError(t, os.Link(at("new"), at("hard")))
	require.NoError(t, writeFile(at("soft"), []byte("three"), 0o644))
	require.NoError(t, writeFile(at("dangling"), []byte("four"), 0o644))
	assert.Equal(t, []string{"three", "three", "four"}, []string{read("new"), read("hard"), read("later")})
	for _, link := range []string{"soft", "dangling"} {
		_, err := os.Readlink(at(link))
		assert.NoError(t, err, "%s is a link still", link)
	}
	require.NoError(t, os.Symlink("round", at("round")))
	assert.Error(t, writeFile(at("round"), nil, 0o644))

	require.NoError(t, writeFile("/dev/null", []byte("nothing"), 0o644))
	info, err = os.Stat("/dev/null")
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeCharDevice)
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o600))
	got := make(chan string)
	go func() { text, _ := os.ReadFile(at("pipe")); got <- string(text) }()
	require.NoError(t, writeFile(at("pipe"), []byte("through"), 0o644))
	assert.Equal(t, "through", <-got)

	left, err := filepath.Glob(at(".dravin-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
