"""Pictures and files that belong to notes: kept beside the logbook, each under its own digest.

``logbook/files/DIGEST.suffix``: the SHA-256 (FIPS 180-4) of what is in it, so that the same picture
is kept once, and one that was changed is not taken for it.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path

from portcall.core.printable import printable
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site.files import make_folder, open_to_read, read_bounded, write_whole
from portcall.site.logbook.folder import logbook_folder

FOLDER = "files"
LARGEST = 16 * 1024 * 1024
_LONGEST_NAME = 80
_SUFFIX = re.compile(r"\.[a-z0-9]{1,5}")


@dataclass(frozen=True, slots=True)
class KeptFile:
    """A file by its digest, what it was called, and how many octets it has."""

    sha256: str
    name: str
    size: int


def read_file(path: Path) -> tuple[KeptFile, bytes]:
    """A file that a person named, to be kept. Raises BadInput, NotPossibleHere."""
    data = read_bounded(path, LARGEST, "picture or file of a note")
    if not data:
        raise BadInput(f"{path.name}: is empty")
    return KeptFile(sha256(data).hexdigest(), printable(path.name, _LONGEST_NAME), len(data)), data


def keep_file(site: Path | None, kept: KeptFile, data: bytes) -> Path:
    """Keep what is in a file, once; gives where. Raises NotPossibleHere."""
    path = _path(site, kept)
    try:
        if not path.exists():
            make_folder(path.parent)
            write_whole(path, data)
    except OSError as error:
        raise NotPossibleHere(f"{path}: cannot be written: {error.strerror}") from None
    return path


def read_kept(site: Path | None, kept: KeptFile) -> bytes | None:
    """What is in a kept file; None where it is gone, or is not what it was."""
    try:
        with open_to_read(_path(site, kept)) as file:
            data = file.read(LARGEST + 1)
    except (OSError, BadInput):
        return None
    return data if sha256(data).hexdigest() == kept.sha256 else None


def _path(site: Path | None, kept: KeptFile) -> Path:
    suffix = Path(kept.name).suffix.lower()
    ending = suffix if _SUFFIX.fullmatch(suffix) else ""
    return logbook_folder(site) / FOLDER / f"{kept.sha256}{ending}"
