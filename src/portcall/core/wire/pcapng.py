"""Captures: pcapng written and read, and the older pcap read.

IETF draft-ietf-opsawg-pcapng §3 and §4 (blocks), §3.5 (options); draft-ietf-opsawg-pcap §4 and §5.
Whole files are never held: reading takes a function that gives the next octets.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from typing import NamedTuple

from portcall.core.wire.octets import Malformed

ETHERNET = 1
"""LINKTYPE_ETHERNET."""

_SECTION, _INTERFACE, _SIMPLE, _PACKET = 0x0A0D0D0A, 1, 3, 6
_ORDER = 0x1A2B3C4D
MAGIC_LENGTH = 4
_PCAP = {0xA1B2C3D4: 1e-6, 0xA1B23C4D: 1e-9}
_LONGEST_BLOCK = 1 << 20
_FLAGS_OPTION = 2
_RESOLUTION_OPTION = 9
_MOST_INTERFACES = 4096
_MOST_EMPTY = 1000
"""Empty frames in a row; a file with a hole in it has them by the million."""


class Captured(NamedTuple):
    """A frame and when it was seen, in seconds since 1970; None where the file does not say."""

    data: bytes
    at: float | None


def encode_header(adapter: str) -> bytes:
    """A section with one Ethernet adapter, times in nanoseconds."""
    section = struct.pack("<IHHq", _ORDER, 1, 0, -1)
    name = adapter.encode()
    options = _option(2, name) + _option(_RESOLUTION_OPTION, b"\x09") + bytes(4)
    interface = struct.pack("<HHI", ETHERNET, 0, 0) + options
    return _block(_SECTION, section) + _block(_INTERFACE, interface)


def encode_packet(data: bytes, nanoseconds: int, outgoing: bool) -> bytes:
    """An enhanced packet block; its flags say which way the frame went (§4.3.1)."""
    fixed = struct.pack(
        "<IIIII", 0, nanoseconds >> 32, nanoseconds & 0xFFFFFFFF, len(data), len(data)
    )
    flags = _option(_FLAGS_OPTION, struct.pack("<I", 2 if outgoing else 1)) + bytes(4)
    return _block(_PACKET, fixed + data + bytes(-len(data) % 4) + flags)


def _block(kind: int, body: bytes) -> bytes:
    length = struct.pack("<I", 12 + len(body))
    return struct.pack("<I", kind) + length + body + length


def _option(code: int, value: bytes) -> bytes:
    return struct.pack("<HH", code, len(value)) + value + bytes(-len(value) % 4)


def parse_frames(read: Callable[[int], bytes]) -> Iterator[Captured]:
    """The Ethernet frames of a capture. ``read`` gives at most so many octets, fewer at the end.

    Raises Malformed where the file is not what it says; a last piece that was cut off ends it.
    """
    magic = read(MAGIC_LENGTH)
    if not is_capture(magic):
        raise Malformed("is neither a pcap nor a pcapng file", 0)
    for order in "<>":
        (number,) = struct.unpack(order + "I", magic)
        if number in _PCAP:
            return _frames_of_pcap(read, order, _PCAP[number])
    return _frames_of_pcapng(read)


def is_capture(magic: bytes) -> bool:
    """Whether a file that starts with these four octets is a pcap or a pcapng file."""
    numbers = {int.from_bytes(magic, "little"), int.from_bytes(magic, "big")}
    return len(magic) == MAGIC_LENGTH and not numbers.isdisjoint((*_PCAP, _SECTION))


def _frames_of_pcap(read: Callable[[int], bytes], order: str, unit: float) -> Iterator[Captured]:
    head = read(20)
    if len(head) < 20 or struct.unpack(order + "I", head[16:])[0] & 0xFFFF != ETHERNET:
        raise Malformed("was not captured on Ethernet", 20)
    empty = 0
    while len(head := read(16)) == 16:
        seconds, fraction, length, _ = struct.unpack(order + "IIII", head)
        if length > _LONGEST_BLOCK:
            raise Malformed(f"a frame of {length} octets", 0)
        empty = 0 if length else empty + 1
        if empty > _MOST_EMPTY:
            raise Malformed(f"more than {_MOST_EMPTY} frames of no octets, one after the other", 8)
        data = read(length)
        if len(data) < length:
            return
        yield Captured(data, seconds + fraction * unit)


def _frames_of_pcapng(read: Callable[[int], bytes]) -> Iterator[Captured]:
    order, pending = "<", _SECTION.to_bytes(4, "big")
    units: list[float | None] = []
    while len(head := pending + read(8 - len(pending))) == 8:
        pending = b""
        if head[:4] == _SECTION.to_bytes(4, "big"):
            mark = read(4)
            order = "<" if mark == struct.pack("<I", _ORDER) else ">"
            if mark != struct.pack(order + "I", _ORDER):
                raise Malformed("a section without byte order", 8)
            units = []
            taken = mark
        else:
            taken = b""
        kind, length = struct.unpack(order + "II", head)
        if not 12 + len(taken) <= length <= _LONGEST_BLOCK or length % 4:
            raise Malformed(f"a block of {length} octets", 4)
        body = taken + read(length - 8 - len(taken))
        if len(body) < length - 8:
            return
        body = body[:-4]
        if kind == _INTERFACE and len(units) < _MOST_INTERFACES:
            units.append(_unit(body, order))
        elif kind == _PACKET:
            yield from _enhanced(body, order, units)
        elif kind == _SIMPLE and units and units[0] is not None and len(body) >= 4:
            (whole,) = struct.unpack(order + "I", body[:4])
            yield Captured(body[4 : 4 + whole], None)


def _unit(body: bytes, order: str) -> float | None:
    """Seconds that an adapter's times count in; None when it is not Ethernet."""
    if len(body) < 8 or struct.unpack(order + "H", body[:2])[0] != ETHERNET:
        return None
    position, unit = 8, 1e-6
    while position + 4 <= len(body):
        code, length = struct.unpack(order + "HH", body[position : position + 4])
        if code == 0:
            break
        if code == _RESOLUTION_OPTION and length == 1 and position + 4 < len(body):
            exponent = body[position + 4]
            unit = 2.0 ** -(exponent & 0x7F) if exponent & 0x80 else 10.0**-exponent
        position += 4 + length + -length % 4
    return unit


def _enhanced(body: bytes, order: str, units: list[float | None]) -> Iterator[Captured]:
    if len(body) < 20:
        raise Malformed("a packet block without its head", 8)
    number, high, low, length, _ = struct.unpack(order + "IIIII", body[:20])
    if length > len(body) - 20:
        raise Malformed(f"a frame of {length} octets in a block of {len(body)}", 20)
    unit = units[number] if number < len(units) else None
    if unit is not None:
        yield Captured(body[20 : 20 + length], (high << 32 | low) * unit)
