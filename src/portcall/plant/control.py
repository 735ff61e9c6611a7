"""Talking to the plant from a command inside it: an abstract Unix socket (unix(7)).

Such a socket belongs to the workstation's network namespace and vanishes with it: no file is left,
and no command outside can reach it. A request is one line of JSON, and so is its answer; the
answer to ``door`` brings the descriptor of the device's namespace along.
"""

from __future__ import annotations

import json
import os
import socket
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, NoReturn

from portcall.core.finding import Line
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.host.linux import namespaces

SOCKET = "\0portcall-practice-plant"
LONGEST = 65536
_ANSWER_WAIT = 150.0
"""Seconds; a power cycle takes as long as the device takes to restart."""


@dataclass(frozen=True, slots=True)
class Fault:
    """A fault that is in force; ``how`` is what was typed behind it."""

    on: str
    kind: str
    how: str = ""

    def __str__(self) -> str:
        return f"{self.on} {self.kind} {self.how}".strip()


@dataclass(frozen=True, slots=True)
class DeviceState:
    """A device as ``plant list`` shows it."""

    name: str
    kind: str
    mac: str
    address: str | None
    plugged: bool
    state: str


def _ask(
    command: str,
    name: str | None,
    receive: Callable[[socket.socket], tuple[bytes, list[int]]],
    **more: str | None,
) -> tuple[Any, list[int]]:
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as sock:
        sock.settimeout(_ANSWER_WAIT)
        try:
            sock.connect(SOCKET)
            request = {"command": command, "name": name, **more}
            sock.sendall(json.dumps(request).encode())
            data, descriptors = receive(sock)
        except (ConnectionRefusedError, FileNotFoundError):
            raise NotPossibleHere(
                "this is not inside a practice plant; start one", Line("plant shell")
            ) from None
    if not data:
        raise NotPossibleHere("the practice plant gave no answer: it could not do that")
    answer = json.loads(data)
    if "trouble" in answer:
        raise BadInput(answer["trouble"])
    return answer["answer"], descriptors


def _receive_all(sock: socket.socket) -> tuple[bytes, list[int]]:
    pieces = []
    while piece := sock.recv(LONGEST):
        pieces.append(piece)
    return b"".join(pieces), []


def device_states() -> list[DeviceState]:
    """Every device of the plant this process is in. Raises NotPossibleHere outside one."""
    answer, _ = _ask("list", None, _receive_all)
    return [DeviceState(**entry) for entry in answer]


def set_plug(name: str, plugged: bool, wire: str | None = None) -> None:
    """Plug or unplug a device or one of the workstation's adapters. Raises BadInput."""
    _ask("plug" if plugged else "unplug", name, _receive_all, wire=wire)


def make_fault(on: str, kind: str, how: str) -> None:
    """Break something. Raises BadInput."""
    _ask("fault", on, _receive_all, kind=kind, how=how)


def mend(on: str | None, kind: str | None) -> list[Fault]:
    """Put right what is broken, all of it or some; gives what was. Raises BadInput."""
    answer, _ = _ask("mend", on, _receive_all, kind=kind)
    return [Fault(**entry) for entry in answer]


def faults() -> list[Fault]:
    """The faults in force. Raises NotPossibleHere outside a plant."""
    answer, _ = _ask("faults", None, _receive_all)
    return [Fault(**entry) for entry in answer]


def power_cycle(name: str) -> DeviceState:
    """Power a device off and on; gives how it stands when it has started. Raises BadInput."""
    answer, _ = _ask("power-cycle", name, _receive_all)
    return DeviceState(**answer)


def door(name: str) -> int:
    """A descriptor of a device's network namespace. Raises BadInput."""

    def receive(sock: socket.socket) -> tuple[bytes, list[int]]:
        data, descriptors, _, _ = socket.recv_fds(sock, LONGEST, 1)
        return data, list(descriptors)

    _, descriptors = _ask("door", name, receive)
    os.set_inheritable(descriptors[0], False)
    return descriptors[0]


def become(name: str, program: Sequence[str]) -> NoReturn:
    """Go on as another program, on a device. Raises BadInput, NotPossibleHere."""
    namespaces.enter(door(name))
    try:
        os.execvp(program[0], list(program))
    except OSError as error:
        raise NotPossibleHere(f"{program[0]}: cannot be run: {error.strerror}") from None
