"""Two devices with one planned MAC: they ask as one, but introduce themselves differently."""

from __future__ import annotations

from portcall.core.address import Mac
from portcall.core.assign import sentences as say
from portcall.core.finding import Finding
from portcall.core.talk.request import Request
from portcall.core.wire.dhcp import Code, MessageType

MOST_VOICES = 65_536
_INTRODUCING = (Code.HOST_NAME, Code.VENDOR_CLASS, Code.CLIENT_IDENTIFIER)


class Voices:
    """Remembers how each planned device introduces itself by DHCP; no more are kept than
    ``MOST_VOICES``: at a planned place anybody may ask.
    """

    def __init__(self) -> None:
        self._first: dict[Mac, Request] = {}
        self._told: set[Mac] = set()

    def oddity(self, request: Request) -> Finding | None:
        """What to say when a device introduces itself differently than at first; once for each
        device.
        """
        if request.kind is not MessageType.DISCOVER or request.mac in self._told:
            return None
        if request.mac not in self._first and len(self._first) >= MOST_VOICES:
            oldest = next(iter(self._first))
            del self._first[oldest]
            self._told.discard(oldest)
        first = self._first.setdefault(request.mac, request)
        if all(first.options.get(code) == request.options.get(code) for code in _INTRODUCING):
            return None
        self._told.add(request.mac)
        both = first.introduction, request.introduction
        return say.TWO_VOICES(mac=request.mac, first=both[0], second=both[1])
