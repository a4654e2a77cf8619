package main_test

import (
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var binary string

func TestMain(m *testing.M) {
	if os.Getenv("DRAVIN_READER") != "" {
		os.Exit(m.Run())
	}
	dir, err := os.MkdirTemp("", "dravin-cli-*")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "dravin")
	if out, err := exec.Command("go", "build", "-o", binary, ".").CombinedOutput(); err != nil {
		panic(string(out))
	}
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

func run(t *testing.T, args ...string) (code int, stdout, stderr string) {
	cmd := exec.Command(binary, args...)
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + t.TempDir()} // no database, whatever the environment
	var out, err strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &err
	if e := cmd.Run(); e != nil {
		var exit *exec.ExitError
		require.ErrorAs(t, e, &exit)
	}
	return cmd.ProcessState.ExitCode(), out.String(), err.String()
}

const estate = "../../demo/two-gardens.yaml"

func TestExitCodesAndWords(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	fine := file(
		"fine.yaml", "dravin: 1\nsites:\n  - name: A\n    lans:\n      - name: x\n        prefixes: 10.220.0.0/24\n",
	)
	bad := file(
		"bad.yaml", "dravin: 1\nsites:\n  - name: A\n    lans:\n      - name: x\n        prefixes: 10.220.0.9/24\n",
	)
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	for name, c := range map[string]struct {
		args []string
		code int
		says string
	}{
		"check finds": {[]string{"check", estate}, 1, "broken   overlap: Peatside Nursery glasshouse " +
			"192.168.216.0/24 is the same range"},
		"check is content": {[]string{"check", fine}, 0, "Nothing found."},
		"check refuses": {[]string{"check", bad}, 2, "line 6, column 19: lan x: prefixes[0]: \"10.220.0.9/24\" " +
			"has host bits set; the /24 that holds it is 10.220.0.0/24"},
		"no such file":    {[]string{"check", "nowhere.yaml"}, 2, "no such file"},
		"a folder":        {[]string{"check", dir}, 2, "is a directory"},
		"no file":         {[]string{"check"}, 2, "give one design file"},
		"unknown flag":    {[]string{"check", "--colour", estate}, 2, "unknown flag"},
		"unknown command": {[]string{"grow"}, 2, "unknown command"},
		"unknown format":  {[]string{"check", "--format", "xml", estate}, 2, "give text or json"},
		"an origin that is none": {[]string{"ledger", estate, "--format", "zone", "--for", "marrow-hill", "--origin",
			"x\n$INCLUDE /y"}, 2, "is no origin of a zone"},
		"overlaps finds":      {[]string{"overlaps", estate}, 0, "Marrow Hill museum store"},
		"overlaps is strict":  {[]string{"overlaps", "--strict", "--count", estate}, 1, "1\n"},
		"overlaps is content": {[]string{"overlaps", fine}, 0, "No range is held by more than one party."},
		"what is not joined":  {[]string{"say", estate, "join marrow hill and peatside nursery"}, 1, "Nothing is joined yet"},
		"walk stops": {[]string{"walk", estate, "--from", "logger", "--to", "192.168.216.17", "--port", "502"},
			1, "stopped when built (on-link-elsewhere, forward)"},
		"walk works": {[]string{"walk", estate, "--from", "data-room", "--to", "logger", "--port", "6514"}, 0,
			"works when built: Marrow Hill data room controls desk reaches catalogue shelf a logger"},
		"walk wants a port": {[]string{"walk", estate, "--from", "logger", "--to", "10.214.0.20"}, 2,
			"no port from 1 to 65535"},
		"walk wants both ends": {[]string{"walk", estate, "--from", "logger"}, 2, "--from or --to is missing"},
		"walk knows nobody": {[]string{"walk", estate, "--from", "ghost", "--to", "10.214.0.20", "--port", "1"}, 2,
			`nothing in this design is called "ghost"`},
		"walk wants one": {[]string{"walk", estate, "--from", "gateway", "--to", "10.214.0.20", "--port", "1"}, 2,
			"give the whole path"},
		"handover renders":      {[]string{"handover", estate, "--party", "peatside-nursery"}, 0, "connections {"},
		"handover knows nobody": {[]string{"handover", estate, "--party", "ghost"}, 2, "names 0 parties"},
		"serve wants a base":    {[]string{"serve"}, 2, "set DATABASE_URL"},
		"serve: down": {[]string{"serve", "--database", "postgres://x:y@127.0.0.1:1/z", "--listen",
			"127.0.0.1:0"}, 1, "the database can not be reached"},
		"serve: taken": {[]string{"serve", "--database", "postgres://x:y@127.0.0.1:1/z", "--listen",
			taken.Addr().String()}, 1, "is taken by another program"},
		"demo: taken": {[]string{"demo", "--state", dir, "--listen", taken.Addr().String()}, 1,
			"is taken by another program"},
	} {
		t.Run(name, func(t *testing.T) {
			code, out, err := run(t, c.args...)
			assert.Equal(t, c.code, code, out+err)
			assert.Contains(t, out+err, c.says)
			if c.code == 2 {
				assert.Empty(t, out, "bad input goes to standard error alone")
			}
		})
	}
}

func TestOverlapsOfALargeAndAnOddFile(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "stock.csv")
	require.NoError(
		t,
		os.WriteFile(
			file,
			[]byte(
				"prefix;Party;x\n10.0.0.0/8;\"A; \"\"one\"\"\";1\n10.221.0.0/16;B;2\n10.221.2.0/24;B;3\n"+
					"2001:db8::/32;B;4\n"+
					"2001:db8::/32;C;5\n",
			),
			0o644,
		),
	)
	for name, c := range map[string]struct {
		args []string
		code int
		want string
	}{
		"csv": {[]string{"overlaps", file, "--format", "csv"}, 0, "party_a,prefix_a,party_b,prefix_b,relation,shared\n" +
			`"A; ""one""",10.0.0.0/8,B,10.221.0.0/16,contains,10.221.0.0/16` + "\n" +
			`"A; ""one""",10.0.0.0/8,B,10.221.2.0/24,contains,10.221.2.0/24` +
			"\nB,2001:db8::/32,C,2001:db8::/32,equal,2001:db8::/32\n"},
		"count":  {[]string{"overlaps", file, "--count"}, 0, "3\n"},
		"within": {[]string{"overlaps", file, "--count", "--within-party"}, 0, "4\n"},
		"strict": {[]string{"overlaps", file, "--count", "--strict"}, 1, "3\n"},
		"nothing": {[]string{"free", file, "--size", "24", "--within", "10.221.0.0/16"}, 1, "No free /24 is left " +
			"there.\n"},
		"for one " +
			"party": {[]string{"free", file, "--size", "24", "--within", "10.221.0.0/16", "--for", "C", "--most", "1"},
			0, "10.221.0.0/24      begins the free block 10.221.0.0/16; room for 255 more of its size\n"},
	} {
		t.Run(name, func(t *testing.T) {
			code, out, err := run(t, c.args...)
			assert.Equal(t, c.code, code, err)
			assert.Equal(t, c.want, out)
		})
	}
	code, out, _ := run(t, "overlaps", file, "--format", "json")
	require.Equal(t, 0, code)
	var pairs []map[string]string
	require.NoError(t, json.Unmarshal([]byte(out), &pairs), out)
	assert.Len(t, pairs, 3)
}

func TestImportWritesOnlyWithoutDryRun(t *testing.T) {
	dir := t.TempDir()
	into, from := filepath.Join(dir, "estate.yaml"), filepath.Join(dir, "new.csv")
	text, err := os.ReadFile(estate)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(into, text, 0o644))
	require.NoError(
		t,
		os.WriteFile(
			from, []byte("party,name,prefix\nOld Orangery,house,10.215.64.0/24\nOld Orangery,shed,10.215.65.1/24\n"),
			0o644,
		),
	)
	code, out, _ := run(t, "import", from, "--into", into, "--dry-run", "--refuse-hosts")
	assert.Equal(t, 1, code, "a line is refused")
	assert.Contains(t, out, "1 new, 0 changed, 0 the same, 1 refused")
	assert.Contains(t, out, "the range that holds it is 10.215.65.0/24")
	same, err := os.ReadFile(into)
	require.NoError(t, err)
	assert.Equal(t, string(text), string(same))
	_, _, _ = run(t, "import", from, "--into", into)
	code, out, _ = run(t, "overlaps", into, "--groups")
	assert.Equal(t, 0, code, out)
	after, err := os.ReadFile(into)
	require.NoError(t, err)
	assert.Contains(t, string(after), "Old Orangery")
	code, _, stderr := run(t, "import", "--into", into)
	assert.Equal(t, 2, code, stderr)
}

func TestWalkInJSON(t *testing.T) {
	code, out, _ := run(
		t, "walk", estate, "--from", "catalogue", "--to", "192.168.216.17", "--proto", "tcp", "--port", "502",
		"--format", "json",
	)
	assert.Equal(t, 1, code)
	var proof struct {
		Works   bool
		Stop    struct{ Code, Why string }
		Forward []struct {
			Act    string
			Header struct{ Src, Dst string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &proof))
	assert.Equal(t, "on-link-elsewhere", proof.Stop.Code)
	assert.Contains(t, proof.Stop.Why, "museum store")
	assert.Equal(t, "10.208.1.10", proof.Forward[0].Header.Src)
}

func TestHandoverMakesKeysOnceAndKeepsThem(t *testing.T) {
	dir := t.TempDir()
	keys := filepath.Join(dir, "keys.json")
	code, _, stderr := run(t, "handover", estate, "--keys", keys, "--out", dir+"/a")
	require.Equal(t, 0, code, stderr)
	code, _, stderr = run(t, "handover", estate, "--keys", keys, "--out", dir+"/b")
	require.Equal(t, 0, code, stderr)
	info, err := os.Stat(keys)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	const secrets = "/marrow-hill/gateway/swanctl/conf.d/dravin-keys.conf"
	a, err := os.ReadFile(dir + "/a" + secrets)
	require.NoError(t, err)
	b, err := os.ReadFile(dir + "/b" + secrets)
	require.NoError(t, err)
	assert.Equal(t, string(a), string(b))
	assert.NotContains(t, string(a), "FILL-IN")
	info, err = os.Stat(dir + "/a" + secrets)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestFiltersFollowFromIntents(t *testing.T) {
	out := filepath.Join(t.TempDir(), "worked.yaml")
	code, text, _ := run(t, "filters", "../../demo/thistledown.yaml", "--for-intents", "-o", out)
	require.Equal(t, 0, code, text)
	assert.Contains(t, text, "- refuses everything from members to anywhere")
	assert.Contains(t, text, "+ what no rule is for is refused")
	code, text, _ = run(t, "passes", out, "--party", "grove hub")
	require.Equal(t, 0, code, text)
	assert.Contains(t, text, "needed     allows tcp/443 from 10.217.1.20 to 10.210.1.20")
	code, text, _ = run(t, "filters", out, "--for-intents", "--only", "no such filter")
	assert.Equal(t, 2, code, text)
}
