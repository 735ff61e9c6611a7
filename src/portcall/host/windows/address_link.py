"""Asking who has an address, BOOTP and DHCP: by frames, or by what Windows does itself."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address

from portcall.core.address import Mac
from portcall.core.talk.conversation import Frame
from portcall.host.filters import ADDRESSING, Program
from portcall.host.windows.capture import has_driver
from portcall.host.windows.link import Link
from portcall.host.windows.system_link import SystemLink


class AddressLink:
    """A link for ARP questions, BOOTP and DHCP; all frames where a capture driver is installed."""

    def __init__(self, adapter: str, passes: Program | None = None) -> None:
        self._by: Link | SystemLink
        self.hears_all = has_driver()
        if self.hears_all:
            self._by = Link(adapter, passes)
        else:
            self._by = SystemLink(adapter, serves=passes is ADDRESSING)

    @property
    def mac(self) -> Mac:
        """The adapter's own MAC."""
        return self._by.mac

    def reaches(self, address: IPv4Address) -> bool:
        """Whether it can be asked from here who has an address."""
        return isinstance(self._by, Link) or self._by.reaches(address)

    def fileno(self) -> int:
        """Readable when something came."""
        return self._by.fileno()

    def receive(self) -> Iterator[tuple[Frame, float]]:
        """What has come, with its times."""
        return self._by.receive()

    def send(self, packet: Frame) -> None:
        """Send a frame, or have the system say the same. Raises OSError, NotPossibleHere."""
        self._by.send(packet)

    def close(self) -> None:
        """Hear nothing any more."""
        self._by.close()
