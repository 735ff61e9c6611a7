"""The writer of an entry: which person, on which workstation, with which line."""

from __future__ import annotations

import shlex
import sys
from typing import NamedTuple

from portcall.core.printable import printable
from portcall.system import person, workstation

_LONGEST_COMMAND = 400


class Who(NamedTuple):
    """The names are those that records have."""

    workstation: str
    person: str
    command: str


def who() -> Who:
    """This one. Under sudo, the person is who called that."""
    command = printable(f"portcall {shlex.join(sys.argv[1:])}", _LONGEST_COMMAND)
    return Who(printable(workstation()), printable(person()), command)
