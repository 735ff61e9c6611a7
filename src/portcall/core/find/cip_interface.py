"""Asking one CIP device over TCP how its own interface is set.

The TCP/IP interface object, CIP volume 2 §5-4: its configuration (attribute 5: address, mask,
gateway), where that comes from (attribute 3), and its host name (attribute 6). A session first.
"""

from __future__ import annotations

from ipaddress import IPv4Address

from portcall.core.cip.interface_object import Found, OtherAddresses, find_instance, get, obtains
from portcall.core.cip.session import close_session, open_session
from portcall.core.find.sighting import Field, Learnt, Method, said_by
from portcall.core.printable import decoded
from portcall.core.talk.dialogue import Script
from portcall.core.wire.cip_tcpip import (
    Attribute,
    parse_text,
    parse_word,
)


def script(at: IPv4Address) -> Script[Learnt]:
    """Read mask and gateway, where the address comes from, and the host name.

    ``at`` is where the device was reached: other interfaces of it are set otherwise.
    """
    session = yield from open_session()
    if session is None:
        return
    found = yield from find_instance(session, at)
    if isinstance(found, Found):
        interface = found.configuration
        yield Learnt(
            said_by(
                Method.CIP,
                (Field.MASK, interface.mask),
                (Field.GATEWAY, interface.gateway if int(interface.gateway) else None),
            )
        )
    if not isinstance(found, OtherAddresses):
        # A device that does not report its configuration may still report the rest of its first
        # interface.
        instance = found.instance if found else 1
        data = yield from get(session, instance, Attribute.CONTROL)
        if data:
            yield Learnt(said_by(Method.CIP, (Field.OBTAINS, obtains(parse_word(data)))))
        data = yield from get(session, instance, Attribute.HOST_NAME)
        if data:
            yield Learnt(said_by(Method.CIP, (Field.NAME, decoded(parse_text(data)))))
    yield from close_session(session)
