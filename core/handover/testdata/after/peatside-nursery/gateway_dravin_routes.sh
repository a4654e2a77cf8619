#!/bin/sh
# Addresses, interfaces and routes of Peatside Nursery gateway
# Rendered by Dravin from the design; edit the design, not this file.

set -eu

# The gateway forwards, and replies may leave by another interface than requests came in by.
sysctl -qw net.ipv4.ip_forward=1
sysctl -qw net.ipv6.conf.all.forwarding=1
sysctl -qw net.ipv4.conf.all.rp_filter=2

# The gateway's own addresses in the mapped ranges.
ip address replace 10.223.0.1/32 dev lo
