#!/bin/sh
# Addresses, interfaces and routes of Marrow Hill gateway
# Rendered by Dravin from the design; edit the design, not this file.

set -eu

# The gateway forwards, and replies may leave by another interface than requests came in by.
sysctl -qw net.ipv4.ip_forward=1
sysctl -qw net.ipv6.conf.all.forwarding=1
sysctl -qw net.ipv4.conf.all.rp_filter=2

# Marrow Hill to catalogue: one interface for each strand.
ip link show dravin1 >/dev/null 2>&1 || ip link add dravin1 type xfrm if_id 1
ip address replace 169.254.140.2/30 dev dravin1
ip link set dravin1 up
ip link show dravin2 >/dev/null 2>&1 || ip link add dravin2 type xfrm if_id 2
ip address replace 169.254.140.6/30 dev dravin2
ip link set dravin2 up
ip route replace 10.208.0.0/16 nexthop dev dravin1 nexthop dev dravin2
