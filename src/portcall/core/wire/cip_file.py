"""The file object of a CIP device: the description of itself that it may carry.

The CIP Networks Library, volume 1, chapter 5, file object (class 0x37): attributes 6 (size) and 7
(checksum) of an instance; the services Initiate_Upload and Upload_Transfer, by which a file comes
from the device in pieces.
"""

from __future__ import annotations

from enum import IntEnum
from typing import NamedTuple

from portcall.core.wire.cip_message import Request
from portcall.core.wire.octets import Reader

FILE = 0x37
DESCRIPTION = 0xC8
"""The instance that is set aside for the device's own EDS and icon."""

INITIATE_UPLOAD = 0x4B
UPLOAD_TRANSFER = 0x4F
LARGEST_PIECE = 255
"""Octets of a file in one piece: the number of them has one octet."""

CHECKSUM_LENGTH = 2


class Attribute(IntEnum):
    """Attributes of an instance."""

    SIZE = 6
    CHECKSUM = 7


_LENGTHS = {Attribute.SIZE: 4, Attribute.CHECKSUM: CHECKSUM_LENGTH}


class Piece(IntEnum):
    """Which piece of the file a transfer carries."""

    FIRST = 0
    MIDDLE = 1
    LAST = 2
    ABORTED = 3
    ONLY = 4


class Upload(NamedTuple):
    """The answer to Initiate_Upload: octets of the file in all, and at most in one piece."""

    size: int
    piece: int


class Transfer(NamedTuple):
    """The answer to Upload_Transfer; ``kind`` is a ``Piece``, or a number that means none."""

    number: int
    kind: int
    data: bytes


def initiate_upload(piece: int = LARGEST_PIECE) -> Request:
    """Ask for the description, in pieces of at most so many octets."""
    return Request(FILE, DESCRIPTION, None, INITIATE_UPLOAD, bytes((piece,)))


def upload_transfer(number: int) -> Request:
    """Ask for a piece; they are counted from 0, and 0 comes after 255."""
    return Request(FILE, DESCRIPTION, None, UPLOAD_TRANSFER, bytes((number & 0xFF,)))


def encode_upload(upload: Upload) -> bytes:
    """The data of an answer to Initiate_Upload."""
    return upload.size.to_bytes(4, "little") + bytes((upload.piece,))


def parse_upload(data: bytes) -> Upload:
    """Read the answer to Initiate_Upload. Raises Malformed when it is short."""
    reader = Reader(data, "CIP upload")
    return Upload(reader.u32_little(), reader.u8())


def encode_transfer(transfer: Transfer) -> bytes:
    """The data of an answer to Upload_Transfer."""
    return bytes((transfer.number, transfer.kind)) + transfer.data


def parse_transfer(data: bytes) -> Transfer:
    """Read the answer to Upload_Transfer. Raises Malformed when it is short."""
    reader = Reader(data, "CIP transfer")
    return Transfer(reader.u8(), reader.u8(), reader.rest())


def encode_number(number: int, attribute: Attribute) -> bytes:
    """An attribute's octets; a checksum behind the last piece has the same form."""
    return number.to_bytes(_LENGTHS[attribute], "little")


def parse_number(data: bytes, attribute: Attribute) -> int:
    """Read an attribute. Raises Malformed when it is short."""
    reader = Reader(data, "CIP file attribute")
    return int.from_bytes(reader.take(_LENGTHS[attribute]), "little")


def checksum(data: bytes) -> int:
    """The two's complement of the sum of all octets, in 16 bits: both together are zero."""
    return -sum(data) & 0xFFFF
