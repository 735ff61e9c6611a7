"""What is not built for Windows yet: whoever asks for it is told so."""

from __future__ import annotations

from typing import Any, NoReturn

from portcall.core.trouble import NotPossibleHere

_WHY = "on Windows this is not possible yet"
_INSTEAD = "portcall help windows tells what is"


def refuse(*_: Any, **__: Any) -> NoReturn:
    """Say so. Raises NotPossibleHere."""
    raise NotPossibleHere(_WHY, _INSTEAD)


class Refused:
    """Stands for a class that is not there."""

    def __init__(self, *_: Any, **__: Any) -> None:
        refuse()

    @classmethod
    def at(cls, *_: Any, **__: Any) -> Any:
        """The same for who makes one otherwise."""
        refuse()
