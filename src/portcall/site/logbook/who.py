"""The writer of an entry: which person, on which workstation, with which line."""

from __future__ import annotations

import os
import pwd
import shlex
import sys
from typing import NamedTuple

from portcall.core.printable import printable
from portcall.site.files import caller

_LONGEST_COMMAND = 400


class Who(NamedTuple):
    """The names are those that records have."""

    workstation: str
    person: str
    command: str


def who() -> Who:
    """This one. Under sudo, the person is who called that."""
    user, _ = caller() or (os.getuid(), 0)
    try:
        person = pwd.getpwuid(user).pw_name
    except KeyError:
        person = str(user)
    command = printable(f"portcall {shlex.join(sys.argv[1:])}", _LONGEST_COMMAND)
    return Who(printable(os.uname().nodename), person, command)
