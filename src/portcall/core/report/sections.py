"""Lists of a site in its record: addresses, firmware, switch ports, open points."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from ipaddress import IPv4Address, IPv4Network
from typing import Any

from portcall.core.address import Mac
from portcall.core.find.switch_tables import natural
from portcall.core.plan.rows import Plan
from portcall.core.record.look import SeenLook, read_device
from portcall.core.record.notes import Note
from portcall.core.record.standing import DeviceState, RowStanding, Standing

_MOST_HOSTS = 4096
"""Addresses of a subnet whose free ones are listed; of larger ones only the number is told."""

_MOST_RANGES = 24
_MOST_CONFLICTS = 64


def panels(plan: Plan) -> Iterator[dict[str, Any]]:
    """The planned addresses of each panel, or else group, in the order of the addresses."""
    found: dict[str, list[tuple[IPv4Address, str]]] = defaultdict(list)
    for row in plan.rows:
        if not row.has_no_address:
            found[row.place or row.group].append((row.address, str(row.name)))
    for panel in sorted(found, key=lambda name: (not name, natural(name))):
        addresses = [[str(address), name] for address, name in sorted(found[panel])]
        yield {"panel": panel, "addresses": addresses}


def subnets(plan: Plan) -> Iterator[dict[str, Any]]:
    """Each planned subnet: how many addresses are planned in it, how many are free, and which."""
    used: dict[IPv4Network, set[IPv4Address]] = defaultdict(set)
    for row in plan.rows:
        if not row.has_no_address:
            used[row.interface.network].add(row.address)
            if row.gateway is not None and row.gateway in row.interface.network:
                used[row.interface.network].add(row.gateway)
    for network in sorted(used):
        hosts = max(network.num_addresses - 2, 0)
        inside = (network.network_address, network.broadcast_address)
        taken = len(used[network] - set(inside))
        ranges: list[list[str]] = []
        if hosts <= _MOST_HOSTS:
            free = [each for each in network.hosts() if each not in used[network]]
            ranges = [[str(first), str(last)] for first, last in _ranges(free)]
        yield {
            "subnet": str(network),
            "planned": taken,
            "free": hosts - taken,
            "ranges": ranges[:_MOST_RANGES],
            "more": max(len(ranges) - _MOST_RANGES, 0),
        }


def _ranges(addresses: Iterable[IPv4Address]) -> Iterator[tuple[IPv4Address, IPv4Address]]:
    first = last = None
    for each in addresses:
        if first is None or last is None:
            first = last = each
        elif int(each) == int(last) + 1:
            last = each
        else:
            yield first, last
            first = last = each
    if first is not None and last is not None:
        yield first, last


def firmware(devices: Iterable[Mapping[str, Any]]) -> Iterator[dict[str, Any]]:
    """Which devices say which firmware, by maker and product."""
    found: dict[tuple[str, str, str], list[str]] = defaultdict(list)
    for each in devices:
        if each["firmware"]:
            about = (each["maker"] or "", each["product"] or "", each["firmware"])
            found[about].append(each["name"])
    for maker, product, version in sorted(found):
        names = found[maker, product, version]
        yield {"maker": maker, "product": product, "firmware": version, "names": names}


def switch_ports(plan: Plan, look: SeenLook | None) -> Iterator[dict[str, Any]]:
    """Who is behind which port of which switch, as the switches told."""
    if look is None:
        return
    called = {each.mac: each.called for each in map(read_device, look.written) if each.mac}

    def name(mac: Mac) -> str:
        row = plan.by_mac(mac)
        return str(row.name) if row is not None else called.get(str(mac), "") or str(mac)

    for switch in look.switches:
        at = plan.by_address(switch.address)
        own = str(at.name) if at is not None else str(switch.address)
        for port in sorted(switch.ports, key=lambda each: natural(each.name)):
            behind = [name(mac) for mac in port.behind]
            if behind or port.others:
                yield {"switch": own, "port": port.name, "names": behind, "others": port.others}


def conflicts(look: SeenLook | None) -> Iterator[dict[str, Any]]:
    """The addresses that several devices had in a look."""
    if look is None:
        return
    holders: dict[str, list[str]] = defaultdict(list)
    for device in map(read_device, look.written):
        for address in device.addresses if device.mac else ():
            holders[address].append(device.mac)
    several = {address: macs for address, macs in holders.items() if len(set(macs)) > 1}
    for address in sorted(several, key=natural)[:_MOST_CONFLICTS]:
        yield {"address": address, "macs": sorted(set(several[address]))}


def open_points(
    state: Standing, noted: Sequence[Note], shared: Iterable[Mapping[str, Any]]
) -> Iterator[dict[str, Any]]:
    """The open points of a site: of each row, of devices in none, and those that people noted.

    ``said`` names the words in which a customer is told (``words``), and ``values`` what stands in
    them; ``what`` and ``next`` are for the engineer.
    """
    for each in state.rows:
        if not each.is_done:
            yield _of_a_row(each)
    for stranger in state.unplanned:
        yield {
            "name": "",
            "said": "not planned",
            "values": {"device": stranger},
            "what": f"not in the plan: {stranger}",
            "next": "portcall plan take",
        }
    for conflict in shared:
        macs = " and ".join(conflict["macs"])
        yield {
            "name": "",
            "said": "shared",
            "values": {"address": conflict["address"], "macs": conflict["macs"]},
            "what": f"{conflict['address']}: {macs} have it",
            "next": f"portcall why {conflict['address']}",
        }
    for note in still_noted(noted):
        yield {
            "name": note.entry.name or note.entry.mac,
            "said": "noted",
            "values": {"text": note.text},
            "what": note.text,
            "next": "",
        }


def still_noted(noted: Iterable[Note]) -> list[Note]:
    """The notes that are open points, and that no later note of the same device calls done."""
    found: dict[tuple[str, str], Note] = {}
    for note in noted:
        about = (note.entry.name or note.entry.mac or note.entry.address, note.text)
        if note.is_open:
            found[about] = note
        elif note.is_done:
            found.pop(about, None)
    return list(found.values())


def _of_a_row(each: RowStanding) -> dict[str, Any]:
    because = each.open_because if each.is_right else None
    detail = because.sentence if because is not None else each.detail
    code = because.code if because is not None else each.code
    said = code if because is not None or code in _CODES else each.state.value
    if each.state is DeviceState.WRONG and said == each.state.value:
        said = each.detail.partition(":")[0]
    return {
        "name": str(each.row.name),
        "said": said,
        "values": dict(each.values) if because is None else {},
        "what": ": ".join(filter(None, (each.state.value, detail))),
        "next": str(each.next_line or ""),
    }


_CODES = ("differs", "is-at", "asks", "planned-since", "lost-its-address")
"""Findings for which there are words of their own; the others are told by their verdict."""
