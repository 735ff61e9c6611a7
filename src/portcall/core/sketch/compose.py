"""Making the picture of a site out of a look, the plan, and what switches told."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Network

from portcall.core.address import Mac
from portcall.core.counted import counted
from portcall.core.find.device import Device
from portcall.core.find.overview import Scene
from portcall.core.find.sighting import Field, Method
from portcall.core.find.switch_tables import SwitchTables, natural
from portcall.core.plan.rows import PlannedDevice, Subnet
from portcall.core.record.look import SeenLook
from portcall.core.sketch.inside import inside
from portcall.core.sketch.picture import Band, Branch, Figure, Inner, Mark, Picture
from portcall.core.sketch.wiring import Plugged, Wiring

_MOST_REMARKS = 6


@dataclass(frozen=True, slots=True)
class DrawnLook:
    """The material of a picture: a look, its devices held against the plan, and its title.

    ``wiring`` is the look whose switches' tables are taken, ``told`` when that was, where it is
    another one.
    """

    title: str
    about: str
    adapter: str
    scene: Scene
    look: SeenLook
    wiring: SeenLook
    told: str = ""
    subnets: Sequence[Subnet] = ()
    is_planned: bool = False
    """Whether the plan is drawn, and nothing was looked for."""


def compose(seen: DrawnLook) -> Picture:
    """The picture; the same input gives the same, whatever order devices came in."""
    return _Composing(seen).picture()


class _Composing:
    def __init__(self, seen: DrawnLook) -> None:
        self._seen = seen
        self._scene = seen.scene
        self._by_mac = {each.mac: each for each in seen.scene.devices if each.mac is not None}
        switches = sorted(seen.wiring.switches, key=lambda each: each.address)
        self._announced = [d for d in seen.scene.devices if Method.LLDP in d.methods]
        self._wiring = Wiring(switches, self._macs_of, seen.wiring.own, self._beside(switches))
        self._switch_of = {mac: n for n, macs in enumerate(self._wiring.macs) for mac in macs}
        self._gateways = self._known_gateways()

    def picture(self) -> Picture:
        seen, wiring = self._seen, self._wiring
        hung: dict[Plugged | None, list[Figure]] = {}
        at_switch: dict[int | None, list[tuple[IPv4Network | None, Figure]]] = {}
        switches: dict[int, Figure] = {}
        for device, row in self._all():
            mac = device.mac if device else row.mac if row else None
            own = self._switch_of.get(mac) if mac is not None else None
            place = wiring.plugged(mac) if mac is not None and own is None else None
            for network, figure in self._figures(device, row, place):
                if own is not None:
                    switches.setdefault(own, figure)
                    continue
                at_switch.setdefault(place.switch if place else None, []).append((network, figure))
                hung.setdefault(place, []).append(figure)
        branches = [
            self._branch(n, switches, at_switch)
            for n, parent in enumerate(wiring.parents)
            if parent is None
        ]
        # The one that the workstation is plugged into comes first.
        branches.sort(key=lambda each: not each.plugged)
        loose = at_switch.get(None, [])
        if loose or not branches:
            planned = "as planned: which port each is plugged into, no plan says"
            title = planned if seen.is_planned else "plugged in somewhere on this wire"
            branches.append(Branch(title, None, "", self._bands(loose)))
        addresses = [str(each) for each in seen.look.own_addresses] or ["no address of its own"]
        if seen.is_planned:
            addresses = []
        return Picture(
            seen.title,
            seen.about,
            tuple(filter(None, ("this workstation", seen.adapter, *addresses))),
            tuple(branches),
            _some(tuple(self._remarks(hung, bool(loose)))),
        )

    def _all(self) -> Iterator[tuple[Device | None, PlannedDevice | None]]:
        """Every device with its row, and the rows that nobody is for."""
        rows = set()
        for device in self._scene.devices:
            row = self._scene.row_of(device)
            if row is None:
                at = filter(None, map(self._scene.row_at, device.addresses))
                row = next((each for each in at if each.mac is None), None)
            if row is not None:
                rows.add(row.name)
            yield device, row
        for row in self._scene.plan:
            # An interface that is on another wire stands in the box of its device.
            if row.name not in rows and not row.of:
                yield None, row

    def _figures(
        self, device: Device | None, row: PlannedDevice | None, place: Plugged | None
    ) -> Iterator[tuple[IPv4Network | None, Figure]]:
        """A device once for each subnet in which it has an address."""
        port = place.port if place else ""
        if device is None:
            assert row is not None
            asked = self._seen.look.has_asked(row.address)
            mark = Mark.NOT_THERE if asked else Mark.NOT_ASKED
            mark = Mark.NONE if self._seen.is_planned else mark
            network: IPv4Network | None = self._scene.network_of(row.address)[0]
            details = ", ".join(filter(None, (row.kind, row.place)))
            key = str(row.mac or row.name)
            rows = self._scene.plan.parts_of(row.name)
            parts = inside(None, rows, True, is_drawn_as_planned=self._seen.is_planned)
            figure = Figure(key, row.name, str(row.address), details, port, mark, mark.value)
            yield network, replace(figure, inside=parts)
            return
        mark, words = self._mark(device, row)
        name = (row.name if row else "") or device.value(Field.NAME) or device.value(Field.PRODUCT)
        details = self._details(device, row)
        key = str(device.mac or next(iter(device.addresses), ""))
        parts = self._inside(device, row)
        addresses: dict[IPv4Network | None, list[IPv4Address]] = {}
        for address in () if device.answers_for_others else device.addresses:
            addresses.setdefault(self._scene.network_of(address)[0], []).append(address)
        if not addresses:
            asks = next((f"asks by {each.protocol}" for each in device.asks), "no address")
            several = f"answers for {counted(len(device.addresses), 'address', 'addresses')}"
            at = several if device.answers_for_others else asks
            yield None, Figure(key, name or key, at, details, port, mark, words, inside=parts)
        for network, here in addresses.items():
            elsewhere = [a for a in device.addresses if a not in here]
            also = f"also {elsewhere[0]}" if elsewhere and not words else words
            gateway = any(address in self._gateways for address in here)
            at = ", ".join(map(str, here[:2])) + (" …" if len(here) > 2 else "")
            figure = Figure(key, name or key, at, details, port, mark, also, gateway)
            # What is inside stands in one of its boxes.
            yield network, replace(figure, inside=parts if here[0] == device.addresses[0] else ())

    def _inside(self, device: Device, row: PlannedDevice | None) -> tuple[Inner, ...]:
        if row is not None and row.of:
            return (Inner(f"{row.part} of {row.of}", ""),)
        rows = self._scene.plan.parts_of(row.name) if row is not None else ()
        return inside(device, rows, row is not None)

    def _mark(self, device: Device, row: PlannedDevice | None) -> tuple[Mark, str]:
        if device.rivals and not device.answers_for_others:
            return Mark.TWICE, Mark.TWICE.value
        if row is not None and row.address not in device.addresses:
            return Mark.ELSEWHERE, f"planned {row.address}"
        if row is None and self._scene.plan.devices:
            return Mark.UNPLANNED, Mark.UNPLANNED.value
        return Mark.NONE, ""

    @staticmethod
    def _details(device: Device, row: PlannedDevice | None) -> str:
        kind = (row.kind if row else "") or device.value(Field.KIND)
        kind = kind or device.value(Field.PRODUCT) or device.value(Field.MAKER)
        place = (row.place if row else "") or device.value(Field.PLACE)
        return ", ".join(filter(None, (kind, place)))

    def _branch(
        self,
        n: int,
        switches: Mapping[int, Figure],
        at_switch: Mapping[int | None, list[tuple[IPv4Network | None, Figure]]],
    ) -> Branch:
        wiring, parent = self._wiring, self._wiring.parents[n]
        address = str(wiring.switches[n].address)
        figure = switches.get(n) or Figure(address, "switch", address)
        below = [m for m, each in enumerate(wiring.parents) if each and each.switch == n]
        below.sort(key=lambda m: (natural((wiring.parents[m] or Plugged(0, "")).port), m))
        own = wiring.uplinks[n]
        if parent is not None:
            plugged = f"{parent.port} there" + (f", {own} here" if own else "")
        elif n == wiring.root:
            plugged = f"this workstation is behind {own}" if own else "next to this workstation"
        else:
            plugged = ""
        return Branch(
            figure.name,
            figure,
            plugged,
            self._bands(at_switch.get(n, [])),
            tuple(self._branch(m, switches, at_switch) for m in below),
        )

    def _bands(self, placed: Iterable[tuple[IPv4Network | None, Figure]]) -> tuple[Band, ...]:
        by: dict[IPv4Network | None, list[Figure]] = {}
        for network, figure in placed:
            by.setdefault(network, []).append(figure)
        ordered = sorted(by, key=lambda each: (each is None, each or IPv4Network("0.0.0.0/0")))
        return tuple(
            Band(network, self._label(network), tuple(sorted(by[network], key=_order)))
            for network in ordered
        )

    def _label(self, network: IPv4Network | None) -> str:
        if network is None:
            return "without an IPv4 address"
        assumed = self._scene.network_of(network.network_address + 1)[1]
        here = [str(address) for address in self._gateways if address in network]
        parts = [str(network), "mask assumed" if assumed else ""]
        parts += [f"gateway {each}{self._silent(each)}" for each in here]
        return ", ".join(filter(None, parts))

    def _silent(self, text: str) -> str:
        """Of a gateway, that nobody answers there."""
        address = IPv4Address(text)
        there = any(address in device.addresses for device in self._scene.devices)
        own = any(address == each.ip for each in self._seen.look.own_addresses)
        return "" if there or own or not self._seen.look.has_asked(address) else " not there"

    def _known_gateways(self) -> tuple[IPv4Address, ...]:
        """The gateways of the site, and those of the plan."""
        known = [each.gateway for each in self._seen.subnets]
        known += [row.gateway for row in self._scene.plan]
        return tuple(sorted({each for each in known if each is not None}))

    def _macs_of(self, switch: SwitchTables) -> frozenset[Mac]:
        there = [d for d in self._scene.devices if switch.address in d.addresses]
        return frozenset(d.mac for d in there if d.mac is not None and not d.rivals)

    def _beside(self, switches: Sequence[SwitchTables]) -> int | None:
        """The switch that announces itself at this cable, if only one does."""
        if len(self._announced) != 1:
            return None
        device = self._announced[0]
        known = (n for n, each in enumerate(switches) if each.address in device.addresses)
        return next(known, None)

    def _remarks(self, hung: Mapping[Plugged | None, list[Figure]], loose: bool) -> Iterator[str]:
        wiring, seen = self._wiring, self._seen
        if seen.is_planned:
            return
        if not wiring.switches:
            yield "no switch told by SNMP who is behind which of its ports"
        elif loose:
            yield "where no switch tells the port, it is not known"
        if seen.told:
            yield f"the ports are as switches told on {seen.told}"
        for device in self._announced[:2]:
            port = next(iter(device.values(Field.PORT_HERE)), None)
            if len(self._announced) == 1 and port and not wiring.switches:
                name = device.value(Field.NAME) or str(device.mac)
                yield f"this cable is in {port} of {name}, which announces itself here"
        if len(self._announced) > 1:
            yield (
                f"{len(self._announced)} devices announce themselves at this cable: something "
                "between passes that on"
            )
        for place, figures in sorted(hung.items(), key=lambda each: each[0] or Plugged(-1, "")):
            count = len({each.key for each in figures})
            if place is not None and count > 1:
                name = self._name_of(place.switch)
                yield (
                    f"{count} devices are behind {place.port} of {name}: what is between, a "
                    "small switch or a chain of devices, does not tell"
                )
        heard = {*self._by_mac, *self._switch_of, seen.wiring.own, seen.look.own}
        for n, switch in enumerate(wiring.switches):
            others = sum(port.others for port in switch.ports)
            others += sum(mac not in heard for port in switch.ports for mac in port.behind)
            if others:
                yield f"{self._name_of(n)} knows {counted(others, 'more MAC')}, not heard here"
            if not switch.whole:
                yield f"{self._name_of(n)} did not tell all of its ports"

    def _name_of(self, n: int) -> str:
        address = self._wiring.switches[n].address
        known = (d for d in self._scene.devices if address in d.addresses)
        return next((name for d in known if (name := d.value(Field.NAME))), str(address))


def _some(remarks: tuple[str, ...]) -> tuple[str, ...]:
    """As many as are read."""
    more = len(remarks) - _MOST_REMARKS
    if more <= 1:
        return remarks
    return (*remarks[:_MOST_REMARKS], f"and {more} more remarks of this kind")


def _order(figure: Figure) -> tuple[object, ...]:
    """By port, then by address as numbers, then by what it goes by."""
    first = figure.address.split(",")[0]
    try:
        address = int(IPv4Address(first))
    except ValueError:
        address = 1 << 32
    return natural(figure.port), address, figure.key
