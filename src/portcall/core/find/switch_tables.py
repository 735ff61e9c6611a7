"""The tables of a managed switch by SNMP: the MACs behind each port, and the neighbours.

Bridges (RFC 4188 §4, RFC 4363 §5) tell the first, LLDP's own tables (IEEE 802.1AB-2005 §12) the
second. A device that is no switch is asked two questions, and has neither.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import partial
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.document import (
    OddDocument,
    Part,
    a_count,
    a_mac,
    a_text,
    a_truth,
    an_address,
)
from portcall.core.find.snmp_walk import MOST_ROWS, Asking, Reading, column, numbers, single
from portcall.core.printable import decoded
from portcall.core.wire import lldp, snmp
from portcall.core.wire.snmp import Value

_MOST_LISTED = 24
"""MACs behind one port that are kept whoever they are: behind it is a machine, not a whole site."""

_LONGEST = 40
"""Characters of a name that are kept."""


class Neighbour(NamedTuple):
    """A neighbour that announced itself at a port by LLDP; ``port`` is its own one."""

    mac: Mac | None
    name: str
    port: str


@dataclass(frozen=True, slots=True)
class Port:
    """A port of a switch, and what is behind it: every MAC, and who announced itself.

    ``others`` counts the MACs behind it that are not listed here.
    """

    name: str
    behind: tuple[Mac, ...] = ()
    neighbours: tuple[Neighbour, ...] = ()
    others: int = 0


@dataclass(frozen=True, slots=True)
class SwitchTables:
    """The tables of the switch at an address; ``macs`` are its own.

    Not ``whole``, it stopped to answer, or has more rows than are read.
    """

    address: IPv4Address
    macs: tuple[Mac, ...]
    ports: tuple[Port, ...]
    whole: bool = True


def switch_tables(address: IPv4Address) -> Reading[SwitchTables]:
    """Read the tables: asks for what follows each object, and ends with what they come to."""
    bridge = yield from single(snmp.BRIDGE_ADDRESS)
    chassis = yield from single(snmp.LLDP_CHASSIS)
    if not bridge and not chassis:
        return None
    is_whole = True
    behind: dict[str, dict[Mac, None]] = {}
    called: dict[str, str] = {}
    if bridge:
        interfaces, has_all = yield from column(snmp.BRIDGE_PORT_INTERFACE)
        names, _ = yield from column(snmp.INTERFACE_NAME)
        if not names:
            names, _ = yield from column(snmp.INTERFACE_DESCRIPTION)
        known, rest = yield from column(snmp.VLAN_FORWARDING)
        if not known:
            known, rest = yield from column(snmp.BRIDGE_FORWARDING)
        is_whole = has_all and rest
        called = {
            number: _label(names.get(str(interface)), number)
            for number, interface in interfaces.items()
        }
        for index, number in known.items():
            mac = _mac_in(index)
            if mac is not None and isinstance(number, int) and number > 0:
                label = names.get(str(interfaces.get(str(number))))
                behind.setdefault(_label(label, number), {})[mac] = None
    neighbours: dict[str, list[Neighbour]] = {}
    if chassis:
        neighbours, rest = yield from _neighbours(called)
        is_whole = is_whole and rest
    own = [mac_of(bridge), mac_of(chassis)]
    ports = [
        Port(name, tuple(sorted(behind.get(name, ()))), tuple(neighbours.get(name, ())))
        for name in sorted({*behind, *neighbours}, key=natural)
    ]
    return SwitchTables(address, tuple(dict.fromkeys(filter(None, own))), tuple(ports), is_whole)


def _neighbours(
    called: Mapping[str, str],
) -> Asking[tuple[dict[str, list[Neighbour]], bool]]:
    """The neighbours at each port; ``called`` are the bridge's ports by their numbers.

    A port goes by the name that the bridge has for it, so that it is one port: LLDP counts a
    bridge's ports as the bridge does (IEEE 802.1AB-2005 §12, LldpPortNumber).
    """
    subtypes, whole = yield from column(snmp.LLDP_REMOTE_CHASSIS_SUBTYPE)
    if not subtypes:
        return {}, whole
    chassis, _ = yield from column(snmp.LLDP_REMOTE_CHASSIS)
    port_subtypes, _ = yield from column(snmp.LLDP_REMOTE_PORT_SUBTYPE)
    ports, _ = yield from column(snmp.LLDP_REMOTE_PORT)
    names, _ = yield from column(snmp.LLDP_REMOTE_NAME)
    own_subtypes, _ = yield from column(snmp.LLDP_PORT_ID_SUBTYPE)
    own_ports, _ = yield from column(snmp.LLDP_PORT_ID)
    own_described, _ = yield from column(snmp.LLDP_PORT_DESCRIPTION)
    found: dict[str, list[Neighbour]] = {}
    for index, subtype in subtypes.items():
        parts = index.split(".")
        if len(parts) != 3:
            continue
        number = parts[1]
        textual = own_subtypes.get(number) in lldp.PORT_TEXTS
        label = own_ports.get(number) if textual else own_described.get(number)
        mac = mac_of(chassis.get(index)) if subtype == lldp.Subtype.CHASSIS_MAC else None
        theirs = ports.get(index) if port_subtypes.get(index) in lldp.PORT_TEXTS else None
        neighbour = Neighbour(mac, _text(names.get(index)), _text(theirs))
        own = _text(label)
        name = own if own in called.values() else called.get(number) or _label(label, number)
        found.setdefault(name, []).append(neighbour)
    return found, whole


def _label(value: Value, number: int | str) -> str:
    """The name of a port, or else its number."""
    return _text(value) or str(number)


def _text(value: Value) -> str:
    return decoded(value, _LONGEST) if isinstance(value, bytes) else ""


def mac_of(value: Value) -> Mac | None:
    """A MAC that stands in a table, or None."""
    return Mac(value) if isinstance(value, bytes) and len(value) == 6 else None


def _mac_in(index: str) -> Mac | None:
    """The MAC that a row's index ends with, a number an octet."""
    octets = numbers(index)[-6:]
    return Mac(bytes(octets)) if len(octets) == 6 and max(octets) < 256 else None


def natural(text: str) -> list[tuple[bool, int, str]]:
    """A key that sorts "port 2" before "port 10"."""
    parts: list[str] = []
    for character in text:
        if parts and parts[-1].isdecimal() == character.isdecimal():
            parts[-1] += character
        else:
            parts.append(character)
    return [(not p.isdecimal(), int(p[:18]) if p.isdecimal() else 0, p) for p in parts]


def tables_document(found: SwitchTables, known: Iterable[Mac]) -> dict[str, object]:
    """As JSON has it: the MACs behind a port, and where these are many, those that are ``known``.

    How many others there are is counted.
    """
    wanted = set(known)

    def listed(port: Port) -> list[Mac]:
        if len(port.behind) <= _MOST_LISTED:
            return list(port.behind)
        return [mac for mac in port.behind if mac in wanted]

    return {
        "address": str(found.address),
        "macs": [str(mac) for mac in found.macs],
        "whole": found.whole,
        "ports": [
            {
                "port": port.name,
                "behind": [str(mac) for mac in listed(port)],
                "others": port.others + len(port.behind) - len(listed(port)),
                "neighbours": [
                    {
                        "mac": str(each.mac) if each.mac else None,
                        "name": each.name or None,
                        "port": each.port or None,
                    }
                    for each in port.neighbours
                ],
            }
            for port in found.ports
        ],
    }


def read_tables(switch: Part) -> SwitchTables | None:
    """A switch's tables from JSON; None for what is none. An odd port loses that alone."""
    address = switch.get("address", an_address)
    if address is None or not switch.has_list("ports"):
        return None
    ports = filter(None, map(_read_port, switch.parts("ports", MOST_ROWS)))
    macs = switch.each("macs", a_mac, MOST_ROWS)
    return SwitchTables(address, tuple(macs), tuple(ports), switch.get("whole", a_truth, False))


def _read_port(port: Part) -> Port | None:
    try:
        name, others = port.take("port", _name), port.take("others", a_count)
    except OddDocument:
        return None
    neighbours = (
        Neighbour(each.get("mac", a_mac), each.get("name", _name, ""), each.get("port", _name, ""))
        for each in port.parts("neighbours", MOST_ROWS)
    )
    return Port(name, tuple(port.each("behind", a_mac, MOST_ROWS)), tuple(neighbours), others)


_name = partial(a_text, longest=_LONGEST)
