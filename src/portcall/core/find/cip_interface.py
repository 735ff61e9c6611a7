"""Asking one CIP device over TCP how its own interface is set.

The TCP/IP interface object, CIP volume 2 §5-4: its configuration (attribute 5: address, mask,
gateway), where that comes from (attribute 3), and its host name (attribute 6). A session first.
"""

from __future__ import annotations

from portcall.core.cip.interface_object import get, obtains
from portcall.core.cip.session import close_session, open_session
from portcall.core.find.sighting import Field, Learnt, Method, words
from portcall.core.printable import decoded
from portcall.core.talk.dialogue import Script
from portcall.core.wire.cip_tcpip import (
    Attribute,
    parse_configuration,
    parse_text,
    parse_word,
)


def script() -> Script[Learnt]:
    """Read mask and gateway, where the address comes from, and the host name."""
    session = yield from open_session()
    if session is None:
        return
    data = yield from get(session, Attribute.CONFIGURATION)
    if data is not None:
        interface = parse_configuration(data)
        yield Learnt(
            words(
                Method.CIP,
                (Field.MASK, str(interface.mask)),
                (Field.GATEWAY, str(interface.gateway) if int(interface.gateway) else None),
            )
        )
    data = yield from get(session, Attribute.CONTROL)
    if data:
        yield Learnt(words(Method.CIP, (Field.OBTAINS, obtains(parse_word(data)))))
    data = yield from get(session, Attribute.HOST_NAME)
    if data:
        yield Learnt(words(Method.CIP, (Field.NAME, decoded(parse_text(data)))))
    yield from close_session(session)
