"""How jobs say what happens: as facts, one by one, to whoever asked.

What is said in passing, beside the result, is a value whose ``str`` is a whole sentence for a
person; a program looks at its type.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

Tell: TypeAlias = Callable[[object], None]


def nobody(fact: object) -> None:
    """For a job that nobody listens to."""
