package lab_test

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
	made "dravin/lab/estates"
)

// rendering is a box with all that is handed over for it.
type rendering struct {
	name  string
	box   *box.Box
	files []handover.File
}

// renderings are all boxes of a design.
func renderings(name string, d *design.Design) (out []rendering) {
	for _, h := range []design.Side{design.Planned, design.Built} {
		tables := route.Solve(d.On(h), status.Condition{})
		for _, o := range tables.Design.Inside("", handover.Parties...) {
			p := box.PartyOf(tables, o.ID)
			files := handover.Files(p, nil)
			for _, b := range p.Boxes {
				if b.Linux {
					own := handover.Of(files, b.Name)
					out = append(out, rendering{fmt.Sprint(name, ", ", b.Title, ", ", h), b, own})
				}
			}
		}
	}
	return out
}

// state is what the kernel holds after a script, without what it counts or has not finished.
const state = `state() {
  ip -o address show | sed 's/ valid_lft.*//; s/ tentative//; s/ dadfailed//'
  ip -o link show | sed 's/ state .*group/ group/; s/ qlen.*//; s/<[^>]*>//'
  for f in -4 -6; do ip $f rule show; ip $f route show table all | sed 's/ linkdown//' | grep -v ' proto kernel' | sort; done
  nft list ruleset
}
`

// onABox are the lines by which a box of one's own looks as it does before anything is put there: its interfaces in its
// LANs, with addresses, and one to the outside. A cable stands for what this kernel may have no kind of interface for:
// tunnels and tagged circuits.
func onABox(b *box.Box) string {
	var s strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&s, format+"\n", args...) }
	cable := func(device string) {
		say("ip link add %[1]s type veth peer name %[1]s.x; ip link set %[1]s up; ip link set %[1]s.x up", device)
	}
	say("set -e\nip link set lo up\necho 0 >/proc/sys/net/ipv6/conf/default/accept_dad")
	for n, l := range b.LANs {
		device := fmt.Sprint("lan", n)
		cable(device)
		for _, r := range l.Ranges {
			a := prefix.FirstHost(r)
			for _, own := range b.Stands {
				if r.Contains(own) {
					a = own
				}
			}
			say("ip address add %s dev %s", netip.PrefixFrom(a, r.Bits()), device)
		}
	}
	cable("wan")
	for _, a := range b.Addresses {
		say("ip address add %s dev wan", prefix.Alone(a))
	}
	if b.Kind == design.KindBox {
		for _, a := range b.Stands {
			say("ip address add %s dev wan", netip.PrefixFrom(a, map[bool]int{true: 24, false: 64}[a.Is4()]))
		}
	}
	say("ip route add default dev wan; ip -6 route add default dev wan")
	for _, l := range b.Links {
		for _, d := range l.Devices() {
			if l.Routed() {
				cable(d)
			}
		}
	}
	for _, c := range b.Circuits {
		cable(c.Device())
	}
	return s.String()
}

// excused are what a script may say: what only its box can know is missing here.
var excused = regexp.MustCompile(`^no interface is in |^circuit\d+: name its port|^$`)

// runs carries out what is handed over for a box, twice, and then takes it away. It returns what went wrong.
func (r rendering) runs(dir string) string {
	var s strings.Builder
	s.WriteString(state + onABox(r.box) + "echo BEGIN >&2\n")
	script := ""
	for n, f := range r.files {
		path := filepath.Join(dir, fmt.Sprint(n))
		if err := os.WriteFile(path, []byte(f.Content), 0o600); err != nil {
			return err.Error()
		}
		switch f.Path {
		case "nftables.d/dravin.nft":
			script = "nft -f " + path + "\n" + script
		case "dravin/routes.sh":
			script += "sh " + path + "\n"
			defer os.Remove(path)
		}
	}
	routes := strings.TrimSpace(script[strings.Index(script, "sh "):])
	fmt.Fprintf(&s, "%sstate >%[2]s/first\n%[1]sstate >%[2]s/second\n", script, dir)
	fmt.Fprintf(&s, "diff %[1]s/first %[1]s/second >%[1]s/diff ||\n", dir)
	fmt.Fprintf(&s, "  echo \"run twice it is another: $(cat %s/diff)\" >&2\n", dir)
	fmt.Fprintf(&s, "echo AWAY >&2\n%s away\n", routes)
	s.WriteString("ip -o link show | grep -E ' (dravin|circuit)[0-9]+@' >&2 || true\n")
	s.WriteString("ip rule show | grep -E '^[1-9][0-9]{3,4}:' | grep -vE '^3276' >&2 || true\n")
	cmd := exec.Command("unshare", "--net", "/bin/sh")
	cmd.Stdin = strings.NewReader(s.String())
	out, err := cmd.CombinedOutput()
	_, said, begun := strings.Cut(string(out), "BEGIN\n")
	said, after, ended := strings.Cut(said, "AWAY\n")
	var wrong []string
	for _, line := range strings.Split(said, "\n") {
		if !excused.MatchString(line) {
			wrong = append(wrong, line)
		}
	}
	switch {
	case strings.Contains(string(out), "two segments are on the interface"):
		return "" // nobody can tell them apart: the script says so, and sets up nothing that would leak
	case err != nil || !begun || !ended:
		return fmt.Sprintf("%v: %s", err, out)
	case len(wrong) > 0:
		return strings.Join(wrong, "\n")
	case after != "":
		return "away leaves: " + after
	}
	return ""
}

// parses asks the programs that read the other files whether they can. Units that were read before, of another box, are
// not read again: most boxes have the same.
func (r rendering) parses(dir string, read *sync.Map) string {
	var units []string
	texts := ""
	for n, f := range r.files {
		path := filepath.Join(dir, fmt.Sprint("parse", n))
		if unit, ok := strings.CutPrefix(f.Path, "systemd/system/"); ok {
			path = filepath.Join(dir, unit)
			units = append(units, path)
			texts += unit + f.Content
		}
		if err := os.WriteFile(path, []byte(f.Content), 0o600); err != nil {
			return err.Error()
		}
		if f.Path == "bird/bird.conf" {
			if out, err := exec.Command("bird", "-p", "-c", path).CombinedOutput(); err != nil {
				return string(out)
			}
		}
	}
	if _, before := read.LoadOrStore(texts, true); before {
		return ""
	}
	args := append([]string{"verify", "--man=no", "--recursive-errors=no"}, units...)
	out, err := exec.Command("systemd-analyze", args...).CombinedOutput()
	if err != nil {
		return string(out)
	}
	return ""
}

// everything are the designs of which all that is rendered is run: the demo estates, every case and remedy, and random
// estates with every kind of object.
func everything(t *testing.T) (out []rendering) {
	var mu sync.Mutex
	var all errgroup.Group
	all.SetLimit(runtime.NumCPU())
	add := func(name string, d *design.Design) {
		list := renderings(name, d)
		mu.Lock()
		defer mu.Unlock()
		out = append(out, list...)
	}
	for _, pattern := range []string{"../demo/*.yaml", "../demo/cases/*.yaml", "../demo/remedies/*.yaml"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, file := range files {
			all.Go(func() error {
				text, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				d, err := design.Read(text)
				if err == nil {
					add(filepath.Base(file), d)
				}
				return err
			})
		}
	}
	for n := range number("DRAVIN_TRUTH_RENDERED", 200) {
		all.Go(func() error {
			seed := uint64(firstSeed + n)
			d := newEstate(seed, true).d
			if n%4 == 3 {
				d = made.Make(seed, made.Options{Collisions: true, Segments: true, Joined: true, Intents: true})
			}
			add(fmt.Sprint("seed ", seed), d)
			return nil
		})
	}
	require.NoError(t, all.Wait())
	return out
}

// Whatever is rendered is not only parsed by its own program but run, twice: the second run finds what the first has
// left, and changes nothing.
func TestEverythingRenderedRuns(t *testing.T) {
	t.Parallel()
	l := needs(t, "nft", "bird", "unshare", "systemd-analyze", "swanctl", "/usr/lib/ipsec/charon")
	swanctl := charon(t, node(t, l, "keeper"), "")
	list := everything(t)
	var mu sync.Mutex
	var wrong []string
	seen := map[string]bool{}
	var read sync.Map
	tell := func(r rendering, what string) {
		if what = strings.TrimSpace(what); what != "" {
			mu.Lock()
			defer mu.Unlock()
			wrong = append(wrong, r.name+": "+what)
		}
	}
	var all errgroup.Group
	all.SetLimit(runtime.NumCPU())
	ran := 0
	for _, r := range list {
		text := ""
		for _, f := range r.files {
			text += f.Path + f.Content
		}
		if seen[text] { // today it is as when built
			continue
		}
		seen[text] = true
		ran++
		dir := t.TempDir()
		all.Go(func() error {
			tell(r, r.runs(dir))
			tell(r, r.parses(dir, &read))
			return nil
		})
		n := slices.IndexFunc(r.files, func(f handover.File) bool { return f.Path == "swanctl/conf.d/dravin.conf" })
		if n < 0 || strings.Contains(r.files[n].Content, box.FillIn) {
			continue
		}
		file := filepath.Join(dir, "swanctl.conf")
		require.NoError(t, os.WriteFile(file, []byte(r.files[n].Content), 0o600))
		if out, err := swanctl("--load-conns --file " + file); err != nil {
			tell(r, out)
		}
	}
	require.NoError(t, all.Wait())
	slices.Sort(wrong)
	assert.Empty(t, wrong, "%d of %d boxes:\n%s", len(wrong), ran, strings.Join(wrong[:min(len(wrong), 12)], "\n"))
	assert.Greater(t, ran, 100)
	t.Logf("%d boxes", ran)
}

// A key that nobody knows is none: the daemon does not take the file's words for it.
func TestMaskedKeysAreNoKeys(t *testing.T) {
	l := needs(t, "swanctl", "/usr/lib/ipsec/charon")
	swanctl := charon(t, node(t, l, "keyless"), "")
	d, err := design.Read(demo.TwoGardens)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	for word, key := range map[string]string{"masked": handover.Masked, "unknown": "", "known": "badgers and moss"} {
		keys := handover.Keys{}
		for _, x := range d.Of(design.KindTunnel) {
			keys[x.ID] = key
		}
		for _, f := range handover.Render(tables, d.Find("marrow-hill", design.KindSite)[0].ID, keys) {
			if strings.HasSuffix(f.Path, "dravin-keys.conf") {
				file := filepath.Join(t.TempDir(), "keys.conf")
				require.NoError(t, os.WriteFile(file, []byte(f.Content), 0o600))
				out, _ := swanctl("--load-creds --clear --noprompt --file " + file)
				assert.Equal(t, word == "known", strings.Contains(out, "loaded ike secret"), "%s: %s", word, out)
			}
		}
	}
}
