"""Finding by BACnet/IP: Who-Is to a subnet, then what each device's own object says."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Sequence
from ipaddress import IPv4Address

from portcall.core.catalog.catalog import Codes, Numbering
from portcall.core.find.sighting import Field, Method, Sighting, words
from portcall.core.printable import printable
from portcall.core.talk.ask_all import AskAll
from portcall.core.talk.conversation import Actions, Datagram, Endpoint, Report, Send
from portcall.core.wire import bacnet
from portcall.core.wire.bacnet import IAm, Property, PropertyText, ReadProperty, WhoIs
from portcall.core.wire.octets import Malformed

ANSWER_WAIT = 1.0
_MOST_DEVICES = 2000

FIELDS = {
    Property.VENDOR_NAME: Field.MAKER,
    Property.MODEL_NAME: Field.PRODUCT,
    Property.FIRMWARE_REVISION: Field.FIRMWARE,
    Property.OBJECT_NAME: Field.NAME,
    Property.LOCATION: Field.PLACE,
    Property.DESCRIPTION: Field.DESCRIPTION,
}
"""What is read of each device, in this order."""


def codes(announced: IAm) -> Codes:
    """What an I-Am tells of the maker."""
    return Codes(Numbering.BACNET, announced.vendor)


class BacnetDevices(AskAll[Datagram, Sighting]):
    """Asks the subnets' broadcast addresses twice; reads properties one at a time."""

    def __init__(self, broadcasts: Sequence[IPv4Address]) -> None:
        super().__init__(ANSWER_WAIT)
        self._peers = tuple(Endpoint(address, bacnet.PORT) for address in broadcasts)
        self._known: dict[Endpoint, int] = {}
        self._open: dict[Endpoint, deque[Property]] = {}

    def question(self) -> Iterable[Datagram]:
        """Who is there?"""
        return [Datagram(peer, bacnet.encode(WhoIs())) for peer in self._peers]

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, Sighting]:
        """Note a device and read on."""
        try:
            message = bacnet.parse(packet.payload)
        except Malformed:
            return
        peer = packet.peer
        if isinstance(message, IAm) and peer not in self._known:
            if len(self._known) >= _MOST_DEVICES:
                return
            self._known[peer] = message.instance
            self._open[peer] = deque(FIELDS)
            kind = words(Method.BACNET, (Field.KIND, f"BACnet device {message.instance}"))
            yield Report(
                Sighting(now, Method.BACNET, address=peer.address, said=kind, codes=codes(message))
            )
            yield from self._read(peer, now)
        elif isinstance(message, PropertyText) and peer in self._open:
            waiting = self._open[peer]
            if waiting and message.said == waiting[0]:
                value = printable(message.text)
                said = words(Method.BACNET, (FIELDS[waiting.popleft()], value))
                yield Report(Sighting(now, Method.BACNET, address=peer.address, said=said))
                yield from self._read(peer, now)

    def _read(self, peer: Endpoint, now: float) -> Actions[Datagram, Sighting]:
        waiting = self._open[peer]
        if waiting:
            self.wake_at = max(self.wake_at or 0.0, now + ANSWER_WAIT)
            wanted = ReadProperty(waiting[0], self._known[peer], waiting[0])
            yield Send(Datagram(peer, bacnet.encode(wanted)))
