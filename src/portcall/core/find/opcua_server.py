"""Identifying by OPC UA: which application serves here, asked without security."""

from __future__ import annotations

from functools import partial
from ipaddress import IPv4Address

from portcall.core.find.protocol import Behind, Protocol
from portcall.core.find.sighting import Field, Learnt, Method, said_by
from portcall.core.printable import decoded
from portcall.core.talk.dialogue import Exchange, Script
from portcall.core.wire import opcua


def script(address: IPv4Address) -> Script[Learnt]:
    """Hello, a channel, the endpoints, and goodbye."""
    url = f"opc.tcp://{address}:{opcua.PORT}".encode()
    reply = yield Exchange(opcua.encode_hello(url), opcua.whole_length, opcua.is_answer)
    if reply is None or opcua.parse_kind(reply) != b"ACK":
        return
    reply = yield Exchange(opcua.encode_open_channel(), opcua.whole_length, opcua.is_answer)
    if reply is None:
        return
    channel = opcua.parse_open(reply)
    reply = yield Exchange(
        opcua.encode_get_endpoints(channel, url), opcua.whole_length, opcua.is_answer
    )
    if reply is not None:
        said = opcua.parse_endpoints(reply)
        name, product = decoded(said.name), decoded(said.product)
        shown = f"OPC UA server {name or decoded(said.uri)}"
        yield Learnt(
            said_by(
                Method.OPCUA,
                (Field.DESCRIPTION, f"{shown} ({product})" if product else shown),
            )
        )
    yield Exchange(opcua.encode_close_channel(channel), opcua.whole_length, wanted=False)


def _is_spoken(reply: bytes) -> bool:
    return opcua.parse_kind(reply) in (b"ACK", b"ERR")


_BEHIND = Behind(
    lambda door, is_known: (partial(script, door.address),),
    opcua.encode_hello(b"opc.tcp://device"),
    _is_spoken,
)

PROTOCOL = Protocol(Method.OPCUA, "OPC UA", 34, doors={opcua.PORT: _BEHIND})
