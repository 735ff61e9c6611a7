"""How this program was started."""

from __future__ import annotations

import os
import sys
from pathlib import Path


def called() -> Path:
    """The program that was called, with its whole path."""
    return Path(sys.argv[0]).absolute()


_ONE_FILE = "PORTCALL_FILE"
"""Set by ``stick/main.py``."""


def one_file() -> Path | None:
    """The file that holds the whole program, where it was started by that; else None."""
    named = os.environ.get(_ONE_FILE)
    return Path(named) if named else None
