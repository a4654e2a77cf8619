package estates

import (
	"fmt"
	"strings"

	"dravin/core/design"
)

// Large is an estate of one hub to which all networks are attached and all sites have a link, with hosts spread evenly:
// in each 25th site and each 20th network filters stand, and some sites are seen under mapped ranges. It is for
// benchmarks, and the same each time.
func Large(sites, networks, hosts int) (*design.Design, error) {
	l := large{sites: sites, networks: networks, hosts: hosts}
	return design.Read([]byte(l.file()))
}

type large struct {
	sites, networks, hosts int
	b                      strings.Builder
}

func (l *large) line(format string, args ...any) { fmt.Fprintf(&l.b, format+"\n", args...) }

// share is how many hosts stand at the n-th party.
func (l *large) share(n int) int {
	all := l.sites + l.networks
	return (n+1)*l.hosts/all - n*l.hosts/all
}

func (l *large) siteRange(k int) string { return fmt.Sprintf("10.%d.%d", 212+k/256, k%256) }

func (l *large) netRange(k int) string { return fmt.Sprintf("10.%d.%d", 208+k/64, k%64*4) }

// mapped reports whether the mapped range of a site stands for it elsewhere.
func mapped(k int) bool { return k%100 == 99 }

func (l *large) file() string {
	l.line("dravin: 1\nname: Large\nsites:")
	for k := range l.sites {
		l.line(
			"  - name: hut %d\n    gateways:\n      - name: gateway\n        addresses: 198.51.%d.%d", k, k/250,
			k%250+1,
		)
		l.line("    lans:\n      - name: house\n        prefixes: %s.0/24", l.siteRange(k))
		l.endpoints(k, l.siteRange(k), 8, "tcp/502, tcp/443")
	}
	l.line("networks:")
	for k := range l.networks {
		l.line("  - name: store %d\n    cloud: Tarn\n    region: tarn-north\n    blocks: %s.0/22", k, l.netRange(k))
		l.line("    tables:\n      - name: main table\n        routes:\n          - prefix: 10.208.0.0/12")
		l.line("            via: tarn-hub/store-%d", k)
		l.line(
			"    subnets:\n      - name: racks\n        zone: tarn-north-a\n        prefixes: %s.0/24", l.netRange(k),
		)
		l.line("        table: store-%d/main-table", k)
		l.endpoints(l.sites+k, l.netRange(k), 8, "tcp/443, tcp/6514")
	}
	l.hub()
	l.links()
	l.filters()
	return l.b.String()
}

func (l *large) endpoints(n int, within string, indent int, answers string) {
	pad := strings.Repeat(" ", indent)
	l.line("%sendpoints:", pad)
	for h := range l.share(n) {
		l.line("%s  - name: host %d\n%s    addresses: %s.%d", pad, h, pad, within, 20+h)
		if n%5 == 0 {
			l.line("%s    answers: [%s]", pad, answers)
		}
	}
}

const hubGateways = 10

func (l *large) hub() {
	l.line("hubs:\n  - name: Tarn hub\n    cloud: Tarn\n    region: tarn-north\n    gateways:")
	for g := range hubGateways {
		l.line("      - name: gateway %d\n        addresses: [192.0.2.%d, 192.0.2.%d]", g, 2*g+1, 2*g+2)
	}
	l.line("    hub_tables:\n      - name: main\n    attachments:")
	for k := range l.networks {
		l.line("      - name: store %d\n        what: store-%d\n        subnets: store-%d/racks", k, k, k)
		l.line("        bound: tarn-hub/main\n        feeds: tarn-hub/main")
	}
	for k := range l.sites {
		l.line("      - name: hut %d\n        what: hut-%d-to-the-hub", k, k)
		l.line("        bound: tarn-hub/main\n        feeds: tarn-hub/main")
	}
}

func (l *large) links() {
	l.line("links:")
	for k := range l.sites {
		known := l.siteRange(k) + ".0/24"
		if mapped(k) {
			known = fmt.Sprintf("10.223.%d.0/24", k/100)
		}
		l.line("  - name: hut %d to the hub\n    routing: static\n    ends:", k)
		l.line("      - gateway: hut-%d/gateway\n        routes: 10.208.0.0/12", k)
		l.line("      - gateway: tarn-hub/gateway-%d\n        routes: %s\n    tunnels:", k%hubGateways, known)
		in := fmt.Sprintf("169.254.%d", 180+k/64)
		l.line("      - name: tunnel 1\n        outside: [198.51.%d.%d, 192.0.2.%d]", k/250, k%250+1, k%hubGateways*2+1)
		l.line("        inside: [%s.%d/30, %s.%d/30]", in, k%64*4+2, in, k%64*4+1)
	}
	l.line("mappings:")
	for k := range l.sites {
		if mapped(k) {
			l.line("  - name: hut %d mapped\n    gateway: hut-%d/gateway\n    link: hut-%d-to-the-hub", k, k, k)
			l.line("    real: %s.0/24\n    mapped: 10.223.%d.0/24", l.siteRange(k), k/100)
		}
	}
}

func (l *large) filters() {
	l.line("groups:")
	for k := 0; k < l.networks; k += 20 {
		l.line("  - name: store %d hosts\n    members: store-%d/racks", k, k)
	}
	l.line("filters:")
	for k := 0; k < l.networks; k += 20 {
		l.line("  - name: store %d lets in\n    at: store-%d-hosts\n    rules:", k, k)
		l.line("      - from: 10.212.0.0/15\n        services: [tcp/443, icmp/echo]")
		l.line("      - from: %s.0/24\n        services: tcp/6514", l.siteRange(k))
		l.line("      - direction: out\n        to: 10.208.0.0/12")
	}
	for k := 0; k < l.sites; k += 25 {
		l.line("  - name: hut %d way through\n    at: hut-%d/gateway\n    default: allow\n    rules:", k, k)
		l.line("      - does: refuse\n        from: 10.208.0.0/14\n        services: tcp/22")
	}
}
