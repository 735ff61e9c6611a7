"""The contents of a description file: an EDS, plain or packed, by itself or with its icon.

A CIP device may carry its file packed (volume 1, file object, "file encoding format"); makers use
gzip (RFC 1952), one member a file, and zlib (RFC 1950). What it is shows in its first octets.
"""

from __future__ import annotations

import zlib
from codecs import BOM_UTF8, BOM_UTF16_BE, BOM_UTF16_LE

from portcall.core.trouble import BadInput

LONGEST = 4_000_000
"""Octets of a description, packed or not."""

_GZIP = b"\x1f\x8b"
_ZIP = b"PK\x03\x04"
_GZIP_WINDOW, _ZLIB_WINDOW = 31, 15
_MOST_MEMBERS = 16
_HEAD = b"[device]"


def eds_text(data: bytes, source: str) -> str:
    """The text of the EDS in a file. Raises BadInput for what cannot be unpacked.

    Of several packed files it is the first one with a [Device] section; the others are not read.
    """
    if data.startswith(_ZIP):
        raise BadInput(f"{source}: is a ZIP archive: unpack it, and name the EDS files in it")
    if data.startswith(_GZIP):
        data = _unpacked(data, _GZIP_WINDOW, source)
    elif _is_zlib(data):
        data = _unpacked(data, _ZLIB_WINDOW, source)
    return _decoded(data)


def _is_zlib(data: bytes) -> bool:
    """RFC 1950 §2.2: the method is 8, and the first two octets are a multiple of 31."""
    head = data[:2]
    return len(head) == 2 and head[0] == 0x78 and int.from_bytes(head, "big") % 31 == 0


def _unpacked(data: bytes, window: int, source: str) -> bytes:
    files: list[bytes] = []
    room = LONGEST
    while data and len(files) < _MOST_MEMBERS:
        unpacking = zlib.decompressobj(window)
        try:
            # Unpack no more than there is room for: a small file can unpack to an endless one.
            file = unpacking.decompress(data, room + 1)
        except zlib.error:
            if files:
                break  # The bytes after the packed files belong to somebody else.
            raise BadInput(f"{source}: is packed, and damaged: it cannot be unpacked") from None
        room -= len(file)
        if room < 0:
            raise BadInput(
                f"{source}: is packed, and more than {LONGEST:,} octets long when unpacked"
            )
        if not unpacking.eof:
            raise BadInput(f"{source}: is packed, and ends too early: it is not whole")
        files.append(file)
        data = unpacking.unused_data
    return next((file for file in files if _HEAD in file.lower().replace(b"\0", b"")), files[0])


def _decoded(data: bytes) -> str:
    """Text in whatever code page makers' editors have left it.

    An octet that cannot be read becomes U+FFFD, and most stand in comments.
    """
    if data.startswith((BOM_UTF16_LE, BOM_UTF16_BE)):
        return data.decode("utf-16", "replace")
    if data.startswith(BOM_UTF8):
        return data.decode("utf-8-sig", "replace")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")
