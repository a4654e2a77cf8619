package handover

import (
	"strconv"

	"dravin/core/design"
	"dravin/core/route"
)

// portsFile names the interface into which each circuit is plugged, which no design
// says.
const portsFile = "dravin/ports"

// circuits makes the tagged interfaces of circuits, and gives them their addresses.
func (s *script) circuits() {
	if len(s.on) == 0 {
		return
	}
	s.line("")
	s.comment("Circuits: a tagged interface for each, on the port that /etc/%s names.", portsFile)
	s.line(`has() { ip link show "$1" >/dev/null 2>&1; }`)
	s.line(`port() { awk -v d="$1" '$1 == d { print $2 }' "${DRAVIN_PORTS:-/etc/%s}" 2>/dev/null || true; }`, portsFile)
	for _, c := range s.on {
		s.comment("%s", c.object.Name)
		// All that comes to the port is the circuit's: in any other mode the port answers for the
		// circuit's address (ARP), and packets come in beside its routing instance.
		make := `ip link add link "$p" name ` + c.device + ` type macvlan mode passthru`
		if c.near.VLAN != 0 {
			make = `ip link add link "$p" name ` + c.device + ` type vlan id ` + strconv.Itoa(int(c.near.VLAN))
		}
		s.line(`if ! has %s; then p=$(port %s); if [ -n "$p" ] && [ "$p" != %s ]; then ip link set "$p" up; %s; else echo "%s: name its port in /etc/%s" >&2; fi; fi`, c.device, c.device, fillIn, make, c.device, portsFile)
		if c.own.IsValid() {
			s.line(`if has %[1]s; then ip address replace %[2]s dev %[1]s%[3]s; ip link set %[1]s up; sysctl -qw net.ipv4.conf.%[1]s.rp_filter=0; fi`, c.device, c.own, nodad(c.own.Addr().Is6()))
		}
	}
}

func nodad(six bool) string { return map[bool]string{true: " nodad"}[six] }

// ports lists the circuits' interfaces, each with the port to fill in.
func ports(t *route.Tables, box *design.Object, on []circuitAt) string {
	p := &page{}
	p.comment(
		"The port into which each circuit of %s is plugged. Put the interface's name in place of %s.",
		t.Design.Title(box.ID), fillIn,
	)
	for _, c := range on {
		p.line("%s %s # %s", c.device, fillIn, c.object.Name)
	}
	return p.String()
}
