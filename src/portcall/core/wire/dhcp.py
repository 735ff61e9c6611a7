"""Options in the vendor area of a BOOTP message (RFC 1497, RFC 2132), and DHCP's own among them.

``Options`` keeps code and data as they came, in order. What the standard gives a type is read
through properties; ``parse`` has checked every length by then, so that reading cannot fail.
Options of one code that come in pieces are joined (RFC 3396 §5); ``sname`` and ``file`` are read
too where option 52 says so (RFC 2132 §9.3).
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from ipaddress import IPv4Address

from portcall.core.wire.bootp import BootpMessage
from portcall.core.wire.octets import Reader

COOKIE = bytes((99, 130, 83, 99))
"""RFC 2132 §2: what follows it are options."""

INFINITE = 0xFFFFFFFF
"""RFC 2131 §3.3: a lease that never ends."""


class Code(IntEnum):
    """Option codes (RFC 2132), those this program reads or writes."""

    PAD = 0
    SUBNET_MASK = 1
    ROUTERS = 3
    HOST_NAME = 12
    REQUESTED_ADDRESS = 50
    LEASE_TIME = 51
    OVERLOAD = 52
    MESSAGE_TYPE = 53
    SERVER_IDENTIFIER = 54
    PARAMETER_REQUEST = 55
    MESSAGE = 56
    RENEWAL_TIME = 58
    REBINDING_TIME = 59
    VENDOR_CLASS = 60
    CLIENT_IDENTIFIER = 61
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


_LENGTHS: dict[Code, tuple[int, bool]] = {
    # The standard's table: octets, and whether any multiple of them is right too.
    Code.SUBNET_MASK: (4, False),
    Code.ROUTERS: (4, True),
    Code.HOST_NAME: (1, True),
    Code.REQUESTED_ADDRESS: (4, False),
    Code.LEASE_TIME: (4, False),
    Code.OVERLOAD: (1, False),
    Code.MESSAGE_TYPE: (1, False),
    Code.SERVER_IDENTIFIER: (4, False),
    Code.PARAMETER_REQUEST: (1, True),
    Code.MESSAGE: (1, True),
    Code.RENEWAL_TIME: (4, False),
    Code.REBINDING_TIME: (4, False),
    Code.VENDOR_CLASS: (1, True),
    Code.CLIENT_IDENTIFIER: (1, True),
}


@dataclass(frozen=True, slots=True)
class Options:
    """Options in order of first appearance, one entry a code."""

    entries: tuple[tuple[int, bytes], ...] = ()

    def get(self, code: Code) -> bytes | None:
        """The data of an option, or None."""
        return next((data for number, data in self.entries if number == code), None)

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
        return None if number is None else MessageType(number)

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


def parse(message: BootpMessage) -> Options | None:
    """The options of a message; None where there is no cookie, as old BOOTP clients send it.

    Raises Malformed for an option that runs past its area, or a length the standard forbids.
    """
    if message.vendor[:4] != COOKIE:
        return None
    pieces: dict[int, bytes] = {}
    _gather(Reader(message.vendor[4:], "DHCP options"), pieces)
    # RFC 2132 §9.3: bit 0 says options go on in `file`, bit 1 in `sname`; file is read first
    # (RFC 2131 §4.1). A second option 52 in there is not followed, so this ends.
    overload = pieces.get(Code.OVERLOAD, b"\0")
    if len(overload) == 1 and overload[0] & 1:
        _gather(Reader(message.file, "DHCP options in file"), pieces)
    if len(overload) == 1 and overload[0] & 2:
        _gather(Reader(message.sname, "DHCP options in sname"), pieces)
    reader = Reader(b"", "DHCP options")
    for code, (length, repeats) in _LENGTHS.items():
        data = pieces.get(code)
        if data is None:
            continue
        right = len(data) > 0 and len(data) % length == 0 if repeats else len(data) == length
        if not right:
            raise reader.wrong(f"option {code.value} has {len(data)} octets")
    kind = pieces.get(Code.MESSAGE_TYPE)
    if kind is not None and not MessageType.DISCOVER <= kind[0] <= MessageType.INFORM:
        raise reader.wrong(f"message type {kind[0]} is none of RFC 2132 §9.6")
    return Options(tuple(pieces.items()))


def _gather(reader: Reader, pieces: dict[int, bytes]) -> None:
    while reader.remaining:
        code = reader.u8()
        if code == Code.PAD:
            continue
        if code == Code.END:
            return
        pieces[code] = pieces.get(code, b"") + reader.take(reader.u8())


def encode(options: Options) -> bytes:
    """Cookie, options in order, end. Data over 255 octets is split (RFC 3396 §6)."""
    parts = [COOKIE]
    for code, data in options.entries:
        for start in range(0, max(len(data), 1), 255):
            piece = data[start : start + 255]
            parts.append(bytes((code, len(piece))) + piece)
    parts.append(bytes((Code.END,)))
    return b"".join(parts)


def prefix_length(mask: IPv4Address) -> int | None:
    """The prefix length of a mask a server or device gave, or None when it is not contiguous."""
    bits = f"{int(mask):032b}"
    return None if "01" in bits else bits.count("1")
