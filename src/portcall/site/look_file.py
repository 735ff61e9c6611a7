"""A look that was written down: what ``find --json`` printed, read back as sightings."""

from __future__ import annotations

import json
from collections.abc import Iterator
from ipaddress import AddressValueError, IPv4Address
from pathlib import Path
from typing import Any

from portcall.core.address import AddressError, Mac, parse_mac
from portcall.core.find.sighting import Field, Method, Said, Sighting
from portcall.core.printable import printable
from portcall.core.trouble import BadInput
from portcall.site.files import read_bounded

_LARGEST = 64 * 1024 * 1024
_MOST_SAID = 64
_LISTS = (Method.PLAN, Method.REGISTRY)
"""What lists said of a device then is asked of the lists that are here now."""


def read_look(path: Path) -> tuple[Sighting, ...]:
    """What was seen of each device. Raises BadInput for another file, or NotPossibleHere."""
    data = read_bounded(path, _LARGEST)
    try:
        document = json.loads(data)
        devices = document["devices"]
    except (ValueError, KeyError, TypeError, RecursionError):
        devices = None
    if not isinstance(devices, list):
        raise BadInput(f"{path.name}: is not what find prints: portcall find --json > {path.name}")
    return tuple(seen for device in devices for seen in _sightings(device))


def _sightings(device: Any) -> Iterator[Sighting]:
    """One for each method, at each address; what cannot be read of a device is left out."""
    if not isinstance(device, dict):
        return
    mac = _mac(device.get("mac"))
    addresses = [a for each in _list(device.get("addresses")) if (a := _address(each)) is not None]
    by: dict[Method, list[Said]] = {m: [] for m in map(_method, _list(device.get("methods"))) if m}
    for each in _list(device.get("said"))[:_MOST_SAID]:
        said = _said(each)
        if said is not None and said.method not in _LISTS:
            by.setdefault(said.method, []).append(said)
    for method, told in by.items():
        if not addresses:
            yield Sighting(0.0, method, mac, None, tuple(told))
        for address in addresses:
            yield Sighting(0.0, method, mac, address, tuple(told))


def _list(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []


def _mac(value: Any) -> Mac | None:
    try:
        return parse_mac(value) if isinstance(value, str) else None
    except AddressError:
        return None


def _address(value: Any) -> IPv4Address | None:
    try:
        return IPv4Address(value) if isinstance(value, str) else None
    except AddressValueError:
        return None


def _method(value: Any) -> Method | None:
    return Method(value) if value in set(Method) else None


def _said(value: Any) -> Said | None:
    if not isinstance(value, dict) or not isinstance(value.get("value"), str):
        return None
    method, what = _method(value.get("by")), value.get("what")
    if method is None or what not in set(Field):
        return None
    return Said(Field(what), printable(value["value"]), method)
