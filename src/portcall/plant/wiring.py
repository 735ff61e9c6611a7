"""Switches, cables and namespaces of a practice plant, and who is plugged in."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.address import Mac
from portcall.core.finding import Line, Name
from portcall.core.talk.pacer import Pacer
from portcall.core.trouble import BadInput
from portcall.host.linux import cables
from portcall.host.linux.namespaces import NetworkNamespace, quiet_kernel
from portcall.host.runner import Runner
from portcall.plant.device import ADAPTER, SimulatedDevice, leg_name
from portcall.plant.rough_cable import RoughCable, Roughness
from portcall.plant.scenario import Scenario

_DEVICE_PACE = 1e6
"""Packets a second: devices are not paced, only the tool is."""


class Wiring:
    """Everything of a plant that lives in the kernel; built by ``build``."""

    def __init__(self, scenario: Scenario) -> None:
        self.workstation = NetworkNamespace()
        self.devices: dict[str, SimulatedDevice] = {}
        self._switches = NetworkNamespace()
        self._ports: dict[str, str] = {}
        self._wires: dict[str, str] = {}
        self._intruders: dict[str, NetworkNamespace] = {}
        self._unplugged: set[str] = set()
        self._rough: set[str] = set()
        self._runner = Runner(Pacer(_DEVICE_PACE, burst=1000))
        self._scenario = scenario

    async def build(self) -> None:
        """Make the wires, connect the workstation, power the devices up."""
        scenario = self._scenario
        self._switches.call(quiet_kernel)
        self.workstation.call(quiet_kernel)
        self.workstation.call(partial(cables.set_link, "lo", up=True))
        for wire in scenario.wires:
            self._switches.call(partial(cables.make_switch, self._switch(wire)))
        for adapter in scenario.adapters:
            self._connect(adapter.name, adapter.wire, self.workstation, adapter.name, adapter.mac)
            self.workstation.call(partial(cables.set_link, adapter.name, up=True))
            if adapter.address is not None:
                self.workstation.call(
                    partial(cables.set_address, adapter.name, adapter.address, adapter.gateway)
                )
        for entry in scenario.devices:
            namespace = NetworkNamespace()
            namespace.call(quiet_kernel)
            self._connect(entry.name, entry.wire, namespace, ADAPTER, entry.mac)
            for number, leg in enumerate(entry.legs, 1):
                name = f"{entry.name} {number}"
                self._connect(name, leg.wire, namespace, leg_name(number), leg.mac)
            self.devices[entry.name] = SimulatedDevice(entry, namespace, self._runner)
        for device in self.devices.values():
            await device.power_up()

    def _switch(self, wire: str) -> str:
        return f"switch{self._scenario.wires.index(wire)}"

    def _connect(
        self, name: str, wire: str, namespace: NetworkNamespace, adapter: str, mac: Mac
    ) -> None:
        port = f"port{len(self._ports)}"
        switch, far = self._switch(wire), namespace.descriptor
        self._switches.call(partial(cables.make_cable, switch, port, far, adapter, mac))
        self._ports[name] = port
        self._wires[name] = wire

    @property
    def adapters(self) -> tuple[str, ...]:
        """The workstation's adapters."""
        return tuple(adapter.name for adapter in self._scenario.adapters)

    @property
    def plant_adapter(self) -> str:
        """The workstation's adapter on the wire with the most devices."""
        wires = [device.wire for device in self._scenario.devices]
        return max(self.adapters, key=lambda name: wires.count(self._wires[name]))

    def unknown(self, name: str) -> BadInput:
        """The complaint about a name that nothing here has."""
        return BadInput(f"{name}: nothing here is called that; there are {', '.join(self._ports)}")

    def plugged(self, name: str) -> bool:
        """Whether the cable of a device or adapter is in."""
        return name not in self._unplugged

    def set_plug(self, name: str, plugged: bool, wire: str | None = None) -> None:
        """Put a cable in, also into another wire, or pull it, at the switch. Raises BadInput."""
        port = self._ports.get(name)
        if port is None:
            raise self.unknown(name)
        if wire is not None:
            if wire not in self._scenario.wires:
                wires = ", ".join(self._scenario.wires)
                raise BadInput(f"{wire}: no wire is called that", f"there are {wires}")
            self._switches.call(partial(cables.move_port, port, self._switch(wire)))
            self._wires[name] = wire
        self._switches.call(partial(cables.set_link, port, up=plugged))
        (self._unplugged.discard if plugged else self._unplugged.add)(name)

    # Parts that faults are made of; each returns the way to undo it.

    def roughen(self, name: str, roughness: Roughness) -> Callable[[], None]:
        """Put a rough cable between a device or adapter and its switch."""
        port = self._ports[name]
        if port in self._rough:
            raise BadInput(f"{name} has a rough cable already", Line("plant mend", Name(name)))
        self._rough.add(port)
        switch = self._switch(self._wires[name])
        patch, end = f"{port}p", f"{port}e"

        def make() -> RoughCable:
            cables.free_port(port)
            cables.make_patch(switch, patch, end)
            return RoughCable(port, end, roughness)

        cable = self._switches.call(make)
        cable.start()

        def undo() -> None:
            self._rough.discard(port)
            cable.close()
            self._switches.call(partial(cables.remove, patch))
            self._switches.call(partial(cables.move_port, port, switch))

        return undo

    def intrude(self, wire_of: str, mac: Mac, interface: IPv4Interface) -> Callable[[], None]:
        """Plug a device that is not in the scenario into the wire that somebody is on."""
        name = f"intruder {mac}"
        namespace = self._intruders[name] = NetworkNamespace()
        namespace.call(quiet_kernel)
        self._connect(name, self._wires[wire_of], namespace, ADAPTER, mac)
        namespace.call(partial(cables.set_link, ADAPTER, up=True))
        namespace.call(partial(cables.set_address, ADAPTER, interface, None))

        def undo() -> None:
            self._switches.call(partial(cables.remove, self._ports.pop(name)))
            self._intruders.pop(name).close()

        return undo

    def add_leg(
        self,
        router: SimulatedDevice,
        wire_of: str,
        mac: Mac,
        own: IPv4Interface,
        goal: IPv4Address,
        gateway: IPv4Address,
    ) -> Callable[[], None]:
        """Put a router on one wire more, and have it send there what is for an address."""
        name, adapter = f"{router.entry.name} {mac}", leg_name(9)
        namespace = router.namespace
        self._connect(name, self._wires[wire_of], namespace, adapter, mac)
        namespace.call(partial(cables.set_link, adapter, up=True))
        namespace.call(partial(cables.set_address, adapter, own, None))
        namespace.call(partial(cables.add_route, IPv4Network(goal), gateway))

        def undo() -> None:
            self._switches.call(partial(cables.remove, self._ports.pop(name)))

        return undo
