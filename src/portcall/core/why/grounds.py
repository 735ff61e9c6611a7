"""Which facts each cause needs, and which exclude each of its neighbours.

A neighbour is what else could be broken, or nothing at all, where the same is seen at first. A
cause is named when all that it needs was seen, and for each neighbour something that excludes it.
Else it is not decided, and what is left is told (``weigh``).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import TypeAlias

from portcall.core.address import assumed_network
from portcall.core.finding import Line
from portcall.core.why import sentences as say
from portcall.core.why.facts import Fact
from portcall.core.why.ladder import Advice, Cause, Conclusion, Goal, Step


class Innocent(StrEnum):
    """Situations that are no fault, or none of this list, and look like one at first."""

    FIXED_ENTRY = "this computer's own ARP table has it fixed, and it is reached by that"
    OTHER_WAY = "it is reached by another adapter"
    ONE_DEVICE = "it is one device with two plugs on this wire"
    ANSWERS_FOR_IT = "a router answers ARP for it"
    FILTER_SAYS_SO = "a filter says so, and not a router that looked for it"
    COUNTED = "it answers only so many echoes a second"
    NO_LONG_ECHOES = "it answers no long echoes, and takes long frames all the same"
    MTU_TOLD = "the way is told to be narrow, and programs heed that"
    AMONG_MANY = "it is at another address of a subnet that is too large to look through"
    FILTER_REFUSES = "a filter on the way or in this computer refuses it, and not the device"
    OLD_MEMORY = "this computer's ARP table remembers somebody who is gone"


Neighbour: TypeAlias = Cause | Innocent

AnyOf: TypeAlias = frozenset[Fact]


def any_of(*facts: Fact) -> AnyOf:
    """One of these is enough."""
    return frozenset(facts)


@dataclass(frozen=True, slots=True)
class Grounds:
    """One way of knowing a cause: all of ``needs``, and for each neighbour one that excludes it."""

    needs: tuple[AnyOf, ...]
    excluded: Mapping[Neighbour, AnyOf] = field(default_factory=dict)

    def are_met(self, seen: frozenset[Fact]) -> bool:
        """Whether all was seen that it needs."""
        return all(each & seen for each in self.needs)

    def left(self, seen: frozenset[Fact]) -> tuple[Neighbour, ...]:
        """The neighbours that nothing excludes."""
        return tuple(other for other, by in self.excluded.items() if not by & seen)


_F = Fact
_WATCHED: Mapping[Neighbour, AnyOf] = {
    Cause.FIREWALL_IN: any_of(_F.NONE_CAME_TO_ADAPTER),
}

GROUNDS: Mapping[Cause, tuple[Grounds, ...]] = {
    Cause.NO_LINK: (
        Grounds((any_of(_F.ADAPTER_OFF),)),
        Grounds((any_of(_F.LINK_OUT),), {Cause.FLAPPING: any_of(_F.LINK_STAYED)}),
    ),
    Cause.FLAPPING: (Grounds((any_of(_F.LINK_LOST),)),),
    Cause.NO_ADDRESS: (Grounds((any_of(_F.NO_OWN_ADDRESS),)),),
    Cause.OTHER_SUBNET: (
        Grounds((any_of(_F.OUTSIDE),), {Cause.NO_ROUTER: any_of(_F.ANSWERS_ARP)}),
    ),
    Cause.NO_ROUTER: (
        Grounds(
            (any_of(_F.OUTSIDE),),
            {
                Cause.OTHER_SUBNET: any_of(_F.SILENT_TO_ARP),
                Innocent.OTHER_WAY: any_of(_F.OTHER_WAY_SILENT),
            },
        ),
    ),
    Cause.OWN_ADDRESS_TAKEN: (Grounds((any_of(_F.OWN_ANSWERED),)),),
    Cause.ROUTE_ELSEWHERE: (Grounds((any_of(_F.SENT_ELSEWHERE),)),),
    Cause.FIXED_NEIGHBOUR: (
        Grounds((any_of(_F.FIXED_OTHERWISE),), {Cause.ADDRESS_SHARED: any_of(_F.ONE_MAC)}),
    ),
    Cause.ROUTER_SILENT: (
        Grounds(
            (any_of(_F.ROUTED), any_of(_F.SILENT_TO_ARP)),
            {Innocent.FIXED_ENTRY: any_of(_F.NO_FIXED_ENTRY)},
        ),
    ),
    Cause.NOBODY_THERE: (
        Grounds(
            (any_of(_F.DIRECT), any_of(_F.SILENT_TO_ARP)),
            {
                Innocent.FIXED_ENTRY: any_of(_F.NO_FIXED_ENTRY),
                Cause.MOVED: any_of(_F.MAC_NOT_HEARD, _F.NO_MAC_PLANNED),
                Cause.ASKING: any_of(_F.MAC_NOT_HEARD, _F.NO_MAC_PLANNED),
                Cause.UNSET: any_of(_F.MAC_NOT_HEARD, _F.NO_MAC_PLANNED),
                Innocent.AMONG_MANY: any_of(_F.ALL_SEARCHED, _F.NO_MAC_PLANNED),
            },
        ),
        Grounds(
            (any_of(_F.ROUTED), any_of(_F.NOBODY_FOUND)),
            {
                Cause.STOPS_AT_HOP: any_of(_F.ROUTER_STANDS_THERE),
                Innocent.FILTER_SAYS_SO: any_of(_F.TOOK_AS_LONG_AS_ARP),
            },
        ),
    ),
    Cause.MOVED: (Grounds((any_of(_F.SILENT_TO_ARP), any_of(_F.MAC_ELSEWHERE))),),
    Cause.ASKING: (Grounds((any_of(_F.SILENT_TO_ARP), any_of(_F.MAC_ASKS))),),
    Cause.UNSET: (
        Grounds(
            (any_of(_F.SILENT_TO_ARP), any_of(_F.MAC_UNSET)),
            {Cause.ASKING: any_of(_F.MAC_UNSET)},
        ),
    ),
    Cause.WRONG_DEVICE: (
        Grounds(
            (any_of(_F.ANOTHER_MAC),),
            {
                Cause.ADDRESS_SHARED: any_of(_F.ONE_MAC),
                Innocent.OLD_MEMORY: any_of(_F.ANSWERS_ARP),
                Innocent.ANSWERS_FOR_IT: any_of(_F.FOR_IT_ALONE),
            },
        ),
    ),
    Cause.ADDRESS_SHARED: (
        Grounds(
            (any_of(_F.SEVERAL_MACS),),
            {Innocent.ONE_DEVICE: any_of(_F.SEVERAL_DEVICES)},
        ),
    ),
    Cause.FIREWALL_OUT: (
        Grounds((any_of(_F.SENDING_FORBIDDEN),)),
        Grounds((any_of(_F.DOOR_KEPT),)),
        # The kernel sends nothing to a host whose MAC it does not learn, perhaps for an ARP rule.
        Grounds((any_of(_F.NOTHING_LEFT),), {Cause.FIREWALL_IN: any_of(_F.NEIGHBOUR_KNOWN)}),
    ),
    Cause.FIREWALL_IN: (
        Grounds(
            (any_of(_F.CAME_TO_ADAPTER, _F.DOOR_ANSWER_DROPPED),),
            {Cause.RETURN_FILTERED: any_of(_F.SOURCES_NOT_FILTERED, _F.DOOR_ANSWER_DROPPED)},
        ),
    ),
    Cause.RETURN_FILTERED: (
        Grounds(
            (any_of(_F.CAME_TO_ADAPTER, _F.CAME_ELSEWHERE), any_of(_F.SOURCES_FILTERED)),
        ),
    ),
    Cause.STOPS_AT_HOP: (Grounds((any_of(_F.NO_WAY_ON, _F.IN_A_CIRCLE),)),),
    Cause.MASK: (
        Grounds(
            (any_of(_F.NOTHING_CAME), any_of(_F.DIRECT), any_of(_F.MASK_LEAVES_OUT)),
            {Cause.FIREWALL_IN: any_of(_F.NONE_CAME_TO_ADAPTER)},
        ),
    ),
    Cause.PING_IGNORED: (Grounds((any_of(_F.NO_ECHO), any_of(_F.ANSWERS_OTHERWISE)), _WATCHED),),
    Cause.DOOR_CLOSED: (
        Grounds(
            (any_of(_F.DOOR_REFUSED),),
            {Innocent.FILTER_REFUSES: any_of(_F.DOOR_RESET)},
        ),
    ),
    Cause.DOOR_SILENT: (
        Grounds(
            (any_of(_F.DOOR_SILENT),),
            {
                Cause.FIREWALL_IN: any_of(_F.DOOR_KNOCKED),
                Cause.FIREWALL_OUT: any_of(_F.DOOR_KNOCKED),
            },
        ),
    ),
    Cause.SPEAKS_OTHERWISE: (Grounds((any_of(_F.OTHER_WORDS),)),),
    Cause.PROXY: (Grounds((any_of(_F.PROXY_FOR_PAGES),)),),
    Cause.LOSSY: (Grounds((any_of(_F.LOST),), {Innocent.COUNTED: any_of(_F.LOST_BY_CHANCE)}),),
    Cause.LARGE_LOST: (
        Grounds(
            (any_of(_F.LONG_ONES_LOST),),
            {
                Innocent.NO_LONG_ECHOES: any_of(_F.FULL_SEGMENT_LOST),
                Innocent.MTU_TOLD: any_of(_F.NO_MTU_TOLD),
            },
        ),
    ),
    Cause.UNIT_SILENT: (
        Grounds(
            (any_of(_F.UNIT_NOT_THERE),),
            {Cause.LINE_SILENT: any_of(_F.OTHER_UNIT_ANSWERS)},
        ),
    ),
    # That no unit answers may be each unit's own fault: it is one of two, and never named alone.
    Cause.LINE_SILENT: (
        Grounds(
            (any_of(_F.UNIT_NOT_THERE), any_of(_F.NO_OTHER_UNIT)),
            {Cause.UNIT_SILENT: frozenset()},
        ),
    ),
    Cause.SLOT_EMPTY: (Grounds((any_of(_F.SLOT_NOT_THERE),)),),
    Cause.PORT_NO_LINK: (Grounds((any_of(_F.PORT_HAS_NO_LINK),)),),
}

_MEANS: Mapping[Neighbour, str] = {
    Cause.NO_ROUTER: "it is behind a router that is not set here",
    Cause.OTHER_SUBNET: "it is on this wire, in another subnet",
    Cause.MOVED: "it is at another address",
    Cause.ASKING: "it has no address and asks for one",
    Cause.UNSET: "it has no address and does not ask",
    Cause.ADDRESS_SHARED: "two devices have the address",
    Cause.STOPS_AT_HOP: "the router does not find the next router on the way",
    Cause.FIREWALL_IN: "this computer's own firewall drops what comes back",
    Cause.FIREWALL_OUT: "this computer's own firewall does not let it out",
    Cause.RETURN_FILTERED: "this computer drops answers that come in where it does not expect them",
    Cause.FLAPPING: "the link comes and goes",
}


def _as_root(goal: Goal) -> Advice:
    return Line("why", *goal.typed, as_root=True)


def _how_far(goal: Goal) -> Advice:
    return say.SHOWS_HOW_FAR(trace=Line("trace", goal.address))


_TELLS: Mapping[Neighbour, Callable[[Goal], Advice]] = {
    Cause.STOPS_AT_HOP: _how_far,
    Innocent.FILTER_SAYS_SO: _how_far,
    Innocent.ONE_DEVICE: lambda goal: say.PULL_ONE_PLUG(),
    Innocent.ANSWERS_FOR_IT: lambda goal: say.WHO_ANSWERS_FOR(find=Line("find", goal.address)),
    Innocent.AMONG_MANY: lambda goal: say.LOOK_AROUND(
        find=Line("find", assumed_network(goal.address))
    ),
    Innocent.COUNTED: lambda goal: say.SHOWS_PATTERN(reach=Line("reach", goal.name, "--watch")),
    Innocent.NO_LONG_ECHOES: lambda goal: say.IF_PAGES_HANG(),
    **dict.fromkeys(
        (
            *(Cause.MOVED, Cause.ASKING, Cause.UNSET, Cause.OTHER_SUBNET, Cause.NO_ROUTER),
            *(Cause.FIREWALL_IN, Cause.FIREWALL_OUT, Cause.RETURN_FILTERED),
            *(Innocent.OLD_MEMORY, Innocent.FILTER_REFUSES),
        ),
        _as_root,
    ),
}
"""What tells whether it is this neighbour, and does no harm."""


def weigh(step: Step, seen: frozenset[Fact], goal: Goal) -> Step:
    """The step as it is, when its cause is named with reason; else one that is not decided."""
    concluded = step.conclusion
    if concluded is None or concluded.cause is None:
        return step
    met = [grounds for grounds in GROUNDS[concluded.cause] if grounds.are_met(seen)]
    left = min((grounds.left(seen) for grounds in met), key=len, default=None)
    if left == ():
        return step
    return replace(step, conclusion=_undecided(concluded, left or (), seen, goal))


def _undecided(
    concluded: Conclusion,
    left: tuple[Neighbour, ...],
    seen: frozenset[Fact],
    goal: Goal,
) -> Conclusion:
    assert concluded.cause is not None
    tells = [_TELLS[each] for each in left if each in _TELLS]
    if Fact.WATCHED in seen:
        # With every right already, only a look at the rules of this computer tells more.
        tells = [_look_at_rules if each is _as_root else each for each in tells]
    do = tuple(dict.fromkeys(tell(goal) for tell in tells)) or (Line("why", *goal.typed),)
    return Conclusion(
        None,
        concluded.finding,
        do,
        (concluded.cause, *(each for each in left if isinstance(each, Cause))),
        tuple(_MEANS.get(each, str(each)) for each in left),
        is_proved=False,
    )


def _look_at_rules(goal: Goal) -> Advice:
    return say.RULE_OF_ADDRESS(address=goal.address)
