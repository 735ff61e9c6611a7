"""NetBIOS node status over UDP (RFC 1002 §4.2.17 request, §4.2.18 response)."""

from __future__ import annotations

from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.wire.octets import Reader

PORT = 137
_NODE_STATUS = 0x0021
_INTERNET = 0x0001
_ANYBODY = b"\x20CK" + b"A" * 30 + b"\0"
"""RFC 1001 §14.1, first level encoding of "*" and fifteen zero octets."""
_GROUP = 0x8000
_RESPONSE = 0x8400
WORKSTATION = 0x00


class NodeName(NamedTuple):
    """One registered name; ``suffix`` is the service it stands for."""

    name: bytes
    suffix: int
    is_group: bool = False


class NodeStatus(NamedTuple):
    """A node's names and its unit ID, which is its MAC where it has one."""

    transaction: int
    names: tuple[NodeName, ...]
    unit: Mac


def encode_request(transaction: int) -> bytes:
    """Ask a node, whatever it is called, for its names."""
    head = transaction.to_bytes(2, "big") + b"\0\0" + b"\0\x01" + bytes(6)
    return head + _ANYBODY + _NODE_STATUS.to_bytes(2, "big") + _INTERNET.to_bytes(2, "big")


def parse_request(data: bytes) -> int:
    """The transaction of such a request. Raises Malformed for any other."""
    reader = Reader(data, "NetBIOS node status request")
    transaction = reader.u16()
    if reader.take(len(data) - 2) != encode_request(0)[2:]:
        raise reader.wrong("is no node status request")
    return transaction


def parse(data: bytes) -> NodeStatus:
    """Read a node status response. Raises Malformed."""
    reader = Reader(data, "NetBIOS node status")
    transaction, flags = reader.u16(), reader.u16()
    if not flags & 0x8000 or flags & 0x000F:
        raise reader.wrong(f"flags {flags:#06x} are not those of an answer")
    reader.take(4)
    reader.take(4)
    # §4.1: labels, or a pointer to them.
    while length := reader.u8():
        if length & 0xC0:
            reader.take(1)
            break
        reader.take(length)
    if reader.u16() != _NODE_STATUS:
        raise reader.wrong("is another kind of record")
    reader.take(2 + 4 + 2)
    names = []
    for _ in range(reader.u8()):
        name, suffix, kind = reader.take(15), reader.u8(), reader.u16()
        names.append(NodeName(name.rstrip(b" \0"), suffix, bool(kind & _GROUP)))
    return NodeStatus(transaction, tuple(names), reader.mac())


def encode(status: NodeStatus) -> bytes:
    """A node status response; its statistics beyond the unit ID are zero (46 octets in all)."""
    names = b"".join(
        name.name[:15].ljust(15)
        + bytes((name.suffix,))
        + (_GROUP if name.is_group else 0).to_bytes(2, "big")
        for name in status.names
    )
    data = bytes((len(status.names),)) + names + status.unit.octets + bytes(40)
    head = status.transaction.to_bytes(2, "big") + _RESPONSE.to_bytes(2, "big")
    counts = b"\0\0\0\x01" + bytes(4)
    record = _ANYBODY + _NODE_STATUS.to_bytes(2, "big") + _INTERNET.to_bytes(2, "big") + bytes(4)
    return head + counts + record + len(data).to_bytes(2, "big") + data
