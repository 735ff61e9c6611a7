"""DCP, PROFINET's discovery and configuration protocol (IEC 61158-6-10 §4.3, EtherType 0x8892).

A device answers it with no address at all. Blocks follow each other, each of even length; in
answers, and in requests to set something, a block's first two octets qualify what follows.
"""

from __future__ import annotations

from enum import IntEnum
from ipaddress import IPv4Address, IPv4Interface
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.wire import ethernet
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed, Reader

IDENTIFY_GROUP = Mac(b"\x01\x0e\xcf\x00\x00\x00")
HELLO_GROUP = Mac(b"\x01\x0e\xcf\x00\x00\x01")

DELAY_STEP = 0.01
"""Seconds: the unit in which a request says over how long answers may be spread."""

LONGEST_STATION_NAME = 240
"""Octets (§4.3.1.4.15, NameOfStation)."""

_MOST_BLOCKS = 64


class FrameId(IntEnum):
    """IEC 61158-6-10, FrameID of DCP."""

    HELLO = 0xFEFC
    GET_SET = 0xFEFD
    IDENTIFY_REQUEST = 0xFEFE
    IDENTIFY_RESPONSE = 0xFEFF


class Service(IntEnum):
    """ServiceID."""

    GET = 3
    SET = 4
    IDENTIFY = 5
    HELLO = 6


REQUEST, SUCCESS = 0, 1
"""ServiceType."""

# Option and suboption of a block.
IP_PARAMETER = (1, 2)
STATION_TYPE = (2, 1)
STATION_NAME = (2, 2)
DEVICE_ID = (2, 3)
DEVICE_ROLE = (2, 4)
SIGNAL = (5, 3)
RESPONSE = (5, 4)
"""In the answer to a Set: which block is meant (option and suboption stand where the qualifier is
in others), and a BlockError."""
ALL = (0xFF, 0xFF)

TEMPORARY, PERMANENT = 0, 1
"""BlockQualifier: until the device restarts, or for good."""

FLASH_ONCE = b"\x01\x00"
"""SignalValue: flash for three seconds, at 1 Hz."""

_BLOCK_ERRORS = {
    1: "option not supported",
    2: "suboption not supported, or nothing there to set",
    3: "suboption not set",
    4: "out of resources",
    5: "cannot be set, for a reason of the device's own",
    6: "cannot be set while it is in operation",
}

ROLES = ("I/O device", "I/O controller", "I/O multidevice", "I/O supervisor")
"""DeviceRoleDetails, bit 0 first."""


class Block(NamedTuple):
    """One value; ``qualifier`` is BlockInfo in answers and hellos, BlockQualifier in a Set."""

    option: tuple[int, int]
    data: bytes = b""
    qualifier: int | None = None


class DcpMessage(NamedTuple):
    """A DCP protocol unit; ``delay`` is ResponseDelay in requests, reserved in answers."""

    frame_id: FrameId
    service: Service
    service_type: int
    xid: int
    delay: int = 0
    blocks: tuple[Block, ...] = ()

    @property
    def is_request(self) -> bool:
        """Whether something is asked for, or to be set."""
        return self.service is not Service.HELLO and self.service_type == REQUEST

    @property
    def is_qualified(self) -> bool:
        """Whether its blocks have a qualifier."""
        return self.service is Service.SET or not self.is_request


class Station(NamedTuple):
    """The values in the blocks of an identify answer; None for untold ones."""

    name: bytes = b""
    station_type: bytes = b""
    vendor: int | None = None
    device: int | None = None
    roles: tuple[str, ...] = ()
    address: IPv4Address | None = None
    mask: IPv4Address | None = None
    gateway: IPv4Address | None = None


def parse(data: bytes) -> DcpMessage:
    """Read what follows the EtherType. Raises Malformed for lengths that lie."""
    reader = Reader(data, "DCP")
    try:
        frame_id = FrameId(reader.u16())
        service = Service(reader.u8())
    except ValueError as error:
        raise reader.wrong(str(error)) from None
    service_type, xid, delay = reader.u8(), reader.u32(), reader.u16()
    inner = Reader(reader.take(reader.u16()), "DCP blocks")
    message = DcpMessage(frame_id, service, service_type, xid, delay)
    qualified = message.is_qualified
    blocks: list[Block] = []
    while inner.remaining:
        if len(blocks) == _MOST_BLOCKS:
            raise inner.wrong(f"more than {_MOST_BLOCKS} blocks")
        option = (inner.u8(), inner.u8())
        length = inner.u16()
        value = Reader(inner.take(length), "DCP block")
        if length % 2 and inner.remaining:
            inner.take(1)
        qualifier = value.u16() if qualified else None
        blocks.append(Block(option, value.rest(), qualifier))
    return message._replace(blocks=tuple(blocks))


def encode(message: DcpMessage) -> bytes:
    """The message's bytes, as ``parse`` takes them."""
    blocks = b""
    for block in message.blocks:
        qualifier = b"" if block.qualifier is None else block.qualifier.to_bytes(2, "big")
        value = qualifier + block.data
        blocks += bytes(block.option) + len(value).to_bytes(2, "big") + value
        blocks += bytes(len(value) % 2)
    return b"".join(
        (
            message.frame_id.to_bytes(2, "big"),
            bytes((message.service, message.service_type)),
            message.xid.to_bytes(4, "big"),
            message.delay.to_bytes(2, "big"),
            len(blocks).to_bytes(2, "big"),
            blocks,
        )
    )


def encode_identify_all(own_mac: Mac, xid: int, delay: int) -> bytes:
    """A whole frame that asks every station on the wire who it is."""
    message = DcpMessage(
        FrameId.IDENTIFY_REQUEST, Service.IDENTIFY, REQUEST, xid, delay, (Block(ALL),)
    )
    return encode_frame(IDENTIFY_GROUP, own_mac, message)


def encode_set_request(own_mac: Mac, station: Mac, xid: int, blocks: tuple[Block, ...]) -> bytes:
    """A whole frame that sets something at one station; it goes to nobody else."""
    return encode_frame(
        station, own_mac, DcpMessage(FrameId.GET_SET, Service.SET, REQUEST, xid, 0, blocks)
    )


def set_reply(asked: DcpMessage, errors: tuple[int, ...]) -> DcpMessage:
    """The answer to a Set: an error for each block, 0 where there was none."""
    blocks = tuple(
        Block(RESPONSE, bytes((error,)), int.from_bytes(bytes(block.option), "big"))
        for block, error in zip(asked.blocks, errors, strict=True)
    )
    return DcpMessage(FrameId.GET_SET, Service.SET, SUCCESS, asked.xid, 0, blocks)


def parse_set_errors(message: DcpMessage) -> dict[tuple[int, int], int]:
    """The result of a Set for each option: 0 for done, else the BlockError. Raises Malformed."""
    errors = {}
    for block in message.blocks:
        if block.option != RESPONSE or block.qualifier is None or not block.data:
            raise Malformed("DCP: not an answer to a Set", 0)
        errors[(block.qualifier >> 8, block.qualifier & 0xFF)] = block.data[0]
    return errors


def error_words(error: int) -> str:
    """A BlockError in words, with its number."""
    return f"{_BLOCK_ERRORS.get(error, 'refused')} (DCP block error {error})"


def encode_ip_block(interface: IPv4Interface, gateway: IPv4Address | None) -> Block:
    """The block that sets the address for good; 0.0.0.0 is no gateway."""
    numbers = (interface.ip, interface.netmask, gateway or IPv4Address(0))
    return Block(IP_PARAMETER, b"".join(each.packed for each in numbers), PERMANENT)


def encode_name_block(name: str) -> Block:
    """The block that sets the station name for good.

    Brought back as it was, a name may be one that no rule allows.
    """
    return Block(STATION_NAME, name.encode("utf-8"), PERMANENT)


def encode_signal_block() -> Block:
    """The block that makes the station show itself."""
    return Block(SIGNAL, FLASH_ONCE, TEMPORARY)


def encode_frame(destination: Mac, source: Mac, message: DcpMessage) -> bytes:
    """A whole frame around a message, padded as short frames are."""
    payload = encode(message).ljust(ethernet.SHORTEST_PAYLOAD, b"\0")
    return ethernet.encode(ethernet.EthernetFrame(destination, source, EtherType.PROFINET, payload))


def parse_frame(data: bytes) -> tuple[Mac, DcpMessage]:
    """The sender and the message of a frame, also one with a VLAN tag. Raises Malformed."""
    outer = ethernet.parse_untagged(data)
    if outer.ethertype != EtherType.PROFINET:
        raise Malformed(f"EtherType is {outer.ethertype:#06x}, not DCP's", 12)
    return outer.source, parse(outer.payload)


def parse_station(message: DcpMessage) -> Station:
    """The station that an identify answer or a hello describes. Raises Malformed."""
    found = {block.option: block.data for block in message.blocks}
    vendor = device = None
    if DEVICE_ID in found:
        reader = Reader(found[DEVICE_ID], "DCP device ID")
        vendor, device = reader.u16(), reader.u16()
    bits = found.get(DEVICE_ROLE, b"\0")[:1] or b"\0"
    roles = tuple(role for bit, role in enumerate(ROLES) if bits[0] >> bit & 1)
    address = mask = gateway = None
    if IP_PARAMETER in found:
        reader = Reader(found[IP_PARAMETER], "DCP IP parameter")
        address, mask, gateway = reader.address(), reader.address(), reader.address()
    return Station(
        found.get(STATION_NAME, b""),
        found.get(STATION_TYPE, b""),
        vendor,
        device,
        roles,
        address,
        mask,
        gateway,
    )


def encode_station(said: Station) -> tuple[Block, ...]:
    """The blocks of an identify answer that say this."""
    role = sum(1 << bit for bit, name in enumerate(ROLES) if name in said.roles)
    addresses = (said.address, said.mask, said.gateway)
    numbers = b"".join((address or IPv4Address(0)).packed for address in addresses)
    identity = (said.vendor or 0).to_bytes(2, "big") + (said.device or 0).to_bytes(2, "big")
    return (
        Block(STATION_TYPE, said.station_type, 0),
        Block(STATION_NAME, said.name, 0),
        Block(DEVICE_ID, identity, 0),
        Block(DEVICE_ROLE, bytes((role, 0)), 0),
        # BlockInfo of the IP parameter: 0 not set, 1 set.
        Block(IP_PARAMETER, numbers, int(said.address is not None)),
    )
