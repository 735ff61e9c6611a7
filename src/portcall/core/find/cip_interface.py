"""Asking one CIP device over TCP how its own interface is set.

The TCP/IP interface object, CIP volume 2 §5-4: its configuration (attribute 5: address, mask,
gateway), where that comes from (attribute 3), and its host name (attribute 6). A session first.
"""

from __future__ import annotations

from collections.abc import Generator

from portcall.core.find.dialogue import Exchange, Learnt, Script
from portcall.core.find.sighting import Field, Method, words
from portcall.core.printable import decoded
from portcall.core.wire import cip, cip_message
from portcall.core.wire.cip_message import (
    CONFIGURATION_CONTROL,
    HOST_NAME,
    INTERFACE_CONFIGURATION,
    TCP_IP_INTERFACE,
)
from portcall.core.wire.octets import Malformed, Reader

_OBTAINS = {0: "stored in the device", 1: "by BOOTP", 2: "by DHCP"}
"""§5-4.3.2.3, bits 0 to 3 of the configuration control."""


def script() -> Script:
    """Read mask and gateway, where the address comes from, and the host name."""
    reply = yield Exchange(cip_message.register_session(), cip.whole_length)
    if reply is None:
        return
    opened = cip.parse(reply)
    if opened.command != cip_message.REGISTER_SESSION or opened.status != 0:
        return
    data = yield from _attribute(opened.session, INTERFACE_CONFIGURATION)
    if data is not None:
        interface = cip_message.parse_configuration(data)
        yield Learnt(
            words(
                Method.CIP,
                (Field.MASK, str(interface.mask)),
                (Field.GATEWAY, str(interface.gateway) if int(interface.gateway) else None),
            )
        )
    data = yield from _attribute(opened.session, CONFIGURATION_CONTROL)
    if data:
        yield Learnt(words(Method.CIP, (Field.OBTAINS, _OBTAINS.get(data[0] & 0x0F))))
    data = yield from _attribute(opened.session, HOST_NAME)
    if data:
        reader = Reader(data, "CIP host name")
        name = decoded(reader.take(reader.u16_little()))
        yield Learnt(words(Method.CIP, (Field.NAME, name)))
    goodbye = cip_message.unregister_session(opened.session)
    yield Exchange(goodbye, cip.whole_length, wanted=False)


def _attribute(
    session: int, attribute: int
) -> Generator[Exchange | Learnt, bytes | None, bytes | None]:
    """One attribute of the object's only instance; None when the device refuses or is silent."""
    wanted = cip_message.AttributeRequest(TCP_IP_INTERFACE, 1, attribute)
    request = cip_message.encode_unconnected(session, cip_message.encode_request(wanted))
    reply = yield Exchange(request, cip.whole_length)
    if reply is None:
        return None
    try:
        message = cip_message.parse_unconnected(cip.parse(reply))
        response = cip_message.parse_response(message)
    except Malformed:
        return None
    return response.data if response.status == cip_message.SUCCESS else None
