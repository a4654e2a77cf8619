package main_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const stories = "../../demo/remedies/"

// A plan is asked for, one option is written, and what was written holds; what can not
// be used says where.
func TestPlanOnTheCommandLine(t *testing.T) {
	alike, huts := stories+"two-gardens-alike.yaml", stories+"huts.yaml"
	for name, c := range map[string]struct {
		args []string
		code int
		says string
	}{
		"the first": {[]string{alike}, 0, "1. Map Old Orangery glasshouse and Peatside Nursery glasshouse one " +
			"to one\n   First, since"},
		"why both": {[]string{alike}, 0, "because Old Orangery must know Peatside Nursery glasshouse and holds " +
			"Old Orangery glasshouse itself"},
		"for parties": {
			[]string{huts, "--for", "alder-hut", "--for", "birch-hut"}, 0, "2 intents are in scope; 2 places collide.",
		},
		"the fewest": {[]string{alike, "--check-least"}, 0, "2 parties are mapped at least: 3 choices were " +
			"proven, the smallest first, and no smaller one serves."},
		"one keeps": {[]string{alike, "--keep", "old-orangery"}, 0, "Mapping Old Orangery glasshouse: it keeps " +
			"its range, as was asked"},
		"nothing may": {[]string{stories + "two-stages.yaml", "--no-boxes"}, 1, "no box may be added, as was asked"},
		"from a pool": {[]string{alike, "--pool", "10.223.64.0/20"}, 0, "is seen as 10.223.64.0/24"},
		"a pool too small": {[]string{alike, "--pool", "10.223.64.0/30"}, 0, "no free /24 is left; reserve a larger " +
			"range for mapping"},
		"a bad pool": {[]string{alike, "--pool", "10.223.64.1/20"}, 2, "--pool: "},
		"nobody": {[]string{alike, "--for", "ghost"}, 2,
			`--for: 0 things are called "ghost"; give the path of one, such as`},
		"no such option":   {[]string{alike, "--option", "99"}, 2, "--option 99: there are options 1 to"},
		"a refused option": {[]string{alike, "--option", "4"}, 2, "is refused: "},
		"nothing collides": {[]string{stories + "way-out.yaml"}, 2, "nothing collides that is not answered; name " +
			"who must talk with --for"},
		"of what is built":  {[]string{stories + "peers.yaml", "--today"}, 2, "unknown flag: --today"},
		"no file":           {nil, 2, "give one design file"},
		"the ledger":        {[]string{"ledger", alike}, 0, "Nothing is translated: everyone is seen by their real address."},
		"a ledger for whom": {[]string{"ledger", alike, "--format", "zone"}, 2, "say with --for who looks"},
		"a ledger as what":  {[]string{"ledger", alike, "--format", "pdf"}, 2, `--format "pdf" is not known`},
		"asked of nobody":   {[]string{"ledger", alike, "--ask", "ghost"}, 2, "no host has that name"},
		"asked of nothing":  {[]string{"ledger", alike, "--ask", "10.210.1.1"}, 0, "Nobody has it, under any name."},
	} {
		t.Run(name, func(t *testing.T) {
			if len(c.args) == 0 || c.args[0] != "ledger" {
				c.args = append([]string{"plan"}, c.args...)
			}
			code, out, err := run(t, c.args...)
			assert.Equal(t, c.code, code, out+err)
			assert.Contains(t, out+err, c.says)
		})
	}
}

func TestAnOptionIsWrittenAndHolds(t *testing.T) {
	out := filepath.Join(t.TempDir(), "applied.yaml")
	code, said, err := run(t, "plan", stories+"two-gardens-alike.yaml", "--option", "1", "-o", out)
	require.Zero(t, code, said+err)
	code, said, err = run(t, "check", out)
	assert.Zero(t, code, said+err)
	code, _, err = run(
		t, "walk", out, "--from", "orangery-controller", "--to", "peatside-nursery/glasshouse/controller", "--port",
		"502",
	)
	assert.Zero(t, code, err)

	_, said, _ = run(t, "ledger", out)
	assert.Contains(t, said, "Peatside Nursery glasshouse: 192.168.216.0/24 is seen as 10.223.1.0/24 beyond")
	_, said, _ = run(t, "ledger", out, "--for", "old-orangery")
	assert.Equal(
		t,
		"Peatside Nursery glasshouse controller, really 192.168.216.17\n    Old Orangery dials 10.223.1.17 (mapped)\n",
		said,
	)
	_, said, _ = run(t, "ledger", out, "--ask", "10.223.1.17")
	assert.Contains(t, said, "Peatside Nursery glasshouse controller, really 192.168.216.17")
	_, said, _ = run(t, "ledger", out, "--for", "old-orangery", "--format", "csv")
	assert.Equal(t, 2, strings.Count(said, "\n"), "a header and the one host")
	_, said, _ = run(t, "ledger", out, "--for", "old-orangery", "--format", "zone", "--origin", "gardens.example")
	assert.Contains(t, said, "$ORIGIN gardens.example.")
	xlsx := filepath.Join(t.TempDir(), "ledger.xlsx")
	code, _, err = run(t, "ledger", out, "--format", "xlsx", "-o", xlsx)
	require.Zero(t, code, err)
	book, e := os.ReadFile(xlsx)
	require.NoError(t, e)
	assert.True(t, strings.HasPrefix(string(book), "PK"))

	_, said, _ = run(t, "plan", stories+"two-gardens-alike.yaml", "--format", "json")
	var plan struct {
		Options []struct {
			Title   string `json:"title"`
			Refused string `json:"refused"`
		} `json:"options"`
		Least struct{ Mapped, Bound int } `json:"least"`
	}
	require.NoError(t, json.Unmarshal([]byte(said), &plan))
	assert.Equal(t, 2, plan.Least.Bound)
	assert.Empty(t, plan.Options[0].Refused)
}
