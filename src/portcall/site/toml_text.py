"""Reading TOML that a person or a maker wrote: bounded in size and depth, refused in a sentence."""

from __future__ import annotations

import re
import tomllib
from typing import Any

from portcall.core.trouble import BadInput

LONGEST = 1_000_000
_DEEPEST = 8
_DOTTED = re.compile(
    rb"""(?:^|[\[{,])[ \t]*+(?:(?:[\w-]++|"[^"\n]*+"|'[^'\n]*+')[ \t]*+\.[ \t]*+){64}""",
    re.MULTILINE,
)
"""A key of so many parts."""


def parse_toml(data: bytes, source: str) -> dict[str, Any]:
    """The tables of a text. Raises BadInput, which names ``source``."""
    if len(data) > LONGEST:
        raise BadInput(f"{source}: is longer than {LONGEST:,} octets")
    if _DOTTED.search(data):
        # The library takes time that grows with the square of a key's parts.
        raise _too_deep(source)
    try:
        tables = tomllib.loads(data.decode("utf-8-sig"))
    except (UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise BadInput(f"{source}: is not TOML: {error}") from None
    except RecursionError:
        raise _too_deep(source) from None
    except ValueError:
        # Python reads no integer of more than some thousand digits.
        raise BadInput(f"{source}: has a number of thousands of digits") from None
    level: list[object] = [tables]
    for _ in range(_DEEPEST):
        level = [inner for each in level for inner in _inside(each)]
        if not level:
            return tables
    raise _too_deep(source)


def _inside(value: object) -> list[object]:
    found = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return [each for each in found if isinstance(each, dict | list)]


def _too_deep(source: str) -> BadInput:
    return BadInput(f"{source}: has tables nested more than {_DEEPEST} deep")
