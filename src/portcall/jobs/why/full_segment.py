"""Whether a device takes a full segment by TCP, where it answers no long echoes."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping
from contextlib import suppress
from ipaddress import IPv4Address

from portcall.core.find import web_page
from portcall.core.talk.conversation import Endpoint, StreamBytes
from portcall.core.talk.door_knock import DoorState
from portcall.core.wire import cip
from portcall.host.streams import Stream, connect
from portcall.host.vantage import Vantage

_CONNECT_WAIT, _TAKEN_WAIT = 2.0, 3.0
"""Seconds: in the second, what is lost is sent again three times or four (RFC 6298 §5)."""

_LOOK_EVERY = 0.05
_HEADERS = 40
"""Octets of IPv4 and TCP before a segment, without options."""

_GET, _END = b"GET / HTTP/1.0\r\nX-Fill: ", b"\r\n\r\n"


def _nothing_asked(octets: int) -> bytes:
    """A message that devices throw away: NOP (CIP Networks Library, volume 2, §2-4.2)."""
    return cip.encode(cip.Encapsulation(cip.NOP, bytes(octets - cip.HEADER_LENGTH)))


def _filled_page(octets: int) -> bytes:
    """A request for a page, with a field that nobody reads (RFC 9110 §5.1)."""
    return _GET + b"x" * (octets - len(_GET) - len(_END)) + _END


_FILLED: Mapping[int, Callable[[int], bytes]] = {
    cip.PORT: _nothing_asked,
    web_page.PORT: _filled_page,
    web_page.OTHER_PORT: _filled_page,
}
"""For each port of which it is known what may be sent there at any length without harm."""


async def full_segment_taken(
    vantage: Vantage, address: IPv4Address, doors: Mapping[int, DoorState], passed: int
) -> bool | None:
    """Send one segment of full length, and see whether it is acknowledged.

    ``doors`` are those that were tried before: what did not open is not tried again. None when none
    opens that is fit for that, or the connection takes no segments that are longer than the
    ``passed`` octets of IPv4 that are known to pass.
    """
    for port in _FILLED:
        if doors.get(port, DoorState.OPEN) is not DoorState.OPEN:
            continue
        try:
            stream = await connect(vantage, Endpoint(address, port), _CONNECT_WAIT)
        except (OSError, TimeoutError):
            continue
        try:
            longest = stream.longest_segment
            if longest + _HEADERS <= passed:
                return None
            return await _is_taken(stream, _FILLED[port](longest))
        except OSError:
            # This operating system does not tell.
            return None
        finally:
            stream.close()
    return None


async def _is_taken(stream: Stream, data: bytes) -> bool | None:
    with suppress(OSError):
        stream.send(StreamBytes(data))
        loop = asyncio.get_running_loop()
        until = loop.time() + _TAKEN_WAIT
        while loop.time() < until:
            if not stream.unacknowledged:
                return True
            await asyncio.sleep(_LOOK_EVERY)
        return False
    return None
