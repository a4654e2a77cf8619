#!/bin/sh
# Watches the strands of static links at Marrow Hill gateway
# Rendered by Dravin from the design; edit the design, not this file.

set -u
# A strand that misses 3 answers is left, within 8 s; one that answers again is used again.
asks() { ping -n -c 1 -W 1 -I "$1" "$2" >/dev/null 2>&1; }
own() { ip -o "$1" address show to "$2" scope global | awk '$2 != "lo" { sub("/.*", "", $4); print $4; exit }'; }
# over DEVICE...: next hops over those that answer; over all if none does.
over() { h=; for v; do case "$lost" in *" $v "*) ;; *) h="$h nexthop dev $v" ;; esac; done; if [ -z "$h" ]; then for v; do h="$h nexthop dev $v"; done; fi; echo "$h"; }
had=none
missed_1=0
missed_2=0
while :; do
    lost=" "
    # Marrow Hill to catalogue
    if asks dravin1 169.254.140.1; then missed_1=0; else missed_1=$((missed_1 + 1)); fi
    if [ "$missed_1" -ge 3 ]; then lost="${lost}dravin1 "; fi
    if asks dravin2 169.254.140.5; then missed_2=0; else missed_2=$((missed_2 + 1)); fi
    if [ "$missed_2" -ge 3 ]; then lost="${lost}dravin2 "; fi
    if [ "$lost" != "$had" ]; then
        s=$({ own -4 10.214.0.0/22; own -4 192.168.216.0/24; } | head -n 1)
        ip -4 route replace 10.208.0.0/16 metric 3 ${s:+src $s} $(over dravin1 dravin2)
        had="$lost"
    fi
    sleep 1
done
