"""What a list of found devices comes to: what is wrong, where they are, and what to do next.

Each thing is said once, for all the devices that it is about. What is true of one device alone is
said in ``remarks``.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.address import SELF_ASSIGNED, AddressRange, Mac, assumed_network
from portcall.core.counted import counted, named
from portcall.core.find.device import Device, is_one_device
from portcall.core.find.remarks import unrecognised_codes
from portcall.core.find.sighting import Field
from portcall.core.plan.near import MOST_NEAR, NearMiss, NearMisses
from portcall.core.plan.rows import NO_PLAN, Plan, PlannedDevice, Subnet

_MOST_NAMED = 8
"""Devices that one line names: a longer one is not read."""


class Scene:
    """What found devices are seen against, looked up quickly: there may be ten thousands of them.

    ``own`` are the addresses of the adapter they were found on, None when it is not in this
    computer; ``present`` is every MAC that was found, and ``crowd`` the rows of the plan that too
    many of these nearly are. ``asked`` are the addresses that were asked one by one who has them.
    """

    def __init__(
        self,
        devices: Sequence[Device],
        own: Sequence[IPv4Interface] | None = (),
        plan: Plan = NO_PLAN,
        subnets: Sequence[Subnet] = (),
        asked: Sequence[AddressRange] = (),
    ) -> None:
        self.devices = devices
        self._asked = asked
        self.own = own
        self.plan = plan
        self.present = {device.mac for device in devices if device.mac is not None}
        self._near = NearMisses(plan)
        self.crowd = self._near.crowd(self.present)
        self._by_mac = {row.mac: row for row in plan if row.mac is not None}
        self._by_address = {row.address: row for row in plan}
        known = [each.network for each in own or ()]
        known += [subnet.network for subnet in subnets]
        known += [row.interface.network for row in plan if not row.mask_assumed]
        self._networks = tuple(dict.fromkeys(known))

    def row_of(self, device: Device) -> PlannedDevice | None:
        """The row of the plan with a device's MAC."""
        return self._by_mac.get(device.mac) if device.mac is not None else None

    def asked_for(self, address: IPv4Address) -> bool:
        """Whether it was asked who has an address."""
        return any(address in span for span in self._asked)

    def row_at(self, address: IPv4Address) -> PlannedDevice | None:
        """The row of the plan with an address."""
        return self._by_address.get(address)

    def near(self, device: Device) -> list[NearMiss]:
        """The rows that a device nearly is, where it is not one of a batch."""
        if device.mac is None or not self.plan.devices:
            return []
        found = self._near.of(device.mac, self.present)
        return [miss for miss in found if miss.row.name not in self.crowd][:MOST_NEAR]

    def called(self, device: Device) -> str:
        """Its MAC, with the name of its row where it has one."""
        return "" if device.mac is None else self.called_mac(device.mac)

    def called_mac(self, mac: Mac) -> str:
        """A MAC, with the name of its row where it has one."""
        row = self._by_mac.get(mac)
        return f"{mac} ({row.name})" if row else str(mac)

    def network_of(self, address: IPv4Address) -> tuple[IPv4Network, bool]:
        """The subnet of an address, and whether its mask is an assumption."""
        network = next((each for each in self._networks if address in each), None)
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
                    f"{scene.called(device)} has it, too"
                )


def _shared(scene: Scene) -> Iterator[str]:
    sharing: dict[IPv4Address, list[Device]] = {}
    for device in scene.devices:
        if device.rivals and not device.answers_for_others:
            for address in device.addresses:
                sharing.setdefault(address, []).append(device)
    for address, devices in sharing.items():
        if len(devices) < 2 or is_one_device(devices):
            continue
        who = " and ".join(scene.called(device) for device in devices)
        either = dict.fromkeys(value for each in devices for value in each.values(Field.EITHER))
        says = f"; one of them says: {', '.join(either)}" if either else ""
        yield f"{address} is the address of {len(devices)} devices: {who}{says}"


def _in_anothers_place(scene: Scene) -> Iterator[str]:
    for device in scene.devices:
        if device.mac is None or device.answers_for_others or device.rivals:
            continue
        for address in device.addresses:
            row = scene.row_at(address)
            if row is None or row.mac in (None, device.mac):
                continue
            planned = scene.row_of(device)
            near = next((miss for miss in scene.near(device) if miss.row is row), None)
            why = f"; it is {planned.name}, planned at {planned.address}" if planned else ""
            if near is not None:
                why = f"; its MAC {near.how} the planned one: check the label"
            yield f"{address} is planned for {row.name} ({row.mac}), and {device.mac} has it{why}"


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
    asking = [d for d in scene.devices if d.asks and not d.addresses and d.mac is not None]
    near = {device.mac: miss for device in scene.devices for miss in scene.near(device)}
    planned = [row for device in asking if (row := scene.row_of(device))]
    unknown = [d for d in asking if scene.row_of(d) is None and d.mac not in near]
    return (
        *_asking(planned, scene),
        *_label_checks(near),
        *_unknown_asking(unknown),
        *_elsewhere(scene),
        *_unheard(scene, {miss.row.name for miss in near.values()}),
        *_to_name(scene),
        *_not_planned(scene, near.keys()),
        *_subnets_to_match(scene),
    )


def _asking(rows: Sequence[PlannedDevice], scene: Scene) -> Iterator[NextStep]:
    if rows:
        inside = all(any(row.address in own.network for own in scene.own or ()) for row in rows)
        names = " ".join(row.name for row in rows)
        who = counted(len(rows), "planned device asks", "planned devices ask")
        match = "" if inside else " --match"
        yield NextStep(f"{who} for an address", f"portcall assign {names}{match} --keep")


def _label_checks(near: Mapping[Mac | None, NearMiss]) -> Iterator[NextStep]:
    for mac, miss in near.items():
        yield NextStep(f"check the label of {miss.row.name}: {mac} is here, and {miss}")


def _unknown_asking(devices: Sequence[Device]) -> Iterator[NextStep]:
    if devices:
        who = counted(
            len(devices),
            "device that is not in the plan asks",
            "devices that are not in the plan ask",
        )
        yield NextStep(
            f"{who} for an address; with the one you choose",
            f"portcall assign {devices[0].mac}=ADDRESS --keep",
        )


def _elsewhere(scene: Scene) -> Iterator[NextStep]:
    """Planned devices that have another address, or none and do not ask."""
    movable: list[str] = []
    doubtful: list[str] = []
    for device in scene.devices:
        row = scene.row_of(device)
        if row is None or row.address in device.addresses or (device.asks and not device.addresses):
            continue
        asked = not device.addresses or scene.asked_for(row.address)
        (movable if asked else doubtful).append(row.name)
    if movable:
        who = counted(len(movable), "planned device is", "planned devices are")
        yield NextStep(f"{who} not at the planned address", f"portcall move {' '.join(movable)}")
    if doubtful:
        who = counted(len(doubtful), "planned device was", "planned devices were")
        yield NextStep(
            f"{who} heard elsewhere, and not asked for at the planned address",
            f"portcall verify {' '.join(doubtful)}",
        )


def _unheard(scene: Scene, near: Collection[str]) -> Iterator[NextStep]:
    """Planned devices of whom nothing was heard, where they were asked for."""
    rows = [row for row in scene.plan if row.name not in near and scene.asked_for(row.address)]
    heard = {address for device in scene.devices for address in device.addresses}
    missed = [row for row in rows if row.mac not in scene.present and row.address not in heard]
    if missed:
        who = counted(len(missed), "planned device was", "planned devices were")
        shown = named([row.name for row in missed], _MOST_NAMED)
        yield NextStep(f"{who} not heard ({shown}); the first", f"portcall why {missed[0].name}")


def _to_name(scene: Scene) -> Iterator[NextStep]:
    unnamed = [
        device
        for device in scene.devices
        if unrecognised_codes(device) and not device.value(Field.PRODUCT)
    ]
    if unnamed:
        who = counted(len(unnamed), "device says what it is", "devices say what they are")
        yield NextStep(
            f"{who} only in numbers; with a description file of the maker",
            "portcall catalog add FILE",
        )


def _not_planned(scene: Scene, near: Collection[Mac | None]) -> Iterator[NextStep]:
    if not scene.plan.devices:
        return
    others = []
    for device in scene.devices:
        placed = scene.row_of(device) or any(map(scene.row_at, device.addresses))
        asks = device.asks and not device.addresses
        if not placed and not asks and (device.mac is None or device.mac not in near):
            alone = device.addresses and not device.rivals
            others.append(device.addresses[0] if alone else device.mac)
    if others:
        who = counted(len(others), "device is", "devices are")
        yield NextStep(f"{who} not in the plan: {named(others, _MOST_NAMED)}")


def _subnets_to_match(scene: Scene) -> Iterator[NextStep]:
    """Subnets that this computer is not in, and where something is to stay."""
    for each in neighbourhoods(scene):
        if each.network is None or each.here is not False or each.network == SELF_ASSIGNED:
            continue
        stay = [device for device in each.devices if not _leaves(device, scene)]
        if stay:
            yield NextStep(
                f"this computer is not in {each.network}, where "
                f"{counted(len(stay), 'device')} can be found",
                f"portcall match {each.network}",
            )


def _leaves(device: Device, scene: Scene) -> bool:
    row = scene.row_of(device)
    return row is not None and row.address not in device.addresses
