"""The modules in the rack of a CIP device, each asked through the backplane who it is.

An unconnected request to port 1 and each slot (volume 1 §3-5.5.4): nothing stays open in a module,
and nothing is set. A module with interfaces of its own tells them, too; and from one that is named,
the rack beyond it is asked, one step further.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from ipaddress import IPv4Address

from portcall.core.catalog.catalog import Codes
from portcall.core.cip.session import Session, ask_by, close_session, open_session
from portcall.core.find import sentences as say
from portcall.core.find.cip_identity import codes as codes_of
from portcall.core.find.cip_identity import said as plate_of
from portcall.core.find.inside.interfaces import interfaces
from portcall.core.find.sighting import FoundPart, Method, PartState, Said
from portcall.core.finding import Finding
from portcall.core.part_path import TOP, PartKind, PartPath
from portcall.core.talk.dialogue import Script
from portcall.core.wire import cip, cip_message, cip_route
from portcall.core.wire.cip_route import BACKPLANE, Hop, Route
from portcall.core.wire.octets import Malformed

USUAL_SLOTS = range(17)
"""The largest racks have so many."""

_NETWORK = 2
"""The port of a communications module that goes to its network."""

_WHO = cip_message.Request(cip_message.IDENTITY, 1, None, cip_message.GET_ATTRIBUTES_ALL)


def interfaces_script() -> Script[FoundPart]:
    """Tell of the interfaces of a device."""
    session = yield from open_session()
    if session is not None:
        yield from interfaces(session)
        yield from close_session(session)


def rack_script(
    slots: Iterable[int] | None = None, beyond: Mapping[int, Sequence[IPv4Address]] | None = None
) -> Script[FoundPart]:
    """Tell of every slot of a device's rack, if it has one, and of the interfaces of modules.

    ``slots`` are those to ask, all of a large rack where that is None; ``beyond`` are the addresses
    of further racks, by the slot of the module whose network they are on.
    """
    session = yield from open_session()
    if session is None:
        return
    wanted = tuple(USUAL_SLOTS if slots is None else slots)
    yield from _rack(session, (), TOP, wanted)
    for slot, addresses in (beyond or {}).items():
        for address in addresses:
            route = (Hop(BACKPLANE, slot), Hop(_NETWORK, address))
            where = TOP.below(PartKind.SLOT, slot).below(PartKind.AT, int(address))
            yield from _rack(session, route, where, wanted)
    yield from close_session(session)


def _rack(session: Session, way: Route, where: PartPath, slots: Sequence[int]) -> Script[FoundPart]:
    """Every slot of one rack; nothing of a device that has no backplane."""
    for slot in slots:
        route = (*way, Hop(BACKPLANE, slot))
        path = where.below(PartKind.SLOT, slot)
        response = yield from ask_by(session, _WHO, route)
        if response is not None and _has_no_rack(response, bool(way)):
            return
        yield _module(path, response, way)
        if response is not None and response.status == cip_message.SUCCESS:
            yield from interfaces(session, route, path)


def _has_no_rack(response: cip_message.Response, is_beyond: bool) -> bool:
    """Whether an answer says that there is nothing to send on to: no such service, or no port."""
    if response.status == cip_message.CONNECTION_FAILURE:
        return response.extended == cip_route.NO_PORT and not is_beyond
    return response.status != cip_message.SUCCESS and not is_beyond


def _module(path: PartPath, response: cip_message.Response | None, way: Route) -> FoundPart:
    slot = path.number
    state, said, codes = PartState.SILENT, tuple[Said, ...](), None
    evidence: Finding | None = say.SLOT_SILENT(slot=slot)
    if response is not None:
        state = PartState.NOT_THERE
        evidence = say.SLOT_NOT_THERE(slot=slot, status=response.status, extended=response.extended)
    if response is not None and response.extended == cip_route.TO_ITSELF:
        state, evidence = PartState.THERE, say.SLOT_OF_ITSELF(slot=slot)
    elif response is not None and response.status == cip_message.SUCCESS:
        state, evidence = PartState.THERE, None
        said, codes = _identity(response.data)
    return FoundPart(path, state, Method.CIP, said, codes=codes, evidence=evidence)


def _identity(data: bytes) -> tuple[tuple[Said, ...], Codes | None]:
    try:
        identity = cip.parse_attributes(data)
    except Malformed:
        return (), None
    return plate_of(identity), codes_of(identity)
