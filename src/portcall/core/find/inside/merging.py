"""Parts of one device, as several protocols tell of them.

An interface that CIP and SNMP both tell is one: it has the same MAC, or the same address. Its
number is CIP's, which is asked and set by it. What only one protocol tells stays as it is; where
its number is another interface's already, it gets the next one that is free.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import Mac
from portcall.core.find.device import Device
from portcall.core.find.sighting import FoundPart, Method
from portcall.core.part_path import TOP, PartKind, PartPath

_FIRST = (Method.CIP, Method.SNMP, Method.MODBUS)


def together(parts: Iterable[FoundPart]) -> tuple[FoundPart, ...]:
    """Each part once, in the order of their paths."""
    found: dict[PartPath, FoundPart] = {}
    for part in sorted(parts, key=_by_trust):
        path = part.path
        is_port = path.kind is PartKind.PORT and len(path.steps) == 1
        same = next((each for each in found.values() if is_port and _is_same(each, part)), None)
        if same is not None:
            found[same.path] = _both(same, part)
            continue
        if path in found:
            if not is_port:
                continue
            path = TOP.below(PartKind.PORT, _next_free(found))
        found[path] = replace(part, path=path)
    return tuple(found[path] for path in sorted(found))


def _by_trust(part: FoundPart) -> tuple[int, PartPath]:
    return _FIRST.index(part.method), part.path


def _is_same(one: FoundPart, other: FoundPart) -> bool:
    if one.path.kind is not PartKind.PORT or one.method is other.method:
        return False
    own, others = {each.ip for each in one.interfaces}, {each.ip for each in other.interfaces}
    return bool(own & others) or (bool(set(one.macs) & set(other.macs)) and not (own and others))


def _both(one: FoundPart, other: FoundPart) -> FoundPart:
    interfaces: dict[IPv4Address, IPv4Interface] = {each.ip: each for each in one.interfaces}
    for each in other.interfaces:
        if each.ip not in interfaces or interfaces[each.ip].network.prefixlen == 32:
            interfaces[each.ip] = each
    told = {each.field for each in one.said}
    return replace(
        one,
        said=(*one.said, *(each for each in other.said if each.field not in told)),
        interfaces=tuple(interfaces.values()),
        macs=tuple(dict.fromkeys((*one.macs, *other.macs))),
        state=one.state if one.evidence or not other.evidence else other.state,
        evidence=one.evidence or other.evidence,
    )


def _next_free(found: Iterable[PartPath]) -> int:
    return 1 + max(path.number for path in found if path.kind is PartKind.PORT)


def macs_of(device: Device) -> set[Mac]:
    """The MACs of a device: its own, and those that it tells of its interfaces."""
    own = {mac for part in device.parts for mac in part.macs}
    return own | ({device.mac} if device.mac is not None else set())
