"""Which frames a packet socket receives: classic BPF programs (socket(7), linux/filter.h)."""

from __future__ import annotations

import ctypes
import socket
import struct

from portcall.core.talk.receivers import HEADERS
from portcall.core.wire import bootp
from portcall.core.wire.ethernet import EtherType
from portcall.host.packet_socket import PACKET_OUTGOING

_SO_ATTACH_FILTER = 26
_AUXILIARY_PACKET_TYPE = 0xFFFFF000 + 4
"""SKF_AD_OFF + SKF_AD_PKTTYPE."""

_LOAD_HALF, _LOAD_BYTE, _EQUALS, _RETURN = 0x28, 0x30, 0x15, 0x06
_SKIP_HEADER, _LOAD_HALF_BEYOND = 0xB1, 0x48
"""Take IPv4's header length as an index; load from there."""
_LOAD_WORD, _AS_INDEX, _EQUALS_INDEX = 0x20, 0x07, 0x1D
_ALL, _NOTHING = 0x40000, 0
_ETHERTYPE, _IPV4_START, _PROTOCOL = 12, 14, 23
_DESTINATION_PORT = _IPV4_START + 2
_ARP_OPERATION, _ARP_SENDER, _ARP_TARGET = 20, 28, 38
_ARP_REPLY = 2

Program = tuple[tuple[int, int, int, int], ...]
"""Steps of operation, jump if true, jump if false, operand."""

OUTGOING_ONLY: Program = (
    (_LOAD_HALF, 0, 0, _AUXILIARY_PACKET_TYPE),
    (_EQUALS, 0, 1, PACKET_OUTGOING),
    (_RETURN, 0, 0, HEADERS),
    (_RETURN, 0, 0, _NOTHING),
)
"""The headers of each frame that leaves: for counting them, and whom they are for."""

NO_CONVERSATIONS: Program = (
    (_LOAD_HALF, 0, 0, _ETHERTYPE),
    (_EQUALS, 0, 4, EtherType.IPV4),
    (_LOAD_BYTE, 0, 0, _PROTOCOL),
    (_EQUALS, 1, 0, socket.IPPROTO_TCP),
    (_EQUALS, 0, 1, socket.IPPROTO_ICMP),
    (_RETURN, 0, 0, _NOTHING),
    (_RETURN, 0, 0, _ALL),
)
"""Everything but TCP and ICMP over IPv4, which are for the sockets that speak them."""


ADDRESSING: Program = (
    (_LOAD_HALF, 0, 0, _ETHERTYPE),
    (_EQUALS, 8, 0, EtherType.ARP),
    (_EQUALS, 0, 14, EtherType.IPV4),
    (_LOAD_BYTE, 0, 0, _PROTOCOL),
    (_EQUALS, 11, 0, socket.IPPROTO_ICMP),
    (_EQUALS, 0, 11, socket.IPPROTO_UDP),
    (_SKIP_HEADER, 0, 0, _IPV4_START),
    (_LOAD_HALF_BEYOND, 0, 0, _DESTINATION_PORT),
    (_EQUALS, 7, 0, bootp.SERVER_PORT),
    (_EQUALS, 6, 7, bootp.CLIENT_PORT),
    # Of ARP: answers, and announcements of a host's own address (RFC 5227 §2.3).
    (_LOAD_HALF, 0, 0, _ARP_OPERATION),
    (_EQUALS, 4, 0, _ARP_REPLY),
    (_LOAD_WORD, 0, 0, _ARP_SENDER),
    (_AS_INDEX, 0, 0, 0),
    (_LOAD_WORD, 0, 0, _ARP_TARGET),
    (_EQUALS_INDEX, 0, 1, 0),
    (_RETURN, 0, 0, _ALL),
    (_RETURN, 0, 0, _NOTHING),
)
"""The frames that assigning addresses needs: ARP that tells who has an address, pings, BOOTP, DHCP.

Questions by ARP, which a storm is made of, do not wake the program.
"""


def attach(sock: socket.socket, program: Program) -> None:
    """Have the kernel pass only what a program accepts. Raises OSError."""
    code = b"".join(struct.pack("HBBI", *step) for step in program)
    buffer = ctypes.create_string_buffer(code)
    head = struct.pack("HL", len(program), ctypes.addressof(buffer))
    sock.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, head)
