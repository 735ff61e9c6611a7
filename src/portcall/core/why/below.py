"""The rungs of this computer: its link, its own address, and the way that its packets take."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter, AdapterKind, Origin
from portcall.core.address import SELF_ASSIGNED, assumed_network
from portcall.core.finding import Finding, Line, Value
from portcall.core.why import sentences as say
from portcall.core.why.evidence import LinkSeen, Situation, WireSeen
from portcall.core.why.ladder import Advice, Cause, Goal, Rung, Step, broken, holds

_OFTEN = 3
"""Losses since the adapter is there that are worth a word."""

_NOTICEABLE = 0.1
"""Seconds of waiting for a link that are worth a word."""


def judge_link(seen: LinkSeen) -> Step:
    """Whether the adapter has a link that stays."""
    adapter, name = seen.adapter, seen.adapter.name
    if not seen.is_there:
        return broken(
            Rung.LINK,
            say.ADAPTER_GONE(adapter=name),
            Cause.NO_LINK,
            say.IS_GONE(adapter=name),
            say.PLUG_IN_AGAIN(),
            Line("adapters"),
        )
    if not adapter.up:
        return broken(
            Rung.LINK,
            say.ADAPTER_OFF(adapter=name),
            Cause.NO_LINK,
            say.IS_OFF(adapter=name),
            say.SWITCH_ON(adapter=name),
        )
    before = seen.losses_ever if seen.losses_ever >= _OFTEN else None
    watched = seen.watched if seen.watched >= _NOTICEABLE else None
    if seen.losses:
        times: dict[str, Value] = {"adapter": name, "losses": seen.losses, "watched": seen.watched}
        return broken(
            Rung.LINK,
            say.LINK_LOST(**times),
            Cause.FLAPPING,
            say.COMES_AND_GOES(**times),
            say.OTHER_CABLE(),
            say.FAR_END_RESTARTS(),
        )
    if not adapter.link:
        return broken(
            Rung.LINK,
            say.LINK_OUT(adapter=name, watched=watched, losses_before=before),
            Cause.NO_LINK,
            say.HAS_NO_LINK(adapter=name),
            say.CABLE_AT_BOTH_ENDS(),
            say.POWER_AT_OTHER_END(),
            say.PLUG_HOME(),
            say.OTHER_END_ON(),
        )
    return holds(
        Rung.LINK,
        say.LINK_UP(
            adapter=name,
            watched=watched,
            speed=adapter.speed_words,
            losses_before=before,
            errors=seen.errors or None,
        ),
    )


def judge_own_address(goal: Goal, here: Situation, wire: WireSeen) -> Step:
    """Whether this computer has an address of its own from which the goal can be reached."""
    adapter, target = here.adapter, goal.address
    match = Line("match", goal.name)
    if not adapter.interfaces:
        heard = [say.HEARD(network=each, count=count) for each, count in wire.heard.items()]
        return broken(
            Rung.OWN_ADDRESS,
            say.NO_OWN_ADDRESS(
                adapter=adapter.name,
                address=target,
                answered=bool(wire.macs(target)),
                heard=heard,
            ),
            Cause.NO_ADDRESS,
            say.NOTHING_CAN_BE_SENT(adapter=adapter.name),
            match,
            *_by_dhcp(wire, target),
        )
    own = adapter.on_subnet_of(target)
    # Of two adapters of one computer on one wire, each answers for the other's address.
    ours = {each.mac for each in (adapter, *here.adapters)}
    for interface in adapter.interfaces if own is None else (own,):
        rivals = [mac for mac in wire.macs(interface.ip) if mac not in ours]
        if rivals:
            named = [here.plan.named(each) for each in rivals]
            return broken(
                Rung.OWN_ADDRESS,
                say.OWN_ANSWERED(own=interface.ip, rivals=named),
                Cause.OWN_ADDRESS_TAKEN,
                say.OWN_TAKEN(own=interface.ip, rivals=named),
                say.TAKE_ANOTHER(match=Line("match", goal.name, "--replace")),
                say.BACK_AFTERWARDS(restore=Line("restore")),
            )
    if own is not None:
        alone = wire.answers is not None and not wire.by_kernel
        return holds(
            Rung.OWN_ADDRESS,
            say.OWN_IN_SUBNET(own=own, adapter=adapter.name, address=target, alone=alone),
        )
    route = adapter.any_route_to(target)
    if here.way.adapter == adapter.name or route is not None:
        return holds(
            Rung.OWN_ADDRESS,
            say.OWN_AND_ROUTE(
                own=adapter.interfaces,
                adapter=adapter.name,
                router=here.way.router or (route.gateway if route else None),
                address=target,
            ),
        )
    return _outside(goal, here, wire)


def _outside(goal: Goal, here: Situation, wire: WireSeen) -> Step:
    """The goal is in none of this computer's subnets, and no route leads there."""
    adapter, target, match = here.adapter, goal.address, Line("match", goal.name)
    has: dict[str, Value] = {
        "adapter": adapter.name,
        "self_assigned": _self_assigned(adapter),
        "own": adapter.interfaces,
        "address": target,
    }
    if wire.macs(target):
        return broken(
            Rung.OWN_ADDRESS,
            say.OWN_OUTSIDE(**has),
            Cause.OTHER_SUBNET,
            say.IN_ANOTHER_SUBNET(
                own=[each.network for each in adapter.interfaces],
                goal=goal.name,
                network=here.own_prefix or assumed_network(target),
            ),
            match,
            *_by_dhcp(wire, target),
        )
    return broken(
        Rung.OWN_ADDRESS,
        say.OWN_WITHOUT_ROUTE(
            **has,
            silent=wire.answers is not None,
            way=here.way.adapter,
            way_silent=here.other_way_answers is False,
        ),
        Cause.NO_ROUTER,
        say.NO_ROUTER_SET(address=target, adapter=adapter.name),
        say.IF_ON_THIS_WIRE(match=match),
        *_by_dhcp(wire, target),
        say.IF_BEHIND_ROUTER(network=assumed_network(target), adapter=adapter.name),
    )


def _by_dhcp(wire: WireSeen, target: IPv4Address) -> Iterator[Advice]:
    """The other way into the goal's subnet, where somebody hands out addresses of it."""
    server = wire.hands_out(target)
    if server is not None:
        yield say.OR_BY_DHCP(server=server, match=Line("match", "--dhcp"))


def _self_assigned(adapter: Adapter) -> bool:
    return all(
        own.origin is Origin.LINK_LOCAL or own.interface.ip in SELF_ASSIGNED
        for own in adapter.addresses
    )


def judge_way_out(goal: Goal, here: Situation, wire: WireSeen) -> Step:
    """Whether this computer sends what is for the goal by the adapter with the plant's cable."""
    adapter, way, target = here.adapter, here.way, goal.address
    meant = f"{target}, {goal.door_words}" if goal.port is not None else str(target)
    if way.refused is not None:
        return broken(
            Rung.WAY_OUT,
            say.NO_WAY(meant=meant, refused=way.refused),
            Cause.ROUTE_ELSEWHERE,
            say.IS_FORBIDDEN(meant=meant, refused=way.refused),
            say.LOOK_AT_ROUTES(),
        )
    if way.own:
        return broken(
            Rung.WAY_OUT,
            say.KEPT_LOCAL(address=target),
            Cause.ROUTE_ELSEWHERE,
            say.KEEPS_TO_ITSELF(goal=goal.name),
            say.LOOK_AT_LOCAL_ROUTES(address=target),
        )
    if way.adapter == adapter.name:
        return holds(
            Rung.WAY_OUT,
            say.WAY_OUT(adapter=adapter.name, router=way.router, source=way.source),
        )
    return _by_another(goal, here, wire)


def _by_another(goal: Goal, here: Situation, wire: WireSeen) -> Step:
    """Another adapter, or a tunnel, carries what is meant for the goal."""
    adapter, way, target = here.adapter, here.way, goal.address
    other = next((each for each in here.adapters if each.name == way.adapter), None)
    kind = "tunnel" if other is not None and other.kind is AdapterKind.TUNNEL else "adapter"
    route = other.leads_to(target) if other is not None else None
    overlap = other.on_subnet_of(target) if other is not None else None
    because: Finding = say.BY_RULE()
    if overlap is not None:
        because = say.BY_OWN_ADDRESS(overlap=overlap)
    elif route is not None:
        because = say.BY_ROUTE(route=route.destination)
    do: list[Advice] = [say.LOOK_AT_ROUTES()]
    if adapter.on_subnet_of(target) is not None and (overlap or route):
        # This adds a route, and takes none from programs that use the other adapter.
        do = [say.SEND_BY_ADAPTER(address=target, adapter=adapter.name)]
    if kind == "tunnel":
        do.append(say.LEAVE_OUT_OF_TUNNEL())
    return broken(
        Rung.WAY_OUT,
        say.LEAVES_ELSEWHERE(
            address=target,
            kind=kind,
            way=way.adapter,
            because=because,
            adapter=adapter.name,
            answered=bool(wire.macs(target)),
        ),
        Cause.ROUTE_ELSEWHERE,
        say.CARRIED_ELSEWHERE(kind=kind, way=way.adapter, goal=goal.name, because=because),
        *do,
    )
