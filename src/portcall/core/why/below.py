"""The rungs of this computer: its link, its own address, and the way that its packets take."""

from __future__ import annotations

from portcall.core.adapters.adapter import Adapter, AdapterKind, Origin
from portcall.core.address import SELF_ASSIGNED, assumed_network
from portcall.core.why.evidence import LinkSeen, Situation, WireSeen
from portcall.core.why.ladder import Cause, Goal, Rung, Step, broken, holds

_OFTEN = 3
"""Losses since the adapter is there that are worth a word."""


def judge_link(seen: LinkSeen) -> Step:
    """Whether the adapter has a link that stays."""
    adapter, name = seen.adapter, seen.adapter.name
    if not seen.is_there:
        return broken(
            Rung.LINK,
            f"{name} is gone from this computer",
            Cause.NO_LINK,
            f"This computer has no adapter {name} any more: pulled out, or renamed.",
            "plug it in again",
            "portcall adapters",
        )
    if not adapter.up:
        return broken(
            Rung.LINK,
            f"{name} is switched off on this computer",
            Cause.NO_LINK,
            f"{name} is switched off in this computer's settings.",
            f"ip link set {name} up",
        )
    often, before = _times(seen.losses), ""
    if seen.losses_ever >= _OFTEN:
        before = f", lost {seen.losses_ever} times before"
    if seen.losses:
        return broken(
            Rung.LINK,
            f"{name} lost its link {often} within {seen.watched:.1f} s",
            Cause.FLAPPING,
            f"The link of {name} comes and goes: {often} lost within {seen.watched:.1f} s.",
            "try another cable, then another port at the far end",
            "look whether the device or switch at the far end restarts",
        )
    if not adapter.link:
        return broken(
            Rung.LINK,
            f"{name} has no link{_watched(seen)}{before}",
            Cause.NO_LINK,
            f"{name} has no link: no cable, or nothing with power at its other end.",
            "check that the cable is in at both ends",
            "check that the device or switch at the other end has power",
        )
    came = f" since a moment, after {seen.watched:.1f} s" if _was_waited_for(seen) else ""
    speed = f", {adapter.speed_words}" if adapter.speed_words else ""
    errors = f", {seen.errors} frames received with errors" if seen.errors else ""
    return holds(Rung.LINK, f"{name} has link{came}{speed}{before}{errors}")


def _times(count: int) -> str:
    return "once" if count == 1 else f"{count} times"


def _watched(seen: LinkSeen) -> str:
    return f", watched for {seen.watched:.1f} s" if _was_waited_for(seen) else ""


def _was_waited_for(seen: LinkSeen) -> bool:
    return seen.watched >= 0.1


def judge_own_address(goal: Goal, here: Situation, wire: WireSeen) -> Step:
    """Whether this computer has an address of its own from which the goal can be reached."""
    adapter, target = here.adapter, goal.address
    answered = wire.macs(target)
    there = f"; {target} answers ARP on this wire" if answered else ""
    match_line = f"portcall match {goal.name}"
    if not adapter.interfaces:
        heard = _heard(wire)
        return broken(
            Rung.OWN_ADDRESS,
            f"{adapter.name} has no address{there}{heard}",
            Cause.NO_ADDRESS,
            f"{adapter.name} has no address: nothing can be sent from it by IPv4.",
            match_line,
        )
    own = adapter.on_subnet_of(target)
    # Of two adapters of one computer on one wire, each answers for the other's address.
    ours = {each.mac for each in (adapter, *here.adapters)}
    for interface in adapter.interfaces if own is None else (own,):
        rivals = [mac for mac in wire.macs(interface.ip) if mac not in ours]
        if rivals:
            who = " and ".join(map(here.plan.named, rivals))
            return broken(
                Rung.OWN_ADDRESS,
                f"{interface.ip}, this computer's own address, is answered by {who}",
                Cause.OWN_ADDRESS_TAKEN,
                f"{who} has this computer's own address {interface.ip}, too: "
                "answers go to whoever of the two spoke last.",
                f"take another one for this computer: {match_line} --replace",
                "and back, when that device is gone: portcall restore",
            )
    asked = wire.answers is not None and not wire.by_kernel
    alone = "nobody else answers for it" if asked else "whether it is alone was not asked"
    if own is not None:
        return holds(Rung.OWN_ADDRESS, f"{own} on {adapter.name}, {target} is in it; {alone}")
    shown = ", ".join(str(each) for each in adapter.interfaces)
    route = adapter.any_route_to(target)
    if here.way.adapter == adapter.name or route is not None:
        router = here.way.router or (route.gateway if route else None)
        by = f"router {router}" if router else "a route of its own"
        return holds(Rung.OWN_ADDRESS, f"{shown} on {adapter.name}, and {by} to {target}")
    kind = "self-assigned, " if own is None and _self_assigned(adapter) else ""
    evidence = f"{adapter.name} has {kind}{shown}; {target} is not in it"
    if answered:
        network = here.own_prefix or assumed_network(target)
        return broken(
            Rung.OWN_ADDRESS,
            f"{evidence}{there}",
            Cause.OTHER_SUBNET,
            f"This computer is in {_networks(adapter)}, {goal.name} is in another subnet, "
            f"{network}, on the same wire.",
            match_line,
        )
    ways = f", {here.way.adapter} is its way there" if here.way.adapter else ""
    silent = " and nobody answers ARP for it here" if wire.answers is not None else ""
    if here.other_way_answers is False:
        ways += ", and nothing answers by it"
    return broken(
        Rung.OWN_ADDRESS,
        f"{evidence}{silent}; no router is set on {adapter.name}{ways}",
        Cause.NO_ROUTER,
        f"{target} is in another subnet than {adapter.name}, and no router is set on "
        f"{adapter.name} that leads there.",
        f"if it is on this wire: {match_line}",
        f"if it is behind a router: ip route add {assumed_network(target)} via ROUTER "
        f"dev {adapter.name}",
    )


def _self_assigned(adapter: Adapter) -> bool:
    return all(
        own.origin is Origin.LINK_LOCAL or own.interface.ip in SELF_ASSIGNED
        for own in adapter.addresses
    )


def _heard(wire: WireSeen) -> str:
    if not wire.heard:
        return ""
    return "; heard here: " + ", ".join(
        f"{network} by {count}" for network, count in wire.heard.items()
    )


def _networks(adapter: Adapter) -> str:
    return " and ".join(str(own.network) for own in adapter.interfaces)


def judge_way_out(goal: Goal, here: Situation, wire: WireSeen) -> Step:
    """Whether this computer sends what is for the goal by the adapter with the plant's cable."""
    adapter, way, target = here.adapter, here.way, goal.address
    meant = f"{target}, {goal.door_words}" if goal.port is not None else str(target)
    if way.refused is not None:
        return broken(
            Rung.WAY_OUT,
            f'asked for its way to {meant}, the kernel says "{way.refused}"',
            Cause.ROUTE_ELSEWHERE,
            f'A route or rule of this computer forbids {meant}: "{way.refused}".',
            "look for it: ip rule; ip route show table all",
        )
    if way.own:
        return broken(
            Rung.WAY_OUT,
            f"the kernel takes {target} for this computer itself, and no adapter has that address",
            Cause.ROUTE_ELSEWHERE,
            f"A local route of this computer keeps what is meant for {goal.name} to itself.",
            f"look for it: ip route show table all type local; for that address: {target}",
        )
    if way.adapter == adapter.name:
        from_ = f", from {way.source}" if way.source else ""
        by = f" by router {way.router}" if way.router else " directly"
        return holds(Rung.WAY_OUT, f"{adapter.name}{by}{from_}")
    other = next((each for each in here.adapters if each.name == way.adapter), None)
    kind = "tunnel" if other is not None and other.kind is AdapterKind.TUNNEL else "adapter"
    route = other.leads_to(target) if other is not None else None
    overlap = other.on_subnet_of(target) if other is not None else None
    if overlap is not None:
        why = f"its own address {overlap}"
    elif route is not None:
        why = f"the route to {route.destination}"
    else:
        why = "a rule or another routing table"
    do = "look for it: ip rule; ip route show table all"
    if adapter.on_subnet_of(target) is not None and (overlap or route):
        # This adds one way, and takes none from whoever uses the other adapter.
        do = (
            f"send what is for {target} alone by {adapter.name}: ip route add {target} dev "
            f"{adapter.name}; and back: ip route del {target} dev {adapter.name}"
        )
    answered = ", though it answers ARP on " + adapter.name if wire.macs(target) else ""
    lines = (do,) if kind == "adapter" else (do, "or have the tunnel leave this subnet out")
    return broken(
        Rung.WAY_OUT,
        f"{target} leaves by the {kind} {way.adapter} ({why}), not by {adapter.name}{answered}",
        Cause.ROUTE_ELSEWHERE,
        f"The {kind} {way.adapter} carries what is meant for {goal.name}, because of {why}.",
        *lines,
    )
