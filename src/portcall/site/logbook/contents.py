"""What entries hold, as the database has it: packed, under its digest."""

from __future__ import annotations

import zlib
from hashlib import sha256
from typing import Any

from portcall.core.document import parsed

_LARGEST = 256 * 1024 * 1024


def unpacked(data: bytes, digest: str) -> dict[str, Any] | None:
    """The body of an entry; None for a damaged one, or one other than its digest says."""
    return an_object(inflated(data, digest))


def an_object(text: str) -> dict[str, Any] | None:
    """An object of JSON; None for what is none."""
    body = parsed(text)
    return body if isinstance(body, dict) else None


def inflated(data: bytes, digest: str) -> str:
    """The text of a body, "" for a damaged one."""
    try:
        text = zlib.decompressobj().decompress(data, _LARGEST)
        return text.decode() if sha256(text).hexdigest() == digest else ""
    except (zlib.error, UnicodeDecodeError):
        return ""
