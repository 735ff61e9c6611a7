#!/bin/sh
# The real programs that some tests run against: installed from Debian when this is root and apt is
# there. Without them those tests skip and say why; with CI=true they fail.
set -eu
missing=
for pair in udhcpc:udhcpc dhclient:isc-dhcp-client tcpdump:tcpdump ip:iproute2 ping:iputils-ping \
            ps:procps setpriv:util-linux nft:nftables strace:strace tshark:tshark snmpd:snmpd \
            lldpd:lldpd dhcrelay:isc-dhcp-relay \
            dnsmasq:dnsmasq-base udhcpd:udhcpd dhcpcd:dhcpcd-base \
            nginx:nginx-light nmbd:samba gnutls-serv:gnutls-bin avahi-daemon:avahi-daemon getcap:libcap2-bin \
            groff:groff zsh:zsh fish:fish ssh-keygen:openssh-client openssl:openssl; do
    command -v "${pair%%:*}" >/dev/null 2>&1 || missing="$missing ${pair#*:}"
done
# What sets a page on paper loads this library.
ldconfig -p | grep -q libpangoft2-1.0.so.0 || missing="$missing libpangoft2-1.0-0"
# Its programs are in a folder of their version's.
ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing="$missing postgresql"
[ -n "$missing" ] || exit 0
if [ "$(id -u)" -ne 0 ] || ! command -v apt-get >/dev/null 2>&1; then
    echo "tests: not installed:$missing; the tests that need them will skip" >&2
    exit 0
fi
export DEBIAN_FRONTEND=noninteractive
# Some of them are services: they are run inside practice plants, never on this computer's network.
if [ ! -e /usr/sbin/policy-rc.d ]; then
    printf '#!/bin/sh\nexit 101\n' >/usr/sbin/policy-rc.d
    chmod +x /usr/sbin/policy-rc.d
    trap 'rm -f /usr/sbin/policy-rc.d' EXIT
fi
apt-get update -q >/dev/null
# shellcheck disable=SC2086
apt-get install -y -q --no-install-recommends $missing >/dev/null
