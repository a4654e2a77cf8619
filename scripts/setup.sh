#!/usr/bin/env bash
# Installs what Debian must provide: setup.sh demo | test. Says in one sentence
# what is missing where it can not.
set -euo pipefail

demo=(postgresql)
tests=(gcc libc6-dev postgresql chromium fonts-dejavu-core iproute2 procps nftables strongswan-charon strongswan-swanctl
  libstrongswan-standard-plugins libcharon-extra-plugins bird2 frr iputils-ping socat systemd charon-systemd util-linux mount
  strongswan-starter libyang2-tools bind9-utils openssl)

fail() {
  echo "setup: $*" >&2
  exit 1
}

for program in go node npm; do
  command -v "$program" >/dev/null || fail "$program is not installed; Dravin is built with Go 1.26 and Node 20 or later."
done

case "${1:-}" in
demo) wanted=("${demo[@]}") ;;
test) wanted=("${tests[@]}") ;;
*) fail "say what for: setup.sh demo or setup.sh test." ;;
esac
# A database of one's own needs no PostgreSQL here.
if [ "$1" = demo ] && [ -n "${DATABASE_URL:-}" ]; then exit 0; fi

command -v dpkg-query >/dev/null || fail "this is not Debian; install these by hand: ${wanted[*]} (or set DATABASE_URL for make demo)."
missing=()
for package in "${wanted[@]}"; do
  [ "$(dpkg-query -W -f '${db:Status-Status}' "$package" 2>/dev/null || true)" = installed ] || missing+=("$package")
done
[ ${#missing[@]} -eq 0 ] && exit 0

root=()
if [ "$(id -u)" -ne 0 ]; then
  command -v sudo >/dev/null || fail "these packages are missing and there is no sudo to install them with: ${missing[*]}."
  root=(sudo)
fi
echo "setup: installing ${missing[*]}"
log=$(mktemp)
install() {
  "${root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends "${missing[@]}"
}
{ "${root[@]}" apt-get update && install; } >"$log" 2>&1 ||
  fail "apt-get could not install ${missing[*]}: $(tail -n 1 "$log") (all of it is in $log)"
rm -f "$log"
# The tests start daemons of their own; the machine need not run any.
if command -v systemctl >/dev/null; then
  for service in bird:bird2 frr:frr strongswan:charon-systemd; do
    [[ " ${missing[*]} " == *" ${service#*:} "* ]] && "${root[@]}" systemctl disable --now "${service%:*}" >/dev/null 2>&1 || true
  done
fi
