"""Rights that a program has by its file: only Linux has them."""

from __future__ import annotations

from typing import Any, NoReturn

from portcall.core.trouble import NotPossibleHere


def require_file_rights() -> NoReturn:
    """Say so. Raises NotPossibleHere."""
    raise NotPossibleHere(
        "a program has rights by its file on Linux only",
        "on Windows, type what needs rights in a window that was opened as administrator",
    )


def refuse(*_: Any, **__: Any) -> NoReturn:
    """The same, whatever is asked. Raises NotPossibleHere."""
    require_file_rights()


copy_with_rights = ignores_rights = rights_of = runs = refuse
