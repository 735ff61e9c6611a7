"""Options in the vendor area of a BOOTP message (RFC 1497, RFC 2132), and DHCP's own among them.

``Options`` keeps code and data as they came, in order. What the standard gives a type is read
through properties; ``parse`` has left out what has a wrong length, so that reading cannot fail.
Options of one code that come in pieces are joined (RFC 3396 §5); ``sname`` and ``file`` are read
too where option 52 says so (RFC 2132 §9.3).
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import IntEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.wire import bootp, ipv4, udp
from portcall.core.wire.bootp import BootpMessage
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed

COOKIE = bytes((99, 130, 83, 99))
"""RFC 2132 §2: what follows it are options."""

SMALLEST_LIMIT = 576
"""RFC 2131 §2: every client takes a message of this many octets, UDP and IP included."""

FILE_SIZE, SNAME_SIZE = 128, 64
_CIRCUIT_ID = 1
_END = b"\xff"
_OVERLOAD_SIZE = 3
_MOST_ODDITIES = 4

_IPV4 = EtherType.IPV4.octets
_UDP = bytes((ipv4.PROTOCOL_UDP,))
_NO_IP_OPTIONS = b"\x45"
_PORTS = tuple(port.to_bytes(2, "big") for port in (bootp.SERVER_PORT, bootp.CLIENT_PORT))

INFINITE = 0xFFFFFFFF
"""RFC 2131 §3.3: a lease that never ends."""


class Code(IntEnum):
    """Option codes (RFC 2132), those this program reads or writes."""

    PAD = 0
    SUBNET_MASK = 1
    ROUTERS = 3
    DOMAIN_SERVERS = 6
    HOST_NAME = 12
    DOMAIN_NAME = 15
    TIME_SERVERS = 42
    REQUESTED_ADDRESS = 50
    LEASE_TIME = 51
    OVERLOAD = 52
    MESSAGE_TYPE = 53
    SERVER_IDENTIFIER = 54
    PARAMETER_REQUEST = 55
    MESSAGE = 56
    LARGEST_MESSAGE = 57
    RENEWAL_TIME = 58
    REBINDING_TIME = 59
    VENDOR_CLASS = 60
    CLIENT_IDENTIFIER = 61
    RELAY_AGENT = 82
    END = 255


class MessageType(IntEnum):
    """Option 53 (RFC 2132 §9.6)."""

    DISCOVER = 1
    OFFER = 2
    REQUEST = 3
    DECLINE = 4
    ACK = 5
    NAK = 6
    RELEASE = 7
    INFORM = 8


_MESSAGE_TYPES = {int(kind): kind for kind in MessageType}

_LENGTHS: dict[int, tuple[int, bool]] = {
    # The standard's table: octets, and whether any multiple of them is right too.
    Code.SUBNET_MASK: (4, False),
    Code.ROUTERS: (4, True),
    Code.DOMAIN_SERVERS: (4, True),
    Code.HOST_NAME: (1, True),
    Code.DOMAIN_NAME: (1, True),
    Code.TIME_SERVERS: (4, True),
    Code.REQUESTED_ADDRESS: (4, False),
    Code.LEASE_TIME: (4, False),
    Code.OVERLOAD: (1, False),
    Code.MESSAGE_TYPE: (1, False),
    Code.SERVER_IDENTIFIER: (4, False),
    Code.PARAMETER_REQUEST: (1, True),
    Code.MESSAGE: (1, True),
    Code.LARGEST_MESSAGE: (2, False),
    Code.RENEWAL_TIME: (4, False),
    Code.REBINDING_TIME: (4, False),
    Code.VENDOR_CLASS: (1, True),
    Code.CLIENT_IDENTIFIER: (1, True),
    Code.RELAY_AGENT: (1, True),
}


class Options:
    """Options in order of first appearance, one entry a code.

    ``oddities`` says what was left out of a message that was read, and why.
    """

    __slots__ = ("_data", "oddities")

    def __init__(
        self, entries: Iterable[tuple[int, bytes]] = (), oddities: tuple[str, ...] = ()
    ) -> None:
        self._data = dict(entries)
        self.oddities = oddities

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Options) and self.entries == other.entries

    def __hash__(self) -> int:
        return hash(self.entries)

    def __repr__(self) -> str:
        return f"Options({self.entries!r})"

    @property
    def entries(self) -> tuple[tuple[int, bytes], ...]:
        """Codes and data, in their order."""
        return tuple(self._data.items())

    def get(self, code: Code) -> bytes | None:
        """The data of an option, or None."""
        return self._data.get(code)

    def _number(self, code: Code) -> int | None:
        data = self.get(code)
        return None if data is None else int.from_bytes(data, "big")

    def _address(self, code: Code) -> IPv4Address | None:
        data = self.get(code)
        return None if data is None else IPv4Address(data)

    @property
    def message_type(self) -> MessageType | None:
        """Which DHCP message this is; None for plain BOOTP."""
        number = self._number(Code.MESSAGE_TYPE)
        return None if number is None else _MESSAGE_TYPES[number]

    @property
    def subnet_mask(self) -> IPv4Address | None:
        """Option 1."""
        return self._address(Code.SUBNET_MASK)

    @property
    def router(self) -> IPv4Address | None:
        """Option 3, the first and preferred one."""
        data = self.get(Code.ROUTERS)
        return None if data is None else IPv4Address(data[:4])

    @property
    def requested_address(self) -> IPv4Address | None:
        """Option 50."""
        return self._address(Code.REQUESTED_ADDRESS)

    @property
    def server_identifier(self) -> IPv4Address | None:
        """Option 54."""
        return self._address(Code.SERVER_IDENTIFIER)

    @property
    def lease_seconds(self) -> int | None:
        """Option 51; ``INFINITE`` for ever."""
        return self._number(Code.LEASE_TIME)

    @property
    def renewal_seconds(self) -> int | None:
        """Option 58, T1."""
        return self._number(Code.RENEWAL_TIME)

    @property
    def rebinding_seconds(self) -> int | None:
        """Option 59, T2."""
        return self._number(Code.REBINDING_TIME)

    @property
    def host_name(self) -> bytes | None:
        """Option 12, as the device sent it."""
        return self.get(Code.HOST_NAME)

    @property
    def largest_message(self) -> int:
        """Option 57: octets of the largest message that the client takes, UDP and IP included."""
        return max(self._number(Code.LARGEST_MESSAGE) or 0, SMALLEST_LIMIT)

    @property
    def circuit(self) -> bytes | None:
        """The circuit where a relay agent heard the client (RFC 3046 §3.1), or None."""
        data = self.get(Code.RELAY_AGENT) or b""
        while len(data) > 2:
            kind, length = data[0], data[1]
            if kind == _CIRCUIT_ID and 0 < length <= len(data) - 2:
                return data[2 : 2 + length]
            data = data[2 + length :]
        return None


def parse(message: BootpMessage) -> Options | None:
    """The options of a message; None where there is no cookie, as old BOOTP clients send it.

    An option that runs past its area, or has a length that the standard forbids, is left out.
    Raises Malformed where the message type is such a one: what the message is about is not known.
    """
    if message.vendor[:4] != COOKIE:
        return None
    pieces: dict[int, bytes] = {}
    oddities: list[str] = []
    _gather(message.vendor, 4, pieces, oddities)
    # RFC 2132 §9.3: bit 0 says options go on in `file`, bit 1 in `sname`; file is read first
    # (RFC 2131 §4.1). A second option 52 in there is not followed, so this ends.
    overload = pieces.get(Code.OVERLOAD, b"\0")
    if len(overload) == 1 and overload[0] & 1:
        _gather(message.file, 0, pieces, oddities)
    if len(overload) == 1 and overload[0] & 2:
        _gather(message.sname, 0, pieces, oddities)
    for code, data in tuple(pieces.items()):
        rule = _LENGTHS.get(code)
        if rule is None:
            continue
        length, repeats = rule
        right = len(data) > 0 and len(data) % length == 0 if repeats else len(data) == length
        if not right and code == Code.MESSAGE_TYPE:
            raise Malformed(f"DHCP options: option {code} has {len(data)} octets", 0)
        if not right:
            oddities.append(f"option {code} has {len(data)} octets")
            del pieces[code]
    kind = pieces.get(Code.MESSAGE_TYPE)
    if kind is not None and kind[0] not in _MESSAGE_TYPES:
        raise Malformed(f"DHCP options: message type {kind[0]} is none of RFC 2132 §9.6", 0)
    return Options(pieces.items(), tuple(oddities[:_MOST_ODDITIES]))


def _gather(area: bytes, at: int, pieces: dict[int, bytes], oddities: list[str]) -> None:
    end = len(area)
    while at < end:
        code = area[at]
        at += 1
        if code == Code.PAD:
            continue
        if code == Code.END:
            return
        if at == end or at + 1 + area[at] > end:
            oddities.append(f"option {code} is cut off")
            return
        start, at = at + 1, at + 1 + area[at]
        pieces[code] = pieces.get(code, b"") + area[start:at]


def _pieces(code: int, data: bytes) -> bytes:
    """An option as it is sent. Data over 255 octets is split (RFC 3396 §6)."""
    if len(data) <= 255:
        return bytes((code, len(data))) + data
    split = (data[start : start + 255] for start in range(0, len(data), 255))
    return b"".join(bytes((code, len(piece))) + piece for piece in split)


def encode(options: Options) -> bytes:
    """Cookie, options in order, end."""
    return COOKIE + b"".join(_pieces(*entry) for entry in options.entries) + _END


class DhcpFrame(NamedTuple):
    """A BOOTP or DHCP message with all that carried it; plain BOOTP has no options."""

    frame: udp.UdpFrame
    message: BootpMessage
    options: Options | None


def parse_frame(data: bytes) -> DhcpFrame | None:
    """The message in an Ethernet frame; None for a frame that carries something else.

    Raises Malformed for one to port 67 or 68 that cannot be read.
    """
    # Most frames are something else; skip them before parsing.
    if data[12:14] != _IPV4 or data[23:24] != _UDP:
        return None
    is_plain = data[14:15] == _NO_IP_OPTIONS
    if is_plain and data[36:38] not in _PORTS:
        return None
    try:
        frame = udp.parse_frame(data)
    except Malformed:
        if is_plain:
            raise
        return None
    if frame.datagram.destination_port not in (bootp.SERVER_PORT, bootp.CLIENT_PORT):
        return None
    return parse_datagram(frame)


def parse_datagram(frame: udp.UdpFrame) -> DhcpFrame:
    """The message in a datagram. Raises Malformed."""
    message = bootp.parse(frame.datagram.payload)
    return DhcpFrame(frame, message, parse(message))


def encode_fitted(options: Options, room: int, overload: bool) -> tuple[bytes, bytes, bytes]:
    """Options as ``vendor``, ``file`` and ``sname`` of a message whose vendor area has ``room``.

    Where they do not fit there and ``overload`` allows, they go on in the other two fields
    (RFC 2132 §9.3). An option that fits nowhere is left out: the first ones matter most. A relay
    agent's comes last, and always in the vendor area (RFC 3046 §2.1).
    """
    whole = encode(options)
    if len(whole) <= room:
        return whole, b"", b""
    agent = options.get(Code.RELAY_AGENT)
    last = _pieces(Code.RELAY_AGENT, agent) if agent else b""
    others = [entry for entry in options.entries if entry[0] != Code.RELAY_AGENT]
    used = len(COOKIE) + len(last) + len(_END)
    rooms = [room - used - (_OVERLOAD_SIZE if overload else 0)]
    rooms += [FILE_SIZE - len(_END), SNAME_SIZE - len(_END)] if overload else []
    areas: list[list[bytes]] = [[] for _ in rooms]
    for entry in others:
        piece = _pieces(*entry)
        for n, left in enumerate(rooms):
            if len(piece) <= left:
                areas[n].append(piece)
                rooms[n] -= len(piece)
                break
    vendor, *more = (b"".join(area) for area in areas)
    use = sum(bit for bit, area in zip((1, 2), more, strict=False) if area)
    if use:
        vendor += bytes((Code.OVERLOAD, 1, use))
    file, sname = (area + _END if area else b"" for area in (*more, b"", b"")[:2])
    return COOKIE + vendor + last + _END, file, sname


def prefix_length(mask: IPv4Address) -> int | None:
    """The prefix length of a mask a server or device gave, or None when it is not contiguous."""
    bits = f"{int(mask):032b}"
    return None if "01" in bits else bits.count("1")
