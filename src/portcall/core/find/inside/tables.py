"""The interfaces of a device by SNMP: its interface table, and which address each has.

RFC 2863 §6 (ifTable) and RFC 4293 §5 (ipAddrTable, which old devices have, and new ones still do).
"""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Interface

from portcall.core.find import sentences as say
from portcall.core.find.inside.interfaces import with_mask
from portcall.core.find.sighting import Field, FoundPart, Method, PartState, said_by
from portcall.core.find.snmp_walk import Reading, Rows, column
from portcall.core.find.switch_tables import mac_of
from portcall.core.part_path import HIGHEST, TOP, PartKind
from portcall.core.printable import decoded
from portcall.core.wire import snmp

_MOST_PORTS = 256


def interface_tables() -> Reading[list[FoundPart]]:
    """Every interface that has an address or a MAC, but the one that leads to itself."""
    kinds, _ = yield from column(snmp.INTERFACE_TYPE)
    if not kinds:
        return None
    macs, _ = yield from column(snmp.INTERFACE_ADDRESS)
    states, _ = yield from column(snmp.INTERFACE_STATUS)
    names, _ = yield from column(snmp.INTERFACE_NAME)
    if not names:
        names, _ = yield from column(snmp.INTERFACE_DESCRIPTION)
    holders, _ = yield from column(snmp.ADDRESS_INTERFACE)
    masks, _ = yield from column(snmp.ADDRESS_MASK)
    addresses: dict[str, list[IPv4Interface]] = {}
    for address, holder in holders.items():
        addresses.setdefault(str(holder), []).extend(_interface(address, masks))
    found = []
    for index, kind in list(kinds.items())[:_MOST_PORTS]:
        mac, own = mac_of(macs.get(index)), addresses.get(index, ())
        if kind == snmp.LOOPBACK or not (mac or own) or not _is_number(index):
            continue
        name = names.get(index)
        called = decoded(name) if isinstance(name, bytes) else None
        is_out = states.get(index) == snmp.IS_DOWN
        found.append(
            FoundPart(
                TOP.below(PartKind.PORT, int(index)),
                PartState.NO_LINK if is_out else PartState.THERE,
                Method.SNMP,
                said_by(Method.SNMP, (Field.NAME, called)),
                tuple(own),
                (mac,) if mac is not None else (),
                evidence=say.PORT_NO_LINK(port=int(index)) if is_out else None,
            )
        )
    return found


def _interface(address: str, masks: Rows) -> tuple[IPv4Interface, ...]:
    """An address of the table with its mask; () where it is none."""
    mask = masks.get(address)
    try:
        told = IPv4Address(address)
    except ValueError:
        return ()
    return with_mask(told, mask if isinstance(mask, IPv4Address) else IPv4Address(2**32 - 1))


def _is_number(index: str) -> bool:
    return index.isdecimal() and 0 < int(index[:9]) <= HIGHEST[PartKind.PORT]
