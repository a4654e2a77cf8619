package box

import (
	"slices"

	"dravin/core/design"
	"dravin/core/topology"
)

// Packages of Debian that a box needs, by what it is for: no more is asked for than files use.
const (
	forward = "iproute2 nftables procps"
	ipsec   = "charon-systemd libstrongswan-standard-plugins strongswan-swanctl"
	watches = "iputils-ping"
	speaks  = "bird2"
	proxies = "socat"
)

// prepare are the lines for the shell of a fresh Debian machine, as root, that make it ready for what one's own box is
// handed. Each is typed once, and may be run again.
func prepare(d *design.Design, o *design.Object) []string {
	needs := []string{forward}
	joints := topology.At(d, o.ID)
	if o.Kind == design.KindGateway {
		needs = append(needs, ipsec)
	}
	if len(joints) > 0 {
		needs = append(needs, watches)
	}
	speaking := func(c *design.Object) bool { return len(d.Inside(c.ID, design.KindSession)) > 0 }
	if slices.ContainsFunc(joints, func(j *design.Object) bool {
		return slices.ContainsFunc(topology.CarriersOf(d, j), speaking)
	}) {
		needs = append(needs, speaks)
	}
	for _, l := range d.ListenersAt(o.ID) {
		if l.Proxies() && !slices.Contains(needs, proxies) {
			needs = append(needs, proxies)
		}
	}
	var out []string
	for _, packages := range needs {
		out = append(out, "apt-get install --yes --no-install-recommends "+packages)
	}
	return append(out, "install -d -m 0755 /etc/dravin /etc/nftables.d", "install -d -m 0700 /root/handed")
}

// Bound is what an administrator of a box must know of its rules.
const Bound = "a restart of nftables.service flushes every rule; dravin.service is bound to it and loads them again. " +
	"After an nft flush ruleset by hand: systemctl restart dravin.service"
