#!/bin/sh
# Addresses, interfaces and routes of Marrow Hill gateway
# Rendered by Dravin from the design; edit the design, not this file.

set -eu

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
