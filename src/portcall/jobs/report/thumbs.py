"""Small pictures of the photographs that belong to notes, for the pages of a record.

Needs Pillow, which comes with matplotlib, and is imported when there is a picture. Only JPEG and
PNG are opened, none of more dots than a camera makes, and what is not one is listed by its name.
"""

from __future__ import annotations

from base64 import b64decode, b64encode
from collections.abc import Iterable, Mapping
from io import BytesIO
from pathlib import Path
from typing import Any

from portcall.core.record.notes import NotedFile
from portcall.site.logbook.kept_files import KeptFile, read_kept

_FORMATS = ("JPEG", "PNG")
_SUFFIXES = (".jpg", ".jpeg", ".png")
_WIDEST = (360, 270)
_MOST_DOTS = 80_000_000
_QUALITY = 72
_MOST = 200
"""Pictures that a record shows."""

_COMPARED = (24, 18)
_MOST_APART = 10.0
"""How far two pictures of one file may be apart, of 255: libraries round otherwise."""


def pictures(site: Path | None, files: Iterable[NotedFile]) -> dict[str, str]:
    """Small pictures of those files that are pictures, and are there, by their digests."""
    found: dict[str, str] = {}
    for each in files:
        if each.sha256 in found or len(found) >= _MOST or not each.name.lower().endswith(_SUFFIXES):
            continue
        data = read_kept(site, KeptFile(*each))
        small = _small(data) if data is not None else None
        if small is not None:
            found[each.sha256] = f"data:image/jpeg;base64,{b64encode(small).decode()}"
    return found


def shows_otherwise(record: Mapping[str, Any], again: Mapping[str, str]) -> list[str]:
    """The digests of pictures in a record that show something else than the kept files do.

    What is kept no more cannot be compared, and is not among them.
    """
    shown: Mapping[str, Any] = record.get("pictures") or {}
    return [
        digest
        for digest, picture in shown.items()
        if digest in again and not _are_alike(str(picture), again[digest])
    ]


def _opened(data: bytes) -> Any:
    from PIL import Image, ImageOps

    Image.MAX_IMAGE_PIXELS = _MOST_DOTS // 2  # Twice as many are refused.
    image = Image.open(BytesIO(data), formats=_FORMATS)
    image.draft("RGB", _WIDEST)
    # A camera that lies on its side says so beside the picture.
    return ImageOps.exif_transpose(image).convert("RGB")


def _small(data: bytes) -> bytes | None:
    try:
        image = _opened(data)
        image.thumbnail(_WIDEST)
        out = BytesIO()
        image.save(out, "JPEG", quality=_QUALITY)
    except Exception:
        # A damaged picture can raise nearly any error in its reader.
        return None
    return out.getvalue()


def _are_alike(one: str, other: str) -> bool:
    try:
        first, second = (_dots(each) for each in (one, other))
    except Exception:
        return False
    return sum(abs(a - b) for a, b in zip(first, second, strict=True)) / len(first) < _MOST_APART


def _dots(picture: str) -> bytes:
    data = b64decode(picture.partition(",")[2], validate=True)
    dots: bytes = _opened(data).resize(_COMPARED).convert("L").tobytes()
    return dots
