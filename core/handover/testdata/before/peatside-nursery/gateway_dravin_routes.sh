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
