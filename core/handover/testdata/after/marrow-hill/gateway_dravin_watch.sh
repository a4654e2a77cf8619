#!/bin/sh
# Watches tunnels and circuits at Marrow Hill gateway
# Rendered by Dravin from the design; edit the design, not this file.

set -u
# calls CONNECTION CHILD: asks for it again where it is not there. The IPsec daemon gives up when it is refused, as by an end that is not ready yet.
calls() { sas=$(swanctl --list-sas --raw --ike "$1" 2>/dev/null) || return 0; case "$sas" in *CONNECTING* | *"name=$2 "*) ;; *) swanctl --initiate --child "$2" --timeout 1 >/dev/null 2>&1 ;; esac; }
round=0
# What misses 3 answers is left, within 8 s; what answers again is used again. While nothing has ever answered, the IPsec daemon's word counts: not every far end answers.
asks() { ping -n -c 1 -W 1 -I "$1" "$2" >/dev/null 2>&1; }
agreed() { swanctl --list-sas --raw --ike "$1" 2>/dev/null | grep -q state=INSTALLED; }
own() { ip -o "$1" address show to "$2" scope global | awk '$2 != "lo" { sub("/.*", "", $4); print $4; exit }'; }
# over DEVICE...: next hops over those that answer.
over() { h=; for v; do case "$lost" in *" $v "*) ;; *) h="$h nexthop dev $v" ;; esac; done; echo "$h"; }
had=none
missed_dravin1=0 heard_dravin1=no
missed_dravin2=0 heard_dravin2=no
while :; do
    lost=" "
    # Marrow Hill to catalogue, tunnel 1
    if asks dravin1 169.254.140.1; then missed_dravin1=0 heard_dravin1=yes; elif [ "$heard_dravin1" = no ] && agreed marrow-hill-to-catalogue__tunnel-1; then missed_dravin1=0; else missed_dravin1=$((missed_dravin1 + 1)); fi
    if [ "$missed_dravin1" -ge 3 ]; then lost="${lost}dravin1 "; fi
    # Marrow Hill to catalogue, tunnel 2
    if asks dravin2 169.254.140.5; then missed_dravin2=0 heard_dravin2=yes; elif [ "$heard_dravin2" = no ] && agreed marrow-hill-to-catalogue__tunnel-2; then missed_dravin2=0; else missed_dravin2=$((missed_dravin2 + 1)); fi
    if [ "$missed_dravin2" -ge 3 ]; then lost="${lost}dravin2 "; fi
    if [ "$lost" != "$had" ]; then
        s=$({ own -4 10.214.0.0/22; own -4 192.168.216.0/24; } | head -n 1)
        h=$(over dravin1 dravin2)
        if [ -n "$h" ]; then ip -4 route replace 10.208.0.0/16 metric 3 ${s:+src $s} $h; else ip -4 route del 10.208.0.0/16 metric 3 2>/dev/null; fi
        had="$lost"
    fi
    if [ $((round % 5)) -eq 0 ]; then
        calls marrow-hill-to-catalogue__tunnel-1 marrow-hill-to-catalogue__tunnel-1__1
        calls marrow-hill-to-catalogue__tunnel-2 marrow-hill-to-catalogue__tunnel-2__1
    fi
    round=$((round + 1))
    sleep 1
done
