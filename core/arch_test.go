package core_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The house: each package may import only what stands before it.
var order = []string{
	"core/words", "core/prefix", "core/negotiate", "core/provider", "core/design", "core/ends", "core/standing", "core/ingest", "core/overlap", "core/inuse", "core/cost", "core/life", "core/draft", "core/fill", "core/say", "core/sheet", "core/route", "core/walk", "core/proof", "core/translate", "core/finding", "core/solved", "core/handover",
	"demo", "lab", "store", "store/cluster", "web", "server", "cmd/generate", "cmd/load", "cmd/dravin",
}

// What the core must know nothing of.
var outside = []string{"net/http", "database/sql", "os", "os/exec", "log", "log/slog", "time", "math/rand", "crypto/rand", "github.com/jmoiron", "github.com/jackc", "github.com/danielgtaylor", "github.com/go-chi", "github.com/spf13"}

func TestImportsPointDownOnly(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", "dravin/...").Output()
	require.NoError(t, err)
	rank := map[string]int{}
	for n, p := range order {
		rank["dravin/"+p] = n + 1
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	require.Greater(t, len(lines), 10)
	for _, line := range lines {
		words := strings.Fields(line)
		own := rank[words[0]]
		if words[0] == "dravin/core" {
			continue // this test
		}
		require.NotZero(t, own, "%s has no place in the house; add it to the order", words[0])
		for _, imported := range words[1:] {
			if strings.HasPrefix(imported, "dravin/") {
				assert.Less(t, rank[imported], own, "%s imports %s", words[0], imported)
			}
			if strings.HasPrefix(words[0], "dravin/core/") {
				for _, o := range outside {
					assert.False(t, imported == o || strings.HasPrefix(imported, o+"/"), "%s imports %s", words[0], imported)
				}
			}
		}
	}
}
