"""The tables of a managed switch by SNMP: the MACs behind each port, and the neighbours.

Bridges (RFC 4188 §4, RFC 4363 §5) tell the first, LLDP's own tables (IEEE 802.1AB-2005 §12) the
second. A device that is no switch is asked two questions, and has neither.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable, Mapping
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
from portcall.core.find.snmp_system import DEFAULT_COMMUNITY
from portcall.core.printable import decoded
from portcall.core.talk.conversation import (
    Actions,
    Conversation,
    Datagram,
    Endpoint,
    Report,
    Send,
)
from portcall.core.wire import lldp, snmp
from portcall.core.wire.octets import Malformed
from portcall.core.wire.snmp import Value, Version

_AT_ONCE = 24
"""Values of one answer: some 1,000 octets."""

_MOST_ROWS = 2048
"""Rows of one column that are read: a switch of a whole site knows more MACs than a line has."""

_MOST_LISTED = 24
"""MACs behind one port that are kept whoever they are: behind it is a machine, not a whole site."""

_MOST_QUESTIONS = 240
"""At the pace to one device that is some ten seconds."""

_LONGEST = 40
"""Characters of a name that are kept."""

_ANSWER_WAIT = 1.0
_ATTEMPTS = 2


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


class ReadTables(Conversation[Datagram, SwitchTables]):
    """Ask one device, one question at a time; the conversation ends with at most one report.

    Version 2c, which gives many values at once; who is silent to that is asked by version 1, which
    gives one.
    """

    def __init__(self, address: IPv4Address, community: str = DEFAULT_COMMUNITY) -> None:
        self._peer = Endpoint(address, snmp.PORT)
        self._community = community.encode()
        self._version = Version.V2C
        self._number = 0
        self._attempts = 0
        self._answered = False
        self._script = _tables(address)
        self._after = next(self._script)

    def begin(self, now: float) -> Actions[Datagram, SwitchTables]:
        """The first question."""
        yield self._ask()

    def left(self, packet: Datagram, now: float) -> Actions[Datagram, SwitchTables]:
        """The question has left: wait for the answer."""
        if not self.over:
            self.wake_at = now + _ANSWER_WAIT
        yield from ()

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, SwitchTables]:
        """Take the answer to the last question."""
        if self.over or packet.peer != self._peer:
            return
        if packet.refused:
            self._end()
            return
        try:
            number, values = _answer(packet.payload)
        except Malformed:
            return
        if number == self._number:
            self._answered = True
            yield from self._go_on(values)

    def woke(self, now: float) -> Actions[Datagram, SwitchTables]:
        """No answer: once more, by the older version, or no more."""
        if self._attempts < _ATTEMPTS:
            yield self._ask()
        elif not self._answered and self._version is Version.V2C:
            self._version, self._attempts = Version.V1, 0
            yield self._ask()
        else:
            yield from self._go_on(None)

    def _go_on(self, values: Mapping[str, Value] | None) -> Actions[Datagram, SwitchTables]:
        self.wake_at = None
        self._attempts = 0
        if self._number >= _MOST_QUESTIONS:
            values = None
        try:
            self._after = self._script.send(values)
            while values is None:
                # Do not wait for a silent switch at each of the other columns, too.
                self._after = self._script.send(None)
        except StopIteration as end:
            self._end()
            if end.value is not None:
                yield Report(end.value)
            return
        yield self._ask()

    def _ask(self) -> Send[Datagram]:
        self._number += 1
        self._attempts += 1
        bulk = self._version is Version.V2C
        message = snmp.SnmpMessage(
            self._version,
            self._community,
            self._number,
            {self._after: None},
            repetitions=_AT_ONCE if bulk else 0,
        )
        encode = snmp.encode_get_bulk if bulk else snmp.encode_get_next
        return Send(Datagram(self._peer, encode(message)))

    def _end(self) -> None:
        self.over = True
        self.wake_at = None


def _answer(payload: bytes) -> tuple[int, Mapping[str, Value]]:
    """The number of an answer, and its values: none where it says that nothing follows.

    Raises Malformed.
    """
    try:
        message = snmp.parse(payload)
    except Malformed:
        return snmp.parse_error(payload), {}
    return message.request, message.values


_Rows = Mapping[str, Value]
_Asking = Generator[str, Mapping[str, Value] | None, "tuple[_Rows, bool]"]


def _column(column: str) -> _Asking:
    """The rows of a column by what follows its name, and whether these are all of them."""
    rows: dict[str, Value] = {}
    after = column
    while len(rows) < _MOST_ROWS:
        found = yield after
        if found is None:
            return rows, False
        for key, value in found.items():
            if not key.startswith(f"{column}.") or value is None or not _follows(key, after):
                return rows, True
            rows[key.removeprefix(f"{column}.")] = value
            after = key
        if not found:
            return rows, True
    return rows, False


def _single(name: str) -> Generator[str, Mapping[str, Value] | None, bytes]:
    """The octets of an object that a device has once, or none; one question, whatever it answers.

    What is no switch may answer any question with something else that it has.
    """
    found = yield name
    value = (found or {}).get(f"{name}.0")
    return value if isinstance(value, bytes) else b""


def _follows(key: str, before: str) -> bool:
    """Whether an object comes after another one: who goes back would lead in a circle."""
    return _numbers(key) > _numbers(before)


def _numbers(key: str) -> tuple[int, ...]:
    return tuple(map(int, key.split(".")))


def _tables(
    address: IPv4Address,
) -> Generator[str, Mapping[str, Value] | None, SwitchTables | None]:
    """Read the tables: asks for what follows each object, and ends with what they come to."""
    bridge = yield from _single(snmp.BRIDGE_ADDRESS)
    chassis = yield from _single(snmp.LLDP_CHASSIS)
    if not bridge and not chassis:
        return None
    is_whole = True
    behind: dict[str, dict[Mac, None]] = {}
    called: dict[str, str] = {}
    if bridge:
        interfaces, has_all = yield from _column(snmp.BRIDGE_PORT_INTERFACE)
        names, _ = yield from _column(snmp.INTERFACE_NAME)
        if not names:
            names, _ = yield from _column(snmp.INTERFACE_DESCRIPTION)
        known, rest = yield from _column(snmp.VLAN_FORWARDING)
        if not known:
            known, rest = yield from _column(snmp.BRIDGE_FORWARDING)
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
    own = [_mac(bridge), _mac(chassis)]
    ports = [
        Port(name, tuple(sorted(behind.get(name, ()))), tuple(neighbours.get(name, ())))
        for name in sorted({*behind, *neighbours}, key=natural)
    ]
    return SwitchTables(address, tuple(dict.fromkeys(filter(None, own))), tuple(ports), is_whole)


def _neighbours(
    called: Mapping[str, str],
) -> Generator[str, Mapping[str, Value] | None, tuple[dict[str, list[Neighbour]], bool]]:
    """The neighbours at each port; ``called`` are the bridge's ports by their numbers.

    A port goes by the name that the bridge has for it, so that it is one port: LLDP counts a
    bridge's ports as the bridge does (IEEE 802.1AB-2005 §12, LldpPortNumber).
    """
    subtypes, whole = yield from _column(snmp.LLDP_REMOTE_CHASSIS_SUBTYPE)
    if not subtypes:
        return {}, whole
    chassis, _ = yield from _column(snmp.LLDP_REMOTE_CHASSIS)
    port_subtypes, _ = yield from _column(snmp.LLDP_REMOTE_PORT_SUBTYPE)
    ports, _ = yield from _column(snmp.LLDP_REMOTE_PORT)
    names, _ = yield from _column(snmp.LLDP_REMOTE_NAME)
    own_subtypes, _ = yield from _column(snmp.LLDP_PORT_ID_SUBTYPE)
    own_ports, _ = yield from _column(snmp.LLDP_PORT_ID)
    own_described, _ = yield from _column(snmp.LLDP_PORT_DESCRIPTION)
    found: dict[str, list[Neighbour]] = {}
    for index, subtype in subtypes.items():
        parts = index.split(".")
        if len(parts) != 3:
            continue
        number = parts[1]
        textual = own_subtypes.get(number) in lldp.PORT_TEXTS
        label = own_ports.get(number) if textual else own_described.get(number)
        mac = _mac(chassis.get(index)) if subtype == lldp.Subtype.CHASSIS_MAC else None
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


def _mac(value: Value) -> Mac | None:
    return Mac(value) if isinstance(value, bytes) and len(value) == 6 else None


def _mac_in(index: str) -> Mac | None:
    """The MAC that a row's index ends with, a number an octet."""
    octets = _numbers(index)[-6:]
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
    ports = filter(None, map(_read_port, switch.parts("ports", _MOST_ROWS)))
    macs = switch.each("macs", a_mac, _MOST_ROWS)
    return SwitchTables(address, tuple(macs), tuple(ports), switch.get("whole", a_truth, False))


def _read_port(port: Part) -> Port | None:
    try:
        name, others = port.take("port", _name), port.take("others", a_count)
    except OddDocument:
        return None
    neighbours = (
        Neighbour(each.get("mac", a_mac), each.get("name", _name, ""), each.get("port", _name, ""))
        for each in port.parts("neighbours", _MOST_ROWS)
    )
    return Port(name, tuple(port.each("behind", a_mac, _MOST_ROWS)), tuple(neighbours), others)


_name = partial(a_text, longest=_LONGEST)
