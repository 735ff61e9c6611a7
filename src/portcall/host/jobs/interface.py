"""Reading from a device how its own interface is set."""

from __future__ import annotations

from contextlib import closing
from ipaddress import IPv4Address

from portcall.core.conversation import Endpoint
from portcall.core.find.cip_interface import AskInterface
from portcall.core.wire import cip
from portcall.core.wire.cip_message import InterfaceConfiguration
from portcall.host.runner import Runner
from portcall.host.streams import Stream

CONNECT_WAIT = 1.5


async def read_interface(adapter: str, address: IPv4Address) -> InterfaceConfiguration | None:
    """What a device says of its own address, mask and gateway; None when it does not."""
    try:
        stream = await Stream.connect(adapter, Endpoint(address, cip.PORT), CONNECT_WAIT)
    except (OSError, TimeoutError):
        return None
    found: list[InterfaceConfiguration] = []
    runner = Runner()
    with closing(stream):
        try:
            await runner.run(AskInterface(), stream, found.append)
        finally:
            runner.drop(stream)
    return found[0] if found else None
