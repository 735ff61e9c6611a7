"""CIP's encapsulation over UDP and TCP, and List Identity in it.

The CIP Networks Library, volume 2 (EtherNet/IP adaptation of CIP), chapter 2: §2-3 encapsulation
header, §2-4 List Identity, §2-6 common packet format; volume 1, chapter 5, for the identity
object that the reply repeats, and chapter 6 for the device profiles' numbers. Numbers are least
significant octet first, but for the socket address in the reply.
"""

from __future__ import annotations

from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.wire.octets import Reader

PORT = 44818
HEADER_LENGTH = 24
NOP = 0x0000
LIST_IDENTITY = 0x0063
LONGEST_DATA = 65511
"""Volume 2 §2-3.3: 65535 less the header."""

_CONTEXT = slice(12, 20)
"""Where the header has the sender context."""

_IDENTITY_ITEM = 0x000C
_MOST_ITEMS = 16
_SOCKET_FAMILY_INET = 2
_NO_STATE = 0xFF
"""Volume 1 §5-2.2.1.8: the default of the identity's state."""

DEVICE_PROFILES = {
    # Volume 1, chapter 6: public device profiles, in words of the trade.
    0x02: "AC drive",
    0x03: "motor overload",
    0x06: "photoelectric sensor",
    0x07: "discrete I/O",
    0x0C: "communications adapter",
    0x0E: "controller",
    0x10: "position controller",
    0x13: "DC drive",
    0x18: "operator panel",
    0x1B: "valve",
    0x22: "encoder",
    0x25: "drive",
    0x2B: "generic device",
    0x2C: "managed switch",
}


class Encapsulation(NamedTuple):
    """A message: the 24-octet header and the data after it."""

    command: int
    data: bytes = b""
    session: int = 0
    status: int = 0
    context: bytes = bytes(8)
    options: int = 0


class Identity(NamedTuple):
    """The identity item of a List Identity reply."""

    address: IPv4Address
    port: int
    vendor: int
    device_type: int
    product_code: int
    major: int
    minor: int
    status: int
    serial: int
    product_name: bytes
    state: int
    protocol_version: int = 1
    oddities: tuple[str, ...] = ()
    """What is not as the standard has it, in sentences; it was read all the same."""

    @property
    def kind(self) -> str:
        """The device profile in words, or its number."""
        return DEVICE_PROFILES.get(self.device_type, f"CIP device type {self.device_type}")

    @property
    def firmware(self) -> str:
        """The revision as it is printed on labels: major, and minor in three digits."""
        return f"{self.major}.{self.minor:03d}"

    @property
    def serial_text(self) -> str:
        """The serial number as it is printed on labels: eight hex digits."""
        return f"{self.serial:08X}"


def parse(data: bytes) -> Encapsulation:
    """Read one whole message. Raises Malformed for a length that is not what follows."""
    reader = Reader(data, "CIP encapsulation")
    command, length = reader.u16_little(), reader.u16_little()
    session, status = reader.u32_little(), reader.u32_little()
    context, options = reader.take(8), reader.u32_little()
    if length != reader.remaining:
        raise reader.wrong(f"length is {length}, but {reader.remaining} octets follow")
    return Encapsulation(command, reader.rest(), session, status, context, options)


def parse_answer(data: bytes) -> Encapsulation:
    """Read the answer to List Identity in a datagram, whatever its length says.

    Raises Malformed when it is none.
    """
    reader = Reader(data, "CIP encapsulation")
    command = reader.u16_little()
    if command != LIST_IDENTITY or len(data) < HEADER_LENGTH:
        raise reader.wrong(f"command {command:#x} is not List Identity")
    reader.take(6)
    status = reader.u32_little()
    return Encapsulation(command, data[HEADER_LENGTH:], 0, status, data[_CONTEXT])


def whole_length(head: bytes) -> int | None:
    """How long the message is that begins so, or None while that cannot be told. Malformed."""
    if len(head) < HEADER_LENGTH:
        return None
    reader = Reader(head, "CIP encapsulation")
    reader.u16_little()
    length = reader.u16_little()
    if length > LONGEST_DATA:
        raise reader.wrong(f"length is {length}, over {LONGEST_DATA}")
    return HEADER_LENGTH + length


def is_answer(request: bytes, reply: bytes) -> bool:
    """Whether a whole message answers a request.

    The command and the sender context (§2-3.5) decide: a device returns both as they came.
    """
    return reply[:2] == request[:2] and reply[_CONTEXT] == request[_CONTEXT]


def encode(message: Encapsulation) -> bytes:
    """The message's bytes."""
    return b"".join(
        (
            message.command.to_bytes(2, "little"),
            len(message.data).to_bytes(2, "little"),
            message.session.to_bytes(4, "little"),
            message.status.to_bytes(4, "little"),
            message.context,
            message.options.to_bytes(4, "little"),
            message.data,
        )
    )


def encode_list_identity(longest_delay: float = 0.0) -> bytes:
    """A List Identity request.

    Over UDP a device may put off its answer, by up to ``longest_delay`` seconds, so that not all
    come at once (§2-4.2.2); zero lets it take two seconds.
    """
    milliseconds = round(longest_delay * 1000).to_bytes(2, "little")
    return encode(Encapsulation(LIST_IDENTITY, context=milliseconds.ljust(8, b"\0")))


def parse_identity(message: Encapsulation) -> Identity:
    """The identity in a List Identity reply. Raises Malformed when there is none to read.

    An error status, another socket family, a name that is cut and a missing state are said.
    """
    reader = Reader(message.data, "CIP identity")
    if message.command != LIST_IDENTITY:
        raise reader.wrong(f"command {message.command:#x}")
    oddities = [f"answers with the status {message.status:#x}"] if message.status else []
    count = reader.u16_little()
    for _ in range(min(count, _MOST_ITEMS)):
        kind, length = reader.u16_little(), reader.u16_little()
        item = reader.take(min(length, reader.remaining))
        if kind == _IDENTITY_ITEM:
            return _parse_item(Reader(item, "CIP identity item"), oddities)
    raise reader.wrong("no identity item")


def _parse_item(reader: Reader, oddities: list[str]) -> Identity:
    version = reader.u16_little()
    family = reader.u16()
    if family != _SOCKET_FAMILY_INET:
        oddities.append(f"names the address family {family}, and IPv4 is {_SOCKET_FAMILY_INET}")
    port, address = reader.u16(), reader.address()
    reader.take(8)
    vendor, device_type = reader.u16_little(), reader.u16_little()
    product_code = reader.u16_little()
    major, minor = reader.u8(), reader.u8()
    status, serial = reader.u16_little(), reader.u32_little()
    length = reader.u8()
    name = reader.take(min(length, reader.remaining))
    if len(name) < length:
        oddities.append(f"its product name ends after {len(name)} of {length} characters")
    elif not reader.remaining:
        oddities.append("does not tell its state")
    return Identity(
        address,
        port,
        vendor,
        device_type,
        product_code,
        major,
        minor,
        status,
        serial,
        name,
        reader.u8() if reader.remaining else _NO_STATE,
        version,
        tuple(oddities),
    )


def parse_attributes(data: bytes) -> Identity:
    """The identity object's attributes, as Get_Attributes_All answers (volume 1 §5-2.2.1).

    Of address, port and state nothing is told. Raises Malformed.
    """
    reader = Reader(data, "CIP identity attributes")
    vendor, device_type = reader.u16_little(), reader.u16_little()
    product_code = reader.u16_little()
    major, minor = reader.u8(), reader.u8()
    status, serial = reader.u16_little(), reader.u32_little()
    length = reader.u8()
    name = reader.take(min(length, reader.remaining))
    plate = (vendor, device_type, product_code, major, minor, status, serial)
    return Identity(IPv4Address(0), 0, *plate, name, _NO_STATE)


def encode_attributes(identity: Identity) -> bytes:
    """The answer that ``parse_attributes`` reads."""
    return b"".join(
        (
            identity.vendor.to_bytes(2, "little"),
            identity.device_type.to_bytes(2, "little"),
            identity.product_code.to_bytes(2, "little"),
            bytes((identity.major, identity.minor)),
            identity.status.to_bytes(2, "little"),
            identity.serial.to_bytes(4, "little"),
            bytes((len(identity.product_name),)),
            identity.product_name,
        )
    )


def encode_identity(identity: Identity, context: bytes) -> bytes:
    """A whole List Identity reply."""
    item = b"".join(
        (
            identity.protocol_version.to_bytes(2, "little"),
            _SOCKET_FAMILY_INET.to_bytes(2, "big"),
            identity.port.to_bytes(2, "big"),
            identity.address.packed,
            bytes(8),
            encode_attributes(identity),
            bytes((identity.state,)),
        )
    )
    data = b"".join(
        (
            (1).to_bytes(2, "little"),
            _IDENTITY_ITEM.to_bytes(2, "little"),
            len(item).to_bytes(2, "little"),
            item,
        )
    )
    return encode(Encapsulation(LIST_IDENTITY, data, context=context))
