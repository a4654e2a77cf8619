#!/bin/sh
# Addresses, interfaces and routes of Marrow Hill gateway
# Rendered by Dravin from the design; edit the design, not this file.

set -eu

# tidy DEVICES ROUTES RULES GROUPS: what an earlier run has set up beside these goes.
tidy() {
  for d in $(ip -o link show | awk -F'[ :@]+' '$2 ~ /^(dravin|circuit)[0-9]+$/ { print $2 }'); do
    case " $1 " in *" $d "*) ;; *) ip link delete "$d" ;; esac
  done
  for f in -4 -6; do
    ip -o "$f" route show table all | awk -v f="$f" '/ dev (dravin|circuit)[0-9]+( |$)/ && !/ proto / {
      t = "main"; m = 0; for (i = 2; i < NF; i++) { if ($i == "table") t = $(i+1); if ($i == "metric") m = $(i+1) }
      print f, t, $1, m }' | sort -u | while read -r f t to m; do
      case "|$2|" in *"|$f $t $to $m|"*) ;; *) ip "$f" route delete "$to" table "$t" metric "$m" ;; esac
    done
    ip "$f" rule show | awk -v low=1000 -v high=17000 '{ p = $1 + 0; if (p < low || p > high) next;
      by = ""; from = ""; for (i = 2; i < NF; i++) { if ($i == "iif" || $i == "fwmark") by = $i " " $(i+1);
        if ($i == "from" && $(i+1) != "all") from = " from " $(i+1); if ($i == "lookup") t = $(i+1) }
      print by from " lookup " t " pref " p }' | while read -r r; do
      case "$3|" in *"|$f $r|"*) ;; *) ip "$f" rule delete $r ;; esac
    done
  done
  ip -o link show | awk '{ for (i = 3; i < NF; i++) if ($i == "group") { sub(/[@:].*/, "", $2); print $2, $(i+1) } }' |
    while read -r d g; do
      case "$g" in *[!0-9]*) continue ;; esac
      if [ "$g" -gt 300 ] && [ "$g" -le 8300 ]; then
        case "$4|" in *"|$d $g|"*) ;; *) ip link set dev "$d" group default ;; esac
      fi
    done
}
away() {
  tidy "" "" "" ""
}

# away: nothing of what this script sets up stays, the kernel's settings apart.
if [ "${1-}" = away ]; then
  away
  exit
fi

# The box forwards, and replies may leave by another interface than requests came in by.
sysctl -qw net.ipv4.ip_forward=1
sysctl -qw net.ipv6.conf.all.forwarding=1
sysctl -qw net.ipv4.conf.all.rp_filter=0
for f in /proc/sys/net/ipv4/conf/*/rp_filter; do if [ "$(cat "$f")" = 1 ]; then echo 2 >"$f"; fi; done

# own FAMILY RANGE: the address that this box has there, if it has one.
own() { ip -o "$1" address show to "$2" scope global | awk '$2 != "lo" { sub("/.*", "", $4); print $4; exit }'; }

# Marrow Hill to catalogue: one interface for each tunnel.
ip link show dravin1 >/dev/null 2>&1 || ip link add dravin1 type xfrm if_id 1
ip address replace 169.254.140.2/30 dev dravin1
ip link set dravin1 up
sysctl -qw net.ipv4.conf.dravin1.rp_filter=0
ip link show dravin2 >/dev/null 2>&1 || ip link add dravin2 type xfrm if_id 2
ip address replace 169.254.140.6/30 dev dravin2
ip link set dravin2 up
sysctl -qw net.ipv4.conf.dravin2.rp_filter=0

# What is sent into links and circuits.
s=$({ own -4 10.214.0.0/22; own -4 192.168.216.0/24; } | head -n 1)
ip -4 route replace 10.208.0.0/16 metric 3 ${s:+src $s} nexthop dev dravin1 nexthop dev dravin2

# What an earlier run has set up on interfaces of this script, and nothing asks for any more, goes.
only() {
  for a in $(ip -o address show dev "$1" scope global 2>/dev/null | awk '{ print $4 }'); do
    case " $2 " in *" $a "*) ;; *) ip address delete "$a" dev "$1" ;; esac
  done
}
only dravin1 "169.254.140.2/30"
only dravin2 "169.254.140.6/30"
tidy "dravin1 dravin2" "-4 main 10.208.0.0/16 3" "${rules-}" "${groups-}"
