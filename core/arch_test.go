package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The house: each package may import only what stands before it.
var order = []string{
	"core/words", "core/prefix", "core/negotiate", "core/provider", "core/design", "core/settings", "core/status",
	"core/topology", "core/ingest", "core/overlap", "core/allocation", "core/cost", "core/lifecycle", "core/draft",
	"core/defaults", "core/sheet", "core/bgp", "core/filter", "core/route", "core/walk", "core/proof",
	"core/ledger", "core/passes", "core/translate", "core/plan", "core/remedy", "core/command",
	"core/finding", "core/snapshot",
	"core/box", "core/handover", "core/wire", "core/change", "core/runbook", "core/rehearsal", "capture", "bundle",
	"lab/estates", "demo", "lab/netns", "lab", "lab/stage",
	"store", "store/cluster", "web", "server", "cmd/generate", "cmd/load", "cmd/dravin",
}

// What the core must know nothing of.
var outside = []string{
	"net/http", "database/sql", "os", "os/exec", "log", "log/slog", "time", "math/rand", "crypto/rand",
	"github.com/jmoiron", "github.com/jackc", "github.com/danielgtaylor", "github.com/go-chi", "github.com/spf13",
}

// imports are what each package of the module imports, its tests apart. The files are
// opened here, so that a result that was kept is not taken for one of other files.
func imports(t *testing.T) map[string][]string {
	out := map[string][]string{}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".dravin" || d.Name() == "testdata") {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		p := strings.TrimPrefix(filepath.ToSlash(filepath.Dir(path)), "../")
		for _, i := range f.Imports {
			out[p] = append(out[p], strings.Trim(i.Path.Value, `"`))
		}
		return nil
	})
	require.NoError(t, err)
	return out
}

func TestImportsPointDownOnly(t *testing.T) {
	rank := map[string]int{}
	for n, p := range order {
		rank["dravin/"+p] = n + 1
	}
	all := imports(t)
	require.Greater(t, len(all), 10)
	for p, list := range all {
		own := rank["dravin/"+p]
		require.NotZero(t, own, "%s has no place in the house; add it to the order", p)
		for _, imported := range list {
			if strings.HasPrefix(imported, "dravin/") {
				assert.Less(t, rank[imported], own, "%s imports %s", p, imported)
			}
			if strings.HasPrefix(p, "core/") {
				for _, o := range outside {
					assert.False(t, imported == o || strings.HasPrefix(imported, o+"/"), "%s imports %s", p, imported)
				}
			}
		}
	}
}

// Files and sheets are printed from boxes and from nothing else: no print looks anything up in a
// design.
func TestPrintsAskNoDesign(t *testing.T) {
	files, err := filepath.Glob("handover/*.go")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, asked := range []string{".Design", ".Body", "design.Object", "settings.", "t.Status"} {
			assert.NotContains(t, string(text), asked, file)
		}
	}
}

// mostColumns is how wide a line of Go may be; texts in backquotes, such as scripts and queries, may
// be wider.
const mostColumns = 120

func TestLinesFit(t *testing.T) {
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() && slices.Contains([]string{"node_modules", ".dravin", "testdata", ".git"}, d.Name()) {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_gen.go") {
			return err
		}
		text, err := os.ReadFile(path)
		raw := false
		for n, line := range strings.Split(string(text), "\n") {
			quotes := strings.Count(line, "`")
			assert.True(t, raw || quotes > 0 || len(line) <= mostColumns, "%s:%d is over %d "+
				"columns", path, n+1, mostColumns)
			raw = raw != (quotes%2 == 1)
		}
		return err
	})
	require.NoError(t, err)
}

// Texts in backquotes are handed over as they stand: a line that was wrapped within one breaks what it is part of.
func TestTextsInBackquotesAreWhole(t *testing.T) {
	wrapped := regexp.MustCompile(`" \+\n`)
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() && slices.Contains([]string{"node_modules", ".dravin", "testdata", ".git"}, d.Name()) {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		ast.Inspect(file, func(n ast.Node) bool {
			if l, ok := n.(*ast.BasicLit); ok && strings.HasPrefix(l.Value, "`") {
				assert.NotRegexp(t, wrapped, l.Value, path)
			}
			return true
		})
		return err
	})
	require.NoError(t, err)
}

// What is documented is what the comment begins with.
func TestCommentsBeginWithTheirSubject(t *testing.T) {
	files, err := filepath.Glob("*/*.go")
	require.NoError(t, err)
	subject := regexp.MustCompile(`^(?:func (?:\([^)]*\) )?|type )([A-Za-z_]\w*)`)
	begins := regexp.MustCompile(`^// (?:A |An |The )?([A-Za-z_]\w*)`)
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		first := ""
		for _, line := range strings.Split(string(text), "\n") {
			if strings.HasPrefix(line, "//") {
				if first == "" {
					first = line
				}
				continue
			}
			of, said := subject.FindStringSubmatch(line), begins.FindStringSubmatch(first)
			if of != nil && said != nil {
				assert.Equal(t, of[1], said[1], "%s: %s", file, first)
			}
			first = ""
		}
	}
}
