package handover

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"dravin/core/box"
)

// portsFile names the interface into which each circuit is plugged.
const portsFile = Ports

// Ports is that file's path below /etc. What was filled in there stays: the routes' script adds what is new.
const Ports = "dravin/ports"

// circuits makes the tagged interfaces of circuits, and gives them their addresses.
func (s *script) circuits() {
	if len(s.box.Circuits) == 0 {
		return
	}
	s.line("")
	s.comment("Circuits: a tagged interface for each, on the port that /etc/%s names.", portsFile)
	s.line(`has() { ip link show "$1" >/dev/null 2>&1; }`)
	s.line(`port() { awk -v d="$1" '$1 == d { print $2 }' "${DRAVIN_PORTS:-/etc/%s}" 2>/dev/null || true; }`, portsFile)
	for _, c := range s.box.Circuits {
		s.comment("%s", c.Name)
		s.line(
			`p=${DRAVIN_PORTS:-/etc/%[1]s}; if [ -w "$p" ] && ! grep -q "^%[2]s " "$p"; then echo %[3]s >>"$p"; fi`, portsFile,
			c.Device(), shellWord(portLine(c)),
		)
		if c.Port != "" { // it was not known when the file was written
			s.line(
				`if [ -w "$p" ] && grep -q "^%[1]s %[2]s" "$p"; then n=$(grep -v "^%[1]s " "$p" || true); { echo "$n"; echo %[3]s; } >"$p"; fi`,
				c.Device(), fillIn, shellWord(portLine(c)),
			)
		}
		// All that comes to the port is the circuit's: in any other mode the port answers for the
		// circuit's address (ARP), and packets come in beside its routing instance.
		make := `ip link add link "$p" name ` + c.Device() + ` type macvlan mode passthru`
		if c.VLAN != 0 {
			make = `ip link add link "$p" name ` + c.Device() + ` type vlan id ` + strconv.Itoa(int(c.VLAN))
		}
		s.line(
			`if ! has %s; then p=$(port %s); if [ -n "$p" ] && [ "$p" != %s ]; then ip link set "$p" up; %s; else echo "%s: name its port in /etc/%s" >&2; fi; fi`,
			c.Device(),
			c.Device(),
			fillIn,
			make,
			c.Device(),
			portsFile,
		)
		if c.Inside.IsValid() {
			s.line(
				`if has %[1]s; then ip address replace %[2]s dev %[1]s%[3]s; ip link set %[1]s up; sysctl -qw net.ipv4.conf.%[1]s.rp_filter=0; fi`,
				c.Device(),
				c.Inside,
				nodad(c.Inside.Addr().Is6()),
			)
		}
	}
}

func nodad(six bool) string { return map[bool]string{true: " nodad"}[six] }

// ports lists the circuits' interfaces, each with the port to fill in.
func ports(b *box.Box) string {
	p := &page{}
	p.comment(
		"The port into which each circuit of %s is plugged. Put the interface's name in place of %s.",
		b.Title, fillIn,
	)
	for _, c := range b.Circuits {
		p.line("%s", portLine(c))
	}
	return p.String()
}

// portLine is the line of a circuit with its port, or with the place for it while nobody knows it.
func portLine(c box.Circuit) string {
	return fmt.Sprintf("%s %s # %s", c.Device(), cmp.Or(c.Port, fillIn), c.Name)
}

// shellWord is a text as one word of the shell.
func shellWord(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }
