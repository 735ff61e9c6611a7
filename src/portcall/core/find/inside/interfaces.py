"""The interfaces of a CIP device, by its TCP/IP interface and Ethernet link objects.

CIP volume 2 §5-4 and §5-5. ``tables`` asks the same by SNMP.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from ipaddress import IPv4Address, IPv4Interface
from typing import TypeVar

from portcall.core.cip.interface_object import MOST_INSTANCES, obtains
from portcall.core.cip.session import Part, Session, ask_by
from portcall.core.find import sentences as say
from portcall.core.find.sighting import Field, FoundPart, Method, PartState, said_by
from portcall.core.part_path import TOP, PartKind, PartPath
from portcall.core.printable import decoded
from portcall.core.talk.dialogue import Script
from portcall.core.wire import cip_link, cip_message, cip_tcpip
from portcall.core.wire.cip_route import Route
from portcall.core.wire.dhcp import prefix_length
from portcall.core.wire.octets import Malformed

T = TypeVar("T")


def interfaces(session: Session, route: Route = (), where: PartPath = TOP) -> Script[FoundPart]:
    """Tell of every interface of the device, or of the module that a route leads to.

    Each is told of when its address is known, and again with what else it says: a device that ends
    the connection at a question it does not like has said as much.
    """

    def get(object_class: int, number: int, attribute: int) -> Part[bytes]:
        wanted = cip_message.Request(object_class, number, attribute)
        response = yield from ask_by(session, wanted, route)
        told = response is not None and response.status == cip_message.SUCCESS
        return response.data if response is not None and told else b""

    own = cip_tcpip.TCP_IP_INTERFACE
    for instance in range(1, MOST_INSTANCES + 1):
        data = yield from get(own, instance, cip_tcpip.Attribute.CONFIGURATION)
        try:
            configuration = cip_tcpip.parse_configuration(data)
        except Malformed:
            return
        router = configuration.gateway if int(configuration.gateway) else None
        found = FoundPart(
            where.below(PartKind.PORT, instance),
            PartState.THERE,
            Method.CIP,
            said_by(Method.CIP, (Field.GATEWAY, router)),
            with_mask(configuration.address, configuration.mask),
        )
        yield found
        control = yield from get(own, instance, cip_tcpip.Attribute.CONTROL)
        comes = obtains(cip_tcpip.parse_word(control)) if control else None
        found = replace(found, said=(*found.said, *said_by(Method.CIP, (Field.OBTAINS, comes))))
        yield found
        path = yield from get(own, instance, cip_link.PHYSICAL_LINK)
        link = _read(cip_link.parse_link_path, path)
        if link is not None:
            yield (yield from _with_link(found, partial(get, cip_link.ETHERNET_LINK, link)))


def _with_link(found: FoundPart, get: Callable[[int], Part[bytes]]) -> Part[FoundPart]:
    """An interface with what its plug says: its MAC, its label, and whether something is in it."""
    mac = _read(cip_link.parse_mac, (yield from get(cip_link.Attribute.ADDRESS)))
    flags = yield from get(cip_link.Attribute.FLAGS)
    label = _read(cip_link.parse_label, (yield from get(cip_link.Attribute.LABEL)))
    is_out = bool(flags) and not cip_tcpip.parse_word(flags) & cip_link.LINK_IS_UP
    called = said_by(Method.CIP, (Field.NAME, decoded(label or b"")))
    return replace(
        found,
        state=PartState.NO_LINK if is_out else PartState.THERE,
        said=(*called, *found.said),
        macs=(mac,) if mac is not None else (),
        evidence=say.PORT_NO_LINK(port=found.path.number) if is_out else None,
    )


def _read(parse: Callable[[bytes], T], data: bytes) -> T | None:
    """What a parser makes of an attribute; None where there is none, or it is odd."""
    try:
        return parse(data) if data else None
    except Malformed:
        return None


def with_mask(address: IPv4Address, mask: IPv4Address) -> tuple[IPv4Interface, ...]:
    """An address with its mask, one of 32 bits for what is no mask; () for no address."""
    if not int(address):
        return ()
    prefix = prefix_length(mask)
    return (IPv4Interface((address, 32 if prefix is None else prefix)),)
