"""The site folder: ``site.toml`` and ``plan.csv``, found by walking up from the current folder.

``site.toml``, all of it optional::

    name = "Tern Point kelp mill, dryer line 2"
    workstation = "10.61.20.200"          # kept for the engineer's computer
    adapter = "usb0"                      # the one with the plant's cable
    pace = 1000                           # packets a second, of all that asks
    pace_to_all = 100                     # of these, broadcasts and multicasts
    pace_to_one = 20                      # of these, to any one device
    maker_defaults = ["203.0.113.40"]     # where unset devices are looked for
    starting_addresses = true             # and where equipment commonly starts
    community = "public"                  # for SNMP
    logbook = "postgresql://team@record/portcall"   # the team's, without a password
    domain = "mill.example"               # for devices that ask for it by DHCP
    domain_servers = ["10.61.20.1"]
    time_servers = ["10.61.20.1"]

    [[subnets]]
    network = "10.61.20.0/24"
    gateway = "10.61.20.1"

    [makers]                              # MAC prefixes the public registry does not have
    "02-5A-1D" = "Sandlark Controls"
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from itertools import chain, islice
from pathlib import Path
from typing import Any, TypeAlias, TypeVar

from portcall.core.address import (
    AddressError,
    AddressRange,
    Mac,
    is_host_name,
    parse_address,
    parse_range,
    parse_subnet,
)
from portcall.core.plan.changing import Change, Edit
from portcall.core.plan.rows import Plan, PlannedDevice, Subnet, Surroundings
from portcall.core.printable import printable
from portcall.core.talk.pacer import HIGHEST_PACE, IN_ALL, TO_ALL, TO_ONE, Pace
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site import plan_file
from portcall.site.files import open_to_read
from portcall.site.plan_file import PLAN_FILE
from portcall.site.starting import starting_addresses
from portcall.site.toml_text import LONGEST, parse_toml
from portcall.system import whose_else

SETTINGS_FILE = "site.toml"
_MOST_DEFAULTS = 4096

T = TypeVar("T")


PlanState: TypeAlias = tuple[int, int, int]


@dataclass(frozen=True, slots=True)
class Site:
    """The site as its folder describes it; without a folder, an empty one."""

    folder: Path | None = None
    name: str = ""
    subnets: tuple[Subnet, ...] = ()
    workstation: IPv4Address | None = None
    pace: Pace = field(default_factory=Pace)
    adapter: str | None = None
    """The adapter with the plant's cable."""
    maker_defaults: tuple[AddressRange, ...] = ()
    makers: Mapping[str, str] = field(default_factory=dict)
    """Names by MAC prefix, six hex digits in upper case without separators."""
    community: str = "public"
    """For SNMP."""
    logbook: str = ""
    """Where the team's logbook is."""
    contract: str = ""
    customer: str = ""
    """For the hand-over record: the contract's number, and whose site it is."""
    surroundings: Surroundings = field(default_factory=Surroundings)
    asks_starting: bool = True
    """Whether devices are looked for at the addresses at which equipment commonly starts."""
    """What devices are told that ask for it by DHCP."""

    @property
    def label(self) -> str | None:
        """The site's name, or else its folder's; None without a site."""
        return self.name or (self.folder.name if self.folder is not None else None)

    @property
    def starting(self) -> tuple[IPv4Address, ...]:
        """Addresses at which equipment commonly starts, the likeliest first; () to leave them out.

        The site's own, and the makers' of the catalogue, are known apart from these.
        """
        return starting_addresses() if self.asks_starting else ()

    @property
    def plan_path(self) -> Path | None:
        """Where the site's plan is, when there is one."""
        if self.folder is None:
            return None
        path = self.folder / PLAN_FILE
        return path if path.exists() else None

    def plan_state(self) -> PlanState | None:
        """A state of the plan's file that changes with every edit; None without a file."""
        path = self.plan_path
        try:
            state = path.stat() if path else None
        except OSError:
            return None
        return (state.st_mtime_ns, state.st_size, state.st_ino) if state else None

    def default_addresses(self) -> list[IPv4Address]:
        """The addresses at which makers' devices start, one by one, as many as anybody watches."""
        return list(islice(chain.from_iterable(self.maker_defaults), _MOST_DEFAULTS))

    def reserved(self, plan: Plan) -> set[IPv4Address]:
        """Addresses this computer must not take, also when nobody answers there.

        They are planned, are gateways, or are makers' defaults: where the next device starts that
        is connected.
        """
        gateways = {each.gateway for each in (*self.subnets, *plan) if each.gateway}
        return {row.address for row in plan} | gateways | set(self.default_addresses())

    def plan(self) -> Plan:
        """The site's plan; empty when there is no file. Raises PlanError."""
        if self.plan_path is None:
            return Plan()
        plan = plan_file.read_plan(self.plan_path, self.subnets)
        plan_file.notice(self.plan_path, self.subnets)
        return plan

    def notice_plan(self) -> None:
        """Record what became of the plan since it was recorded last, where it is one."""
        if self.plan_path is not None:
            plan_file.notice(self.plan_path, self.subnets)

    def undo_plan(self, dry_run: bool = False) -> tuple[Change, ...]:
        """Take the last change of the site's plan back; gives what that changed.

        Raises BadInput, NotPossibleHere, OSError.
        """
        return plan_file.undo_last(self.own_plan, self.subnets, dry_run)

    def read_plan(self, path: Path) -> Plan:
        """A plan from a file that was named, with this site's masks.

        Raises PlanError, BadInput or NotPossibleHere.
        """
        return plan_file.read_plan(path, self.subnets, named=True)

    def adopt(self, answer: str, mac: Mac, rows: Sequence[PlannedDevice]) -> str | None:
        """Write into the site's plan which of some rows a device is, or a new row for it.

        Gives the row's name, None for "nobody". Raises BadInput, OSError.
        """
        return plan_file.take_into(self.own_plan, answer, mac, rows, self.subnets)

    @property
    def own_plan(self) -> Path:
        """Where the site's plan is, or would be made: without a site, in this folder."""
        return (self.folder or Path.cwd()) / PLAN_FILE

    def change_plan(self, edit: Edit, dry_run: bool = False) -> tuple[Change, ...]:
        """Change the site's plan, or make one; gives what that changed.

        Raises BadInput, NotPossibleHere, OSError.
        """
        return plan_file.change_plan(self.own_plan, self.subnets, edit, dry_run)


def this_site() -> Site:
    """The site that the current folder is in; a folder that was deleted is in none."""
    try:
        here = Path.cwd()
    except FileNotFoundError:
        return Site()
    return find_site(here)


SITE_VARIABLE = "PORTCALL_SITE"
"""Names the folder of the site, whoever it belongs to."""


def find_site(start: Path) -> Site:
    """The site that ``start`` is in: the nearest folder, upwards, with a site.toml or plan.csv.

    A folder that PORTCALL_SITE names is taken instead. Raises BadInput when its site.toml is wrong,
    or when somebody else than this person decides what is in it.
    """
    named = os.environ.get(SITE_VARIABLE)
    for folder in (Path(named),) if named else (start, *start.parents):
        has_settings = (folder / SETTINGS_FILE).is_file()
        if has_settings or (folder / PLAN_FILE).is_file():
            if not named:
                _check_whose(folder)
            return _read(folder) if has_settings else Site(folder)
    if named and not Path(named).is_dir():
        raise BadInput(f"{SITE_VARIABLE}={printable(named)}: there is no such folder")
    return Site(Path(named)) if named else Site()


def _check_whose(folder: Path) -> None:
    """A site says where addresses and entries go: one that somebody put in a folder above, where
    all may write, is not obeyed. Raises BadInput, NotPossibleHere.
    """
    for path in (folder, folder / SETTINGS_FILE, folder / PLAN_FILE):
        try:
            whose = whose_else(path) if path.exists() else ""
        except OSError as error:
            raise NotPossibleHere(f"{path}: cannot be looked at: {error.strerror}") from None
        if whose:
            raise BadInput(
                f"{path}: {whose}, so what the site there says is not followed",
                f"work in a folder of your own, or name this one: {SITE_VARIABLE}={folder}",
            )


def _read(folder: Path) -> Site:
    path = folder / SETTINGS_FILE
    try:
        with open_to_read(path) as file:
            data = file.read(LONGEST + 1)
    except OSError as error:
        raise NotPossibleHere(f"{path}: cannot be read: {error.strerror}") from None
    return _Reader(path, parse_toml(data, str(path))).site(folder)


class _Reader:
    """Reads settings, naming the key in every complaint."""

    def __init__(self, path: Path, settings: dict[str, Any]) -> None:
        self._path = path
        self._settings = settings

    def site(self, folder: Path) -> Site:
        for key in self._settings:
            if key not in _SETTINGS:
                raise self._wrong(key, f"is no setting; there are {', '.join(sorted(_SETTINGS))}")
        workstation = self._take("workstation", str)
        pace = Pace(
            self._packets("pace", IN_ALL),
            self._packets("pace_to_all", TO_ALL),
            self._packets("pace_to_one", TO_ONE),
        )
        return Site(
            folder,
            printable(self._take("name", str) or ""),
            tuple(self._subnet(entry) for entry in self._take("subnets", list) or ()),
            self._parse("workstation", parse_address, workstation) if workstation else None,
            pace,
            self._take("adapter", str) or None,
            tuple(
                self._parse("maker_defaults", parse_range, entry)
                for entry in self._take("maker_defaults", list) or ()
            ),
            {
                self._prefix(prefix): printable(str(name))
                for prefix, name in (self._take("makers", dict) or {}).items()
            },
            printable(self._take("community", str) or "public"),
            self._take("logbook", str) or "",
            printable(self._take("contract", str) or ""),
            printable(self._take("customer", str) or ""),
            Surroundings(
                self._domain(self._take("domain", str) or ""),
                self._addresses("domain_servers"),
                self._addresses("time_servers"),
            ),
            self._truth("starting_addresses", True),
        )

    def _addresses(self, key: str) -> tuple[IPv4Address, ...]:
        entries = self._take(key, list) or ()
        return tuple(self._parse(key, parse_address, entry) for entry in entries)

    def _domain(self, text: str) -> str:
        if text and not all(is_host_name(label) for label in text.split(".")):
            raise self._wrong("domain", f"{printable(text, 40)}: is no domain name")
        return text

    def _packets(self, key: str, usual: float) -> float:
        """A pace, in packets a second."""
        said = self._take(key, (int, float))
        pace = usual if said is None else float(said)
        if not 1 <= pace <= HIGHEST_PACE:
            raise self._wrong(key, f"{pace:g}: is 1 to {HIGHEST_PACE:g} packets a second")
        return pace

    def _truth(self, key: str, usual: bool) -> bool:
        value = self._settings.get(key, usual)
        if not isinstance(value, bool):
            raise self._wrong(key, f"{printable(repr(value), 40)} is not true or false")
        return value

    def _take(self, key: str, kind: type[T] | tuple[type[T], ...]) -> T | None:
        value = self._settings.get(key)
        if value is not None and (not isinstance(value, kind) or isinstance(value, bool)):
            kinds = kind if isinstance(kind, tuple) else (kind,)
            words = " or ".join(_KINDS[each] for each in kinds)
            raise self._wrong(key, f"{printable(repr(value), 40)} is not {words}")
        return value

    def _parse(self, key: str, parse: Callable[[str], T], value: object) -> T:
        if not isinstance(value, str):
            raise self._wrong(key, f"{printable(repr(value), 40)} is not text in quotes")
        try:
            return parse(value)
        except AddressError as error:
            raise self._wrong(key, str(error)) from None

    def _subnet(self, entry: object) -> Subnet:
        if not isinstance(entry, dict) or "network" not in entry:
            raise self._wrong("subnets", "each needs a network: [[subnets]] network = …")
        network = self._parse("subnets network", parse_subnet, entry["network"])
        gateway = None
        if "gateway" in entry:
            gateway = self._parse("subnets gateway", parse_address, entry["gateway"])
            if gateway not in network:
                raise self._wrong("subnets gateway", f"{gateway}: is outside {network}")
        return Subnet(network, gateway)

    def _prefix(self, text: str) -> str:
        digits = "".join(c for c in text if c not in ":-. ").upper()
        if len(digits) != 6 or any(c not in "0123456789ABCDEF" for c in digits):
            raise self._wrong("makers", f"{printable(text, 40)}: a MAC prefix is 6 hex digits")
        return digits

    def _wrong(self, key: str, what: str) -> BadInput:
        return BadInput(f"{self._path}: {key}: {what}")


_SETTINGS = {
    "name",
    "workstation",
    "adapter",
    "pace",
    "pace_to_all",
    "pace_to_one",
    "maker_defaults",
    "starting_addresses",
    "subnets",
    "makers",
    "community",
    "logbook",
    "contract",
    "customer",
    "domain",
    "domain_servers",
    "time_servers",
}

_KINDS: dict[type, str] = {
    str: "text in quotes",
    int: "a number",
    float: "a number",
    list: "a list",
    dict: "a table",
}
