"""CIP explicit messages over the encapsulation: sessions, unconnected requests, attributes.

The CIP Networks Library, volume 2, chapter 2 (§2-4.4 RegisterSession, §2-4.7 SendRRData, §2-6
common packet format) and volume 1, chapter 2 (§2-4 message router request and response), appendix
C (§C-1.4 logical segments). The TCP/IP interface object is volume 2, chapter 5, §5-4.
"""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.wire import cip
from portcall.core.wire.octets import Reader

REGISTER_SESSION = 0x0065
UNREGISTER_SESSION = 0x0066
SEND_RR_DATA = 0x006F

GET_ATTRIBUTE_SINGLE = 0x0E
TCP_IP_INTERFACE = 0xF5
CONFIGURATION_CONTROL = 3
INTERFACE_CONFIGURATION = 5
HOST_NAME = 6
SUCCESS = 0x00
PATH_UNKNOWN = 0x05
SERVICE_NOT_SUPPORTED = 0x08

_REPLY_BIT = 0x80
_NULL_ADDRESS_ITEM = 0x0000
_UNCONNECTED_DATA_ITEM = 0x00B2
_MOST_ITEMS = 8
_PROTOCOL_VERSION = 1


@dataclass(frozen=True, slots=True)
class AttributeRequest:
    """Get Attribute Single for one attribute of one instance of a class, 8-bit numbers each."""

    class_number: int
    instance: int
    attribute: int
    service: int = GET_ATTRIBUTE_SINGLE


@dataclass(frozen=True, slots=True)
class Response:
    """A message router response."""

    service: int
    status: int
    data: bytes


@dataclass(frozen=True, slots=True)
class InterfaceConfiguration:
    """Attribute 5 of the TCP/IP interface object: what the device holds to be in force."""

    address: IPv4Address
    mask: IPv4Address
    gateway: IPv4Address
    name_server: IPv4Address
    second_name_server: IPv4Address
    domain: bytes = b""


def register_session() -> bytes:
    """A RegisterSession request; the reply's header carries the session."""
    data = _PROTOCOL_VERSION.to_bytes(2, "little") + bytes(2)
    return cip.encode(cip.Encapsulation(REGISTER_SESSION, data))


def unregister_session(session: int) -> bytes:
    """An UnRegisterSession request; there is no reply, the device closes the connection."""
    return cip.encode(cip.Encapsulation(UNREGISTER_SESSION, session=session))


def encode_unconnected(session: int, message: bytes, context: bytes = bytes(8)) -> bytes:
    """A SendRRData message around a message router request or response."""
    items = b"".join(
        (
            (2).to_bytes(2, "little"),
            _NULL_ADDRESS_ITEM.to_bytes(2, "little"),
            bytes(2),
            _UNCONNECTED_DATA_ITEM.to_bytes(2, "little"),
            len(message).to_bytes(2, "little"),
            message,
        )
    )
    data = bytes(4) + bytes(2) + items  # Interface handle CIP, timeout left to the transport.
    return cip.encode(cip.Encapsulation(SEND_RR_DATA, data, session, context=context))


def parse_unconnected(message: cip.Encapsulation) -> bytes:
    """The message router bytes in a SendRRData message. Raises Malformed when there are none."""
    reader = Reader(message.data, "CIP SendRRData")
    if message.command != SEND_RR_DATA or message.status != 0:
        raise reader.wrong(f"command {message.command:#x}, status {message.status:#x}")
    reader.take(6)
    count = reader.u16_little()
    for _ in range(min(count, _MOST_ITEMS)):
        kind, length = reader.u16_little(), reader.u16_little()
        item = reader.take(length)
        if kind == _UNCONNECTED_DATA_ITEM:
            return item
    raise reader.wrong("no unconnected data item")


def encode_request(request: AttributeRequest) -> bytes:
    """A message router request with an 8-bit logical path."""
    path = bytes((0x20, request.class_number, 0x24, request.instance, 0x30, request.attribute))
    return bytes((request.service, len(path) // 2)) + path


def parse_request(data: bytes) -> AttributeRequest:
    """Read such a request. Raises Malformed for any other form of path."""
    reader = Reader(data, "CIP request")
    service = reader.u8()
    path = reader.take(reader.u8() * 2)
    if len(path) != 6 or path[0::2] != b"\x20\x24\x30":
        raise reader.wrong("path is not class, instance, attribute in 8 bits")
    return AttributeRequest(path[1], path[3], path[5], service)


def encode_response(response: Response) -> bytes:
    """A message router response without additional status."""
    return bytes((response.service | _REPLY_BIT, 0, response.status, 0)) + response.data


def parse_response(data: bytes) -> Response:
    """Read a message router response. Raises Malformed when it is none."""
    reader = Reader(data, "CIP response")
    service = reader.u8()
    if not service & _REPLY_BIT:
        raise reader.wrong("reply bit is not set")
    reader.u8()
    status = reader.u8()
    reader.take(reader.u8() * 2)
    return Response(service & ~_REPLY_BIT, status, reader.rest())


def encode_configuration(configuration: InterfaceConfiguration) -> bytes:
    """The attribute's bytes; addresses are 32-bit numbers, least significant octet first."""
    addresses = (
        configuration.address,
        configuration.mask,
        configuration.gateway,
        configuration.name_server,
        configuration.second_name_server,
    )
    domain = configuration.domain
    padding = bytes(len(domain) % 2)
    numbers = b"".join(int(address).to_bytes(4, "little") for address in addresses)
    return numbers + len(domain).to_bytes(2, "little") + domain + padding


def parse_configuration(data: bytes) -> InterfaceConfiguration:
    """Read the attribute; a missing domain name is none. Raises Malformed when it is short."""
    reader = Reader(data, "CIP interface configuration")
    address, mask, gateway, first, second = (IPv4Address(reader.u32_little()) for _ in range(5))
    domain = reader.take(reader.u16_little()) if reader.remaining >= 2 else b""
    return InterfaceConfiguration(address, mask, gateway, first, second, domain)
