"""Counting at the adapter what goes to a device and what comes from it, whoever gets it.

A packet filter sits between the adapter and the programs: what is seen here and not there, it
dropped.
"""

from __future__ import annotations

from ipaddress import IPv4Address

from portcall.core.address import Mac
from portcall.core.talk.conversation import Actions, Conversation, Frame
from portcall.core.wire import icmp, ipv4
from portcall.core.wire.ethernet import EtherType

_IPV4 = EtherType.IPV4.octets
_TO_MAC, _SOURCE_MAC, _ETHERTYPE = slice(0, 6), slice(6, 12), slice(12, 14)
_TOTAL_LENGTH = slice(16, 18)
_HEADER, _PROTOCOL = 14, 23
_SOURCE, _DESTINATION = slice(26, 30), slice(30, 34)
_SHORTEST, _QUOTED = _HEADER + 20, 8
"""Octets: with IPv4's header, and of what follows it."""

_FLAGS = 13
_RESET, _SYN_AND_ACK = 0x04, 0x12
"""RFC 9293 §3.1, control bits."""

_MOST_PORTS = 256


class FramesSeen(Conversation[Frame, None]):
    """Counts IPv4 frames between this computer and one address; never over.

    What comes from there counts only when a program here could have had it: sent to this computer's
    MAC, and an echo with the ``identifier`` of those that were sent, and a right checksum. A mirror
    port shows what is for others, and another program may ping the same device.
    """

    def __init__(self, own_mac: Mac, address: IPv4Address, identifier: int) -> None:
        self._own_mac = own_mac.octets
        self._address = address.packed
        self._identifier = identifier
        self.out = 0
        self.came = 0
        self.echoes = 0
        """Echo replies that came."""
        self.ports_out: set[int] = set()
        self.ports_in: set[int] = set()
        """TCP ports of the device: to which something left, from which something came."""

    def heard(self, packet: Frame, now: float) -> Actions[Frame, None]:
        """Count."""
        data = packet.data
        if data[_ETHERTYPE] != _IPV4 or len(data) < _SHORTEST:
            return ()
        start = _HEADER + (data[_HEADER] & 0x0F) * 4
        if len(data) < start + _QUOTED:
            return ()
        if data[_SOURCE_MAC] == self._own_mac:
            if data[_DESTINATION] == self._address:
                self.out += 1
                self._note_port(data, start + 2, self.ports_out)
        elif data[_SOURCE] == self._address and data[_TO_MAC] == self._own_mac:
            if data[_PROTOCOL] == ipv4.PROTOCOL_TCP:
                # Count only answers to an attempt to connect: another program may be talking to the
                # device.
                if _answers_an_attempt(data[start + _FLAGS : start + _FLAGS + 1]):
                    self.came += 1
                    self._note_port(data, start, self.ports_in)
            elif data[_PROTOCOL] == ipv4.PROTOCOL_ICMP:
                # A frame with a short packet is padded behind it.
                end = _HEADER + int.from_bytes(data[_TOTAL_LENGTH], "big")
                if icmp.is_reply_to(data[start:end], self._identifier):
                    self.came += 1
                    self.echoes += 1
        return ()

    def _note_port(self, data: bytes, place: int, ports: set[int]) -> None:
        if data[_PROTOCOL] == ipv4.PROTOCOL_TCP and len(ports) < _MOST_PORTS:
            ports.add(int.from_bytes(data[place : place + 2], "big"))


def _answers_an_attempt(flags: bytes) -> bool:
    return bool(flags) and (flags[0] & _SYN_AND_ACK == _SYN_AND_ACK or bool(flags[0] & _RESET))
