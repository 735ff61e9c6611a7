"""Words that are not the same on every operating system: the lines of its own programs.

The core knows no operating system. Whoever starts the program says once which words are meant.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final


@dataclass(frozen=True, slots=True)
class BySystem:
    """The same thing to say on Linux, and on Windows; as a template, with the same values."""

    on_linux: str
    on_windows: str

    @property
    def here(self) -> str:
        """As it is said on this computer."""
        return self.on_windows if _meant[0] == WINDOWS else self.on_linux


LINUX: Final = "linux"
WINDOWS: Final = "windows"

_meant = [LINUX]


def speak_of(system: str) -> None:
    """From now on, say what is right on this operating system."""
    _meant[0] = system


SWITCH_ON = BySystem(
    "ip link set {adapter} up", 'netsh interface set interface "{adapter}" admin=enabled'
)
"""Switches an adapter on that is switched off in the computer's settings."""

_AS_ROOT = BySystem("sudo {line}", "{line} (with a capture driver: portcall help windows)")

_PLAIN = re.compile(r"[\w+=:./\\-]+", re.ASCII)
"""What needs no quotes in either shell of Windows: a comma makes a list there, an @ a table."""


def typed(words: Sequence[str], as_root: bool = False) -> str:
    """Words as they are typed into the shell of this computer; with the rights to see frames.

    Both shells of Windows take double quotes, which no name of an adapter there has in it.
    """
    if _meant[0] == WINDOWS:
        line = " ".join(each if _PLAIN.fullmatch(each) else f'"{each}"' for each in words)
    else:
        line = shlex.join(words)
    return _AS_ROOT.here.format(line=line) if as_root else line
