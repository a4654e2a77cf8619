#!/usr/bin/env bash
# Fetches the sources of the open IPsec daemon from Debian, for the settings in its test suite: settings.sh FOLDER.
# They are read in a test and never become part of Dravin.
set -euo pipefail

into=${1:?say where to: settings.sh FOLDER}
[ -d "$into/x" ] && exit 0
mkdir -p "$into/lists/partial" "$into/cache/archives/partial"
cat >"$into/src.sources" <<END
Types: deb-src
URIs: http://deb.debian.org/debian
Suites: $(. /etc/os-release && echo "$VERSION_CODENAME")
Components: main
Signed-By: /usr/share/keyrings/debian-archive-keyring.gpg
END
options=(-o "Dir::Etc::sourcelist=$into/src.sources" -o Dir::Etc::sourceparts=/dev/null
  -o "Dir::State::Lists=$into/lists" -o "Dir::Cache=$into/cache" -o APT::Sandbox::User=root)
cd "$into"
apt-get "${options[@]}" update >/dev/null
apt-get "${options[@]}" source --download-only strongswan >/dev/null
mkdir x
python3 - <<'END' 2>/dev/null || tar -C x -xf strongswan_*.orig.tar.*
import glob, tarfile
tarfile.open(glob.glob("strongswan_*.orig.tar.*")[0]).extractall("x")
END
