package main

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/bundle"
	"dravin/capture"
	"dravin/core/command"
	"dravin/core/design"
	"dravin/core/ingest"
	"dravin/core/sheet"
)

// reader is whatever reads what comes from outside, with the worst that it takes at its limit.
type reader struct {
	name string
	text func() []byte
	read func([]byte) error
}

func repeated(part string, most int) func() []byte {
	return func() []byte { return []byte(strings.Repeat(part, most/len(part))) }
}

// readers are all of them but those of files that are brought in, which core/ingest looks at one by one.
func readers(t *testing.T) []reader {
	designFile := func(b []byte) error { _, err := design.Read(b); return err }
	farEnd := func(b []byte) error {
		_, err := sheet.ReadSent(
			string(b), netip.MustParseAddr("203.0.113.20"), netip.MustParseAddr("198.51.100.10"), "",
		)
		return err
	}
	seen := func(b []byte) error { _, err := capture.ReadAny(b); return err }
	said := func(b []byte) error {
		_, err := command.Understand(t.Context(), design.New("empty", nil), string(b), "")
		return err
	}
	rules := func(b []byte) error { ingest.ReadRules(string(b)); return nil }
	bundled := func(b []byte) error { _, err := bundle.Verify(bytes.NewReader(b), int64(len(b)), nil); return err }
	return []reader{
		{"design file: keys", func() []byte {
			var b strings.Builder
			for n := range 60_000 {
				fmt.Fprintf(&b, "key%d: x\n", n)
			}
			return []byte(b.String())
		}, designFile},
		{"design file: brackets", repeated("[", 1<<20), designFile},
		{"design file: one long text", func() []byte {
			return []byte("dravin: 1\nname: " + strings.Repeat("a", design.MaxFileBytes-64))
		}, designFile},
		{"far end: headers", repeated("protocol bgp a ", 1<<20), farEnd},
		{"far end: sections in each other", repeated("a {\n", 1<<20), farEnd},
		{"far end: taken along twice", func() []byte {
			var b strings.Builder
			for n := range 20_000 {
				fmt.Fprintf(&b, "conn c%d\n  also=c%d\n  also=c%d\n", n, n+1, n+2)
			}
			return []byte(b.String())
		}, farEnd},
		{"far end: neighbours", func() []byte {
			var b strings.Builder
			b.WriteString("router bgp 64501\n")
			for n := range 26_000 {
				fmt.Fprintf(&b, " neighbor 10.%d.%d.%d remote-as 64502\n", 208+n>>16&7, n>>8&255, n&255)
			}
			return []byte(b.String())
		}, farEnd},
		{"capture: interfaces", func() []byte {
			// A section header, then blocks of interfaces (pcapng, section 4).
			head := []uint32{0x0A0D0D0A, 28, 0x1A2B3C4D, 1, 0xFFFFFFFF, 0xFFFFFFFF, 28}
			var b bytes.Buffer
			_ = binary.Write(&b, binary.LittleEndian, head)
			for range 600_000 {
				_ = binary.Write(&b, binary.LittleEndian, []uint32{1, 20, 1, 65535, 20})
			}
			return b.Bytes()
		}, seen},
		{"what was seen: lines", repeated("IP 10.214.0.20.5000 > 10.208.1.10.6514: tcp\n", 16<<20), seen},
		{"pasted rules", repeated("tcp dport 5432 accept\n", 1<<20), rules},
		{"pasted chains", repeated("chain c { jump c; }\n", 1<<20), rules},
		{"a saying", repeated("join marrow hill and ", 64<<10), said},
		{"bundle: no zip", repeated("PK\x03\x04", 64<<20), bundled},
	}
}

// The bounds of one reader in a process of its own.
const (
	readWithin = 30 * time.Second
	readMiB    = 600
)

// Each reader is bounded in time and memory at its limit. All of them in make faults, as a table; here those of far
// ends and of captures, which took hours and gigabytes once.
func TestReadersAtTheirLimits(t *testing.T) {
	if name := os.Getenv("DRAVIN_READER"); name != "" {
		readAlone(t, name)
		return
	}
	for _, r := range readers(t) {
		if os.Getenv("DRAVIN_WORST") != "all" && !strings.HasPrefix(r.name, "far end: ") && r.name != "capture: interfaces" {
			continue
		}
		cmd := exec.CommandContext(t.Context(), os.Args[0], "-test.run=^TestReadersAtTheirLimits$", "-test.v")
		cmd.Env = append(os.Environ(), "DRAVIN_READER="+r.name)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %.500s", r.name, out)
		_, line, ok := strings.Cut(string(out), "took ")
		require.True(t, ok, "%.500s", out)
		var ms, kib, size int
		_, err = fmt.Sscanf(line, "%d ms %d KiB of %d bytes", &ms, &kib, &size)
		require.NoError(t, err, line)
		t.Logf("%-32s %9d bytes %6d ms %5d MiB", r.name, size, ms, kib>>10)
		assert.Less(t, kib>>10, readMiB, r.name)
	}
}

// readAlone reads in this process, and says how long it took and what the process took of memory at its peak.
func readAlone(t *testing.T, name string) {
	for _, r := range readers(t) {
		if r.name != name {
			continue
		}
		text := r.text()
		done := make(chan struct{})
		begun := time.Now()
		go func() { defer close(done); _ = r.read(text) }() // whether it is understood is no matter here
		select {
		case <-done:
		case <-time.After(readWithin):
			t.Fatalf("%s takes more than %s", name, readWithin)
		}
		status, err := os.ReadFile("/proc/self/status")
		require.NoError(t, err)
		_, peak, _ := strings.Cut(string(status), "VmHWM:")
		fmt.Printf("took %d ms %s KiB of %d bytes\n", time.Since(begun).Milliseconds(), strings.Fields(peak)[0], len(text))
	}
}
