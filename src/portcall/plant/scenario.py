"""Scenario files: which devices stand in a practice plant and how they behave.

The format is described by ``portcall help scenarios``.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from importlib.resources import as_file, files
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path

from portcall.core.address import AddressError, Mac, parse_address, parse_interface, parse_mac
from portcall.core.cip.file_object import LARGEST_FILE
from portcall.core.find.switch_tables import Neighbour, Port
from portcall.core.part_path import PartPath, parse_path
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.plant.toml_table import Table
from portcall.site.files import read_bounded
from portcall.site.toml_text import parse_toml

SHIPPED = "tern-point"
_MOST_DEVICES = 300


class Speaks(StrEnum):
    """Protocols of a simulated device; one that speaks nothing is bare: a place to run a
    real program in."""

    CIP = "cip"
    MODBUS = "modbus"
    OPCUA = "opcua"
    WEB = "web"
    SECURE_WEB = "secure-web"
    SNMP = "snmp"
    NETBIOS = "netbios"
    MDNS = "mdns"
    BACNET = "bacnet"
    DCP = "dcp"
    LLDP = "lldp"
    IPV6 = "ipv6"


NEED_NO_ADDRESS = {Speaks.DCP, Speaks.LLDP, Speaks.IPV6}
"""What a device speaks as soon as it has power."""


class Asks(StrEnum):
    """How a device without an address asks for one."""

    BOOTP = "bootp"
    DHCP = "dhcp"


class Setting(StrEnum):
    """Reactions of a device to a change of its address or name over the network."""

    TAKES = "takes"
    REFUSES = "refuses"
    IGNORES = "ignores"
    """Says that it took it, and did not."""
    DROPS = "drops"
    """Takes the first thing, and closes the connection at the second."""
    LINGERS = "lingers"
    """Says that it took it, and does it 0.7 s later."""
    RESTARTS = "restarts"
    """Takes it when it is told to restart."""


@dataclass(frozen=True, slots=True)
class Nameplate:
    """The identity that a device tells."""

    product: str
    serial: int
    vendor: int
    device_type: int
    product_code: int
    major: int
    minor: int
    maker: str = ""


@dataclass(frozen=True, slots=True)
class Leg:
    """Another wire that a router is on."""

    wire: str
    mac: Mac
    address: IPv4Interface


@dataclass(frozen=True, slots=True)
class FaultEntry:
    """A fault that a plant begins with; ``portcall help faults``."""

    on: str
    kind: str
    how: str


@dataclass(frozen=True, slots=True)
class PartEntry:
    """A unit behind a gateway, a module in a rack, or an interface that is on no wire.

    ``registers`` are those of an instrument; one that ``says`` nothing does not tell its identity
    otherwise. ``answers_after`` are seconds; ``refuses`` is an exception that it answers with.
    """

    path: PartPath
    nameplate: Nameplate
    says: bool = True
    answers_after: float = 0.0
    refuses: int = 0
    registers: Mapping[int, int] = field(default_factory=dict)
    address: IPv4Interface | None = None
    mac: Mac | None = None


@dataclass(frozen=True, slots=True)
class DeviceEntry:
    """One device; times in seconds."""

    name: str
    kind: str
    wire: str
    mac: Mac
    nameplate: Nameplate
    address: IPv4Interface | None
    gateway: IPv4Address | None
    asks: Asks | None
    ask_every: float
    host_name: str
    restart: float
    gives: IPv4Interface | None = None
    """The address it hands to a workstation on its wire."""
    speaks: tuple[Speaks, ...] = ()
    hears_broadcasts: bool = True
    place: str = ""
    station_name: str = ""
    announce_every: float = 30
    modbus_units: tuple[int, ...] = ()
    setting: Setting = Setting.TAKES
    other_port: IPv4Interface | None = None
    """What its first CIP interface has, which is on no wire; the one on the wire is the second."""
    in_run: bool = False
    """A controller owns it, with a connection in run mode."""
    legs: tuple[Leg, ...] = ()
    """The other wires it is on, for a router: it forwards between all of them."""
    ports: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Of a managed switch: who is plugged in at each port, by name."""
    behind: tuple[Port, ...] = ()
    """What its tables say of that."""
    description: bytes = b""
    """The EDS that it carries in its CIP file object."""
    parts: tuple[PartEntry, ...] = ()
    """What is inside it, besides its interfaces on wires."""
    serial_seconds: float = 0.02
    serial_timeout: float = 0.3
    """How long a question takes on the serial line behind it, and when it gives a unit up."""


@dataclass(frozen=True, slots=True)
class AdapterEntry:
    """One adapter of the workstation."""

    name: str
    wire: str
    mac: Mac
    address: IPv4Interface | None
    gateway: IPv4Address | None


@dataclass(frozen=True, slots=True)
class Scenario:
    """A practice plant; ``site`` is a folder to copy for practice, or None."""

    name: str
    adapters: tuple[AdapterEntry, ...]
    devices: tuple[DeviceEntry, ...]
    site: Path | None
    faults: tuple[FaultEntry, ...] = ()

    @property
    def wires(self) -> tuple[str, ...]:
        """Every wire that something is on."""
        named = [adapter.wire for adapter in self.adapters]
        named += [device.wire for device in self.devices]
        named += [leg.wire for device in self.devices for leg in device.legs]
        return tuple(dict.fromkeys(named))


def shipped_scenario() -> Scenario:
    """The plant that comes with the tool: Tern Point kelp mill, dryer line 2."""
    with as_file(files("portcall.plant") / "scenarios") as folder:
        return read_scenario(folder / f"{SHIPPED}.toml")


def read_scenario(path: Path) -> Scenario:
    """Read a scenario file. Raises BadInput naming the entry and key, NotPossibleHere."""
    try:
        text = path.read_bytes()
    except OSError as error:
        raise NotPossibleHere(f"{path}: cannot be read: {error.strerror}") from None
    top = Table(parse_toml(text, str(path)), str(path))
    adapters = tuple(_adapter(table) for table in top.tables("workstation"))
    devices = tuple(_device(table, path.parent) for table in top.tables("devices"))
    faults = tuple(_fault(table) for table in top.tables("faults"))
    site = top.text("site", "")
    name = top.text("name", path.stem)
    top.done()
    if not adapters or not devices:
        raise BadInput(f"{path}: needs at least one [[workstation]] and one [[devices]]")
    if len(devices) > _MOST_DEVICES:
        raise BadInput(f"{path}: has {len(devices)} devices", f"at most {_MOST_DEVICES} fit")
    names = [a.name for a in adapters] + [d.name for d in devices]
    macs = [str(entry.mac) for entry in adapters] + [str(entry.mac) for entry in devices]
    macs += [str(leg.mac) for device in devices for leg in device.legs]
    for what, values in (("name", names), ("mac", macs)):
        twice = next((value for value in values if values.count(value) > 1), None)
        if twice is not None:
            raise BadInput(f"{path}: {what} {twice} stands twice")
    devices = _with_tables(adapters, devices, str(path))
    folder = path.parent / site if site else None
    if folder is not None and not folder.is_dir():
        raise BadInput(f"{path}: site: there is no folder {folder}")
    return Scenario(name, adapters, devices, folder, faults)


def _with_tables(
    adapters: tuple[AdapterEntry, ...], devices: tuple[DeviceEntry, ...], place: str
) -> tuple[DeviceEntry, ...]:
    """The devices, the managed switches with what is behind each of their ports."""
    entries: dict[str, AdapterEntry | DeviceEntry] = {each.name: each for each in adapters}
    entries |= {each.name: each for each in devices}
    switches = {each.name: each for each in devices if each.ports}

    def behind(switch: str, port: str, seen: set[str]) -> Iterator[str]:
        for name in switches[switch].ports[port]:
            if name not in entries:
                raise BadInput(f"{place}: {switch}: port {port}: nothing is called {name}")
            if name in seen:
                continue
            yield name
            if name in switches:
                others = switches[name].ports.items()
                for other, names in others:
                    if switch not in names:
                        yield from behind(name, other, seen | {switch, name})

    def tables(switch: DeviceEntry) -> tuple[Port, ...]:
        found = []
        for port, names in switch.ports.items():
            macs = tuple(sorted(entries[each].mac for each in behind(switch.name, port, set())))
            neighbours = tuple(
                Neighbour(each.mac, each.host_name, _port_to(each, switch.name))
                for name in names
                if isinstance(each := entries[name], DeviceEntry) and Speaks.LLDP in each.speaks
            )
            found.append(Port(port, macs, neighbours))
        return tuple(found)

    return tuple(replace(each, behind=tables(each)) if each.ports else each for each in devices)


def _port_to(entry: DeviceEntry, name: str) -> str:
    """The port by which a device is plugged into another one."""
    return next((port for port, names in entry.ports.items() if name in names), "port 1")


def _adapter(table: Table) -> AdapterEntry:
    entry = AdapterEntry(
        table.text("adapter", longest=15),
        table.text("wire"),
        table.parsed("mac", parse_mac),
        table.parsed_or_none("address", parse_interface),
        table.parsed_or_none("gateway", parse_address),
    )
    table.done()
    return entry


def _leg(table: Table) -> Leg:
    leg = Leg(
        table.text("wire"), table.parsed("mac", parse_mac), table.parsed("address", parse_interface)
    )
    table.done()
    return leg


def _fault(table: Table) -> FaultEntry:
    entry = FaultEntry(table.text("on"), table.text("fault"), table.text("how", ""))
    table.done()
    return entry


def _part(table: Table) -> PartEntry:
    path = table.parsed("part", parse_path)
    entry = PartEntry(
        path,
        _nameplate(table, str(path)),
        table.flag("says", True),
        table.number("answers_after", 0, 30),
        int(table.number("refuses", 0, 0x7F)),
        table.words("registers"),
        table.parsed_or_none("address", parse_interface),
        table.parsed_or_none("mac", parse_mac),
    )
    table.done()
    return entry


def _nameplate(table: Table, name: str) -> Nameplate:
    firmware = table.text("firmware", "1.001")
    major, _, minor = firmware.partition(".")
    if not (major.isdigit() and minor.isdigit() and int(major) < 256 and int(minor) < 256):
        raise table.wrong("firmware", f"{firmware!r} is not two numbers under 256: 20.013")
    return Nameplate(
        table.text("product", name, longest=32),
        table.parsed("serial", _hex_number) if table.has("serial") else 0,
        int(table.number("vendor", 0, 0xFFFF)),
        int(table.number("device_type", 0, 0xFFFF)),
        int(table.number("product_code", 0, 0xFFFF)),
        int(major),
        int(minor),
        table.text("maker", ""),
    )


def _device(table: Table, folder: Path) -> DeviceEntry:
    name = table.text("name")
    entry = DeviceEntry(
        name,
        table.text("kind", "bare"),
        table.text("wire"),
        table.parsed("mac", parse_mac),
        _nameplate(table, name),
        table.parsed_or_none("address", parse_interface),
        table.parsed_or_none("gateway", parse_address),
        table.one_of("asks", Asks) if table.has("asks") else None,
        table.number("ask_every", 2, 60),
        table.text("host_name", name),
        table.number("restart", 1, 60),
        table.parsed_or_none("gives", parse_interface),
        table.all_of("speaks", Speaks),
        table.flag("hears_broadcasts", True),
        table.text("place", ""),
        table.text("station_name", ""),
        table.number("announce_every", 30, 3600),
        table.numbers("modbus_units", 247),
        table.one_of("setting", Setting) if table.has("setting") else Setting.TAKES,
        table.parsed_or_none("other_port", parse_interface),
        table.flag("in_run", False),
        tuple(_leg(leg) for leg in table.tables("forwards")),
        table.lists("ports"),
        description=_description(table, folder),
        parts=tuple(_part(part) for part in table.tables("parts")),
        serial_seconds=table.number("serial_seconds", 0.02, 10),
        serial_timeout=table.number("serial_timeout", 0.3, 10),
    )
    table.done()
    if entry.gives is not None and (
        entry.address is None or entry.gives.network != entry.address.network
    ):
        raise table.wrong("gives", f"{entry.gives} is not in the subnet of its own address")
    needs_one = [spoken for spoken in entry.speaks if spoken not in NEED_NO_ADDRESS]
    if needs_one and entry.address is None and entry.asks is None:
        raise table.wrong(
            "address",
            f'is missing; to speak {needs_one[0]} a device has one, or asks = "bootp" or "dhcp"',
        )
    return entry


def _description(table: Table, folder: Path) -> bytes:
    """The file that a device carries, from beside the scenario."""
    file = table.text("description", "")
    return read_bounded(folder / file, LARGEST_FILE, "description") if file else b""


def _hex_number(text: str) -> int:
    try:
        number = int(text, 16)
    except ValueError:
        number = -1
    if not 0 <= number <= 0xFFFFFFFF:
        raise AddressError(f"{text}: a serial number is up to 8 hex digits")
    return number
