"""Raw Ethernet on one adapter: a Linux packet socket (packet(7))."""

from __future__ import annotations

import socket
import struct
from collections.abc import Iterator

from portcall.core.address import Mac
from portcall.core.conversation import Frame
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire.octets import internet_checksum
from portcall.host.filters import Program, attach
from portcall.host.medium import MOST_AT_ONCE, clock_skew, received_at, stamp_receives

_ETH_P_ALL = 0x0003
_SOL_PACKET = 263
_PACKET_AUXDATA = 8
_PACKET_IGNORE_OUTGOING = 23
_CHECKSUM_NOT_READY = 1 << 3
_LONGEST_FRAME = 65536
_NOTES = 256
"""Room for what the kernel notes with a frame: when it came, whether its checksum is open."""
_ETHERTYPE_IPV4 = b"\x08\x00"
_IPV4_START = 14
_CHECKSUM_AT = {socket.IPPROTO_UDP: 6, socket.IPPROTO_TCP: 16}
"""Where a segment has its checksum (RFC 768, RFC 9293 §3.1)."""
_RECEIVE_BUFFER = 4 * 1024 * 1024


class Link:
    """All frames that arrive on an adapter, and frames sent on it. Needs CAP_NET_RAW.

    With ``passes``, only the frames that this program accepts arrive.
    """

    def __init__(self, adapter: str, passes: Program | None = None) -> None:
        self._adapter = adapter
        self._room = memoryview(bytearray(_LONGEST_FRAME))
        try:
            self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        except PermissionError:
            raise NotPossibleHere(
                "raw Ethernet needs root or CAP_NET_RAW: run this with sudo"
            ) from None
        try:
            self._socket.setblocking(False)
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _RECEIVE_BUFFER)
            self._socket.setsockopt(_SOL_PACKET, _PACKET_IGNORE_OUTGOING, 1)
            self._socket.setsockopt(_SOL_PACKET, _PACKET_AUXDATA, 1)
            stamp_receives(self._socket)
            if passes is not None:
                attach(self._socket, passes)
            # Bound last: from here on frames come in.
            self._socket.bind((adapter, _ETH_P_ALL))
        except OSError as error:
            self._socket.close()
            raise NotPossibleHere(f"{adapter}: cannot be opened: {error.strerror}") from None

    @property
    def mac(self) -> Mac:
        """The adapter's own MAC."""
        return Mac(self._socket.getsockname()[4])

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self._socket.fileno()

    def receive(self) -> Iterator[tuple[Frame, float]]:
        """Frames that have arrived, with their times."""
        skew = clock_skew()
        room, receive = self._room, self._socket.recvmsg_into
        into = (room,)
        for _ in range(MOST_AT_ONCE):
            try:
                length, ancillary, _, _ = receive(into, _NOTES)
            except OSError:
                # Nothing there, or the adapter went down: it may come back, the socket stays.
                return
            data = bytes(room[:length])
            if data[12:14] == _ETHERTYPE_IPV4 and _checksum_is_open(ancillary):
                data = _close_checksum(data)
            yield Frame(data), received_at(ancillary, skew)

    def send(self, packet: Frame) -> None:
        """Send a frame as it is."""
        self._socket.send(packet.data)

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()


def _checksum_is_open(ancillary: list[tuple[int, int, bytes]]) -> bool:
    """Whether the kernel left the checksum to hardware that a virtual link does not have."""
    for level, kind, data in ancillary:
        if level == _SOL_PACKET and kind == _PACKET_AUXDATA and len(data) >= 4:
            (status,) = struct.unpack("=I", data[:4])
            return bool(status & _CHECKSUM_NOT_READY)
    return False


def _close_checksum(data: bytes) -> bytes:
    """Do what the hardware would have done, for UDP and TCP in whole IPv4 packets."""
    if len(data) < _IPV4_START + 20 or data[12:14] != _ETHERTYPE_IPV4:
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
