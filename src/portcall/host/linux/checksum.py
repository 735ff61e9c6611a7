"""Checksums that the kernel leaves to hardware which a virtual link does not have."""

from __future__ import annotations

import socket

from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import internet_checksum

_IPV4 = EtherType.IPV4.octets
_IPV4_START = 14
_CHECKSUM_AT = {socket.IPPROTO_UDP: 6, socket.IPPROTO_TCP: 16}
"""Where a segment has its checksum (RFC 768, RFC 9293 §3.1)."""


def close_checksum(data: bytes) -> bytes:
    """Do what the hardware would have done, for UDP and TCP in whole IPv4 packets."""
    if len(data) < _IPV4_START + 20 or data[12:14] != _IPV4:
        return data
    start = _IPV4_START + (data[_IPV4_START] & 0x0F) * 4
    end = _IPV4_START + int.from_bytes(data[_IPV4_START + 2 : _IPV4_START + 4], "big")
    at = _CHECKSUM_AT.get(data[_IPV4_START + 9])
    if at is None or not start + at + 2 <= end <= len(data):
        return data
    segment = data[start : start + at] + b"\0\0" + data[start + at + 2 : end]
    addresses = data[_IPV4_START + 12 : _IPV4_START + 20]
    pseudo = addresses + bytes((0, data[_IPV4_START + 9])) + len(segment).to_bytes(2, "big")
    checksum = internet_checksum(pseudo + segment) or 0xFFFF
    return data[: start + at] + checksum.to_bytes(2, "big") + data[start + at + 2 :]
