"""Conclusions about a list of found devices: the faults, the subnets, and the next steps.

Each thing is said once, for all the devices that it is about. What is true of one device alone is
said in ``remarks``.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.address import SELF_ASSIGNED, AddressRange, Mac, assumed_network
from portcall.core.find import sentences as say
from portcall.core.find.device import Device, is_one_device
from portcall.core.find.remarks import unrecognised_codes
from portcall.core.find.sighting import Field
from portcall.core.finding import Finding, Line, Name, Setting
from portcall.core.plan.near import MOST_NEAR, NearMiss, NearMisses
from portcall.core.plan.rows import NO_PLAN, Plan, PlannedDevice, Subnet


class Scene:
    """The plan and the adapter that found devices are compared with, looked up quickly.

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


def faults(scene: Scene) -> tuple[Finding, ...]:
    """The faults of this wire."""
    return (
        *_own_taken(scene),
        *_shared(scene),
        *_in_anothers_place(scene),
        *_other_masks(scene),
        *_servers(scene),
    )


def _own_taken(scene: Scene) -> Iterator[Finding]:
    """Another MAC at this computer's address; without a MAC it may be this computer that spoke."""
    for own in scene.own or ():
        for device in scene.devices:
            is_other = device.mac is not None and not device.answers_for_others
            if is_other and own.ip in device.addresses:
                line = Line("match", own.network, "--replace")
                yield say.OWN_TAKEN(line, own=own.ip, holder=scene.called(device))


def _shared(scene: Scene) -> Iterator[Finding]:
    sharing: dict[IPv4Address, list[Device]] = {}
    for device in scene.devices:
        if device.rivals and not device.answers_for_others:
            for address in device.addresses:
                sharing.setdefault(address, []).append(device)
    for address, devices in sharing.items():
        if len(devices) < 2 or is_one_device(devices):
            continue
        either = dict.fromkeys(str(v) for each in devices for v in each.values(Field.EITHER))
        in_reach = any(address in own.network for own in scene.own or ())
        yield say.HELD_BY_SEVERAL(
            Line("why", address) if in_reach else None,
            address=address,
            count=len(devices),
            holders=[scene.called(device) for device in devices],
            says=list(either),
            in_reach=in_reach,
        )


def _in_anothers_place(scene: Scene) -> Iterator[Finding]:
    for device in scene.devices:
        if device.mac is None or device.answers_for_others or device.rivals:
            continue
        for address in device.addresses:
            row = scene.row_at(address)
            if row is None or row.mac in (None, device.mac):
                continue
            planned = scene.row_of(device)
            near = next((miss for miss in scene.near(device) if miss.row is row), None)
            is_other = planned is not None and near is None
            # Whether the plan or the device is wrong is known only where both are in the plan.
            yield say.IN_ANOTHERS_PLACE(
                Line("move", planned.name) if planned and is_other else Line("why", row.name),
                address=address,
                name=row.name,
                planned_mac=row.mac,
                mac=device.mac,
                is_row=planned.name if planned and is_other else None,
                is_planned=planned.address if planned and is_other else None,
                how=near.how if near else None,
            )


def _other_masks(scene: Scene) -> Iterator[Finding]:
    """A mask that differs from that of the subnet: some hosts reach the device, others do not."""
    for device in scene.devices:
        for address in device.addresses[:1] if device.mask else ():
            network, guessed = scene.network_of(address)
            if not guessed and device.mask != network.netmask:
                row = scene.row_of(device)
                goal = IPv4Interface((address, network.prefixlen))
                line = Line("move", device.mac, "--to", goal) if device.mac else None
                yield say.MASK_OF_ITS_OWN(
                    Line("move", row.name) if row and row.interface == goal else line,
                    address=address,
                    device_name=device.value(Field.NAME),
                    mask=device.mask,
                    network=network,
                    network_mask=network.netmask,
                    settable=line is not None,
                )


def _servers(scene: Scene) -> Iterator[Finding]:
    for device in scene.devices:
        if not device.value(Field.SERVES):
            continue
        address = next(iter(device.addresses), None)
        own = [each.network for each in scene.own or ()]
        # A leftover address of this computer's own does not reach who hands out others.
        is_outside = scene.own is not None and not any(
            address in network for network in own if address is not None
        )
        line = Line("match", "--dhcp") if is_outside else None
        yield say.DHCP_SERVER(line, address=address, mac=device.mac)


def next_steps(scene: Scene) -> tuple[Finding, ...]:
    """The next steps, each with the line to type for all the devices that it serves, if any."""
    asking = [d for d in scene.devices if d.asks and not d.addresses and d.mac is not None]
    near = {device.mac: miss for device in scene.devices for miss in scene.near(device)}
    planned = [row for device in asking if (row := scene.row_of(device))]
    unknown = [d for d in asking if scene.row_of(d) is None and d.mac not in near]
    return (
        *_asking(planned, scene),
        *_label_checks(near),
        *_unknown_asking(unknown, scene.plan),
        *_elsewhere(scene),
        *_unheard(scene, {miss.row.name for miss in near.values()}),
        *_to_name(scene),
        *_not_planned(scene, near.keys()),
        *_subnets_to_match(scene),
    )


def _asking(rows: Sequence[PlannedDevice], scene: Scene) -> Iterator[Finding]:
    if rows:
        inside = all(any(row.address in own.network for own in scene.own or ()) for row in rows)
        names = [row.name for row in rows]
        line = Line("assign", *names, "--keep")
        if not inside:
            line = Line("assign", *names, "--match", "--keep")
        yield say.PLANNED_ASKING(line, count=len(rows), names=names)


def _label_checks(near: Mapping[Mac | None, NearMiss]) -> Iterator[Finding]:
    for mac, miss in near.items():
        yield say.CHECK_LABEL(name=miss.row.name, mac=mac, near=miss.finding)


def _unknown_asking(devices: Sequence[Device], plan: Plan) -> Iterator[Finding]:
    if devices and not plan.devices:
        yield say.UNPLANNED_ASKING(Line("assign", "--keep"), count=len(devices))
    elif devices and devices[0].mac is not None:
        line = Line("assign", Setting(devices[0].mac, "ADDRESS"), "--keep")
        yield say.STRANGERS_ASKING(line, count=len(devices))


def _elsewhere(scene: Scene) -> Iterator[Finding]:
    """Planned devices that have another address, or none and do not ask."""
    movable: list[Name] = []
    doubtful: list[Name] = []
    for device in scene.devices:
        row = scene.row_of(device)
        if row is None or row.address in device.addresses or (device.asks and not device.addresses):
            continue
        asked = not device.addresses or scene.asked_for(row.address)
        (movable if asked else doubtful).append(row.name)
    if movable:
        yield say.NOT_AT_PLANNED(Line("move", *movable), count=len(movable), names=movable)
    if doubtful:
        line = Line("verify", *doubtful)
        yield say.NOT_ASKED_AT_PLANNED(line, count=len(doubtful), names=doubtful)


def _unheard(scene: Scene, near: Collection[str]) -> Iterator[Finding]:
    """Planned devices of whom nothing was heard, where they were asked for."""
    rows = [row for row in scene.plan if row.name not in near and scene.asked_for(row.address)]
    heard = {address for device in scene.devices for address in device.addresses}
    missed = [row for row in rows if row.mac not in scene.present and row.address not in heard]
    if missed:
        names = [row.name for row in missed]
        yield say.NOT_HEARD(Line("why", names[0]), count=len(missed), names=names)


def _to_name(scene: Scene) -> Iterator[Finding]:
    unnamed = [
        device
        for device in scene.devices
        if unrecognised_codes(device) and not device.value(Field.PRODUCT)
    ]
    if unnamed:
        yield say.ONLY_NUMBERS(Line("catalog add", "FILE"), count=len(unnamed))


def _not_planned(scene: Scene, near: Collection[Mac | None]) -> Iterator[Finding]:
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
        yield say.OTHERS_NOT_PLANNED(count=len(others), devices=others)


def _subnets_to_match(scene: Scene) -> Iterator[Finding]:
    """Subnets that this computer is not in, and where something is to stay."""
    for each in neighbourhoods(scene):
        if each.network is None or each.here is not False or each.network == SELF_ASSIGNED:
            continue
        stay = [device for device in each.devices if not _leaves(device, scene)]
        if stay:
            alone = stay[0].addresses[0] if len(stay) == 1 else None
            line = Line("match", each.network) if alone is None else Line("visit", alone)
            yield say.NOT_IN_SUBNET(line, network=each.network, count=len(stay))


def _leaves(device: Device, scene: Scene) -> bool:
    row = scene.row_of(device)
    return row is not None and row.address not in device.addresses
