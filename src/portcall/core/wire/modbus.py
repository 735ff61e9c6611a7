"""Modbus TCP: the header, the two functions that say what a device is, and the two that read.

MODBUS Messaging on TCP/IP Implementation Guide V1.0b §3.1.3 (MBAP header); MODBUS Application
Protocol V1.1b3 §6.3 and §6.4 (3 and 4, read holding and input registers), §6.13 (17, report server
ID), §6.21 (43/14, read device identification), §7 (exceptions).
"""

from __future__ import annotations

from enum import IntEnum
from typing import NamedTuple

from portcall.core.wire.octets import Reader

PORT = 502
HEADER_LENGTH = 7
LONGEST_PDU = 253

READ_HOLDING, READ_INPUT = 3, 4
MOST_REGISTERS = 125
REPORT_SERVER_ID = 17
ENCAPSULATED = 43
DEVICE_IDENTIFICATION = 14
_EXCEPTION = 0x80
GATEWAY_REFUSALS = (0x0A, 0x0B)
"""§7: a gateway has no path to the unit, or the unit does not answer it."""

_MOST_OBJECTS = 128


class ReadCode(IntEnum):
    """§6.21, ReadDevId code: how much is asked for."""

    BASIC = 1
    REGULAR = 2


class ObjectId(IntEnum):
    """§6.21, table of object identifiers."""

    VENDOR_NAME = 0
    PRODUCT_CODE = 1
    REVISION = 2
    VENDOR_URL = 3
    PRODUCT_NAME = 4
    MODEL_NAME = 5
    APPLICATION_NAME = 6


class ModbusMessage(NamedTuple):
    """One message; ``pdu`` starts with the function code."""

    transaction: int
    unit: int
    pdu: bytes

    @property
    def exception(self) -> int | None:
        """The exception code when this is a refusal, else None (§7)."""
        refused = len(self.pdu) >= 2 and self.pdu[0] & _EXCEPTION
        return self.pdu[1] if refused else None


class Identification(NamedTuple):
    """An answer to 43/14: its objects, and the number to go on at, or None."""

    objects: tuple[tuple[int, bytes], ...]
    next_object: int | None = None


def whole_length(head: bytes) -> int | None:
    """How long the message is that begins so, or None while that cannot be told. Malformed."""
    if len(head) < HEADER_LENGTH:
        return None
    reader = Reader(head, "Modbus")
    reader.u16()
    if reader.u16() != 0:
        raise reader.wrong("protocol identifier is not 0")
    length = reader.u16()
    if not 2 <= length <= LONGEST_PDU + 1:
        raise reader.wrong(f"length is {length}, not 2 to {LONGEST_PDU + 1}")
    return HEADER_LENGTH - 1 + length


def is_answer(request: bytes, reply: bytes) -> bool:
    """Whether a whole message answers a request: the transaction identifier decides (§3.1.3)."""
    return reply[:2] == request[:2]


def parse(data: bytes) -> ModbusMessage:
    """Read one whole message. Raises Malformed for a length that lies."""
    length = whole_length(data)
    reader = Reader(data, "Modbus")
    transaction = reader.u16()
    reader.take(4)
    unit = reader.u8()
    if length != len(data):
        raise reader.wrong(f"length says {length} octets, here are {len(data)}")
    return ModbusMessage(transaction, unit, reader.rest())


def encode(message: ModbusMessage) -> bytes:
    """The message's bytes."""
    length = len(message.pdu) + 1
    head = message.transaction.to_bytes(2, "big") + bytes(2) + length.to_bytes(2, "big")
    return head + bytes((message.unit,)) + message.pdu


def encode_identification_request(code: ReadCode, first: int = 0) -> bytes:
    """The PDU that asks for identification objects from ``first`` on."""
    return bytes((ENCAPSULATED, DEVICE_IDENTIFICATION, code, first))


def parse_identification(pdu: bytes) -> Identification:
    """Read an answer to 43/14. Raises Malformed."""
    reader = Reader(pdu, "Modbus device identification")
    if reader.take(2) != bytes((ENCAPSULATED, DEVICE_IDENTIFICATION)):
        raise reader.wrong("is an answer to something else")
    reader.take(2)
    more, following, count = reader.u8(), reader.u8(), reader.u8()
    objects = []
    for _ in range(min(count, _MOST_OBJECTS)):
        number = reader.u8()
        objects.append((number, reader.take(reader.u8())))
    return Identification(tuple(objects), following if more == 0xFF else None)


def encode_identification(said: Identification, code: int) -> bytes:
    """An answer to 43/14, conformity level as the request's code (§6.21)."""
    body = b"".join(bytes((number, len(value))) + value for number, value in said.objects)
    more = 0 if said.next_object is None else 0xFF
    head = (ENCAPSULATED, DEVICE_IDENTIFICATION, code, code, more, said.next_object or 0)
    return bytes((*head, len(said.objects))) + body


def encode_read(function: int, first: int, count: int) -> bytes:
    """The PDU that reads ``count`` registers from ``first`` on, as the wire counts them: from 0."""
    return bytes((function,)) + first.to_bytes(2, "big") + count.to_bytes(2, "big")


def parse_read(pdu: bytes, function: int, count: int) -> bytes:
    """The octets of the registers in an answer, two each, the high one first. Raises Malformed."""
    reader = Reader(pdu, "Modbus registers")
    if reader.u8() != function:
        raise reader.wrong("is an answer to something else")
    length = reader.u8()
    if length != 2 * count:
        raise reader.wrong(f"has {length} octets, not two for each of {count} registers")
    return reader.take(length)


def encode_registers(function: int, octets: bytes) -> bytes:
    """An answer to ``encode_read``."""
    return bytes((function, len(octets))) + octets


def parse_server_id(pdu: bytes) -> bytes:
    """The device-specific text of an answer to 17, without its run indicator. Raises Malformed."""
    reader = Reader(pdu, "Modbus server ID")
    if reader.u8() != REPORT_SERVER_ID:
        raise reader.wrong("is an answer to something else")
    # §6.13: ID and indicator are device specific; by custom the last octet is the indicator, and
    # what can be read of the rest is what the maker wanted to be read.
    return bytes(octet for octet in reader.take(reader.u8()) if 0x20 <= octet < 0x7F)
