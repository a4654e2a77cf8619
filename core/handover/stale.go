package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
)

// What an earlier script has set up stays in the kernel when the design goes on: an address on a tunnel's interface, a
// route into it, a rule that sends what comes by it into a segment. So the script ends by taking away from its own
// interfaces, and from its own range of rules, whatever it would not set up again. What others have set up is theirs.

// placed notes a route into an interface of the script's own as the kernel lists it.
func (s *script) placed(to netip.Prefix, metric, table int) {
	text := bareAddress(to)
	if to.Bits() == 0 {
		text = "default"
	}
	name := "main"
	if table != 0 {
		name = fmt.Sprint(table)
	}
	s.routes = append(s.routes, fmt.Sprintf("%s %s %s %d", flag(to), name, text, metric))
}

// bareAddress is a range as the kernel's lists have it: an address alone has no length.
func bareAddress(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

// noMetric is the metric that the kernel gives a route of which none is said.
func noMetric(to netip.Prefix) int {
	if to.Addr().Is4() {
		return 0
	}
	return 1024
}

// ownDevices are the interfaces that the script makes, with the addresses that each has.
func ownDevices(b *box.Box) (out []string, inside map[string]string) {
	inside = map[string]string{}
	add := func(device string, own ...netip.Prefix) {
		out = append(out, device)
		inside[device] = strings.ReplaceAll(words(own), ",", "")
	}
	for _, l := range b.Links {
		if l.Routed() {
			for _, t := range l.Tunnels {
				add(t.Device(), t.Insides()...)
			}
		}
	}
	for _, c := range b.Circuits {
		add(c.Device(), c.Insides()...)
	}
	return out, inside
}

// tidy are the functions by which a script takes away what it would not set up again, or all of it.
func (s *script) tidy() {
	s.line("")
	s.comment("tidy DEVICES ROUTES RULES GROUPS: what an earlier run has set up beside these goes.")
	s.line(`tidy() {`)
	s.line(`  for d in $(ip -o link show | awk -F'[ :@]+' '$2 ~ /^(dravin|circuit)[0-9]+$/ { print $2 }'); do`)
	s.line(`    case " $1 " in *" $d "*) ;; *) ip link delete "$d" ;; esac`)
	s.line(`  done`)
	s.line(`  for f in -4 -6; do`)
	s.line(`    ip -o "$f" route show table all | awk -v f="$f" '/ dev (dravin|circuit)[0-9]+( |$)/ && !/ proto / {`)
	s.line(`      t = "main"; m = 0; for (i = 2; i < NF; i++) { if ($i == "table") t = $(i+1); if ($i == "metric") m = $(i+1) }`)
	s.line(`      print f, t, $1, m }' | sort -u | while read -r f t to m; do`)
	s.line(`      case "|$2|" in *"|$f $t $to $m|"*) ;; *) ip "$f" route delete "$to" table "$t" metric "$m" ;; esac`)
	s.line(`    done`)
	s.line(
		`    ip "$f" rule show | awk -v low=%d -v high=%d '{ p = $1 + 0; if (p < low || p > high) next;`, crossingPriority,
		lastPriority,
	)
	s.line(`      by = ""; from = ""; for (i = 2; i < NF; i++) { if ($i == "iif" || $i == "fwmark") by = $i " " $(i+1);`)
	s.line(`        if ($i == "from" && $(i+1) != "all") from = " from " $(i+1); if ($i == "lookup") t = $(i+1) }`)
	s.line(`      print by from " lookup " t " pref " p }' | while read -r r; do`)
	s.line(`      case "$3|" in *"|$f $r|"*) ;; *) ip "$f" rule delete $r ;; esac`)
	s.line(`    done`)
	s.line(`  done`)
	s.line(`  ip -o link show | awk '{ for (i = 3; i < NF; i++) if ($i == "group") { sub(/[@:].*/, "", $2); print $2, $(i+1) } }' |`)
	s.line(`    while read -r d g; do`)
	s.line(`      case "$g" in *[!0-9]*) continue ;; esac`)
	s.line(`      if [ "$g" -gt %d ] && [ "$g" -le %d ]; then`, firstTable, firstTable+design.MostSegments)
	s.line(`        case "$4|" in *"|$d $g|"*) ;; *) ip link set dev "$d" group default ;; esac`)
	s.line(`      fi`)
	s.line(`    done`)
	s.line(`}`)
	s.line(`away() {`)
	s.line(`  tidy "" "" "" ""`)
	for n := range s.box.Instances[1:] {
		for _, f := range []string{"-4", "-6"} {
			s.line("  ip %s route flush table %d 2>/dev/null || true", f, kernelTable(&s.box.Instances[n+1]))
		}
	}
	for _, r := range s.box.Entries {
		s.line("  ip %s route delete %s metric %d 2>/dev/null || true", flag(r.Prefix), r.Prefix, enteredMetric(r.Prefix))
	}
	// The addresses that it answers for, whatever interface they stand on.
	var answers []netip.Prefix
	for _, r := range s.box.Rules {
		if r.Does == design.OneToOne && !slices.Contains(answers, r.Into) {
			answers = append(answers, r.Into)
		}
	}
	for _, a := range s.box.Listens {
		answers = append(answers, a.Range)
	}
	for _, r := range answers {
		on := ` && $4 == "` + r.String() + `"`
		if !r.IsSingleIP() {
			on = ` && $2 == "lo"`
		}
		s.line(
			`  ip -o %s address show to %s | awk '1%s { print $4, "dev", $2 }' | while read -r a; do ip address delete $a; done`,
			flag(r), r, on,
		)
	}
	for _, x := range s.box.Among {
		s.line("  ip %s route delete local %s dev lo 2>/dev/null || true", flag(x.Range), x.Range)
	}
	s.line(`}`)
}

// stale takes away what the script would not set up again.
func (s *script) stale() {
	devices, inside := ownDevices(s.box)
	s.line("")
	s.comment("What an earlier run has set up on interfaces of this script, and nothing asks for any more, goes.")
	for n, d := range devices {
		if n == 0 {
			s.line(`only() {`)
			s.line(`  for a in $(ip -o address show dev "$1" scope global 2>/dev/null | awk '{ print $4 }'); do`)
			s.line(`    case " $2 " in *" $a "*) ;; *) ip address delete "$a" dev "$1" ;; esac`)
			s.line(`  done`)
			s.line(`}`)
		}
		s.line("only %s %q", d, inside[d])
	}
	s.line(
		`tidy "%s" "%s" "${rules-}" "${groups-}"`, strings.Join(devices, " "), strings.Join(s.routes, "|"),
	)
}
