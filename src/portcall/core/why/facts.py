"""The evidence in single facts.

``grounds`` says which of them a cause needs. A fact is there when it was looked for and seen; that
it is not there says nothing.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from enum import Enum

from portcall.core.find.sighting import Method, PartState
from portcall.core.part_path import PartKind
from portcall.core.talk.door_knock import DoorState
from portcall.core.why.evidence import (
    FEW_LOST,
    NOBODY,
    EchoSeen,
    FromInside,
    LinkSeen,
    Situation,
    Sought,
    Trial,
    WireSeen,
    WordSeen,
)
from portcall.core.why.ladder import Goal
from portcall.core.why.parts import PartSeen


@dataclass(slots=True)
class ClimbSeen:
    """All that a climb has seen until now; None where it has not looked yet."""

    goal: Goal
    link: LinkSeen | None = None
    here: Situation | None = None
    wire: WireSeen = field(default_factory=lambda: WireSeen(None))
    plates_differ: bool = False
    sought: Sought | None = None
    trial: Trial = field(default_factory=Trial)
    inside: FromInside | None = None
    echo: EchoSeen | None = None
    words: Sequence[WordSeen] = ()
    proxies_for_pages: bool = False
    part: PartSeen | None = None


class Fact(Enum):
    """One thing that was seen; the value is what it says."""

    LINK_OUT = "the adapter has no link"
    ADAPTER_OFF = "the adapter is switched off or gone"
    LINK_STAYED = "the link did not change while it was watched"
    LINK_LOST = "the link was lost while it was watched"
    NO_OWN_ADDRESS = "the adapter has no address"
    OUTSIDE = "the address is in no subnet of the adapter, and no route leads there by it"
    ANSWERS_ARP = "somebody answers ARP for it on this wire, asked just now"
    SILENT_TO_ARP = "nobody answers ARP for it, asked again and again for seconds"
    OWN_ANSWERED = "somebody else answers ARP for this computer's own address"
    SENT_ELSEWHERE = "this computer sends what is for it by another adapter, or nowhere"
    OTHER_WAY_SILENT = "by another adapter it is not reached either, or there is no other way"
    DIRECT = "no router is between"
    ROUTED = "a router is between"
    NO_FIXED_ENTRY = "this computer's ARP table has nothing fixed for it"
    FIXED_OTHERWISE = "this computer's ARP table has another MAC for it, fixed"
    ONE_MAC = "one MAC answers for it"
    SEVERAL_MACS = "several MACs answer for it"
    SEVERAL_DEVICES = "they say that they are different devices, or each answers by itself alone"
    ANOTHER_MAC = "the MAC that answers is not the planned one"
    FOR_IT_ALONE = "the MAC that answers does not answer for other addresses too"
    MAC_NOT_HEARD = "the planned MAC was looked for, and not heard"
    ALL_SEARCHED = "every address of the subnets here was asked"
    NO_MAC_PLANNED = "no MAC is planned, so it cannot be looked for elsewhere"
    MAC_ELSEWHERE = "the planned MAC is at another address"
    MAC_ASKS = "the planned MAC asks for an address"
    MAC_UNSET = "the planned MAC answers DCP, and has no address"
    NOTHING_CAME = "no echo and no door was answered"
    SENDING_FORBIDDEN = "this computer refuses to send what is for it"
    NOTHING_LEFT = "nothing that was sent left the adapter"
    NEIGHBOUR_KNOWN = "this computer has the MAC to send to"
    CAME_TO_ADAPTER = "answers came to the adapter, and to no program"
    CAME_ELSEWHERE = "answers came to another adapter"
    WATCHED = "the adapter was watched"
    NONE_CAME_TO_ADAPTER = "the adapter was watched, and no answer came to it"
    SOURCES_FILTERED = "where answers came in, addresses are not let in that belong elsewhere"
    SOURCES_NOT_FILTERED = "where answers came in, no address is out of place"
    NO_WAY_ON = "a router on the way says that it has no way on"
    IN_A_CIRCLE = "a router on the way says that the packet was passed on too often"
    NOBODY_FOUND = "a router on the way says that it finds nobody"
    ROUTER_STANDS_THERE = "that router has an address in the same subnet"
    TOOK_AS_LONG_AS_ARP = "it said so after the time that asking by ARP takes"
    MASK_LEAVES_OUT = "the mask that the device says it has leaves this computer out"
    NO_ECHO = "no echo came back"
    ANSWERS_OTHERWISE = "a door of it was answered"
    LOST = "echoes were lost"
    LOST_BY_CHANCE = "they were lost as by chance, or also when sent one a second"
    LONG_ONES_LOST = "small echoes came back, and none of full length"
    NO_MTU_TOLD = "nobody on the way says how long a packet may be"
    FULL_SEGMENT_LOST = "a full segment by TCP was not taken"
    DOOR_REFUSED = "the door was refused"
    DOOR_RESET = "the device itself refused the door"
    DOOR_SILENT = "nothing came back from the door"
    DOOR_KNOCKED = "the attempt left the adapter, and no answer came to it"
    DOOR_KEPT = "the attempt did not leave the adapter"
    DOOR_ANSWER_DROPPED = "the door's answer came to the adapter, and to no program"
    OTHER_WORDS = "what is said behind the door is not its protocol"
    PROXY_FOR_PAGES = "a proxy is set for a page that is open"
    UNIT_NOT_THERE = "the gateway says that the unit does not answer"
    OTHER_UNIT_ANSWERS = "another unit of the same gateway answers"
    NO_OTHER_UNIT = "other units of the same gateway were asked, and none answers"
    SLOT_NOT_THERE = "the rack says that nothing can be reached in the slot"
    PORT_HAS_NO_LINK = "the device says that the port has no link"


def facts(seen: ClimbSeen) -> frozenset[Fact]:
    """All that holds."""
    every = (_of_link, _of_this_computer, _of_wire, _of_search, _of_way_back, _of_errors)
    above = (_of_echo, _of_door)
    found = {fact for each in (*every, *above) for fact in each(seen)}
    if any(word.known and word.raw and not word.identity for word in seen.words):
        found.add(Fact.OTHER_WORDS)
    if seen.proxies_for_pages:
        found.add(Fact.PROXY_FOR_PAGES)
    return frozenset((*found, *_of_part(seen.part)))


_OF_PARTS = {
    (PartKind.UNIT, PartState.NOT_THERE): Fact.UNIT_NOT_THERE,
    (PartKind.SLOT, PartState.NOT_THERE): Fact.SLOT_NOT_THERE,
    (PartKind.PORT, PartState.NO_LINK): Fact.PORT_HAS_NO_LINK,
}


def _of_part(seen: PartSeen | None) -> Iterator[Fact]:
    if seen is None or seen.part is None:
        return
    fact = _OF_PARTS.get((seen.part.path.kind, seen.part.state))
    if fact is not None:
        yield fact
    if seen.answering:
        yield Fact.OTHER_UNIT_ANSWERS
    elif seen.others:
        yield Fact.NO_OTHER_UNIT


def _of_link(seen: ClimbSeen) -> Iterator[Fact]:
    link = seen.link
    if link is None:
        return
    adapter = link.adapter
    if not (link.is_there and adapter.up):
        yield Fact.ADAPTER_OFF
    elif not adapter.link:
        yield Fact.LINK_OUT
    yield Fact.LINK_LOST if link.losses else Fact.LINK_STAYED


def _of_this_computer(seen: ClimbSeen) -> Iterator[Fact]:
    here = seen.here
    if here is None:
        return
    adapter, way, goal = here.adapter, here.way, seen.goal.address
    if not adapter.interfaces:
        yield Fact.NO_OWN_ADDRESS
    by_it = way.adapter == adapter.name
    if adapter.interfaces and not (
        by_it or adapter.on_subnet_of(goal) or adapter.any_route_to(goal)
    ):
        yield Fact.OUTSIDE
    if not by_it:
        yield Fact.SENT_ELSEWHERE
    if here.other_way_answers is False or by_it or way.adapter is None:
        yield Fact.OTHER_WAY_SILENT
    yield Fact.DIRECT if way.router is None else Fact.ROUTED


def _of_wire(seen: ClimbSeen) -> Iterator[Fact]:
    here, wire = seen.here, seen.wire
    if here is None or wire.answers is None:
        return
    adapter = here.adapter
    ours = {each.mac for each in (adapter, *here.adapters)}
    if any(mac not in ours for own in adapter.interfaces for mac in wire.macs(own.ip)):
        yield Fact.OWN_ANSWERED
    first = here.first(seen.goal.address)
    macs, fixed = wire.macs(first), here.fixed.get(first)
    if fixed is None:
        yield Fact.NO_FIXED_ENTRY
    elif macs and fixed not in macs:
        yield Fact.FIXED_OTHERWISE
    if wire.macs(seen.goal.address) and not wire.is_remembered(seen.goal.address):
        yield Fact.ANSWERS_ARP
    if not macs:
        yield Fact.SILENT_TO_ARP
    elif len(macs) == 1:
        yield Fact.ONE_MAC
    else:
        yield Fact.SEVERAL_MACS
        differ = seen.plates_differ or wire.each_answers_alone(macs)
        if differ and not wire.is_one_device(macs):
            yield Fact.SEVERAL_DEVICES
    planned = here.row.mac if here.row is not None else None
    if planned is not None and len(macs) == 1 and macs[0] != planned:
        yield Fact.ANOTHER_MAC
        if not wire.answers_for_others(macs[0], first):
            yield Fact.FOR_IT_ALONE


def _of_search(seen: ClimbSeen) -> Iterator[Fact]:
    here, sought = seen.here, seen.sought
    if here is None:
        return
    mac = here.row.mac if here.row is not None else None
    if mac is None:
        yield Fact.NO_MAC_PLANNED
        return
    if sought is None or sought.devices is None:
        return
    if not sought.too_large:
        yield Fact.ALL_SEARCHED
    own = next((device for device in sought.devices if device.mac == mac), None)
    if own is None:
        yield Fact.MAC_NOT_HEARD
    elif any(address != seen.goal.address for address in own.addresses):
        yield Fact.MAC_ELSEWHERE
    elif own.asks:
        yield Fact.MAC_ASKS
    elif Method.DCP in own.methods:
        yield Fact.MAC_UNSET
    else:
        yield Fact.MAC_NOT_HEARD


def _of_way_back(seen: ClimbSeen) -> Iterator[Fact]:
    here, trial, inside = seen.here, seen.trial, seen.inside
    if here is None:
        return
    if trial.seen_out is not None:
        yield Fact.WATCHED
    if not trial.came_back:
        yield Fact.NOTHING_CAME
    if trial.refused is not None:
        yield Fact.SENDING_FORBIDDEN
    if trial.seen_out == 0:
        yield Fact.NOTHING_LEFT
    if trial.neighbour_known:
        yield Fact.NEIGHBOUR_KNOWN
    # An answer that went to another program does not prove that this one got none.
    dropped = trial.echoes_in if trial.came_back else trial.seen_in
    if dropped and not trial.answered:
        yield Fact.CAME_TO_ADAPTER
        elsewhere = here.adapter.name in trial.strict and here.way.adapter != here.adapter.name
        yield Fact.SOURCES_FILTERED if elsewhere else Fact.SOURCES_NOT_FILTERED
    elif trial.seen_in is not None:
        yield Fact.NONE_CAME_TO_ADAPTER
    if trial.elsewhere:
        yield Fact.CAME_ELSEWHERE
        if any(name in trial.strict for name in trial.elsewhere):
            yield Fact.SOURCES_FILTERED
    if inside is not None and inside.leaves_out(here.way.source, seen.goal.address):
        yield Fact.MASK_LEAVES_OUT


def _of_errors(seen: ClimbSeen) -> Iterator[Fact]:
    here, trial = seen.here, seen.trial
    error = here.believed(trial.errors, seen.goal.address) if here is not None else None
    if error is None or here is None or here.way.router is None:
        return
    if error.expired:
        yield Fact.IN_A_CIRCLE
    elif error.said == NOBODY:
        yield Fact.NOBODY_FOUND
        if trial.stands_there == error.by:
            yield Fact.ROUTER_STANDS_THERE
        same = [each.seconds for each in trial.errors if each[:2] == error[:2]]
        if max(same) >= LONG_AS_ARP:
            yield Fact.TOOK_AS_LONG_AS_ARP
    elif error.said == "network unreachable":
        yield Fact.NO_WAY_ON


LONG_AS_ARP = 0.5
"""Seconds: who looks for somebody by ARP asks for a second and longer before he gives up (RFC 1122
§2.3.2.1); a rule says at once what it is told to."""


def _of_echo(seen: ClimbSeen) -> Iterator[Fact]:
    trial, echo = seen.trial, seen.echo
    if not trial.answered:
        yield Fact.NO_ECHO
    if trial.settled_doors:
        yield Fact.ANSWERS_OTHERWISE
    if echo is None:
        return
    if echo.sent - echo.received >= FEW_LOST and not echo.is_limited:
        yield Fact.LOST
        if echo.by_chance or 0 < echo.slow_sent != echo.slow_received:
            yield Fact.LOST_BY_CHANCE
    if echo.large_sent and not echo.large_received:
        yield Fact.LONG_ONES_LOST
        if echo.mtu_told is None:
            yield Fact.NO_MTU_TOLD
        if echo.full_taken is False:
            yield Fact.FULL_SEGMENT_LOST


def _of_door(seen: ClimbSeen) -> Iterator[Fact]:
    trial, port = seen.trial, seen.goal.port
    if port is None or port not in trial.doors:
        return
    watched = trial.seen_out is not None
    if trial.doors[port] is DoorState.REFUSED:
        yield Fact.DOOR_REFUSED
        if port in trial.ports_in:
            yield Fact.DOOR_RESET
    if trial.doors[port] is not DoorState.SILENT:
        return
    yield Fact.DOOR_SILENT
    if watched and port in trial.ports_in:
        yield Fact.DOOR_ANSWER_DROPPED
    elif watched and port not in trial.ports_out:
        yield Fact.DOOR_KEPT
    elif watched and port not in trial.forbidden:
        yield Fact.DOOR_KNOCKED
