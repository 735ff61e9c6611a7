"""The plant's end of ``control``: what commands inside it ask for is done and answered."""

from __future__ import annotations

import asyncio
import json
import socket
from dataclasses import asdict
from typing import Any

from portcall.core.trouble import Trouble
from portcall.plant.control import LONGEST, SOCKET, DeviceState
from portcall.plant.faults import Faults
from portcall.plant.wiring import Wiring


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
                request = json.loads(await loop.sock_recv(connection, LONGEST))
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
    sock.bind(SOCKET)
    sock.listen()
    sock.setblocking(False)
    return sock
