"""Questions with a time to live: echoes, and attempts at a door. The media of ``Trace``."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from ipaddress import IPv4Address

from portcall.core.reach.trace import HopPacket, HopSays
from portcall.core.talk.conversation import IcmpPacket
from portcall.core.wire import icmp
from portcall.core.wire.octets import Malformed
from portcall.host.echoes import Echoes
from portcall.host.vantage import Vantage

if sys.platform == "win32":
    from portcall.host.windows.hops import DoorHops
else:
    from portcall.host.linux.hops import DoorHops

__all__ = ["DoorHops", "EchoHops"]

_PAYLOAD = bytes(range(48))


class EchoHops:
    """Echoes to one address (RFC 792). Raises NotPossibleHere as ``Echoes`` does."""

    def __init__(self, vantage: Vantage, address: IPv4Address) -> None:
        self._echoes: Echoes = vantage.call(lambda: Echoes(vantage.adapter))
        self._address = address
        self._hops: dict[int, int] = {}

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self._echoes.fileno()

    def send(self, packet: HopPacket) -> None:
        """Send an echo with that time to live."""
        echo = icmp.Echo(False, self._echoes.identifier, packet.number, _PAYLOAD)
        self._hops[packet.number] = packet.hops
        self._echoes.send(IcmpPacket(self._address, icmp.encode_echo(echo), packet.hops))

    def receive(self) -> Iterator[tuple[HopPacket, float]]:
        """Echoes that are back, and errors about them."""
        for packet, at in self._echoes.receive():
            try:
                said = icmp.parse_answer(packet.message)
            except Malformed:
                continue
            if said is None or said.identifier != self._echoes.identifier:
                continue
            number = said.sequence
            hops = self._hops.get(number)
            if hops is None:
                continue
            if isinstance(said, icmp.Undelivered):
                if said.destination == self._address:
                    kind = HopSays.PASSED_ON if said.expired else HopSays.STOPPED
                    yield HopPacket(hops, number, kind, packet.peer, None, said.reason), at
            elif said.is_reply and packet.peer == self._address:
                yield HopPacket(hops, number, HopSays.REACHED, packet.peer, packet.ttl), at

    def close(self) -> None:
        """Close the socket."""
        self._echoes.close()
