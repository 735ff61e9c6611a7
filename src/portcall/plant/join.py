"""Joining a running practice plant from another terminal.

The process that brought a plant up writes down which one holds it, in a folder of the person's own;
whoever joins enters the namespaces of the command that runs on the plant's workstation.
"""

from __future__ import annotations

import json
import os
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from portcall.core.finding import Line
from portcall.core.printable import printable
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.host.linux import namespaces


@dataclass(frozen=True, slots=True)
class Running:
    """A plant that is up: the process that holds it, and what it is called."""

    process: int
    name: str

    def __str__(self) -> str:
        return f"{self.process} ({self.name})"


def _folder() -> Path:
    base = os.environ.get("XDG_RUNTIME_DIR")
    if base and Path(base).is_dir():
        return Path(base, "portcall-plants")
    return Path(tempfile.gettempdir(), f"portcall-plants-{os.getuid()}")


@contextmanager
def written_down(folder: Path | None, process: int, name: str) -> Iterator[None]:
    """Let others find a plant while the block runs; where that cannot be written, they do not."""
    path = folder / f"{process}.json" if folder is not None else None
    if path is not None:
        with suppress(OSError):
            path.write_text(json.dumps({"process": process, "name": name}), encoding="utf-8")
    try:
        yield
    finally:
        if path is not None:
            with suppress(OSError):
                path.unlink()


def place_to_write() -> Path | None:
    """The folder of running plants, this person's own; None when it cannot be had."""
    folder = _folder()
    with suppress(OSError):
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        state = folder.stat(follow_symlinks=False)
        if state.st_uid == os.getuid() and not state.st_mode & 0o022:
            return folder
    return None


def running_plants() -> list[Running]:
    """The plants that this person has up."""
    found = []
    folder = place_to_write()
    for path in sorted(folder.glob("*.json")) if folder else ():
        try:
            written = json.loads(path.read_text(encoding="utf-8"))
            plant = Running(int(written["process"]), printable(str(written["name"]), 80))
        except (OSError, ValueError, KeyError, TypeError):
            continue
        if _command_of(plant) is not None:
            found.append(plant)
        elif not Path(f"/proc/{plant.process}").exists():
            with suppress(OSError):
                path.unlink()  # The process was killed, and could not remove it itself.
    return found


def _command_of(plant: Running) -> int | None:
    """The process of the command that runs on a plant's workstation."""
    for task in Path(f"/proc/{plant.process}/task").glob("*/children"):
        with suppress(OSError):
            children = task.read_text(encoding="utf-8").split()
            if children:
                return int(children[0])
    return None


def plant_to_join(process: int | None) -> Running:
    """The plant that was named, or the only one. Raises BadInput, NotPossibleHere."""
    plants = running_plants()
    if process is not None:
        named = next((each for each in plants if each.process == process), None)
        if named is None:
            listed = ", ".join(map(str, plants)) or "none"
            raise BadInput(
                f"{process}: is no practice plant of yours that is up", f"up are: {listed}"
            )
        return named
    if not plants:
        raise NotPossibleHere("no practice plant is up; bring one up", Line("plant shell"))
    if len(plants) > 1:
        raise BadInput(
            f"several plants are up, name one by its number: {', '.join(map(str, plants))}"
        )
    return plants[0]


_KINDS = (
    # Into the user namespace first: it gives the right to enter the others.
    ("user", namespaces.CLONE_NEWUSER),
    ("mnt", namespaces.CLONE_NEWNS),
    ("pid", namespaces.CLONE_NEWPID),
    ("net", namespaces.CLONE_NEWNET),
)


def join(plant: Running, command: Sequence[str]) -> int:
    """Run a command on a plant's workstation, in its practice site; gives its exit code.

    Raises NotPossibleHere.
    """
    there = _command_of(plant)
    if there is None:
        raise NotPossibleHere(f"the plant {plant} is ending")
    try:
        environment = _environment_of(there)
        opened = [
            (os.open(f"/proc/{there}/ns/{name}", os.O_RDONLY), kind)
            for name, kind in _KINDS
            if os.readlink(f"/proc/{there}/ns/{name}") != os.readlink(f"/proc/self/ns/{name}")
        ]
        for descriptor, kind in opened:
            namespaces.enter(descriptor, kind)
    except OSError as error:
        raise NotPossibleHere(
            f"the plant {plant} cannot be entered: {error.strerror}",
            "join it as the person who brought it up, with sudo if that was with sudo",
        ) from None
    child = os.fork()  # A process namespace is that of the children of who entered it.
    if child == 0:
        with suppress(OSError):
            os.chdir(environment.get("PRACTICE_SITE", "/"))
        try:
            os.execvpe(command[0], list(command), environment)
        except OSError as error:
            os.write(2, f"{command[0]}: cannot be run: {error.strerror}\n".encode())
            os._exit(127)
    while True:
        try:
            _, status = os.waitpid(child, 0)
            break
        except KeyboardInterrupt:
            continue  # The signal is for the command, which has received it as well.
    code = os.waitstatus_to_exitcode(status)
    return 128 - code if code < 0 else code  # 128 and the signal's number, as a shell reports it.


def _environment_of(process: int) -> dict[str, str]:
    raw = Path(f"/proc/{process}/environ").read_bytes().split(b"\0")
    pairs = (entry.partition(b"=") for entry in raw if b"=" in entry)
    environment = {os.fsdecode(name): os.fsdecode(value) for name, _, value in pairs}
    # The terminal is the one that is joined from.
    return environment | {k: v for k, v in os.environ.items() if k in ("TERM", "COLUMNS", "LINES")}
