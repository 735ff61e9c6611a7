"""Asking who has an address, BOOTP and DHCP: by frames."""

from __future__ import annotations

from ipaddress import IPv4Address

from portcall.host.linux.link import Link


class AddressLink(Link):
    """A link for ARP questions, BOOTP and DHCP, which hears all there is."""

    hears_all = True

    def reaches(self, address: IPv4Address) -> bool:
        """Whether it can be asked from here who has an address: everybody can, by frames."""
        return True
