"""Giving this program its rights once, and taking them back.

The program is a script whose first line names the interpreter that runs it. A copy of that
interpreter, for this program alone, gets the rights; the script names the copy from then on, and in
its second line what it named before. So each step is one file, put in place whole, and what is
there says how far it came.
"""

from __future__ import annotations

import filecmp
import os
import shlex
import stat
from dataclasses import dataclass
from pathlib import Path

from portcall.core.printable import printable
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.host.file_rights import (
    copy_with_rights,
    ignores_rights,
    require_file_rights,
    rights_of,
    runs,
)
from portcall.host.privilege import FOR, Privilege
from portcall.host.program import called, one_file
from portcall.host.rights import holds
from portcall.site.files import read_bounded, write_whole
from portcall.system.sudo import caller

GIVEN = (Privilege.NET_RAW, Privilege.NET_ADMIN, Privilege.NET_BIND_SERVICE)
"""Never more than these; README.md and the page on privileges name them."""

COPY = "portcall-python"
_BEFORE = b"# portcall setup --undo puts back: "
_LONGEST_SCRIPT = 100_000


@dataclass(frozen=True, slots=True)
class Installed:
    """This program as it is installed; ``interpreter`` is what it was installed with.

    ``first`` is the first line that its script had then, and ``is_set_up`` whether it runs by the
    copy now.
    """

    script: Path
    first: bytes
    rest: bytes
    is_set_up: bool

    @property
    def interpreter(self) -> Path:
        """The file that is copied."""
        return Path(os.fsdecode(self.first.removeprefix(b"#!").strip())).resolve()

    @property
    def copy(self) -> Path:
        """The interpreter's copy, beside the script."""
        return self.script.with_name(COPY)


@dataclass(frozen=True, slots=True)
class Right:
    """A capability, what it is for, and whether this process has it."""

    name: str
    purpose: str
    is_held: bool


def rights() -> list[Right]:
    """The rights that this program would be given."""
    return [Right(f"CAP_{each.name}", FOR[each], holds(each)) for each in GIVEN]


@dataclass(frozen=True, slots=True)
class SetupState:
    """The state of the setup; ``missing`` names the parts that are not done."""

    group: str | None
    missing: tuple[str, ...]


def installed() -> Installed:
    """This program's script. Raises NotPossibleHere, BadInput."""
    require_file_rights()
    archive = one_file()
    if archive is not None:
        raise NotPossibleHere(
            f"{archive}: runs by the interpreter that everybody runs, and that gets no rights",
            "run what needs them with sudo, or install this program: pip install portcall",
        )
    script = called().resolve()
    data = read_bounded(script, _LONGEST_SCRIPT, "script of this program")
    first, _, rest = data.partition(b"\n")
    if script.name != "portcall" or not first.startswith(b"#!/"):
        raise NotPossibleHere(
            f"{script}: is no script of this program that names its interpreter: there is "
            "nothing here that could be given rights",
            "run what needs them with sudo",
        )
    copy = os.fsencode(script.with_name(COPY))
    if first != b"#!" + copy:
        return Installed(script, first, rest, False)
    second, _, rest = rest.partition(b"\n")
    if not second.startswith(_BEFORE):
        raise NotPossibleHere(
            f"{script}: names {COPY}, and not what it named before: install it again with pip"
        )
    return Installed(script, second.removeprefix(_BEFORE), rest, True)


def state(of: Installed) -> SetupState:
    """The state of the setup, by the files on the disk."""
    missing = []
    group = None
    try:
        told = of.copy.stat(follow_symlinks=False)
    except OSError:
        missing.append(f"{of.copy} is not there")
    else:
        group = _group_name(told.st_gid)
        if rights_of(of.copy) != frozenset(GIVEN):
            missing.append(f"{of.copy} does not have these rights, and no others")
        if told.st_uid != 0 or stat.S_IMODE(told.st_mode) != 0o750:
            missing.append(f"{of.copy} can be changed or run by others than root and its group")
        if of.interpreter.exists() and not _same(of.copy, of.interpreter):
            missing.append(f"{of.copy} is not {of.interpreter} as it is now")
    if not of.is_set_up:
        missing.append(f"{of.script} is not run by it")
    return SetupState(group, tuple(missing))


def _same(copy: Path, interpreter: Path) -> bool:
    """Whether the copy still is one; what may not be read is taken for it."""
    try:
        return filecmp.cmp(copy, interpreter, shallow=False)
    except OSError:
        return copy.stat().st_size == interpreter.stat().st_size


def _group_name(number: int) -> str:
    import grp

    try:
        return grp.getgrgid(number).gr_name
    except KeyError:
        return str(number)


def chosen_group(name: str | None) -> tuple[int, str] | None:
    """The group that may run the copy: the one named, or that of whoever called sudo.

    None for root, who needs none and named none. Raises BadInput.
    """
    import grp

    if name is not None:
        try:
            found = grp.getgrnam(name)
        except (KeyError, ValueError):
            raise BadInput(f"--group {printable(name, 40)}: there is no such group here") from None
        return found.gr_gid, found.gr_name
    person = caller()
    number = person[1] if person is not None else os.getgid()
    return (number, _group_name(number)) if number else None


def line_as_root(of: Installed, *words: str) -> str:
    """The line that does it, for who is not root."""
    return f"sudo {shlex.join([str(of.script), 'setup', *words])}"


def set_up(of: Installed, group: int) -> None:
    """Make the copy, give it the rights, and have the script run by it. Raises NotPossibleHere."""
    if ignores_rights(of.script.parent):
        raise NotPossibleHere(
            f"{of.script.parent}: programs there run without rights of their own (it is mounted "
            "nosuid)",
            "install this program elsewhere",
        )
    if b" " in of.first or len(os.fsencode(of.copy)) > _LONGEST_FIRST_LINE:
        shown = printable(os.fsdecode(of.first), 80)
        raise NotPossibleHere(
            f"{of.script}: begins with {shown}: its interpreter cannot be changed there for a copy"
        )
    person = caller()

    def works(copy: Path) -> bool:
        return runs(copy, "portcall.cli.main", person and (person[0], group))

    try:
        good = copy_with_rights(of.interpreter, of.copy, group, GIVEN, works)
    except OSError as error:
        raise _refused(of.copy, error) from None
    if not good:
        raise NotPossibleHere(
            f"{of.interpreter}: a copy of it does not run this program", "nothing is changed"
        )
    _rewrite(of, b"#!" + os.fsencode(of.copy) + b"\n" + _BEFORE + of.first + b"\n" + of.rest)


_LONGEST_FIRST_LINE = 120
"""Octets; the kernel reads 127 in all (execve(2), older kernels)."""


def undo(of: Installed) -> bool:
    """Put everything back; whether there was something. Raises NotPossibleHere."""
    was_there = of.copy.exists()
    if of.is_set_up:
        _rewrite(of, of.first + b"\n" + of.rest)
    if was_there:
        try:
            of.copy.unlink()
        except OSError as error:
            raise _refused(of.copy, error) from None
    return of.is_set_up or was_there


def _rewrite(of: Installed, data: bytes) -> None:
    """Replace the script in one step; its owner and its mode stay."""
    try:
        before = of.script.stat()
        write_whole(of.script, data)
        after = of.script.stat()
        if (after.st_uid, after.st_gid) != (before.st_uid, before.st_gid):
            os.chown(of.script, before.st_uid, before.st_gid)
    except OSError as error:
        raise _refused(of.script, error) from None


def _refused(file: Path, error: OSError) -> NotPossibleHere:
    return NotPossibleHere(f"{file}: cannot be set up: {error.strerror}")
