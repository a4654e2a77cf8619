#!/bin/sh
# Watches the strands of static links at Marrow Hill gateway
# Rendered by Dravin from the design; edit the design, not this file.

set -u
# A strand that misses 3 answers is left, within 8 s; one that answers again is used again.
asks() { ping -n -c 1 -W 1 -I "$1" "$2" >/dev/null 2>&1; }
own() { ip -o "$1" address show to "$2" scope global | awk 'NR == 1 { sub("/.*", "", $4); print $4 }'; }
missed_1=0
missed_2=0
had_1=
while :; do
    # Marrow Hill to catalogue
    up=
    if asks dravin1 169.254.140.1; then missed_1=0; else missed_1=$((missed_1 + 1)); fi
    if [ "$missed_1" -lt 3 ]; then up="$up nexthop dev dravin1"; fi
    if asks dravin2 169.254.140.5; then missed_2=0; else missed_2=$((missed_2 + 1)); fi
    if [ "$missed_2" -lt 3 ]; then up="$up nexthop dev dravin2"; fi
    if [ -z "$up" ]; then up=" nexthop dev dravin1 nexthop dev dravin2"; fi
    if [ "$up" != "$had_1" ]; then
        s=$({ own -4 10.214.0.0/22; own -4 192.168.216.0/24; } | head -n 1)
        ip -4 route replace 10.208.0.0/16 metric 3 ${s:+src $s} $up
        had_1="$up"
    fi
    sleep 1
done
