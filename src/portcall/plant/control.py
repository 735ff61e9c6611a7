"""Talking to the plant from a command inside it: an abstract Unix socket (unix(7)).

Such a socket belongs to the workstation's network namespace and vanishes with it: no file is left,
and no command outside can reach it. A request is one line of JSON, and so is its answer; the
answer to ``door`` brings the descriptor of the device's namespace along.
"""

from __future__ import annotations

import asyncio
import json
import os
import socket
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from typing import Any, NoReturn

from portcall.core.trouble import BadInput, NotPossibleHere, Trouble
from portcall.host import namespaces
from portcall.plant.faults import Fault, Faults
from portcall.plant.wiring import Wiring

_NAME = "\0portcall-practice-plant"
_LONGEST = 65536
_ANSWER_WAIT = 150.0
"""Seconds; a power cycle takes as long as the device takes to restart."""


@dataclass(frozen=True, slots=True)
class DeviceState:
    """A device as ``plant list`` shows it."""

    name: str
    kind: str
    mac: str
    address: str | None
    plugged: bool
    state: str


class ControlServer:
    """Answers in the plant's process."""

    def __init__(self, wiring: Wiring) -> None:
        self._wiring = wiring
        self.faults = Faults(wiring)
        self._socket = wiring.workstation.call(_listen)
        self._tasks: set[asyncio.Task[None]] = set()

    async def serve(self) -> None:
        """Accept for ever."""
        loop = asyncio.get_running_loop()
        while True:
            connection, _ = await loop.sock_accept(self._socket)
            task = asyncio.ensure_future(self._answer(connection))
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)

    async def _answer(self, connection: socket.socket) -> None:
        loop = asyncio.get_running_loop()
        with connection:
            connection.setblocking(False)
            descriptors: list[int] = []
            try:
                request = json.loads(await loop.sock_recv(connection, _LONGEST))
                done = await self._do(request, descriptors)
                answer: dict[str, Any] = {"answer": done}
            except Trouble as trouble:
                answer = {"trouble": str(trouble)}
            except (ValueError, KeyError, TypeError, OSError):
                return
            data = json.dumps(answer).encode()
            if descriptors:
                socket.send_fds(connection, [data], descriptors)
            else:
                await loop.sock_sendall(connection, data)

    async def _do(self, request: dict[str, Any], descriptors: list[int]) -> Any:
        command, name, kind = (request.get(key) for key in ("command", "name", "kind"))
        wire = request.get("wire")
        if command == "list":
            return [asdict(self._state(each)) for each in self._wiring.devices]
        if command == "faults":
            return [asdict(fault) for fault in self.faults.made]
        if command == "fault":
            return await self.faults.make(str(name), str(kind), str(request["how"]))
        if command == "mend":
            return [asdict(fault) for fault in await self.faults.mend(name, kind)]
        if command in ("plug", "unplug"):
            self._wiring.set_plug(str(name), command == "plug", wire)
            return None
        device = self._wiring.devices.get(str(name))
        if device is None:
            raise self._wiring.unknown(str(name))
        if command == "power-cycle":
            await device.power_cycle()
        elif command == "door":
            descriptors.append(device.namespace.descriptor)
        return asdict(self._state(device.entry.name))

    def _state(self, name: str) -> DeviceState:
        device = self._wiring.devices[name]
        entry = device.entry
        address = str(device.interface) if device.interface else None
        plugged = self._wiring.plugged(name)
        return DeviceState(name, entry.kind, str(entry.mac), address, plugged, device.state)


def _listen() -> socket.socket:
    sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    sock.bind(_NAME)
    sock.listen()
    sock.setblocking(False)
    return sock


def _ask(
    command: str,
    name: str | None,
    receive: Callable[[socket.socket], tuple[bytes, list[int]]],
    **more: str | None,
) -> tuple[Any, list[int]]:
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as sock:
        sock.settimeout(_ANSWER_WAIT)
        try:
            sock.connect(_NAME)
            request = {"command": command, "name": name, **more}
            sock.sendall(json.dumps(request).encode())
            data, descriptors = receive(sock)
        except (ConnectionRefusedError, FileNotFoundError):
            raise NotPossibleHere(
                "this is not inside a practice plant; start one: portcall plant shell"
            ) from None
    answer = json.loads(data)
    if "trouble" in answer:
        raise BadInput(answer["trouble"])
    return answer["answer"], descriptors


def _receive_all(sock: socket.socket) -> tuple[bytes, list[int]]:
    pieces = []
    while piece := sock.recv(_LONGEST):
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
    """What is broken now. Raises NotPossibleHere outside a plant."""
    answer, _ = _ask("faults", None, _receive_all)
    return [Fault(**entry) for entry in answer]


def power_cycle(name: str) -> DeviceState:
    """Power a device off and on; gives how it stands when it has started. Raises BadInput."""
    answer, _ = _ask("power-cycle", name, _receive_all)
    return DeviceState(**answer)


def door(name: str) -> int:
    """A descriptor of a device's network namespace. Raises BadInput."""

    def receive(sock: socket.socket) -> tuple[bytes, list[int]]:
        data, descriptors, _, _ = socket.recv_fds(sock, _LONGEST, 1)
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
