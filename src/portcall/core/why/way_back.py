"""The rung of the way back: whether anything comes back, and what is in its way."""

from __future__ import annotations

from portcall.core.address import assumed_network
from portcall.core.reach.echo_facts import Told
from portcall.core.why.evidence import (
    NOBODY,
    FromInside,
    Situation,
    Trial,
)
from portcall.core.why.ladder import (
    Cause,
    Goal,
    Rung,
    Step,
    broken,
    holds,
    undecided,
)
from portcall.core.wire.dhcp import prefix_length


def judge_way_back(
    goal: Goal, here: Situation, trial: Trial, inside: FromInside | None = None
) -> Step | None:
    """Whether answers come back to this computer's sockets.

    None: nothing does, and what an address nearer to the device's tells is wanted (``inside``).
    """
    name = here.adapter.name
    if trial.came_back:
        return holds(Rung.WAY_BACK, f"answers come back by {name}")
    if trial.refused is not None or trial.seen_out == 0:
        seen = trial.refused or f"nothing of what was sent left {name}"
        return _firewall_out(goal, f"sending to {goal.address}: {seen}")
    if trial.seen_in:
        return _dropped_here(goal, here, trial)
    if trial.elsewhere:
        return _came_elsewhere(goal, here, trial)
    believed = here.believed(trial.errors, goal.address)
    if believed is not None:
        return _undelivered(goal, here, believed)
    if here.way.router is None and inside is None:
        return None
    if inside is not None and inside.leaves_out(here.way.source, goal.address):
        return _mask(goal, here, inside)
    if inside is not None and inside.answered:
        return _answers_nearer(goal, here, inside)
    return _silence(goal, here, trial, inside)


def _firewall_out(goal: Goal, evidence: str) -> Step:
    return broken(
        Rung.WAY_BACK,
        evidence,
        Cause.FIREWALL_OUT,
        f"This computer's own firewall does not let out what is meant for {goal.name}.",
        "look for the rule that does: nft list ruleset",
        f"have that rule let {goal.address} through, and nothing else",
    )


def _dropped_here(goal: Goal, here: Situation, trial: Trial) -> Step:
    name = here.adapter.name
    evidence = f"{trial.seen_in} answers of {goal.address} came to {name}, and none to a program"
    if name in trial.strict and here.way.adapter != name:
        return _return_filtered(goal, name, evidence)
    return broken(
        Rung.WAY_BACK,
        evidence,
        Cause.FIREWALL_IN,
        f"This computer's own firewall drops the answers of {goal.name}.",
        "look for the rule that does: nft list ruleset",
        f"have that rule let {goal.address} through, and nothing else",
    )


def _came_elsewhere(goal: Goal, here: Situation, trial: Trial) -> Step:
    name, count = max(trial.elsewhere.items(), key=lambda pair: pair[1])
    evidence = f"{count} answers of {goal.address} came back by {name}, not by {here.adapter.name}"
    if name in trial.strict:
        return _return_filtered(goal, name, evidence)
    return undecided(
        Rung.WAY_BACK,
        evidence,
        f"{goal.name} answers by another adapter than it was asked by; programs that wait on "
        f"{here.adapter.name} do not hear it.",
        (Cause.RETURN_FILTERED, Cause.ROUTE_ELSEWHERE),
        f"pull the cable of {name} and type this again",
    )


def _return_filtered(goal: Goal, name: str, evidence: str) -> Step:
    return broken(
        Rung.WAY_BACK,
        f"{evidence}; the reverse-path filter of {name} is strict",
        Cause.RETURN_FILTERED,
        f"Answers of {goal.name} come in by {name}, where this computer does not expect them, and "
        "its reverse-path filter drops them.",
        f"sysctl -w net.ipv4.conf.{name}.rp_filter=2; and back: "
        f"sysctl -w net.ipv4.conf.{name}.rp_filter=1",
        "or have the router send them back by the way they came",
    )


_BY_A_FILTER = ("prohibited", "port unreachable", "protocol unreachable")
"""What no router says of an echo that it has no way for."""


def _undelivered(goal: Goal, here: Situation, error: Told) -> Step:
    who, said = error.by, error.said
    evidence = f'{who} says "{said}" after {error.seconds:.1f} s'
    if any(words in said for words in _BY_A_FILTER):
        return undecided(
            Rung.WAY_BACK,
            evidence,
            f"A filter at {who} forbids what is meant for {goal.name}; what is behind it was not "
            "reached.",
            (Cause.STOPS_AT_HOP, Cause.DOOR_SILENT),
            f"ask who looks after {who} to let this computer through to {goal.address}",
        )
    if said == NOBODY and here.way.router is not None:
        return broken(
            Rung.WAY_BACK,
            evidence,
            Cause.NOBODY_THERE,
            f"The router {who} finds nobody at {goal.address} on its own wire.",
            "check the device's power and its own cable",
        )
    if error.expired:
        return broken(
            Rung.WAY_BACK,
            evidence,
            Cause.STOPS_AT_HOP,
            f"What is meant for {goal.name} goes round in a circle between routers, until {who} "
            "gives it up.",
            f"portcall trace {goal.address} shows the circle; look at the routes of those in it",
        )
    return broken(
        Rung.WAY_BACK,
        evidence,
        Cause.STOPS_AT_HOP,
        f"The way to {goal.name} ends at {who}: {said}.",
        f"look at the routes of {who}: it knows no way to {assumed_network(goal.address)}, "
        "or its adapter there has no link",
    )


def _answers_nearer(goal: Goal, here: Situation, inside: FromInside) -> Step:
    """It answers an address nearer to its own, and its mask, if it was told, is not the reason."""
    told = f"; its mask is {inside.mask}, by {inside.by}" if inside.mask is not None else ""
    mask = () if inside.mask is not None and prefix_length(inside.mask) else (Cause.MASK,)
    return undecided(
        Rung.WAY_BACK,
        f"nothing comes back to {here.way.source}; {goal.address} answers {inside.address}, which "
        f"is nearer to it{told}",
        f"{goal.name} answers {inside.address} and not {here.way.source}. Either its mask leaves "
        "this computer out, or it lets only some addresses in, or it has an old MAC for "
        f"{here.way.source}.",
        (*mask, Cause.PING_IGNORED, Cause.DOOR_SILENT),
        f"read at the device, on its page or panel: its mask, and whom it lets in ({goal})",
        f"meanwhile it answers a computer that has {inside.address}",
    )


def _mask(goal: Goal, here: Situation, inside: FromInside) -> Step:
    facts = [f"nothing comes back to {here.way.source}"]
    if inside.answered:
        facts.append(f"{goal.address} answers {inside.address}, which is nearer to it")
    if inside.mask is not None:
        facts.append(f"its mask is {inside.mask}, by {inside.by}")
    planned = here.row.interface.netmask if here.row is not None else None
    shown = f"Its mask {inside.mask}" if inside.mask is not None else "Its mask"
    wanted = f"; planned is {planned}" if planned is not None else ""
    do = []
    if planned is not None and planned != inside.mask and inside.can_be_set:
        do.append(f"portcall move {goal.name}")
    elif planned is not None and planned != inside.mask:
        do.append(f"set its mask at its panel or on its page: {planned}")
    elif planned is not None:
        do.append(f"the plan leaves this computer out, too: portcall match {goal.name}")
    if inside.address is not None and inside.answered:
        do.append(f"meanwhile it answers a computer that has {inside.address}")
    return broken(
        Rung.WAY_BACK,
        "; ".join(facts),
        Cause.MASK,
        f"{goal.name} cannot answer this computer: {shown[0].lower()}{shown[1:]} leaves "
        f"{here.way.source} out, and it has no router{wanted}.",
        *do,
    )


def _by_the_device(goal: Goal) -> tuple[str, ...]:
    return (f"look at the device's own settings: mask and gateway, and whether it lets {goal} in",)


def _silence(goal: Goal, here: Situation, trial: Trial, inside: FromInside | None) -> Step:
    doors = f" and {len(trial.doors)} doors" if trial.doors else ""
    evidence = f"no answer to {trial.echoes} echoes{doors}"
    if trial.no_echoes:
        evidence = f"no answer of {len(trial.doors)} doors, and no echo was sent: {trial.no_echoes}"
    if here.way.router is not None:
        return undecided(
            Rung.WAY_BACK,
            f"{evidence}; no router says why",
            f"Nothing of {goal.name} comes back through router {here.way.router}. Either it is "
            "gone, which a router that has spoken to it notices late; or it has no gateway or a "
            "wrong mask; or something on the way drops it.",
            (Cause.NOBODY_THERE, Cause.MASK, Cause.STOPS_AT_HOP),
            f"portcall trace {goal.address} shows how far it comes",
            "type this from a computer on the device's own wire",
        )
    if trial.seen_out is None:
        return undecided(
            Rung.WAY_BACK,
            f"{evidence}; whether answers came to the adapter was not asked: run this with sudo",
            f"{goal.name} answers nothing that was asked.",
            (Cause.MASK, Cause.PING_IGNORED, Cause.DOOR_SILENT, Cause.FIREWALL_IN),
            f"sudo portcall why {goal.name}",
        )
    fixed = here.fixed.get(goal.address)
    if fixed is not None:
        return undecided(
            Rung.WAY_BACK,
            f"{evidence}; all of it was sent to {fixed}, as this computer's own table says",
            f"Nothing comes back from {goal.name}. Either it is not there, or the MAC {fixed}, "
            "which is fixed for it in this computer's own ARP table, is not its own.",
            (Cause.NOBODY_THERE, Cause.FIXED_NEIGHBOUR),
            f"look for the entry: ip neigh show {goal.address}",
            "compare it with the device's label",
        )
    asked = ""
    if inside is not None and inside.address is not None:
        asked = f", also not to {inside.address}, which is nearer to it"
    return undecided(
        Rung.WAY_BACK,
        evidence + asked,
        f"{goal.name} is on the wire, and answers nothing but ARP. Either it lets nothing in, or "
        "its mask or gateway is wrong, or it serves nothing that was asked for.",
        (Cause.MASK, Cause.PING_IGNORED, Cause.DOOR_SILENT),
        "name the door that it should have: portcall why " + f"{goal.name} PORT",
        *_by_the_device(goal),
    )
