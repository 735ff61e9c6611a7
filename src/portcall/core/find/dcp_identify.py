"""Finding by DCP identify: every station answers, with or without an address."""

from __future__ import annotations

from collections.abc import Iterable

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.catalog.catalog import Codes, Numbering
from portcall.core.find import sentences as say
from portcall.core.find.protocol import OnTheLink, Protocol
from portcall.core.find.sighting import Field, Method, Sighting, said_by
from portcall.core.printable import decoded
from portcall.core.talk.ask_all import ASK_TIMES, AskAll
from portcall.core.talk.conversation import Actions, Frame, Report
from portcall.core.wire import dcp
from portcall.core.wire.octets import Malformed

SPREAD = 1.0
"""Seconds over which the stations may spread their answers: a line has many of them."""

ANSWER_WAIT = SPREAD + 0.4
"""IEC 61158-6-10: the spread, and 400 ms for the answer itself."""

_MOST_STATIONS = 10_000


def sighting(mac: Mac, said: dcp.Station, now: float) -> Sighting:
    """The sighting that a station's answer makes."""
    known = said.address is not None and said.address != UNSPECIFIED
    values = said_by(
        Method.DCP,
        (Field.NAME, decoded(said.name, dcp.LONGEST_STATION_NAME)),
        (Field.PRODUCT, decoded(said.station_type)),
        (Field.KIND, ", ".join(said.roles)),
        (Field.MASK, said.mask if known else None),
        (Field.GATEWAY, said.gateway if known and said.gateway != UNSPECIFIED else None),
        (Field.MANNER, None if known else say.NO_ADDRESS()),
        (Field.MANNER, None if said.name else say.NO_STATION_NAME()),
    )
    codes = None if said.vendor is None else Codes(Numbering.DCP, said.vendor, said.device)
    address = said.address if known else None
    return Sighting(now, Method.DCP, mac, address, values, codes=codes)


class DcpIdentify(AskAll[Frame, Sighting]):
    """Asks all stations twice; reports each once.

    With ``only`` it is over when that station answers.
    """

    def __init__(self, own_mac: Mac, xid: int, only: Mac | None = None) -> None:
        super().__init__(ANSWER_WAIT)
        self._only = only
        self._own_mac = own_mac
        self._xid = xid
        self._seen: set[Mac] = set()

    def question(self) -> Iterable[Frame]:
        """Identify, all of you."""
        delay = round(SPREAD / dcp.DELAY_STEP)
        return (Frame(dcp.encode_identify_all(self._own_mac, self._xid, delay)),)

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Sighting]:
        """Take answers to our question."""
        try:
            mac, message = dcp.parse_frame(packet.data)
            if message.frame_id is not dcp.FrameId.IDENTIFY_RESPONSE or message.xid != self._xid:
                return
            station = dcp.parse_station(message)
        except Malformed:
            return
        if mac not in self._seen and len(self._seen) < _MOST_STATIONS:
            self._seen.add(mac)
            yield Report(sighting(mac, station, now))
            if mac == self._only:
                self.over, self.wake_at = True, None


PROTOCOL = Protocol(
    Method.DCP,
    "DCP",
    12,
    needs_link=True,
    on_the_link=OnTheLink(DcpIdentify, ASK_TIMES * ANSWER_WAIT),
)
