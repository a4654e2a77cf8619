#!/bin/sh
# Watches tunnels and circuits at Peatside Nursery gateway
# Rendered by Dravin from the design; edit the design, not this file.

set -u
# calls CONNECTION CHILD: asks for it again where it is not there. The IPsec daemon gives up when it is refused, as by an end that is not ready yet.
calls() { sas=$(swanctl --list-sas --raw --ike "$1" 2>/dev/null) || return 0; case "$sas" in *CONNECTING* | *"name=$2 "*) ;; *) swanctl --initiate --child "$2" --timeout 1 >/dev/null 2>&1 ;; esac; }
round=0
while :; do
    if [ $((round % 5)) -eq 0 ]; then
        calls peatside-to-marrow-hill__tunnel-1 peatside-to-marrow-hill__tunnel-1__1
        calls peatside-to-marrow-hill__tunnel-1 peatside-to-marrow-hill__tunnel-1__2
    fi
    round=$((round + 1))
    sleep 1
done
