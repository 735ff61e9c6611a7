"""Which adapter a person said has the plant's cable, at which site.

It is the computer's affair, and not the site's: another laptop has other adapters.
"""

from __future__ import annotations

import contextlib
import json
from pathlib import Path

from portcall.core.address import Mac
from portcall.core.document import OddDocument, Part, a_mac, parsed
from portcall.site.files import make_private_folder, write_whole
from portcall.site.matches import state_folder
from portcall.system import only_we_could_write

_FILE = "adapters.json"
_LARGEST = 100_000
_MOST = 200


def remembered_adapter(folder: Path | None) -> Mac | None:
    """The MAC of the adapter that is used at a site; None when nobody said."""
    return _read().get(_key(folder))


def remember_adapter(folder: Path | None, mac: Mac) -> None:
    """From now on this adapter is used at the site. What cannot be written is not remembered."""
    known = {**_read(), _key(folder): mac}
    lines = {key: str(value) for key, value in list(known.items())[-_MOST:]}
    path = state_folder() / _FILE
    with contextlib.suppress(OSError):
        make_private_folder(path.parent)
        write_whole(path, f"{json.dumps(lines, indent=2)}\n".encode())


def _key(folder: Path | None) -> str:
    return str(folder.resolve()) if folder is not None else ""


def _read() -> dict[str, Mac]:
    path = state_folder() / _FILE
    try:
        if not only_we_could_write(path) or path.stat().st_size > _LARGEST:
            return {}
        part = Part(parsed(path.read_bytes()))
    except (OSError, OddDocument, ValueError):
        return {}
    found = ((key, part.get(key, a_mac)) for key in part)
    return {key: mac for key, mac in found if mac is not None}
