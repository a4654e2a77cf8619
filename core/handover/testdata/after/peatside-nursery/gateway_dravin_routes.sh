#!/bin/sh
# Addresses, interfaces and routes of Peatside Nursery gateway
# Rendered by Dravin from the design; edit the design, not this file.

set -eu

# The box forwards, and replies may leave by another interface than requests came in by.
sysctl -qw net.ipv4.ip_forward=1
sysctl -qw net.ipv6.conf.all.forwarding=1
sysctl -qw net.ipv4.conf.all.rp_filter=0
for f in /proc/sys/net/ipv4/conf/*/rp_filter; do if [ "$(cat "$f")" = 1 ]; then echo 2 >"$f"; fi; done

# own FAMILY RANGE: the address that this box has there, if it has one.
own() { ip -o "$1" address show to "$2" scope global | awk '$2 != "lo" { sub("/.*", "", $4); print $4; exit }'; }

# The gateway's own addresses, as they are in the mapped ranges.
mapped() { echo "$1 $2 $3" | awk '{ split($1, a, "."); split($2, r, "."); split($3, m, "."); print a[1]-r[1]+m[1] "." a[2]-r[2]+m[2] "." a[3]-r[3]+m[3] "." a[4]-r[4]+m[4] }'; }
a=$(own -4 192.168.216.0/24); if [ -n "$a" ]; then ip address replace "$(mapped "$a" 192.168.216.0 10.223.0.0)/32" dev lo; fi
