package ingest

import (
	"bufio"
	"context"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
)

// What a box knows of hosts: its neighbours (ip neigh), and the leases of its DHCP server in either of two usual forms.
// Each is a host; what nobody answered for is none.

var (
	neighbourLine = regexp.MustCompile(
		`^(\S+) dev \S+ .*\b(REACHABLE|STALE|DELAY|PROBE|PERMANENT|NOARP|FAILED|INCOMPLETE)\s*$`,
	)
	leaseLine  = regexp.MustCompile(`^\d{1,12} (?:[0-9A-Fa-f]{2}:){5}[0-9A-Fa-f]{2} (\S+) (\S+)`)
	leaseBlock = regexp.MustCompile(`^lease (\S+) \{`)
	leaseName  = regexp.MustCompile(`^\s*client-hostname "([^"]*)"`)
)

// looksHosts tells whether a text lists hosts in one of these forms.
func looksHosts(text []byte) bool {
	hits := 0
	for n, line := range strings.Split(string(text), "\n") {
		if n > 60 {
			break
		}
		line = strings.TrimRight(line, "\r ")
		if neighbourLine.MatchString(line) || leaseLine.MatchString(line) || leaseBlock.MatchString(line) {
			hits++
		}
	}
	return hits > 0
}

// readHosts reads such a list.
func readHosts(ctx context.Context, r *bufio.Reader, o Options) (*Table, error) {
	t := &Table{
		Format: "hosts that a box knows",
		Header: []string{string(ColumnKind), string(ColumnName), string(ColumnAddress)},
	}
	f := filling{ctx: ctx, table: t, options: o}
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, maxTextLine)
	line, unanswered := 0, 0
	var leased netip.Addr
	seen := map[netip.Addr]bool{}
	host := func(text, name string) error {
		a, err := netip.ParseAddr(text)
		if err != nil || a.IsLinkLocalUnicast() || a.IsMulticast() || seen[a] {
			return nil
		}
		seen[a] = true
		if name == "" || name == "*" {
			name = a.String()
		}
		return f.add(line, []string{"host", name, a.String()})
	}
	for lines.Scan() {
		line++
		text := strings.TrimRight(lines.Text(), "\r ")
		var err error
		if m := neighbourLine.FindStringSubmatch(text); m != nil {
			if m[2] == "FAILED" || m[2] == "INCOMPLETE" {
				unanswered++
			} else {
				err = host(m[1], "")
			}
		} else if m := leaseLine.FindStringSubmatch(text); m != nil {
			err = host(m[1], m[2])
		} else if m := leaseBlock.FindStringSubmatch(text); m != nil {
			leased, _ = netip.ParseAddr(m[1])
		} else if m := leaseName.FindStringSubmatch(text); m != nil && leased.IsValid() {
			err = host(leased.String(), m[1])
		} else if strings.HasPrefix(text, "}") && leased.IsValid() {
			err, leased = host(leased.String(), ""), netip.Addr{}
		}
		if err != nil {
			return nil, err
		}
	}
	if err := lines.Err(); err != nil {
		return nil, &Error{Line: line + 1, Why: "the line is too long to be text", Want: "give the output as it is"}
	}
	if unanswered > 0 {
		t.note(fmt.Sprintf("%d addresses for which nobody answered are passed over.", unanswered))
	}
	if len(t.Rows) == 0 {
		return nil, &Error{Why: "no host was found in what the box says", Want: "give the whole output of ip neigh"}
	}
	return t, nil
}
