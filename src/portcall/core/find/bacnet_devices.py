"""Finding by BACnet/IP: Who-Is to a subnet, then what each device's own object says."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Sequence
from ipaddress import IPv4Address

from portcall.core.catalog.catalog import Codes, Numbering
from portcall.core.find import sentences as say
from portcall.core.find.protocol import Protocol, ToAll
from portcall.core.find.sighting import Field, Method, Sighting, said_by
from portcall.core.printable import printable
from portcall.core.talk.ask_all import AskAll
from portcall.core.talk.conversation import Actions, Datagram, Endpoint, Report, Send
from portcall.core.wire import bacnet
from portcall.core.wire.bacnet import IAm, Property, PropertyText, ReadProperty, Refused, WhoIs
from portcall.core.wire.octets import Malformed

ANSWER_WAIT = 1.0
_MOST_DEVICES = 2000
_MOST_ROUTED = 16

FIELDS = {
    Property.VENDOR_NAME: Field.MAKER,
    Property.MODEL_NAME: Field.PRODUCT,
    Property.FIRMWARE_REVISION: Field.FIRMWARE,
    Property.OBJECT_NAME: Field.NAME,
    Property.LOCATION: Field.PLACE,
    Property.DESCRIPTION: Field.DESCRIPTION,
}
"""What is read of each device, in this order."""


def sighting(
    address: IPv4Address, announced: IAm, now: float, method: Method = Method.BACNET
) -> Sighting:
    """The sighting that an I-Am makes: of the device itself, or of the router it is behind."""
    number = announced.instance
    if announced.network is not None:
        manner = say.BACNET_BEHIND(instance=number, network=announced.network)
        return Sighting(now, method, address=address, said=said_by(method, (Field.MANNER, manner)))
    said = said_by(method, (Field.KIND, f"BACnet device {number}"))
    codes = Codes(Numbering.BACNET, announced.vendor)
    return Sighting(now, method, address=address, said=said, codes=codes)


class BacnetDevices(AskAll[Datagram, Sighting]):
    """Asks the subnets' broadcast addresses twice; reads properties one at a time."""

    def __init__(self, broadcasts: Sequence[IPv4Address]) -> None:
        super().__init__(ANSWER_WAIT)
        self._peers = tuple(Endpoint(address, bacnet.PORT) for address in broadcasts)
        self._known: dict[Endpoint, int] = {}
        self._open: dict[Endpoint, deque[Property]] = {}
        self._asked: dict[Endpoint, float] = {}
        self._slow: set[Endpoint] = set()
        """Those that have left a question unanswered."""
        self._routed: dict[Endpoint, int] = {}

    def question(self) -> Iterable[Datagram]:
        """A Who-Is for every subnet."""
        return [Datagram(peer, bacnet.encode(WhoIs())) for peer in self._peers]

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, Sighting]:
        """Note a device and read on."""
        try:
            message = bacnet.parse(packet.payload)
        except Malformed:
            return
        peer = packet.peer
        if isinstance(message, IAm):
            yield from self._announced(peer, message, now)
        elif isinstance(message, PropertyText | Refused) and self._open.get(peer):
            waiting = self._open[peer]
            if message.invoke != waiting[0]:
                return
            wanted = waiting.popleft()
            if isinstance(message, PropertyText):
                said = said_by(Method.BACNET, (FIELDS[wanted], printable(message.text)))
                yield Report(Sighting(now, Method.BACNET, address=peer.address, said=said))
            yield from self._read(peer, now)

    def _announced(self, peer: Endpoint, message: IAm, now: float) -> Actions[Datagram, Sighting]:
        """A device says that it is there: at its own address, or behind a router."""
        if message.origin is not None:
            peer = Endpoint(message.origin, bacnet.PORT)
        if peer in self._known and message.network is None:
            return
        if message.network is not None:
            if self._routed.get(peer, 0) < _MOST_ROUTED:
                self._routed[peer] = self._routed.get(peer, 0) + 1
                yield Report(sighting(peer.address, message, now))
            return
        if len(self._known) >= _MOST_DEVICES:
            return
        self._known[peer] = message.instance
        self._open[peer] = deque(FIELDS)
        yield Report(sighting(peer.address, message, now))
        yield from self._read(peer, now)

    def woke(self, now: float) -> Actions[Datagram, Sighting]:
        """An answer that did not come is passed over once; the rest is still to come."""
        for peer, waiting in self._open.items():
            if waiting and now >= self._asked[peer] + ANSWER_WAIT:
                waiting.popleft()
                if peer in self._slow:
                    waiting.clear()
                self._slow.add(peer)
                yield from self._read(peer, now)
        reading = [self._asked[peer] for peer, waiting in self._open.items() if waiting]
        if self._asks_left == 0 and reading:
            self.wake_at = min(reading) + ANSWER_WAIT
            return
        yield from super().woke(now)

    def _read(self, peer: Endpoint, now: float) -> Actions[Datagram, Sighting]:
        waiting = self._open[peer]
        if waiting:
            self._asked[peer] = now
            self.wake_at = max(self.wake_at or 0.0, now + ANSWER_WAIT)
            wanted = ReadProperty(waiting[0], self._known[peer], waiting[0])
            yield Send(Datagram(peer, bacnet.encode(wanted)))


PROTOCOL = Protocol(
    Method.BACNET,
    "BACnet",
    11,
    # Answers to Who-Is come in at BACnet's own port, often by broadcast.
    to_all=ToAll(lambda broadcast: BacnetDevices((broadcast,)), bacnet.PORT),
)
