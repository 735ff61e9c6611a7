"""Which frames are received: programs that choose them, of the classic BSD packet filter."""

from __future__ import annotations

import socket

from portcall.core.wire import bootp
from portcall.core.wire.ethernet import EtherType

LOAD_HALF, EQUALS, RETURN, NOTHING = 0x28, 0x15, 0x06, 0
_LOAD_BYTE = 0x30
_SKIP_HEADER, _LOAD_HALF_BEYOND = 0xB1, 0x48
"""Take IPv4's header length as an index; load from there."""
_LOAD_WORD, _AS_INDEX, _EQUALS_INDEX = 0x20, 0x07, 0x1D
_ALL = 0x40000
_ETHERTYPE, _IPV4_START, _PROTOCOL = 12, 14, 23
_DESTINATION_PORT = _IPV4_START + 2
_ARP_OPERATION, _ARP_SENDER, _ARP_TARGET = 20, 28, 38
_ARP_REPLY = 2

Program = tuple[tuple[int, int, int, int], ...]
"""Steps of operation, jump if true, jump if false, operand."""

NO_CONVERSATIONS: Program = (
    (LOAD_HALF, 0, 0, _ETHERTYPE),
    (EQUALS, 0, 4, EtherType.IPV4),
    (_LOAD_BYTE, 0, 0, _PROTOCOL),
    (EQUALS, 1, 0, socket.IPPROTO_TCP),
    (EQUALS, 0, 1, socket.IPPROTO_ICMP),
    (RETURN, 0, 0, NOTHING),
    (RETURN, 0, 0, _ALL),
)
"""Everything but TCP and ICMP over IPv4, which are for the sockets that speak them."""


ADDRESSING: Program = (
    (LOAD_HALF, 0, 0, _ETHERTYPE),
    (EQUALS, 8, 0, EtherType.ARP),
    (EQUALS, 0, 14, EtherType.IPV4),
    (_LOAD_BYTE, 0, 0, _PROTOCOL),
    (EQUALS, 11, 0, socket.IPPROTO_ICMP),
    (EQUALS, 0, 11, socket.IPPROTO_UDP),
    (_SKIP_HEADER, 0, 0, _IPV4_START),
    (_LOAD_HALF_BEYOND, 0, 0, _DESTINATION_PORT),
    (EQUALS, 7, 0, bootp.SERVER_PORT),
    (EQUALS, 6, 7, bootp.CLIENT_PORT),
    # Of ARP: answers, and announcements of a host's own address (RFC 5227 §2.3).
    (LOAD_HALF, 0, 0, _ARP_OPERATION),
    (EQUALS, 4, 0, _ARP_REPLY),
    (_LOAD_WORD, 0, 0, _ARP_SENDER),
    (_AS_INDEX, 0, 0, 0),
    (_LOAD_WORD, 0, 0, _ARP_TARGET),
    (_EQUALS_INDEX, 0, 1, 0),
    (RETURN, 0, 0, _ALL),
    (RETURN, 0, 0, NOTHING),
)
"""The frames that assigning addresses needs: ARP that tells who has an address, pings, BOOTP, DHCP.

Questions by ARP, which a storm is made of, do not wake the program.
"""
