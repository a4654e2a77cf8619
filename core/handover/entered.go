package handover

import (
	"net/netip"

	"dravin/core/design"
)

// boxRoutes are the gateway's or box's own entries.
func boxRoutes(p *page, list []design.BoxRoute) {
	if len(list) == 0 {
		return
	}
	p.line("")
	p.comment("Entries of its own. hop FAMILY ADDRESS: by which router, or into which tunnel, an address is met.")
	p.line(
		`hop() { ip "$1" -o route get "$2" 2>/dev/null | awk '{ for (i = 1; i < NF; i++) { if ($i == "via") v = $(i+1); if ($i == "dev") d = $(i+1) } print d, v }' | { read -r d v || true; if [ -z "$d" ]; then return; fi; if ip -o link show dev "$d" | grep -q NOARP; then echo "dev $d"; else echo "via ${v:-$2} dev $d onlink"; fi; }; }`,
	)
	for _, r := range list {
		f := flag(r.Prefix)
		if !r.Via.IsValid() {
			p.line("ip %s route replace blackhole %s metric %d", f, r.Prefix, enteredMetric(r.Prefix))
			continue
		}
		p.line(
			"w=$(hop %s %s); if [ -n \"$w\" ]; then ip %s route replace %s $w metric %d; fi", f, r.Via, f, r.Prefix,
			enteredMetric(r.Prefix),
		)
	}
}

func enteredMetric(p netip.Prefix) int {
	if p.Addr().Is4() {
		return entered4
	}
	return entered6
}
