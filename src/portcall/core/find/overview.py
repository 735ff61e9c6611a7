"""What a list of found devices comes to: what is wrong, where they are, and what to do next.

Each thing is said once, for all the devices that it is about. What is true of one device alone is
said in ``remarks``.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.address import SELF_ASSIGNED, Mac, assumed_network
from portcall.core.find.device import Device
from portcall.core.find.remarks import unrecognised_codes
from portcall.core.find.sighting import Field
from portcall.core.plan.near import MOST_NEAR, NearMiss, near_misses
from portcall.core.plan.rows import Plan, PlannedDevice, Subnet

_MOST_NAMED = 8
"""Devices that one line names: a longer one is not read."""


@dataclass(frozen=True, slots=True)
class Scene:
    """What found devices are seen against.

    ``own`` are the addresses of the adapter they were found on, None when it is not in this
    computer; ``crowd`` the rows of the plan that too many MACs nearly are.
    """

    devices: Sequence[Device]
    own: Sequence[IPv4Interface] | None = ()
    plan: Plan = field(default_factory=Plan)
    subnets: Sequence[Subnet] = ()
    crowd: frozenset[str] = frozenset()

    @property
    def present(self) -> set[Mac]:
        """Every MAC that was found."""
        return {device.mac for device in self.devices if device.mac is not None}

    def network_of(self, address: IPv4Address) -> tuple[IPv4Network, bool]:
        """The subnet of an address, and whether its mask is an assumption."""
        known = [own.network for own in self.own or ()]
        known += [subnet.network for subnet in self.subnets]
        known += [row.interface.network for row in self.plan if not row.mask_assumed]
        network = next((each for each in known if address in each), None)
        if network is not None:
            return network, False
        return assumed_network(address), address not in SELF_ASSIGNED


@dataclass(frozen=True, slots=True)
class Neighbourhood:
    """The devices of one subnet, or those without an IPv4 address, whose ``network`` is None.

    ``here`` tells whether this computer is in it; None when that is not known.
    """

    network: IPv4Network | None
    assumed: bool
    here: bool | None
    devices: tuple[Device, ...]


@dataclass(frozen=True, slots=True)
class NextStep:
    """What to do, and the line to type for it where there is one."""

    what: str
    line: str | None = None

    def __str__(self) -> str:
        return f"{self.what}: {self.line}" if self.line else self.what


def neighbourhoods(scene: Scene) -> tuple[Neighbourhood, ...]:
    """The devices by subnet: this computer's own first, those without an address last."""
    by: dict[IPv4Network | None, list[Device]] = {}
    assumed: dict[IPv4Network, bool] = {}
    for device in scene.devices:
        if not device.addresses:
            by.setdefault(None, []).append(device)
            continue
        network, guessed = scene.network_of(device.addresses[0])
        assumed[network] = guessed
        by.setdefault(network, []).append(device)
    own = [each.network for each in scene.own or ()]

    def place(network: IPv4Network | None) -> tuple[bool, bool, int]:
        first = int(network.network_address) if network else 0
        return network is None, network not in own, first

    return tuple(
        Neighbourhood(
            network,
            network is not None and assumed[network],
            None if scene.own is None or network is None else network in own,
            tuple(by[network]),
        )
        for network in sorted(by, key=place)
    )


def faults(scene: Scene) -> tuple[str, ...]:
    """What is wrong on this wire, a sentence each."""
    return (
        *_own_taken(scene),
        *_shared(scene),
        *_in_anothers_place(scene),
        *_other_masks(scene),
        *_servers(scene),
    )


def _own_taken(scene: Scene) -> Iterator[str]:
    """Another MAC at this computer's address; without a MAC it may be this computer that spoke."""
    for own in scene.own or ():
        for device in scene.devices:
            is_other = device.mac is not None and not device.answers_for_others
            if is_other and own.ip in device.addresses:
                yield (
                    f"{own.ip} is this computer's own address, and "
                    f"{_called(device, scene.plan)} has it, too"
                )


def _called(device: Device, plan: Plan) -> str:
    row = plan.by_mac(device.mac) if device.mac else None
    return f"{device.mac} ({row.name})" if row else str(device.mac)


def _shared(scene: Scene) -> Iterator[str]:
    sharing: dict[IPv4Address, list[Device]] = {}
    for device in scene.devices:
        if device.rivals and not device.answers_for_others:
            for address in device.addresses:
                sharing.setdefault(address, []).append(device)
    for address, devices in sharing.items():
        if len(devices) < 2:
            continue
        who = " and ".join(_called(device, scene.plan) for device in devices)
        either = dict.fromkeys(value for each in devices for value in each.values(Field.EITHER))
        says = f"; one of them says: {', '.join(either)}" if either else ""
        yield f"{address} is the address of {len(devices)} devices: {who}{says}"


def _in_anothers_place(scene: Scene) -> Iterator[str]:
    for device in scene.devices:
        planned = device.mac and scene.plan.by_mac(device.mac)
        if device.mac is None or device.answers_for_others or device.rivals:
            continue
        for address in device.addresses:
            row = scene.plan.by_address(address)
            if row and row.mac and row.mac != device.mac:
                itself = f" it is {planned.name}, planned at {planned.address}" if planned else ""
                near = near_misses(device.mac, (row,), scene.present)
                how = f" its MAC {near[0].how} the planned one: check the label" if near else ""
                yield (
                    f"{address} is planned for {row.name} ({row.mac}), and {device.mac} has it"
                    f"{';' if itself or how else ''}{itself or how}"
                )


def _other_masks(scene: Scene) -> Iterator[str]:
    """A mask that differs from that of the subnet: some hosts reach the device, others do not."""
    for device in scene.devices:
        mask = device.value(Field.MASK)
        for address in device.addresses[:1] if mask else ():
            network, guessed = scene.network_of(address)
            if not guessed and mask != str(network.netmask):
                name = device.value(Field.NAME)
                yield (
                    f"{address}{f' ({name})' if name else ''} has the mask {mask}; "
                    f"that of {network} is {network.netmask}"
                )


def _servers(scene: Scene) -> Iterator[str]:
    for device in scene.devices:
        if device.value(Field.SERVES):
            at = device.addresses[0] if device.addresses else "no known address"
            who = f"{at} ({device.mac})" if device.mac else str(at)
            yield f"a DHCP server is on this wire: {who} gives addresses to devices"


def next_steps(scene: Scene) -> tuple[NextStep, ...]:
    """What to do next, a line each for all the devices that it serves."""
    plan = scene.plan
    rows = {row.mac: row for row in plan if row.mac is not None}
    asking = [d for d in scene.devices if d.asks and not d.addresses and d.mac is not None]
    near = {
        device.mac: miss for device in scene.devices for miss in _near(device, scene) if device.mac
    }
    return (
        *_asking([rows[d.mac] for d in asking if d.mac in rows], scene),
        *_label_checks(near),
        *_unknown_asking([d for d in asking if d.mac not in rows and d.mac not in near]),
        *_elsewhere(scene, rows),
        *_to_name(scene),
        *_not_planned(scene, set(near)),
        *_subnets_to_match(scene, rows),
    )


def _near(device: Device, scene: Scene) -> list[NearMiss]:
    if device.mac is None:
        return []
    found = near_misses(device.mac, scene.plan, scene.present)
    return [miss for miss in found if miss.row.name not in scene.crowd][:MOST_NEAR]


def _asking(rows: Sequence[PlannedDevice], scene: Scene) -> Iterator[NextStep]:
    if rows:
        inside = all(any(row.address in own.network for own in scene.own or ()) for row in rows)
        names = _listed([row.name for row in rows])
        who = "1 planned device asks" if len(rows) == 1 else f"{len(rows)} planned devices ask"
        match = "" if inside else " --match"
        yield NextStep(f"{who} for an address", f"portcall assign {names}{match} --keep")


def _label_checks(near: dict[Mac, NearMiss]) -> Iterator[NextStep]:
    for mac, miss in near.items():
        yield NextStep(f"check the label of {miss.row.name}: {mac} is here, and {miss}")


def _unknown_asking(devices: Sequence[Device]) -> Iterator[NextStep]:
    if devices:
        who = "1 device that is" if len(devices) == 1 else f"{len(devices)} devices that are"
        asks = "asks" if len(devices) == 1 else "ask"
        yield NextStep(
            f"{who} not in the plan {asks} for an address; with the one you choose",
            f"portcall assign {devices[0].mac}=ADDRESS --keep",
        )


def _elsewhere(scene: Scene, rows: dict[Mac, PlannedDevice]) -> Iterator[NextStep]:
    """Planned devices that have another address, or none and do not ask."""
    movable: list[str] = []
    shared: list[str] = []
    for device in scene.devices:
        row = rows.get(device.mac) if device.mac else None
        if row is None or row.address in device.addresses or (device.asks and not device.addresses):
            continue
        (shared if device.rivals else movable).append(row.name)
    if movable:
        who = "1 planned device is" if len(movable) == 1 else f"{len(movable)} planned devices are"
        yield NextStep(f"{who} not at the planned address", f"portcall move {_listed(movable)}")
    for name in shared:
        yield NextStep(
            f"unplug the other device that has the address of {name}",
            f"portcall move {name}",
        )


def _to_name(scene: Scene) -> Iterator[NextStep]:
    codes = [
        device
        for device in scene.devices
        if unrecognised_codes(device) and not device.value(Field.PRODUCT)
    ]
    if codes:
        who = "1 device says" if len(codes) == 1 else f"{len(codes)} devices say"
        yield NextStep(
            f"{who} what it is only in numbers; with a description file of the maker"
            if len(codes) == 1
            else f"{who} what they are only in numbers; with a description file of the maker",
            "portcall catalog add FILE",
        )


def _not_planned(scene: Scene, near: set[Mac]) -> Iterator[NextStep]:
    if not scene.plan.devices:
        return
    others = []
    for device in scene.devices:
        known = device.mac is not None and scene.plan.by_mac(device.mac) is not None
        placed = any(scene.plan.by_address(address) for address in device.addresses)
        asks = device.asks and not device.addresses
        if not known and not placed and not asks and device.mac not in near:
            alone = device.addresses and not device.rivals
            others.append(str(device.addresses[0]) if alone else str(device.mac))
    if others:
        who = "1 device is" if len(others) == 1 else f"{len(others)} devices are"
        more = f" and {len(others) - _MOST_NAMED} more" if len(others) > _MOST_NAMED else ""
        named = ", ".join(others[:_MOST_NAMED])
        yield NextStep(f"{who} not in the plan: {named}{more}")


def _subnets_to_match(scene: Scene, rows: dict[Mac, PlannedDevice]) -> Iterator[NextStep]:
    """Subnets that this computer is not in, and where something is to stay."""
    for each in neighbourhoods(scene):
        if each.network is None or each.here is not False or each.network == SELF_ASSIGNED:
            continue
        stay = [d for d in each.devices if not _leaves(d, rows)]
        if stay:
            count = "1 device" if len(stay) == 1 else f"{len(stay)} devices"
            yield NextStep(
                f"this computer is not in {each.network}, where {count} can be found",
                f"portcall match {each.network}",
            )


def _leaves(device: Device, rows: dict[Mac, PlannedDevice]) -> bool:
    row = rows.get(device.mac) if device.mac else None
    return row is not None and row.address not in device.addresses


def _listed(names: Iterable[str]) -> str:
    return " ".join(names)
