"""Rows for the plan, proposed of what was found: a plant that nobody documented gets its plan."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.address import SELF_ASSIGNED, AddressRange, Mac
from portcall.core.csv_text import TableLine
from portcall.core.find import sentences as say
from portcall.core.find.device import Device
from portcall.core.find.overview import Scene
from portcall.core.find.sighting import Field, FoundPart
from portcall.core.finding import Finding, Line, Name, Setting
from portcall.core.part_path import PartKind
from portcall.core.plan.columns import COLUMNS
from portcall.core.plan.reading import LONGEST_NAME, PlanError, read_lines
from portcall.core.plan.rows import PlannedDevice
from portcall.core.printable import for_spreadsheets, printable
from portcall.core.wire.dhcp import prefix_length

_TOLD = {
    "kind": Field.KIND,
    "place": Field.PLACE,
    "maker": Field.MAKER,
    "product": Field.PRODUCT,
    "serial": Field.SERIAL,
    "firmware": Field.FIRMWARE,
}
_NO_KIND = "device"


@dataclass(frozen=True, slots=True)
class Proposal:
    """A row that a device could become, and what its file would have in each cell."""

    device: Device
    row: PlannedDevice
    cells: dict[str, str]
    remark: str = ""
    """What to know of it before it is taken."""


@dataclass(frozen=True, slots=True)
class LeftOut:
    """A device that is not planned and gets no row as it is, and why."""

    device: Device
    reason: Finding


def propose(
    scene: Scene,
    defaults: Sequence[AddressRange],
    told: Collection[Device] = (),
    within: Sequence[AddressRange] = (),
) -> tuple[tuple[Proposal, ...], tuple[LeftOut, ...]]:
    """A row for each device that is not planned, and the devices that get none as they are.

    ``defaults`` are the makers' default addresses: a device there has not been set yet. Those in
    ``told`` get a row all the same, where the plan's rules allow it. ``within``, when there are any
    ranges, are those whose devices are meant: others were heard, and perhaps asked nothing.
    """
    names = _Names(row.name for row in scene.plan.rows)
    masks = _Masks(scene)
    proposals: list[Proposal] = []
    left_out: list[LeftOut] = []
    for device in scene.devices:
        if _is_planned(device, scene) or not is_meant(device, within):
            continue
        reason = _obstacle(device, scene)
        if reason is None and device not in told:
            reason = _doubt(device, defaults)
        made = _proposal(device, masks, names) if reason is None else reason
        if isinstance(made, Proposal):
            proposals.append(made)
        else:
            left_out.append(LeftOut(device, made))
    return tuple(proposals), tuple(left_out)


def is_meant(device: Device, within: Sequence[AddressRange]) -> bool:
    """Whether a device has an address in one of some ranges, or there are none."""
    return not within or any(address in span for span in within for address in device.addresses)


def _is_planned(device: Device, scene: Scene) -> bool:
    if device.mac is not None:
        return scene.row_of(device) is not None
    return any(scene.row_at(address) is not None for address in device.addresses)


def _obstacle(device: Device, scene: Scene) -> Finding | None:
    """Why a device cannot be a row, whatever is said, or None."""
    mac = device.mac
    if not device.addresses:
        asks = device.asks[0].protocol if device.asks else None
        return say.ROW_HAS_NO_ADDRESS(_add_by_hand(mac), protocol=asks)
    if device.answers_for_others:
        return say.ANSWERS_FOR_MANY(count=len(device.addresses))
    address = device.addresses[0]
    if device.rivals:
        move = Line("move", mac, "--to", "ADDRESS/N") if mac is not None else None
        others = [scene.called_mac(rival) for rival in device.rivals]
        return say.SHARED_WITH(move, address=address, rivals=others)
    for miss in scene.near(device):
        return say.MAC_NEARLY(_with_mac(miss.row, mac), near=miss.finding)
    row = next((row for each in device.addresses if (row := scene.row_at(each))), None)
    if row is None:
        return None
    if row.mac is None:
        return say.PLANNED_WITHOUT_MAC(_with_mac(row, mac), name=row.name)
    line = Line("why", row.name)
    return say.PLANNED_FOR(line, address=row.address, name=row.name, planned_mac=row.mac)


def _with_mac(row: PlannedDevice, mac: Mac | None) -> Line:
    """The line that writes the MAC into a row."""
    return Line("plan set", row.name, Setting(Name("mac"), mac or "MAC"))


def _add_by_hand(mac: Mac | None) -> Line:
    """The line that plans a device at another address than it has."""
    if mac is None:
        return Line("plan add", "NAME", "ADDRESS/N")
    return Line("plan add", "NAME", "ADDRESS/N", "--mac", mac)


def _doubt(device: Device, defaults: Sequence[AddressRange]) -> Finding | None:
    """Why a device is likely not to stay where it is, or None."""
    address = device.addresses[0]
    if any(address in span for span in defaults):
        return say.AT_DEFAULT(_add_by_hand(device.mac), address=address)
    if address in SELF_ASSIGNED:
        return say.TOOK_IT_ITSELF(_add_by_hand(device.mac), address=address)
    return None


def _proposal(device: Device, masks: _Masks, names: _Names) -> Proposal | Finding:
    """The row of a device, or what rule of the plan it would break."""
    address = device.addresses[0]
    # A device may send text that a spreadsheet runs as a formula, and people open plans there.
    told = {column: for_spreadsheets(device.value(field) or "") for column, field in _TOLD.items()}
    name = names.made_of(device.value(Field.NAME), device.value(Field.KIND) or "")
    cells = {
        "name": for_spreadsheets(name),
        "mac": str(device.mac or ""),
        "address": str(address),
        "mask": masks.of(device),
        "gateway": str(device.gateway or ""),
        **told,
    }
    remarks = []
    if len(device.addresses) > 1:
        others = ", ".join(str(each) for each in device.addresses[1:])
        remarks.append(f"it is at {others}, too")
    odd = masks.odd(device)
    if odd is not None:
        remarks.append(odd)
    try:
        row = _read(cells)
    except PlanError as error:
        wrong = {problem.column: problem.text for problem in error.problems}
        if set(wrong) - {"gateway", "mask"}:
            return say.BREAKS_RULES(rules=[f"{column} {text}" for column, text in wrong.items()])
        remarks += [
            f"it says that its {column} is {text}; left out" for column, text in wrong.items()
        ]
        cells |= dict.fromkeys((column for column in wrong if column), "")
        row = _read(cells)
    filled = {column: cell for column, cell in cells.items() if cell}
    names.take(name)
    return Proposal(device, row, filled, "; ".join(remarks))


def _read(cells: dict[str, str]) -> PlannedDevice:
    """A row by itself, held against the plan's rules. Raises PlanError."""
    heading = TableLine(1, list(COLUMNS))
    line = TableLine(2, [cells.get(column, "") for column in COLUMNS])
    return read_lines([heading, line], "").devices[0]


def propose_parts(scene: Scene, owners: Mapping[Mac, str]) -> tuple[dict[str, str], ...]:
    """The cells of a row for each part that was found and is not planned, of devices with a row.

    ``owners`` are the names of the rows, by the MACs of their devices. The interface that the row
    itself is gets none, nor does one without an address, nor the slot that the device itself is in.
    """
    names = _Names(iter((*(row.name for row in scene.plan.rows), *owners.values())))
    rows: list[dict[str, str]] = []
    for device in scene.devices:
        owner = owners.get(device.mac) if device.mac is not None else None
        if owner is None:
            continue
        planned = {row.part for row in scene.plan.parts_of(owner)}
        own = set(device.addresses)
        for part in device.parts:
            is_itself = part.value(Field.SERIAL) in (device.value(Field.SERIAL) or "", "")
            is_itself = is_itself and part.path.kind is PartKind.SLOT
            if not part.is_there or part.path in planned or is_itself or _is_beyond(part):
                continue
            if part.path.kind is PartKind.PORT and not _interface_of(part, own):
                continue
            cells = _part_cells(part, owner, own, names)
            names.take(cells["name"])
            rows.append({column: cell for column, cell in cells.items() if cell})
    return tuple(rows)


def _is_beyond(part: FoundPart) -> bool:
    """Whether it is in another rack, or an interface of a module: neither is set from here."""
    return len(part.path.steps) > 1


def _interface_of(part: FoundPart, own: Collection[IPv4Address]) -> IPv4Interface | None:
    """The address of an interface that its device's row does not have; None for no such."""
    return next((each for each in part.interfaces if each.ip not in own), None)


def _part_cells(
    part: FoundPart, owner: str, own: Collection[IPv4Address], names: _Names
) -> dict[str, str]:
    told = {column: for_spreadsheets(part.value(field) or "") for column, field in _TOLD.items()}
    name = names.free(f"{owner}.{part.path.word}")
    cells = {"name": for_spreadsheets(name), **told, "of": owner, "part": str(part.path)}
    interface = _interface_of(part, own) if part.path.kind is PartKind.PORT else None
    if interface is not None:
        prefix = interface.network.prefixlen
        cells |= {"address": str(interface.ip), "mask": str(prefix) if prefix < 32 else ""}
        cells |= {"mac": str(part.macs[0]) if part.macs else ""}
    return cells


class _Masks:
    """The masks of devices: as each says, or else as its subnet is known to have."""

    def __init__(self, scene: Scene) -> None:
        self._scene = scene
        said = (_said_interface(device) for device in scene.devices)
        self._said = Counter(interface.network for interface in said if interface is not None)

    def of(self, device: Device) -> str:
        """The prefix length of a device's mask, or nothing where nobody says."""
        said = _said_interface(device)
        network = said.network if said else self._usual(device.addresses[0])
        return "" if network is None else str(network.prefixlen)

    def odd(self, device: Device) -> str | None:
        """The oddity of the mask that a device tells, or None."""
        said, usual = _said_interface(device), self._usual(device.addresses[0])
        if said is None or usual is None or said.network == usual:
            return None
        return f"it says that its mask is {said.netmask}; its neighbours are in {usual}"

    def _usual(self, address: IPv4Address) -> IPv4Network | None:
        """The subnet that site, plan or adapter have, or that most devices there say."""
        network, is_assumed = self._scene.network_of(address)
        if not is_assumed:
            return network
        around = [each for each in self._said if address in each]
        return max(around, key=lambda each: self._said[each], default=None)


def _said_interface(device: Device) -> IPv4Interface | None:
    """A device's address with the mask that it says itself."""
    prefix = prefix_length(device.mask) if device.mask is not None else None
    if not prefix or not device.addresses:
        return None
    return IPv4Interface((device.addresses[0], prefix))


class _Names:
    """Names for rows: what a device calls itself, or its kind and a number; each once."""

    def __init__(self, taken: Iterator[str]) -> None:
        self._taken = {name.casefold() for name in taken}

    def take(self, name: str) -> None:
        """From now on a name is a row's."""
        self._taken.add(name.casefold())

    def free(self, name: str) -> str:
        """A name, with a number where a row has it already."""
        short = name[: LONGEST_NAME - 4]
        return short if self._is_free(short) else self._numbered(short, 2)

    def made_of(self, called: str | None, kind: str) -> str:
        """A name that no row has yet."""
        name = printable(called or "", LONGEST_NAME - 4)
        if name and not name.replace(".", "").replace("/", "").isdigit():
            return name if self._is_free(name) else self._numbered(name, 2)
        words = printable(kind.lower(), LONGEST_NAME - 8).split()
        return self._numbered("-".join(words) or _NO_KIND, 1)

    def _is_free(self, name: str) -> bool:
        return name.casefold() not in self._taken

    def _numbered(self, stem: str, number: int) -> str:
        while not self._is_free(f"{stem}-{number}"):
            number += 1
        return f"{stem}-{number}"
