"""Reading the description that a CIP device carries, out of its file object (volume 1, class 0x37).

Nothing is believed: the size is bounded before the first piece is asked for, each piece is counted,
and the whole is held against the size and the checksums that the device tells.
"""

from __future__ import annotations

from dataclasses import dataclass

from portcall.core.cip.identity_object import ask_identity
from portcall.core.cip.session import Part, Session, ask, close_session, open_session
from portcall.core.talk.dialogue import Script
from portcall.core.wire import cip, cip_file, cip_message
from portcall.core.wire.cip_file import Piece, Upload
from portcall.core.wire.octets import Malformed

LARGEST_FILE = 1_048_576
"""Octets; makers pack descriptions that would be larger."""

MOST_PIECES = -(-LARGEST_FILE // cip_file.LARGEST_PIECE) + 1
"""However small its pieces are, a device is not asked for more of them."""

MOST_EXCHANGES = MOST_PIECES + 8
"""Who it is, a session, size, checksum, upload, goodbye; and the pieces."""

_OBJECT_DOES_NOT_EXIST = 0x16
_HAS_NONE = (
    cip_message.PATH_UNKNOWN,
    cip_message.SERVICE_NOT_SUPPORTED,
    _OBJECT_DOES_NOT_EXIST,
)


@dataclass(frozen=True, slots=True)
class Carried:
    """The file, as it is in the device; ``is_proven`` where a checksum of it was told."""

    data: bytes
    is_proven: bool = True


@dataclass(frozen=True, slots=True)
class NotCarried:
    """Why there is none, as the end of a sentence whose subject is the device."""

    reason: str


def fetch_description() -> Script[cip.Identity | Upload | Carried | NotCarried]:
    """Fetch the device's identity, the size of its file, and the file or the reason for none."""
    try:
        identity = yield from ask_identity()
        if identity is not None:
            yield identity
        session = yield from open_session()
        if session is None:
            yield NotCarried("opens no CIP session")
            return
        upload = yield from _initiate(session)
        if isinstance(upload, NotCarried):
            yield upload
        else:
            yield upload
            yield (yield from _fetch(session, upload))
        yield from close_session(session)
    except Malformed as odd:
        yield NotCarried(f"sent what cannot be read: {odd}")


def _initiate(session: Session) -> Part[Upload | NotCarried]:
    """Begin the transfer, where what is told of the file is within bounds. Raises Malformed."""
    response = yield from ask(session, cip_file.initiate_upload())
    if response is None:
        return NotCarried("does not answer when asked for its description")
    if response.status in _HAS_NONE:
        words = cip_message.status_words(response.status)
        return NotCarried(f"carries no description of itself: {words}")
    if response.status != cip_message.SUCCESS:
        words = cip_message.status_words(response.status)
        return NotCarried(f"does not hand out its description: {words}")
    upload = cip_file.parse_upload(response.data)
    size = yield from _attribute(session, cip_file.Attribute.SIZE)
    if size is not None and size != upload.size:
        return NotCarried(
            f"says that its description has {size:,} octets, and then that it has {upload.size:,}"
        )
    if upload.size == 0:
        return NotCarried("has an empty description")
    if upload.size > LARGEST_FILE:
        return NotCarried(
            f"says that its description has {upload.size:,} octets; no more than {LARGEST_FILE:,} "
            "are taken"
        )
    if upload.piece == 0 or upload.size > upload.piece * MOST_PIECES:
        return NotCarried(
            f"would send its {upload.size:,} octets in pieces of {upload.piece}; no more than "
            f"{MOST_PIECES:,} pieces are asked for"
        )
    return upload


def _fetch(session: Session, upload: Upload) -> Part[Carried | NotCarried]:
    """Ask for piece after piece, and prove the whole. Raises Malformed."""
    told = yield from _attribute(session, cip_file.Attribute.CHECKSUM)
    size = upload.size
    received = bytearray()
    for number in range(MOST_PIECES):
        response = yield from ask(session, cip_file.upload_transfer(number))
        so_far = f"after {len(received):,} of {size:,} octets"
        if response is None:
            return NotCarried(f"stopped answering {so_far}")
        if response.status != cip_message.SUCCESS:
            words = cip_message.status_words(response.status)
            return NotCarried(f"refused the rest {so_far}: {words}")
        piece = cip_file.parse_transfer(response.data)
        if piece.kind == Piece.ABORTED:
            return NotCarried(f"broke off the transfer {so_far}")
        if piece.number != number & 0xFF:
            return NotCarried(f"sent piece {piece.number} for piece {number & 0xFF} {so_far}")
        received += piece.data
        if len(received) > size + cip_file.CHECKSUM_LENGTH:
            return NotCarried(f"sends more than the {size:,} octets that it told")
        if piece.kind in (Piece.LAST, Piece.ONLY):
            return _proven(bytes(received), size, told)
        if not piece.data:
            return NotCarried(f"sent an empty piece {so_far}")
    return NotCarried(f"had not sent its {size:,} octets after {MOST_PIECES:,} pieces")


def _attribute(session: Session, attribute: cip_file.Attribute) -> Part[int | None]:
    """A number that the device tells of its file; None where it does not."""
    wanted = cip_message.Request(cip_file.FILE, cip_file.DESCRIPTION, attribute)
    response = yield from ask(session, wanted)
    if response is None or response.status != cip_message.SUCCESS:
        return None
    try:
        return cip_file.parse_number(response.data, attribute)
    except Malformed:
        return None  # A number that is cut off proves nothing; the file itself is still read.


def _proven(received: bytes, size: int, told: int | None) -> Carried | NotCarried:
    """The file without the checksum that may be behind it, if it is as it was told to be."""
    data, behind = received[:size], received[size:]
    if len(data) < size:
        return NotCarried(
            f"said that it has {size:,} octets, and its last came after {len(data):,}"
        )
    if len(behind) == 1:
        return NotCarried("has one octet behind its description, where a checksum has two or none")
    own = cip_file.checksum(data)
    checksums = {"told": told, "sent behind it": _checksum(behind)}
    for where, number in checksums.items():
        if number is not None and number != own:
            return NotCarried(
                f"sent {size:,} octets whose checksum is {own:#06x}; the one {where} is "
                f"{number:#06x}"
            )
    return Carried(data, any(number is not None for number in checksums.values()))


def _checksum(behind: bytes) -> int | None:
    return cip_file.parse_number(behind, cip_file.Attribute.CHECKSUM) if behind else None
