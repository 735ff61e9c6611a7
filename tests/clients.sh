#!/bin/sh
# The real programs that some tests run against: installed from Debian when this is root and apt is
# there. Without them those tests skip and say why; with CI=true they fail.
set -eu
missing=
for pair in udhcpc:udhcpc dhclient:isc-dhcp-client tcpdump:tcpdump ip:iproute2 ping:iputils-ping \
            ps:procps setpriv:util-linux nft:nftables strace:strace; do
    command -v "${pair%%:*}" >/dev/null 2>&1 || missing="$missing ${pair#*:}"
done
[ -n "$missing" ] || exit 0
if [ "$(id -u)" -ne 0 ] || ! command -v apt-get >/dev/null 2>&1; then
    echo "tests: not installed:$missing; the tests that need them will skip" >&2
    exit 0
fi
export DEBIAN_FRONTEND=noninteractive
apt-get update -q >/dev/null
# shellcheck disable=SC2086
apt-get install -y -q --no-install-recommends $missing >/dev/null
